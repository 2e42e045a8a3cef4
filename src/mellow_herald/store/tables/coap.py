"""Devices that speak CoAP: their secret, where they are registered, and what their update object told last."""

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Integer, SmallInteger, text
from sqlalchemy.orm import Mapped, mapped_column

from mellow_herald.store.tables.base import Base


class CoapDevice(Base):
    """What the service must know of a device to speak CoAP with it. ``secret`` is the master secret of OSCORE, sealed
    with the data folder's key, None for one that has none; ``sent`` is the first sequence number that is not taken yet:
    it is written down before any of those below it is used.

    It is registered while ``location`` stands, at ``address`` (it spoke to ours at ``reached_at``), until
    ``expires_at``; ``gone`` tells why not any more. ``state`` and ``result`` are the numbers of 5/0/3 and 5/0/5.
    ``attempt_id`` and ``try_number`` are for what it was given the package of ``manifest`` last, by ``method``; what
    fetches it names the ``ticket``; ``executed_at`` is when it was told to switch. ``boots`` and ``seq`` number what is
    said for it. ``trouble`` is what went wrong last."""

    __tablename__ = "coap_device"
    device_id: Mapped[int] = mapped_column(ForeignKey("device.id", ondelete="CASCADE"), primary_key=True)
    secret: Mapped[bytes | None]
    secret_at: Mapped[datetime | None]
    proved_at: Mapped[datetime | None]
    sent: Mapped[int] = mapped_column(server_default=text("0"))
    location: Mapped[str | None] = mapped_column(unique=True)
    address: Mapped[str | None]
    reached_at: Mapped[str | None]
    lifetime_s: Mapped[int | None] = mapped_column(Integer)
    queue: Mapped[bool] = mapped_column(server_default=text("false"))
    objects: Mapped[list[Any]]
    registered_at: Mapped[datetime | None]
    heard_at: Mapped[datetime | None]
    expires_at: Mapped[datetime | None] = mapped_column(index=True)
    gone: Mapped[str] = mapped_column(server_default=text("''"))
    state: Mapped[int | None] = mapped_column(SmallInteger)
    result: Mapped[int | None] = mapped_column(SmallInteger)
    told_at: Mapped[datetime | None]
    protocols: Mapped[list[Any]]
    delivery: Mapped[int | None] = mapped_column(SmallInteger)
    says_version: Mapped[str | None]
    says_digest: Mapped[bool] = mapped_column(server_default=text("false"))
    method: Mapped[str | None]
    block: Mapped[int | None] = mapped_column(SmallInteger)
    manifest: Mapped[str | None]
    attempt_id: Mapped[int | None] = mapped_column(ForeignKey("attempt.id", ondelete="SET NULL"), index=True)
    try_number: Mapped[int | None] = mapped_column(Integer)
    ticket: Mapped[str | None] = mapped_column(unique=True)
    executed_at: Mapped[datetime | None]
    boots: Mapped[int] = mapped_column(server_default=text("0"))
    seq: Mapped[int] = mapped_column(server_default=text("0"))
    trouble: Mapped[str] = mapped_column(server_default=text("''"))
    trouble_at: Mapped[datetime | None]
