"""Makes docs/vectors: what a device must take and what it must refuse, byte for byte, with the verdict.

Everything comes from fixed seeds, so the same files come out every time; ``--check`` says whether those that are
committed are these.
"""

import argparse
import hashlib
import json
import shutil
import sys
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from cbor2 import CBORTag
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from mellow_herald.core import cbor, cose
from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.keys import SigningKey, fingerprint, public_to_pem, raw_public, sign_key_list
from mellow_herald.core.manifest import (
    AUTHENTICATION,
    ENVELOPE_TAG,
    MANIFEST,
    join_envelope,
    manifest_digest,
    sign_manifest,
    suit_digest,
)
from mellow_herald.core.nameplate import Nameplate, encode_nameplate
from mellow_herald.core.suit import COMMON, COMPONENTS, SEQUENCE, SHARED_SEQUENCE, Component, Manifest, encode_manifest

FOLDER = Path(__file__).parents[1] / "docs" / "vectors"
DOMAIN, BOARD, LINE = "thistledown.example", "comb-s1", "hive-scale"
DEVICE = {
    "domain": DOMAIN,
    "board": BOARD,
    "line": LINE,
    "hw_rev": 2,
    "floor": 4,
    "running": {"app": "2.4.0"},
    "slot_size": 1048576,
    "standby_slot": 1,
}
"""The device that judges, where a case does not say otherwise."""
TITLES = {"key-list": "Key lists", "envelope": "Envelopes", "nameplate": "Nameplates"}
INTRODUCTION = """# Test vectors

What a device must take and what it must refuse, byte for byte, with the verdict that it must come to. Made by `python
-m scripts.vectors` from fixed seeds; our tests run them on the simulated device, on `examples/device.py` and on the
device in C. Run them on yours before you let it near a service.

[`cases.json`](cases.json) has for each case its `kind`, `name`, `file` and `verdict`, `why` in words, and what it is
judged with:

- `root` (once, for all): the raw public key that the device was made with, in hex; [`root.pub.pem`](root.pub.pem) is
  the same as a file.
- `device` (once, and in a case what is otherwise there): vendor domain, board, line, hardware revision and floor
  number of the device that judges, the versions it runs, the size of its slots in bytes, and the number of the slot
  that stands by.
- A **key list** is offered to a device that holds the list `held` (null: none yet). Verdicts: `take` it, or `keep`
  what it has.
- An **envelope** is what `GET manifests/{digest}` answered; `asked` is that digest, as the order names it; `keys` the
  key list that the device holds. Verdicts: `good`, then `image` is what it is to fetch; or the reason to report with
  `failed`: `signature-refused` for what is not to be trusted or cannot be read, `refused-by-device` for what is not
  for this device, `no-room`. `features: ["slots"]` marks cases for devices whose slots take images of their own;
  others may pass over them.
- A **nameplate** stands in the bytes of an image. Verdicts: `good` (`says` has what it says), `none` (there is none),
  `refused`.
"""


def _key(name: str) -> Ed25519PrivateKey:
    return Ed25519PrivateKey.from_private_bytes(hashlib.sha256(f"vector {name}".encode()).digest())


ROOT, OTHER_ROOT = _key("root"), _key("another root")
ACTIVE, RETIRED, REVOKED, UNKNOWN = (_key(name) for name in ("active", "retired", "revoked", "unknown"))


@dataclass
class Vectors:
    """The files, by name, and the cases that name them."""

    files: dict[str, bytes] = field(default_factory=dict)
    cases: list[dict[str, Any]] = field(default_factory=list)

    def case(self, kind: str, name: str, content: bytes, verdict: str, why: str, **more: Any) -> None:
        """A case, with a file of its own."""
        suffix = {"key-list": "cose", "envelope": "suit", "nameplate": "bin"}[kind]
        file = f"{kind}s/{name}.{suffix}"
        self.files[file] = content
        self.cases.append({"kind": kind, "name": name, "file": file, "verdict": verdict, "why": why, **more})


def make() -> dict[str, bytes]:
    """All files of the folder."""
    vectors = Vectors()
    vectors.files["root.pub.pem"] = public_to_pem(raw_public(ROOT))
    _key_lists(vectors)
    _envelopes(vectors)
    _nameplates(vectors)
    told = {"root": raw_public(ROOT).hex(), "device": DEVICE, "cases": vectors.cases}
    vectors.files["cases.json"] = json.dumps(told, indent=1).encode() + b"\n"
    vectors.files["README.md"] = _page(vectors.cases).encode()
    return vectors.files


