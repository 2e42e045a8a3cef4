"""Devices that speak CoAP."""

from pydantic import Field

from mellow_herald.wire.model import Model, Reason, Shown, Time


class SecretIn(Model):
    """Why a device gets a new secret."""

    reason: Reason = "secret renewed"


class CoapSecret(Shown):
    """The master secret of OSCORE (RFC 8613) that a device shares with the service, and both IDs, in hex. It is shown
    this once. Algorithms are the RFC's own: AES-CCM-16-64-128 and HKDF SHA-256; there is neither salt nor ID
    context."""

    serial: str
    secret: str
    sender_id: str
    recipient_id: str


class CoapDeviceOut(Shown):
    """A device that speaks CoAP. It is ``registered`` until ``expires_at``, at ``address``; ``gone`` tells why not any
    more. ``queue``: it hears only when it has spoken. ``state`` and ``result`` are the numbers of 5/0/3 and 5/0/5, with
    the standard's words, as they were at ``told_at``; ``protocols`` and ``delivery`` those of 5/0/8 and 5/0/9.
    ``method`` and ``block`` are how it was given a package last; ``says_digest`` whether it tells the digest of what it
    runs, or just a version (``says_version``). ``restarting``: it is expected to be away now. ``trouble`` is what went
    wrong last, and when."""

    serial: str
    board: str
    line: str
    admission: str
    has_secret: bool
    secret_at: Time | None
    proved_at: Time | None
    registered: bool
    address: str | None
    lifetime_s: int | None
    queue: bool
    objects: list[str]
    registered_at: Time | None
    heard_at: Time | None
    expires_at: Time | None
    gone: str
    state: int | None = Field(examples=[2])
    state_word: str = Field(examples=["downloaded"])
    result: int | None = Field(examples=[0])
    result_word: str = Field(examples=["initial"])
    told_at: Time | None
    protocols: list[int]
    delivery: int | None
    says_version: str | None
    says_digest: bool
    method: str | None
    block: int | None
    manifest: str | None
    restarting: bool
    trouble: str
    trouble_at: Time | None


class CoapServiceOut(Shown):
    """Where CoAP is served (``port`` None: nowhere), whether it is ``open`` to what is not protected, how many devices
    speak it, and how many are registered."""

    port: int | None
    open: bool
    devices: int
    registered: int
