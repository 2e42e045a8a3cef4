"""What is not in the base install: commands that need more say which extra brings it."""

from importlib.util import find_spec

from mellow_herald.core.refusal import Refused

# One package of each extra stands for all of them: an extra is installed whole or not at all.
BRINGS = {"service": "fastapi", "sim": "httptools", "bus": "cantools"}


def require(*extras: str) -> None:
    """Raises ``Refused`` if one of these extras is not installed."""
    missing = [name for name in extras if find_spec(BRINGS[name]) is None]
    if missing:
        raise Refused(
            "missing-extra",
            f"this command needs more than the base install: {' and '.join(missing)}.",
            f"Install it with: pip install 'mellow-herald[{','.join(extras)}]'",
        )
