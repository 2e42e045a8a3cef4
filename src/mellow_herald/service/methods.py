"""Which methods an address takes, by the service's own description: what 405 says in ``Allow`` (RFC 9110, 10.2.1)."""

import re
from collections.abc import Mapping
from typing import Any


class Methods:
    """The paths of an OpenAPI document."""

    def __init__(self, document: Mapping[str, Any]) -> None:
        self._paths = [
            (re.compile(re.sub(r"\\\{[^}]*\\\}", "[^/]+", re.escape(path))), sorted(map(str.upper, operations)))
            for path, operations in document["paths"].items()
        ]

    def of(self, path: str) -> str:
        """As in ``Allow``: all methods that some operation at this address has."""
        found = {method for pattern, methods in self._paths if pattern.fullmatch(path) for method in methods}
        return ", ".join(sorted(found))
