"""What a device looks at in settings and certificates that came for its places, before it takes them into use."""

import json
from collections.abc import Callable
from datetime import datetime

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat, load_pem_private_key

from mellow_herald.core.certificate import ends_at, read_chain
from mellow_herald.core.component import Kind, kind_of
from mellow_herald.core.refusal import Refused
from mellow_herald.core.settings import breaks, differences, read_settings
from mellow_herald.core.suit import Component
from mellow_herald.sim.bootloader import Boot
from mellow_herald.sim.hardware import Hardware
from mellow_herald.sim.making import Making, PlaceMaking
from mellow_herald.sim.update import GivenUp, standby


class Placing:
    """Looks for one device. ``clock`` is the device's own, which may be wrong."""

    def __init__(self, hardware: Hardware, making: Making, clock: Callable[[], datetime | None]) -> None:
        self._hardware, self._making, self._clock = hardware, making, clock

    def check(self, component: Component, boot: Boot) -> None:
        """Raises ``GivenUp`` for what this device will not have at its place."""
        match component.kind:
            case Kind.SETTINGS:
                self.check_base(component.name, component.base, boot)
                self._check_schema(component.name, self._staged(component.name, boot))
            case Kind.CERTIFICATE:
                self._check_chain(component.name, self._staged(component.name, boot))

    def check_base(self, name: str, base: str | None, boot: Boot) -> None:
        """Settings replace those that they are based on, and no others: raises ``GivenUp`` with what differs."""
        if base is None or kind_of(name) is not Kind.SETTINGS:
            return
        slot = boot.slots[name]
        note = self._hardware.record.note(name, slot)
        if note is not None and note.digest == base:
            return
        present = _document(self._hardware.image(name, slot)) if note is not None else {}
        new = _document(self._staged(name, boot))
        told = "; ".join(differences(present, new)) or "nothing but how they are written"
        has = f"{note.digest[:12]}…" if note else "none"
        detail = f"its settings are {has}, not {base[:12]}… that these are based on; here → new: {told}"
        raise GivenUp("settings-changed", detail[:2000], name)

    def _staged(self, name: str, boot: Boot) -> bytes:
        return self._hardware.image(name, standby(self._hardware, name, boot))

    def _check_schema(self, name: str, data: bytes) -> None:
        try:
            document = read_settings(data)
        except Refused as refused:
            raise GivenUp("refused-by-device", refused.detail, name) from None
        schema = self._place(name).schema
        broken = breaks(document, schema) if schema is not None else []
        if broken:
            raise GivenUp("refused-by-device", f"they break the device's schema: {broken[0]}", name)

    def _check_chain(self, name: str, data: bytes) -> None:
        place = self._place(name)
        try:
            chain = read_chain(data)
        except Refused as refused:
            raise GivenUp("refused-by-device", refused.detail, name) from None
        why = ends_at(chain, x509.load_pem_x509_certificates(place.trusted)) if place.trusted else None
        if why is not None:
            raise GivenUp("refused-by-device", why, name)
        if place.key:
            own = load_pem_private_key(place.key, None).public_key()
            if own.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo) != chain.public_key:
                raise GivenUp("refused-by-device", "the certificate is not for the key that is on this device", name)

    def _place(self, name: str) -> PlaceMaking:
        return self._making.places.get(name, PlaceMaking())


def _document(data: bytes) -> dict[str, object]:
    try:
        found: dict[str, object] = json.loads(data)
    except ValueError:
        return {}
    return found if isinstance(found, dict) else {}
