"""Narrow radio: what fits on the air, how a block reaches many at once, and how lost parts of it are made up for."""
