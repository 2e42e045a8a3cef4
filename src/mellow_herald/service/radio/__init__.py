"""Narrow radio: what devices say by way of a radio network, and the sessions in which they are sent releases. Loaded
only where a network is followed."""
