"""OSCORE (RFC 8613) with a secret that two sides share: what both ends do alike. The library keeps such a context in a
folder; who keeps it elsewhere says how sequence numbers are taken, none of which may ever be used twice."""

import asyncio
import logging
import secrets
import traceback
from typing import Any

from aiocoap import oscore

from mellow_herald.core.coap.objects import WINDOW


def pass_over_leftovers(loop: asyncio.AbstractEventLoop) -> None:
    """A peer that goes away leaves timers and observations of the library behind; that they come to nothing is no news.
    Whatever else goes wrong in this loop is told as ever."""
    for name in ("coap", "coap-server"):
        logging.getLogger(name).setLevel(logging.CRITICAL)

    def handle(loop: asyncio.AbstractEventLoop, about: dict[str, Any]) -> None:
        error = about.get("exception")
        frames = traceback.extract_tb(error.__traceback__) if error is not None else []
        if not any("aiocoap" in frame.filename for frame in frames):
            loop.default_exception_handler(about)

    loop.set_exception_handler(handle)


class SharedSecret(oscore.CanProtect, oscore.CanUnprotect, oscore.SecurityContextUtils):  # type: ignore[misc]
    """One side of it. Numbers from ``first`` on, up to ``until``, are taken (appendix B.1.1). What was received before
    this was made is not known, so the first request is answered with an Echo (appendix B.1.2)."""

    alg_aead = oscore.algorithms[oscore.DEFAULT_ALGORITHM]
    hashfun = oscore.hashfunctions[oscore.DEFAULT_HASHFUNCTION]
    id_context = None

    def __init__(self, secret: bytes, own_id: bytes, other_id: bytes, first: int, until: int) -> None:
        self.secret, self.sender_id, self.recipient_id = secret, own_id, other_id
        self.derive_keys(b"", secret)
        self.sender_sequence_number, self.until = first, until
        self.echo_recovery = secrets.token_bytes(8)
        self.recipient_replay_window = oscore.ReplayWindow(WINDOW, lambda: None)

    def post_seqnoincrease(self) -> None:
        """A number was used; raises ``ContextUnavailable`` if it was none of those that are taken."""
        self.take_more(self.until - self.sender_sequence_number)
        if self.sender_sequence_number > self.until:
            raise oscore.ContextUnavailable("no sequence number is at hand")

    def take_more(self, left: int) -> None:
        """Takes more numbers in time: so many are ``left``."""
        raise NotImplementedError