def _page(cases: list[dict[str, Any]]) -> str:
    tables = []
    for kind, title in TITLES.items():
        lines = [f"| [`{c['name']}`]({c['file']}) | {c['verdict']} | {c['why']} |" for c in cases if c["kind"] == kind]
        tables.append("\n".join([f"## {title}", "", "| case | verdict | why |", "|---|---|---|", *lines]))
    return INTRODUCTION + "\n" + "\n\n".join(tables) + "\n"


# Key lists ----------------------------------------------------------------------------------------------------------


def _keys(active: KeyStatus = KeyStatus.ACTIVE) -> list[SigningKey]:
    return [
        SigningKey(raw_public(ACTIVE), active, "bench"),
        SigningKey(raw_public(RETIRED), KeyStatus.RETIRED, "old bench"),
        SigningKey(raw_public(REVOKED), KeyStatus.REVOKED, "lost"),
    ]


def _key_lists(vectors: Vectors) -> None:
    second = sign_key_list(ROOT, 2, _keys())
    third = sign_key_list(ROOT, 3, _keys(KeyStatus.REVOKED))

    def case(name: str, content: bytes, verdict: str, why: str, held: str | None = "second") -> None:
        of = None if held is None else f"key-lists/{held}.cose"
        vectors.case("key-list", name, content, verdict, why, held=of)

    case("second", second, "take", "the first list that a device is given, number 2", None)
    case("third", third, "take", "a higher number; the key of the bench is revoked in it")
    case("older", sign_key_list(ROOT, 1, _keys()), "keep", "number 1 is lower than 2")
    case("same-number", sign_key_list(ROOT, 2, _keys()[:1]), "keep", "number 2 is not higher than 2")
    case("one-bit", _flipped(third, len(third) - 70), "keep", "one bit of the list is another")
    case("signature-bit", _flipped(third, len(third) - 1), "keep", "one bit of the signature is another")
    case("another-root", sign_key_list(OTHER_ROOT, 3, _keys()), "keep", "signed by another root")
    payload = cbor.encode({1: "something-else", 2: 3, 3: []})
    case("no-key-list", cose.sign(ROOT, payload, attached=True), "keep", "signed by the root, but no key list")
    case("signed-by-bench", sign_key_list(ACTIVE, 3, _keys()), "keep", "signed by a signing key, which may not")
    case("cut", third[:-5], "keep", "cut off")
    case("more", third + b"\x00", "keep", "bytes after the end")


# Envelopes ----------------------------------------------------------------------------------------------------------


def _image(version: str, component: str = "app", slot: int | None = None) -> Component:
    content = f"{component} {version} for slot {slot}".encode()
    return Component(component, version, hashlib.sha256(content).hexdigest(), 20_000, updater=2, slot=slot)


def _manifest(*components: Component, **more: Any) -> Manifest:
    values: dict[str, Any] = {
        "board": BOARD,
        "line": LINE,
        "vendor_domain": DOMAIN,
        "version": "2.5.0",
        "floor": 4,
        "hw_rev_min": 1,
        "hw_rev_max": 3,
        "components": components or (_image("2.5.0"),),
        "needs": (),
        "description": "",
    }
    return Manifest(**{**values, **more})


def _sealed(manifest: bytes, key: Ed25519PrivateKey = ACTIVE) -> bytes:
    return join_envelope(sign_manifest(manifest, key), manifest)


