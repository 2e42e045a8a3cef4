# Written by `make client` from ../asynchronous; change it there.
"""Devices that speak CoAP, by the synchronous client."""

from collections.abc import Iterator
from typing import TYPE_CHECKING

from mellow_herald.client import coap_calls as calls
from mellow_herald.client.paging import every
from mellow_herald.wire.coap import CoapDeviceOut, CoapSecret, CoapServiceOut, SecretIn
from mellow_herald.wire.model import Page

if TYPE_CHECKING:
    from mellow_herald.client.synchronous.herald import Herald


class Coap:
    """Constrained transport."""

    def __init__(self, herald: "Herald") -> None:
        self._herald = herald

    def service(self) -> CoapServiceOut:
        """Where CoAP is served, how many devices speak it, and how many are registered."""
        return self._herald.send(calls.show_coap())

    def list(self, *, limit: int = 100, after: str | None = None) -> Page[CoapDeviceOut]:
        """A page of the devices that speak CoAP, by serial."""
        return self._herald.send(calls.list_coap_devices(limit, after))

    def each(self) -> Iterator[CoapDeviceOut]:
        """All devices that speak CoAP, page after page."""
        return every(lambda after: self.list(limit=1000, after=after))

    def show(self, serial: str) -> CoapDeviceOut:
        """One device: its registration, and what its update object told last."""
        return self._herald.send(calls.show_coap_device(serial))

    def renew_secret(self, serial: str, reason: str = "secret renewed") -> CoapSecret:
        """Gives a device a new secret, shown this once; the former one ends."""
        return self._herald.send(calls.renew_coap_secret(serial, SecretIn(reason=reason)))
