"""Simulated devices that speak CoAP: registration, the standard's objects, and what brings packages to them."""
