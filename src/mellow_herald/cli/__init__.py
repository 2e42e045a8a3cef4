"""The command line: ``herald …``."""

import gc

# Before all else is loaded: to look for garbage meanwhile takes a fifth of what a short command takes altogether.
gc.set_threshold(100_000, 10, 10)
