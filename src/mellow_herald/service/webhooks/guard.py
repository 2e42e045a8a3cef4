"""Which addresses the service may be made to call.

Whoever may make a webhook may have the service call an address, from within its network. So names are resolved here,
when a webhook is made and before every call, and the call goes to the very address that was looked at: no answer of a
name server that comes later leads it anywhere else.
"""

import asyncio
import socket
from collections.abc import Sequence
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_address, ip_network

import httpx

Network = IPv4Network | IPv6Network


class NotCallableError(Exception):
    """No call is made to an address; the text says why."""


def read_networks(text: str | None) -> tuple[Network, ...]:
    """Networks in CIDR notation, or addresses, separated by commas. A ``ValueError`` names what is none."""
    return tuple(ip_network(one.strip()) for one in (text or "").split(",") if one.strip())


def read_address(address: str) -> httpx.URL:
    """An http or https address that a call can be made to; ``NotCallableError`` for any other."""
    try:
        url = httpx.URL(address)
        url.host.encode("idna")
        good = url.scheme in ("http", "https") and bool(url.host) and (url.port is None or 0 < url.port < 1 << 16)
    except (httpx.InvalidURL, ValueError):
        good = False
    if not good:
        raise NotCallableError(f"no call can be made to {address!r}. Write it like https://host.example:8443/path")
    if url.userinfo:
        raise NotCallableError("an address has no name and password in it: give a header, which is kept secret.")
    return url


async def resolve(url: httpx.URL, allowed: Sequence[Network]) -> str:
    """The address to call for ``url``. A ``NotCallableError`` if there is none, or if any that its name stands for is
    not one of the internet and not in ``allowed``."""
    try:
        port = url.port or (443 if url.scheme == "https" else 80)
        found = await asyncio.get_running_loop().getaddrinfo(url.host, port, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError):
        raise NotCallableError(f"{url.host} stands for no address") from None
    addresses = [_plain(str(entry[4][0])) for entry in found]
    for address in addresses:
        if not address.is_global and not any(address in network for network in allowed):
            raise NotCallableError(
                f"{url.host} is {address}, which is no address of the internet. Where that is meant, start the service"
                f" with --webhook-allow {address}"
            )
    return str(addresses[0])


def _plain(text: str) -> IPv4Address | IPv6Address:
    address = ip_address(text.partition("%")[0])
    mapped = getattr(address, "ipv4_mapped", None)
    return mapped or address
