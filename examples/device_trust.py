"""What a device trusts: Ed25519, CBOR and COSE as far as manifests and key lists need them, with nothing but Python's
standard library. A real device puts its crypto library where ``ed25519_good`` stands.
"""

import base64
import hashlib

# Ed25519 (RFC 8032), verification only; slow, and fine for one signature a release. ---------------------------------

P = 2**255 - 19
ORDER = 2**252 + 27742317777372353535851937790883648493
D = -121665 * pow(121666, P - 2, P) % P


def recover_x(y, sign):
    """The x of a point, or None if there is none."""
    square = (y * y - 1) * pow(D * y * y + 1, P - 2, P) % P
    x = pow(square, (P + 3) // 8, P)
    if (x * x - square) % P:
        x = x * pow(2, (P - 1) // 4, P) % P
    if (x * x - square) % P or (x == 0 and sign):
        return None
    return P - x if x % 2 != sign else x


def add(a, b):
    """The sum of two points in extended coordinates."""
    e, f = (a[1] - a[0]) * (b[1] - b[0]) % P, (a[1] + a[0]) * (b[1] + b[0]) % P
    g, h = 2 * a[3] * b[3] * D % P, 2 * a[2] * b[2] % P
    e, f, g, h = f - e, h - g, h + g, f + e
    return e * f % P, g * h % P, f * g % P, e * h % P


def times(number, point):
    """A multiple of a point."""
    total = (0, 1, 1, 0)
    while number:
        if number & 1:
            total = add(total, point)
        point, number = add(point, point), number >> 1
    return total


def point_of(data):
    """The point that 32 bytes stand for, or None."""
    number = int.from_bytes(data, "little")
    y, sign = number & (2**255 - 1), number >> 255
    x = recover_x(y, sign) if y < P else None
    return None if x is None else (x, y, 1, x * y % P)


BASE_Y = 4 * pow(5, P - 2, P) % P
BASE = (recover_x(BASE_Y, 0), BASE_Y, 1, recover_x(BASE_Y, 0) * BASE_Y % P)


def ed25519_good(public, signature, message):
    """Whether a signature over a message was made with the key behind 32 public bytes."""
    if len(public) != 32 or len(signature) != 64:
        return False
    key, nonce, s = point_of(public), point_of(signature[:32]), int.from_bytes(signature[32:], "little")
    if key is None or nonce is None or s >= ORDER:
        return False
    h = int.from_bytes(hashlib.sha512(signature[:32] + public + message).digest(), "little") % ORDER
    left, right = times(s, BASE), add(nonce, times(h, key))
    return (left[0] * right[2] - right[0] * left[2]) % P == 0 and (left[1] * right[2] - right[1] * left[2]) % P == 0


# CBOR (RFC 8949), as much as manifests and key lists have. -----------------------------------------------------------


class Refused(Exception):
    """What came is not to be trusted; the first argument is the reason to report."""


def head(kind, number):
    """The first bytes of an item."""
    if number < 24:
        return bytes([kind << 5 | number])
    for size, code in ((1, 24), (2, 25), (4, 26), (8, 27)):
        if number < 1 << 8 * size:
            return bytes([kind << 5 | code]) + number.to_bytes(size, "big")
    raise ValueError(number)


def byte_string(data):
    """Bytes as an item."""
    return head(2, len(data)) + data


def decode(data):
    """The one item that ``data`` is."""
    value, at = item(data, 0, 0)
    if at != len(data):
        raise Refused("signature-refused", "bytes follow an item")
    return value


def item(data, at, depth):
    """The item at ``at``, and where the next one begins."""
    if depth > 16 or at >= len(data):
        raise Refused("signature-refused", "an item is cut off or nested too deep")
    kind, number, at = data[at] >> 5, data[at] & 31, at + 1
    if 24 <= number <= 27 and kind != 7:
        size = 1 << number - 24
        number, at = int.from_bytes(data[at : at + size], "big"), at + size
    elif number > 27 or (kind == 7 and number > 22):
        raise Refused("signature-refused", "an item of a kind that does not belong here")
    if kind == 0:
        return number, at
    if kind == 1:
        return -1 - number, at
    if kind in (2, 3):
        if at + number > len(data):
            raise Refused("signature-refused", "a string is cut off")
        piece = data[at : at + number]
        return (piece if kind == 2 else piece.decode()), at + number
    if kind in (4, 5):
        values = []
        for _ in range(number * (kind - 3)):
            value, at = item(data, at, depth + 1)
            values.append(tuple(value) if kind == 5 and isinstance(value, list) and len(values) % 2 == 0 else value)
        return (values if kind == 4 else dict(zip(values[::2], values[1::2], strict=True))), at
    if kind == 6:
        value, at = item(data, at, depth + 1)
        return (number, value), at
    return {20: False, 21: True, 22: None}[number], at


def signed_by(block, payload=None):
    """What a COSE_Sign1 says: (key fingerprint, the signed bytes, signature, payload)."""
    tag, (protected, _, carried, signature) = decode(block)
    header_ = decode(protected)
    if tag != 18 or header_.get(1) not in (-19, -8) or set(header_) != {1, 4}:
        raise Refused("signature-refused", "not an Ed25519 signature")
    payload = carried if payload is None else payload
    message = (
        head(4, 4) + head(3, 10) + b"Signature1" + byte_string(protected) + byte_string(b"") + byte_string(payload)
    )
    return header_[4].hex(), message, signature, payload


# What is trusted. ----------------------------------------------------------------------------------------------------


MISSHAPEN = (ValueError, TypeError, KeyError, IndexError, AttributeError, RecursionError)
"""What the code below raises of what is not built as the profile says."""


def raw_key(pem):
    """The 32 bytes in a public key's PEM file: they stand at the end of the DER."""
    return base64.b64decode("".join(line for line in pem.splitlines() if "-" * 5 not in line))[-32:]


def fingerprint(public):
    """A key's short name."""
    return hashlib.sha256(public).hexdigest()[:16]


def read_key_list(data, root):
    """A key list signed by the root: (number, {fingerprint: (public key, status)})."""
    try:
        return open_key_list(data, root)
    except MISSHAPEN as error:
        raise Refused("signature-refused", f"it is not built as a key list is: {error}") from None


def open_key_list(data, root):
    """The same; what is not built as it should be may raise anything of ``MISSHAPEN``."""
    kid, message, signature, payload = signed_by(data)
    if kid != fingerprint(root) or not ed25519_good(root, signature, message):
        raise Refused("signature-refused", "the key list is not signed by the root")
    body = decode(payload)
    if body[1] != "mellow-herald-key-list":
        raise Refused("signature-refused", "that is no key list")
    return body[2], {fingerprint(line[1]): (line[1], line[2]) for line in body[3]}


def read_manifest(envelope, digest, keys):
    """A verified manifest: {"floor", "digest", "size", "uri", "version", "class_id", "hw_revs", "needs", "kid"}."""
    try:
        return open_envelope(envelope, digest, keys)
    except MISSHAPEN as error:
        raise Refused("signature-refused", f"it is not built as a manifest is: {error}") from None


def open_envelope(envelope, digest, keys):
    """The same; what is not built as it should be may raise anything of ``MISSHAPEN``."""
    tag, parts = decode(envelope)
    if tag != 107 or set(parts) != {2, 3}:
        raise Refused("signature-refused", "that is no envelope")
    signed_digest, block = decode(parts[2])
    if decode(signed_digest) != [-16, hashlib.sha256(byte_string(parts[3])).digest()]:
        raise Refused("signature-refused", "the manifest is not the one that was signed")
    if decode(signed_digest)[1].hex() != digest:
        raise Refused("signature-refused", "the order named another manifest")
    kid, message, signature, _ = signed_by(block, signed_digest)
    public, status = keys.get(kid, (b"", "unknown"))
    if status not in ("active", "retired") or not ed25519_good(public, signature, message):
        raise Refused("signature-refused", f"key {kid} is {status}, or did not sign this")
    body = decode(parts[3])
    common = decode(body[3])
    if body[1] != 1 or common[2] != [[b"app"]]:
        raise Refused("refused-by-device", "the release is not of app alone")
    given = overrides(decode(common[4])) | overrides(decode(body[16]))
    needs = decode(given[28]) if 28 in given else [2, [0, 0, 0]]
    if needs[0] != 2:
        raise Refused("refused-by-device", "it asks for a version in a way that is not known")
    return {
        "floor": body[2],
        "kid": kid,
        "class_id": given[2],
        "hw_revs": given[-1],
        "needs": needs[1],
        "uri": given[21],
        "digest": decode(given[3])[1].hex(),
        "size": given[14],
        "version": decode(body[23])["en"][-1],
    }


def overrides(sequence):
    """All parameters that a command sequence sets."""
    found = {}
    for command, argument in zip(sequence[::2], sequence[1::2], strict=True):
        if command == 15:
            raise Refused("refused-by-device", "the release has an image for each slot; these slots are alike")
        if command == 20:
            found |= argument
        elif command not in (1, 2, 3, 5, 12, 21, 28, -1):
            raise Refused("signature-refused", f"command {command} is none that is known")
    return found
