"""The command line: ``herald …``."""
