"""Writes the console's types from the service's OpenAPI document, or (``--check``) says that they have drifted."""

import json
import subprocess
import sys
import tempfile
from pathlib import Path
from unittest.mock import MagicMock

from mellow_herald.service.app import create_app, describe

CONSOLE = Path(__file__).parent.parent / "console"
TYPES = CONSOLE / "src" / "api" / "schema.d.ts"


def main() -> int:
    """Returns the exit code."""
    with tempfile.TemporaryDirectory() as folder:
        document, types = Path(folder) / "openapi.json", Path(folder) / "schema.d.ts"
        document.write_text(json.dumps(describe(create_app(MagicMock()))))
        command = ["npx", "--no-install", "openapi-typescript", str(document), "-o", str(types)]
        subprocess.run(command, cwd=CONSOLE, check=True, stdout=subprocess.DEVNULL)
        fresh = types.read_text()
    if "--check" not in sys.argv:
        TYPES.parent.mkdir(parents=True, exist_ok=True)
        TYPES.write_text(fresh)
        return 0
    if TYPES.exists() and TYPES.read_text() == fresh:
        return 0
    print("The console's types have drifted from the API: run `make types` and commit the result.", file=sys.stderr)
    return 1


if __name__ == "__main__":
    sys.exit(main())
