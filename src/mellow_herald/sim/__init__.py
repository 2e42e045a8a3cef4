"""Simulated devices: flash, boot loader, battery, link. They reach the service over the network only."""
