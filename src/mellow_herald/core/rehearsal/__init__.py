"""A plan played on a model of the fleet before anybody is hurt.

The faults of a rehearsal (``faults``) need nothing but the language; the rest needs numpy.
"""
