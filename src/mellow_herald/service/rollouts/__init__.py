"""How releases come to devices: planned, started, conducted, halted, taken back."""
