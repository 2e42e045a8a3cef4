"""Devices that speak CoAP and the standard objects."""
