"""The largest numbers that are taken, and why."""

# JSON readers that hold numbers as doubles keep integers exactly up to here (RFC 8259, section 6).
LARGEST_INTEGER = 2**53 - 1
# Hardware revisions and the updater's protocol are 16 bits on the device.
LARGEST_REVISION = 0xFFFF
# Times of other years cannot be told in every zone, or not be reckoned with.
FIRST_YEAR, LAST_YEAR = 2, 9998
# A name, as devices and lists have it.
LONGEST_SERIAL = 100
# From so many devices on a fleet or rollout is large: what is counted over it is kept for a while, and its rings are
# counted again only where something has happened.
LARGE = 20_000
# In a fleet of more devices, how many a selector picks is told by a sample unless the exact number is asked for.
COUNTED_EXACTLY = 200_000
