"""The devices themselves: who they are, what they run, what they should."""
