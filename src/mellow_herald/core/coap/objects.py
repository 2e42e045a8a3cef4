"""Where in a device's objects what stands: those of the standard, and one of ours (docs/constrained-transport.md)."""

SERIAL, VERSION, BATTERY = "3/0/2", "3/0/3", "3/0/9"
PACKAGE, PACKAGE_URI, UPDATE = "5/0/0", "5/0/1", "5/0/2"
STATE, RESULT = "5/0/3", "5/0/5"
PROTOCOLS, DELIVERY = "5/0/8", "5/0/9"
# Of the numbers that anybody may use: what a device runs, byte for byte, and how often it has started. The standard's
# objects tell a version only.
RUNNING = 26270
DIGEST, STARTS = f"{RUNNING}/0/0", f"{RUNNING}/0/1"


def resource_of(path: str) -> int:
    """The number of the resource that a path names."""
    return int(path.rpartition("/")[2])


def sender_id(device_id: int) -> bytes:
    """The Sender ID (RFC 8613) of a device: its number in as few bytes as it takes. The service's own is empty."""
    return device_id.to_bytes((device_id.bit_length() + 7) // 8)


SERVICE_ID = b""
# Master secrets: 256 bits.
SECRET_BYTES = 32
# So many sequence numbers below the highest may still come.
WINDOW = 32
# For who does not say how long it registers (s), as the standard has it.
USUAL_LIFETIME_S = 86_400
