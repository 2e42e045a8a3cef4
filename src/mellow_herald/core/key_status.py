"""What a signing key may do. Apart from the keys, since many ask who never sign or verify."""

from enum import StrEnum


class KeyStatus(StrEnum):
    """What a signing key may still do."""

    ACTIVE = "active"
    RETIRED = "retired"  # signs no new releases; what it signed stays good
    REVOKED = "revoked"  # nothing it signed is ever switched to again
