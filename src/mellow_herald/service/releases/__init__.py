"""What is published, checked, offered and cleaned away."""
