"""The device API: what simulated and real devices call."""
