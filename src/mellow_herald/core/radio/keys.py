"""Keys of a radio device's groups, and what they protect: TS005 and TS004 of the LoRa Alliance, LoRaWAN 1.0.x frames.

All keys have 16 bytes. Numbers are little-endian, as everywhere on the air.
"""

from dataclasses import dataclass

from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.cmac import CMAC

KEY_BYTES = 16
DOWNLINK = 1


def _encrypt(key: bytes, block: bytes) -> bytes:
    # One block, as the standard derives keys by it; nothing longer is ever encrypted in this mode.
    return Cipher(algorithms.AES(key), modes.ECB()).encryptor().update(block)


def _decrypt(key: bytes, block: bytes) -> bytes:
    return Cipher(algorithms.AES(key), modes.ECB()).decryptor().update(block)


def _cmac(key: bytes, message: bytes) -> bytes:
    mac = CMAC(algorithms.AES(key))
    mac.update(message)
    return mac.finalize()


def group_root_key(root: bytes, *, lorawan_1_1: bool = False) -> bytes:
    """McRootKey of a device: from its GenAppKey (LoRaWAN 1.0.x) or its AppKey (1.1)."""
    return _encrypt(root, (b"\x20" if lorawan_1_1 else b"\x00") + bytes(15))


def group_key_key(root: bytes, *, lorawan_1_1: bool = False) -> bytes:
    """McKEKey of a device, under which groups' keys are brought to it."""
    return _encrypt(group_root_key(root, lorawan_1_1=lorawan_1_1), bytes(16))


def wrap(group_key: bytes, kek: bytes) -> bytes:
    """McKey as it is sent (McKey_encrypted): what the device's own encryption of it turns into McKey."""
    return _decrypt(kek, group_key)


def unwrap(wrapped: bytes, kek: bytes) -> bytes:
    """McKey out of what was sent."""
    return _encrypt(kek, wrapped)


@dataclass(frozen=True, slots=True)
class GroupSession:
    """The keys of a group: ``app`` encrypts what is sent to it, ``network`` authenticates it."""

    address: int
    app: bytes
    network: bytes

    @classmethod
    def derive(cls, group_key: bytes, address: int) -> "GroupSession":
        """McAppSKey and McNwkSKey of a group with this address (McAddr)."""
        tail = address.to_bytes(4, "little") + bytes(11)
        return cls(address, _encrypt(group_key, b"\x01" + tail), _encrypt(group_key, b"\x02" + tail))

    def frame(self, counter: int, port: int, payload: bytes) -> bytes:
        """A downlink to the group (PHYPayload): unconfirmed, encrypted, with its MIC. A counter is used once."""
        head = b"\x60" + self.address.to_bytes(4, "little") + b"\x00" + (counter & 0xFFFF).to_bytes(2, "little")
        message = head + bytes([port]) + self._crypt(counter, payload)
        return message + self._mic(counter, message)

    def open(self, frame: bytes, last_counter: int) -> tuple[int, int, bytes] | None:
        """Counter, port and payload of a frame to this group; None if it is not, is not authentic, or was there before.

        Of the counter 16 bits are sent: it is the next such number above ``last_counter`` (-1: none yet).
        """
        if len(frame) < 13 or frame[0] != 0x60 or int.from_bytes(frame[1:5], "little") != self.address:
            return None
        low = int.from_bytes(frame[6:8], "little")
        counter = (last_counter + 1 & ~0xFFFF) | low
        if counter <= last_counter:
            counter += 0x10000
        message, mic = frame[:-4], frame[-4:]
        if counter > 0xFFFFFFFF or self._mic(counter, message) != mic:
            return None
        return counter, message[8], self._crypt(counter, message[9:])

    def _crypt(self, counter: int, payload: bytes) -> bytes:
        stream = b"".join(
            _encrypt(self.app, b"\x01" + bytes(4) + self._place(counter) + b"\x00" + bytes([number]))
            for number in range(1, -(-len(payload) // 16) + 1)
        )
        return bytes(one ^ other for one, other in zip(payload, stream, strict=False))

    def _mic(self, counter: int, message: bytes) -> bytes:
        first = b"\x49" + bytes(4) + self._place(counter) + b"\x00" + bytes([len(message)])
        return _cmac(self.network, first + message)[:4]

    def _place(self, counter: int) -> bytes:
        return bytes([DOWNLINK]) + self.address.to_bytes(4, "little") + counter.to_bytes(4, "little")


def block_mic(root: bytes, session: int, index: int, descriptor: bytes, block: bytes) -> bytes:
    """The MIC of a data block (TS004-2.0), by which a device knows that it was put together as it was sent. ``root`` is
    the key that the device's group root key comes from, so each device has one of its own."""
    key = _encrypt(root, b"\x30" + bytes(15))
    first = b"\x49" + session.to_bytes(2, "little") + bytes([index]) + descriptor + bytes(4)
    return _cmac(key, first + len(block).to_bytes(4, "little") + block)[:4]
