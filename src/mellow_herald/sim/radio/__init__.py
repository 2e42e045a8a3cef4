"""Simulated narrow radio: devices that hear only after they have spoken, and the network between them and the service.

Time is handed in, so that an hour on the air takes as long to play as it takes to compute.
"""
