"""Keys of devices and groups as they stand in the database: sealed with a key that is kept in the data folder only."""

import os
import secrets
from contextlib import suppress
from pathlib import Path

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from mellow_herald.service.problems import ProblemError

FILE = "radio.key"
KEY_BYTES, NONCE_BYTES = 32, 12


class KeyBox:
    """Seals and opens keys; the file is made when it is first needed."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / FILE
        self._cipher: AESGCM | None = None

    def seal(self, key: bytes, about: str) -> bytes:
        """A key as it is kept, for one purpose (``about``)."""
        nonce = secrets.token_bytes(NONCE_BYTES)
        return nonce + self._open().encrypt(nonce, key, about.encode())

    def unseal(self, sealed: bytes, about: str) -> bytes:
        """The key that was sealed for this purpose; a problem if it was sealed with another data folder's key."""
        try:
            return self._open().decrypt(sealed[:NONCE_BYTES], sealed[NONCE_BYTES:], about.encode())
        except InvalidTag:
            raise ProblemError(
                500,
                "other-key-file",
                f"A key was sealed with another {FILE} than that of the data folder. Bring that file back, or give the "
                "device another with `herald radio key` or `herald coap secret`.",
            ) from None

    def _open(self) -> AESGCM:
        if self._cipher is None:
            # Two processes may make it at the same moment: the first has its way.
            with suppress(FileExistsError):
                handle = os.open(self._path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
                with os.fdopen(handle, "wb") as file:
                    file.write(secrets.token_bytes(KEY_BYTES))
                    os.fsync(file.fileno())
            key = self._path.read_bytes()
            if len(key) != KEY_BYTES:
                raise ProblemError(500, "bad-key-file", f"{self._path} is damaged: bring the right one back.")
            self._cipher = AESGCM(key)
        return self._cipher
