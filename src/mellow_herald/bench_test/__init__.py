"""A scripted course for a device of any make: what it does right and wrong, by the device protocol's own sentences."""
