"""Which service, and who we are there: options, environment, or what ``herald sign-in`` kept."""

import json
import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from mellow_herald.client import Herald


def connect() -> "Herald":
    """A client for the service in ``HERALD_URL`` with the token in ``HERALD_TOKEN``, or what sign-in kept. What it
    answers is fit to be printed, unless the command prints JSON, which has marks of its own for what is not."""
    import httpx

    from mellow_herald.cli.visible import VisibleTransport
    from mellow_herald.client import Herald
    from mellow_herald.client.transport import DEFAULT_URL

    kept = read_credentials()
    url = os.environ.get("HERALD_URL") or kept.get("url") or DEFAULT_URL
    token = os.environ.get("HERALD_TOKEN") or (kept.get("token") if kept.get("url") == url else None)
    if "--json" in sys.argv:
        return Herald(url, token=token)
    # Where nothing is encrypted there is nothing to verify.
    plain = httpx.HTTPTransport(verify=not url.startswith("http://"), trust_env=False)
    return Herald(url, token=token, transport=VisibleTransport(plain))


def read_credentials() -> dict[str, Any]:
    """What ``herald sign-in`` kept, or nothing."""
    from mellow_herald.client.transport import credentials_file

    try:
        kept: dict[str, Any] = json.loads(credentials_file().read_text())
    except (OSError, ValueError):
        return {}
    return kept


def keep_credentials(url: str, token: str) -> Path:
    """Keeps address and token for later commands, readable by the owner alone."""
    from mellow_herald.client.transport import credentials_file

    path = credentials_file()
    path.parent.mkdir(parents=True, exist_ok=True)
    path.touch(0o600)
    path.chmod(0o600)
    path.write_text(json.dumps({"url": url, "token": token}) + "\n")
    return path
