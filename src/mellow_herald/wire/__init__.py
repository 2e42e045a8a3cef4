"""What travels: Pydantic models of the engineer's API and of the device protocol, shared by both ends."""
