"""The harm budget: how many devices a rollout may hurt, and how it is held to that.

What a plan says of it (``budget``) needs nothing but the language; the rest needs numpy and scipy.
"""