def _envelopes(vectors: Vectors) -> None:
    good = encode_manifest(_manifest())
    envelope = _sealed(good)

    def case(name: str, content: bytes, verdict: str, why: str, manifest: bytes = good, **more: Any) -> None:
        """``more``: what of the device is otherwise, or the key list that it holds."""
        told: dict[str, Any] = {"asked": manifest_digest(manifest), "keys": "key-lists/second.cose"}
        if "features" in more:
            told["features"] = more.pop("features")
        if "keys" in more:
            told["keys"] = f"key-lists/{more.pop('keys')}.cose"
        if "asked" in more:
            told["asked"] = more.pop("asked")
        if "image" in more:
            told["image"] = more.pop("image")
        if more:
            told["device"] = more
        vectors.case("envelope", name, content, verdict, why, **told)

    def signed(name: str, manifest: Manifest | bytes, verdict: str, why: str, **more: Any) -> None:
        """Signed as it should be, whatever is in it."""
        data = manifest if isinstance(manifest, bytes) else encode_manifest(manifest)
        case(name, _sealed(data), verdict, why, data, **more)

    app = _image("2.5.0")
    wanted = {"component": "app", "digest": app.digest, "size": app.size, "uri": app.uri}
    case("good", envelope, "good", "signed by an active key, for this device", image=wanted)
    case("retired-key", _sealed(good, RETIRED), "good", "what a retired key signed stays good", image=wanted)
    forged, bad = "signature-refused", "refused-by-device"
    case("manifest-bit", _flipped(envelope, len(envelope) - 20), forged, "one bit of the manifest is another")
    at = envelope.index(cose.sign(ACTIVE, suit_digest(good), attached=False)[-64:]) + 63
    case("signature-bit", _flipped(envelope, at), forged, "one bit of the signature is another")
    case("unknown-key", _sealed(good, UNKNOWN), forged, "signed by a key that is in no list")
    case("revoked-key", _sealed(good, REVOKED), forged, "signed by a key that is revoked")
    case("revoked-meanwhile", envelope, forged, "its key is revoked in list 3", keys="third")
    case("name-of-another", _under(good, RETIRED, ACTIVE), forged, "names another key than the one that signed it")
    case("other-algorithm", _under(good, ACTIVE, ACTIVE, {1: -7}), forged, "says that it is signed by ES256")
    case("another-manifest", envelope, forged, "good, but not the one that the order named", asked="0" * 64)
    case("unsigned", _bare(good), forged, "carries no signature")
    case("cut", envelope[:-9], forged, "cut off")
    case("more", envelope + b"\x00", forged, "bytes after the end")
    case("too-long", envelope[:3] + b"\x5a\xff\xff\xff\xff" + envelope[5:], forged, "a string of 4 GiB is announced")
    case("too-deep", b"\xd8\x6b" + b"\x81" * 200 + b"\x00", forged, "lists in lists, 200 deep")
    endless = b"\xd8\x6b\xbf" + envelope[3:] + b"\xff"
    case("endless", endless, forged, "a map of indefinite length")
    signed("signed-too-deep", _broken(good, b"\x81" * 200 + b"\x00"), forged, "signed, but nested 200 deep within")
    signed("lower-floor", _manifest(floor=3), bad, "its floor number is below the device's")
    signed("higher-floor", _manifest(floor=9), "good", "a higher floor number is no obstacle", image=wanted)
    signed("other-board", _manifest(board="comb-s2"), bad, "for another board")
    signed("other-line", _manifest(line="hive-heater"), bad, "for another line of the board")
    signed("other-vendor", _manifest(vendor_domain="meadow.example"), bad, "of another vendor")
    signed("low-revision", _manifest(hw_rev_min=3, hw_rev_max=4), bad, "for hardware revisions 3 to 4; this is 2")
    signed("other-component", _manifest(_image("1.0.0", "radio")), bad, "of a component that the device does not have")
    signed("needs-newer", _manifest(needs=(("app", "2.4.1"),)), bad, "app 2.4.1 must run before, and 2.4.0 does")
    signed("needs-met", _manifest(needs=(("app", "2.4.0"),)), "good", "what must run before does", image=wanted)
    for first, second, name in ((0, 1, "each-slot"), (1, 0, "each-slot-turned")):
        slots = _manifest(_image("2.5.0", slot=first), _image("2.5.0", slot=second))
        own = _image("2.5.0", slot=1)
        chosen = {"component": "app", "digest": own.digest, "size": own.size, "uri": own.uri}
        why = "an image for each slot: the device takes that for slot 1, where it would stand"
        signed(name, slots, "good", why, image=chosen, features=["slots"])
    big = _manifest(replace(app, size=2_000_000))
    signed("too-large", big, "no-room", "the image is larger than the slot")
    unknown = _with_unknown_command(good)
    signed("unknown-command", unknown, forged, "signed, with a command that the profile does not have")


def _flipped(data: bytes, at: int) -> bytes:
    return data[:at] + bytes([data[at] ^ 1]) + data[at + 1 :]


