"""The largest numbers that are taken, and why."""

# JSON readers that hold numbers as doubles keep integers exactly up to here (RFC 8259, section 6).
LARGEST_INTEGER = 2**53 - 1
# Hardware revisions and the updater's protocol are 16 bits on the device.
LARGEST_REVISION = 0xFFFF
# A name, as devices and lists have it.
LONGEST_SERIAL = 100
