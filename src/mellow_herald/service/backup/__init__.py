"""A service in one file: taken while it runs, and brought back somewhere else."""
