"""Pure computation: no I/O, no clock, no SQL, no HTTP. Time and randomness come in as arguments."""
