"""Devices that speak CoAP and the standard update object: a process of its own beside those that serve HTTP. Who does
not ask for it loads nothing of this."""
