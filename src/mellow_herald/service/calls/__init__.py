"""What devices say and hear."""
