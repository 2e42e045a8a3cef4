"""Plans played on a model of the fleet, in a process of their own."""