def _under(
    manifest: bytes, named: Ed25519PrivateKey, signer: Ed25519PrivateKey, more: dict[int, int] | None = None
) -> bytes:
    """Signed by one key, in the name of another, or by an algorithm that it is not."""
    protected = cbor.encode({1: -19, 4: bytes.fromhex(fingerprint(raw_public(named))), **(more or {})})
    digest = suit_digest(manifest)
    signature = signer.sign(cbor.encode(["Signature1", protected, b"", digest]))
    block = cbor.encode(CBORTag(18, [protected, {}, None, signature]))
    return join_envelope(cbor.encode([digest, block]), manifest)


def _bare(manifest: bytes) -> bytes:
    authentication = cbor.encode([suit_digest(manifest)])
    return cbor.encode(CBORTag(ENVELOPE_TAG, {AUTHENTICATION: authentication, MANIFEST: manifest}))


def _broken(manifest: bytes, common: bytes) -> bytes:
    """A manifest with other bytes for what is common."""
    return cbor.encode({**cbor.decode(manifest), COMMON: common})


def _with_unknown_command(manifest: bytes) -> bytes:
    body = cbor.decode(manifest)
    common = cbor.decode(body[COMMON])
    shared = cbor.decode(common[SHARED_SEQUENCE])
    common[SHARED_SEQUENCE] = cbor.encode([*shared, 99, 15])
    assert SEQUENCE in body and COMPONENTS in common
    return cbor.encode({**body, COMMON: cbor.encode(common)})


# Nameplates ---------------------------------------------------------------------------------------------------------


def _nameplates(vectors: Vectors) -> None:
    plate = Nameplate(LINE, BOARD, "app", "2.6.0", 4, 2, "ta-0001", 1_795_000_000, 1, 3)
    record = encode_nameplate(plate)
    said = {
        "line": LINE,
        "board": BOARD,
        "component": "app",
        "version": "2.6.0",
        "floor": 4,
        "build_id": "ta-0001",
        "build_time": 1_795_000_000,
        "hw_rev_min": 1,
        "hw_rev_max": 3,
        "updater": 2,
    }
    around = bytes(range(64)), bytes(reversed(range(64)))

    def case(name: str, content: bytes, verdict: str, why: str, says: dict[str, Any] | None = None) -> None:
        vectors.case("nameplate", name, around[0] + content + around[1], verdict, why, says=says)

    case("good", record, "good", "stands anywhere in the image", said)
    case("twice", record + b"\xff" * 8 + record, "good", "two copies that are the same count as one", said)
    needs = encode_nameplate(replace(plate, needs=(("app", "2.4.0"),)))
    case("needs", needs, "good", "with what must run before", {**said, "needs": {"app": "2.4.0"}})
    case("none", b"\xff" * len(record), "none", "there is none")
    case("crc", _flipped(record, len(record) - 1), "refused", "one bit of the CRC is another")
    case("bit", _flipped(record, 20), "refused", "one bit of the map is another")
    other = encode_nameplate(replace(plate, version="2.6.1"))
    case("two", record + other, "refused", "two that differ")
    case("cut-head", record[:9], "refused", "a magic at the end, and nothing behind it")
    vectors.files["nameplates/cut-head.bin"] = around[0] + record[:9]
    case("longer", record[:8] + b"\xff\x0f" + record[10:], "refused", "its length says 4095 bytes")


def differences(folder: Path = FOLDER) -> Iterator[str]:
    """In what a folder is not what this script makes."""
    made = make()
    there = {str(path.relative_to(folder)) for path in folder.rglob("*") if path.is_file()}
    yield from (f"{name} is not made any more" for name in sorted(there - made.keys()))
    for name, content in made.items():
        if not (folder / name).exists():
            yield f"{name} is missing"
        elif (folder / name).read_bytes() != content:
            yield f"{name} is another"


def main() -> None:
    """Writes the folder, or checks it."""
    parser = argparse.ArgumentParser(description="Makes docs/vectors.")
    parser.add_argument("--check", action="store_true", help="only say whether they are what is committed")
    if parser.parse_args().check:
        sys.exit("; ".join(differences()) or None)
    for folder in ("key-lists", "envelopes", "nameplates"):
        shutil.rmtree(FOLDER / folder, ignore_errors=True)
        (FOLDER / folder).mkdir(parents=True)
    for name, content in make().items():
        (FOLDER / name).write_bytes(content)


if __name__ == "__main__":
    main()
