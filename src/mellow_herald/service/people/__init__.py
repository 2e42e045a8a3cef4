"""People: who is calling, how they sign in, and who is in the team."""
