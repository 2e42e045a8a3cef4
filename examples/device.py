#!/usr/bin/env python3
"""A device in one file, with nothing but Python's standard library: the device protocol from a device's side.

Two files stand for the slots, one for what must survive a restart. It verifies everything itself, as a real device
does, before it writes or switches: the key list by the root it was made with, the manifest by a key of that list, the
image by the digest in the manifest. A real device puts its crypto library where ``ed25519_good`` stands.

    python3 device.py --url http://127.0.0.1:8410 --code CODE --serial TA-S1-9001 --board comb-s1 --line hive-scale \\
        --domain thistledown.example --root root.pub.pem --image hive-scale-2.4.0.bin --folder my-device
"""

import argparse
import base64
import hashlib
import http.client
import json
import os
import random
import secrets
import sys
import time
import urllib.error
import urllib.request
import uuid
from pathlib import Path

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


def raw_key(pem):
    """The 32 bytes in a public key's PEM file: they stand at the end of the DER."""
    return base64.b64decode("".join(line for line in pem.splitlines() if "-" * 5 not in line))[-32:]


def fingerprint(public):
    """A key's short name."""
    return hashlib.sha256(public).hexdigest()[:16]


def read_key_list(data, root):
    """A key list signed by the root: (number, {fingerprint: (public key, status)})."""
    kid, message, signature, payload = signed_by(data)
    if kid != fingerprint(root) or not ed25519_good(root, signature, message):
        raise Refused("signature-refused", "the key list is not signed by the root")
    body = decode(payload)
    if body[1] != "mellow-herald-key-list":
        raise Refused("signature-refused", "that is no key list")
    return body[2], {fingerprint(line[1]): (line[1], line[2]) for line in body[3]}


def read_manifest(envelope, digest, keys):
    """A verified manifest: {"floor", "app": {"digest", "size", "uri", "version"}, "class_id", "hw_revs", "kid"}."""
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
    return {
        "floor": body[2], "kid": kid, "class_id": given[2], "hw_revs": given[-1], "uri": given[21],
        "digest": decode(given[3])[1].hex(), "size": given[14], "version": decode(body[23])["en"][-1],
    }  # fmt: skip


def overrides(sequence):
    """All parameters that a command sequence sets."""
    found = {}
    for command, argument in zip(sequence[::2], sequence[1::2], strict=True):
        if command == 15:
            raise Refused("refused-by-device", "the release has an image for each slot; these slots are alike")
        if command == 20:
            found |= argument
    return found


# The device. ---------------------------------------------------------------------------------------------------------


class Device:
    """Flash, identity and voice of one device."""

    def __init__(self, options):
        self.options, self.folder = options, Path(options.folder)
        self.folder.mkdir(parents=True, exist_ok=True)
        self.root = raw_key(Path(options.root).read_text())
        self.file = self.folder / "state.json"
        if not self.file.exists():
            image = Path(options.image).read_bytes()
            (self.folder / "a.bin").write_bytes(image)
            note = {"version": options.version, "digest": hashlib.sha256(image).hexdigest()}
            note |= {"floor": options.floor, "proven": True}
            self.state = {
                "boots": 0, "active": "a", "trial": None, "floor": 0, "slots": {"a": note}, "unsent": [],
                "nonce": secrets.token_hex(16), "token": None, "key_list": None, "work": None,
            }  # fmt: skip
            self.save()
        self.state = json.loads(self.file.read_text())
        self.seq, self.started, self.scale = 0, time.monotonic(), 1.0

    def save(self):
        """Keeps the state whole, whenever power is lost: a new file takes the old one's place."""
        fresh = self.file.with_suffix(".new")
        with fresh.open("w") as file:
            json.dump(self.state, file)
            file.flush()
            os.fsync(file.fileno())
        fresh.rename(self.file)

    def say(self, line):
        print(f"{self.options.serial}: {line}", flush=True)

    def call(self, method, path, body=None, headers=None, patient=True):
        """One call: (status, headers, bytes). Overload and silence are waited out."""
        pause = 1.0
        while True:
            request = urllib.request.Request(f"{self.options.url}/device/v1/{path}", method=method)
            for name, value in (headers or {}).items():
                request.add_header(name, value)
            if self.state["token"]:
                request.add_header("Authorization", f"Bearer {self.state['token']}")
            if body is not None:
                request.add_header("Content-Type", "application/json")
                request.data = json.dumps(body).encode()
            try:
                with urllib.request.urlopen(request, timeout=60) as answer:
                    self.scale = float(answer.headers.get("Herald-Time-Scale", "1"))
                    return answer.status, answer.headers, answer.read()
            except urllib.error.HTTPError as error:
                if error.code not in (429, 500, 502, 503, 504) or not patient:
                    return error.code, error.headers, error.read()
                pause = max(pause, float(error.headers.get("Retry-After") or 0))
            except (OSError, http.client.HTTPException):
                if not patient:
                    return 0, {}, b""
            time.sleep(min(60, pause) * random.uniform(0.5, 1))
            pause *= 2

    def sleep(self, seconds):
        """Sleeps service time."""
        time.sleep(seconds / self.scale)

    def enrol(self):
        """The first call; the same nonce until it is answered."""
        if self.state["token"]:
            return
        one = self.options
        said = {"serial": one.serial, "board": one.board, "line": one.line, "hw_rev": one.hw_rev, "code": one.code}
        status, _, body = self.call("POST", "enrolments", said | {"nonce": self.state["nonce"]})
        if status != 201:
            sys.exit(f"enrolment refused: {body.decode()}")
        self.state["token"] = json.loads(body)["token"]
        self.save()
        self.say("enrolled")

    def start(self):
        """Boots: what is on trial runs once; whoever does not confirm is not booted again."""
        state = self.state
        state["boots"] += 1
        self.seq, self.started = 0, time.monotonic()
        self.slot = state["trial"] or state["active"]
        self.on_trial, state["trial"] = state["trial"] is not None, None
        self.save()
        self.say(f"running {state['slots'][self.slot]['version']} from slot {self.slot}")

    def word(self, **more):
        """A check-in: what runs, and how the device is."""
        self.seq += 1
        standby = "b" if self.slot == "a" else "a"
        said = ("version", "digest", "floor")
        slots = {slot: {name: note[name] for name in said} for slot, note in self.state["slots"].items()}
        return {
            "boots": self.state["boots"], "seq": self.seq, "ready": not self.on_trial, "updater": 1,
            "running": {"app": {**slots[self.slot], "slot": self.slot}},
            "standby": {"app": {**slots[standby], "slot": standby}} if standby in slots else {},
            "condition": {"charging": True, "link": "ethernet"}, "readings": {},
            "uptime_s": int((time.monotonic() - self.started) * self.scale), **more,
        }  # fmt: skip

    def check_in(self, wait=0):
        """Tells what runs; returns the order, or None, and how long to wait."""
        self.send_reports()
        prefer = {"Prefer": f"wait={wait}"} if wait else {}
        status, headers, body = self.call("POST", "checkins", self.word(), prefer)
        if status == 204:
            return None, float(headers["Herald-Next-Checkin"])
        if status != 200:
            self.say(f"check-in refused: {body.decode()}")
            return None, 60.0
        order = json.loads(body)
        return (order if order.get("order") else None), float(order["next_checkin_s"])

    def report(self, state, **more):
        """Reports, now or when the service can be reached again."""
        self.seq += 1
        work = self.state["work"]
        said = {"boots": self.state["boots"], "seq": self.seq, "attempt": work["attempt"], "try": work["try"]}
        self.state["unsent"].append(said | {"state": state} | more)
        self.save()
        self.send_reports()

    def send_reports(self):
        unsent = self.state["unsent"]
        if unsent and self.call("POST", "reports", {"reports": unsent}, patient=False)[0] in (200, 204, 403, 422):
            self.state["unsent"] = []
            self.save()

    def keys(self):
        """The newest key list that the root signed; one with a lower number is not taken."""
        status, _, body = self.call("GET", "keys")
        own = self.state["key_list"]
        known = read_key_list(base64.b64decode(own), self.root) if own else (0, {})
        if status == 200:
            offered = read_key_list(body, self.root)
            if offered[0] > known[0]:
                self.state["key_list"] = base64.b64encode(body).decode()
                self.save()
                return offered[1]
        return known[1]

    def fetch(self, order):
        """Verifies the manifest, fetches the image, verifies what was written."""
        self.state["work"] = {"attempt": order["attempt"], "try": order["try"], "trial_s": order["trial_s"]}
        self.save()
        try:
            status, _, envelope = self.call("GET", f"manifests/{order['manifest']}")
            if status != 200:
                raise Refused("download-broken", f"the manifest was not given: {status}")
            wanted = read_manifest(envelope, order["manifest"], self.keys())
            self.check_fit(wanted)
            self.say(f"{wanted['version']} is signed by {wanted['kid']}")
            standby = "b" if self.slot == "a" else "a"
            self.download(wanted, standby)
            note = {name: wanted[name] for name in ("version", "digest", "floor", "kid")}
            self.state["slots"][standby] = {**note, "proven": False}
            self.state["work"] |= {"kid": wanted["kid"], "slot": standby}
            self.report("staged")
        except Refused as refused:
            self.say(f"gave up: {refused.args[1]}")
            self.report("failed", reason=refused.args[0], detail=refused.args[1])

    def check_fit(self, wanted):
        """Whether a release is for this very device."""
        one = self.options
        ours = uuid.uuid5(uuid.uuid5(uuid.NAMESPACE_DNS, one.domain), f"{one.board}/{one.line}").bytes
        low, high = wanted["hw_revs"]
        if wanted["class_id"] != ours or not low <= one.hw_rev <= high:
            raise Refused("refused-by-device", "the release is for another board, line or revision")
        if wanted["floor"] < self.state["floor"]:
            raise Refused("refused-by-device", f"floor number {wanted['floor']} is below {self.state['floor']}")
        if wanted["size"] > one.slot_size:
            raise Refused("no-room", f"{wanted['size']} bytes do not fit {one.slot_size}")

    def download(self, wanted, standby):
        """Fetches in pieces; each goes on where the one before ended, whatever broke off."""
        self.state["slots"].pop(standby, None)
        self.save()
        path, size = self.folder / f"{standby}.bin", wanted["size"]
        path.write_bytes(b"")
        self.report("downloading", step="fetch", percent=0)
        while (have := path.stat().st_size) < size:
            upto = min(have + self.options.piece, size) - 1
            headers = {"Range": f"bytes={have}-{upto}", "If-Range": f'"{wanted["digest"]}"'}
            status, _, body = self.call("GET", wanted["uri"], headers=headers)
            if status != 206 or len(body) != upto - have + 1:
                raise Refused("download-broken", f"asked for bytes {have}-{upto}, was answered {status}")
            with path.open("ab") as file:
                file.write(body)
            self.report("downloading", step="fetch", percent=100 * (upto + 1) // size)
        if hashlib.sha256(path.read_bytes()).hexdigest() != wanted["digest"]:
            raise Refused("digest-mismatch", "what stands in the slot is not what the manifest says")

    def switch(self):
        """Puts the standby slot on trial and restarts, if its signer is still good (what came by cable has none)."""
        work = self.state["work"]
        if work["kid"] and self.keys().get(work["kid"], (b"", "unknown"))[1] not in ("active", "retired"):
            self.state["slots"].pop(work["slot"], None)
            self.report("failed", reason="signature-refused", detail=f"key {work['kid']} was revoked meanwhile")
            return
        self.report("installing")
        self.state["trial"], work["switching"] = work["slot"], True
        self.save()
        self.start()
        if self.on_trial:
            self.prove(work["slot"])

    def switch_back(self, order):
        """Switches to what ran here before and still stands in the other slot: a trial, but no download."""
        other = "b" if self.slot == "a" else "a"
        note = self.state["slots"].get(other, {})
        attempt = {name: order[name] for name in ("attempt", "try", "trial_s")}
        self.state["work"] = {**attempt, "slot": other, "kid": note.get("kid")}
        if note.get("proven") and note["floor"] >= self.state["floor"]:
            self.switch()
        else:
            detail = "the other slot holds nothing that once ran here, or its floor number is too low"
            self.report("failed", reason="refused-by-device", detail=detail)

    def prove(self, slot):
        """On trial: tests itself, reaches the service, then vouches for the new firmware."""
        self.report("proving", tests=[{"name": "image", "passed": True}])
        if self.call(
            "POST", "checkins", {"boots": self.state["boots"], "seq": 0, "after_restart": True}, patient=False
        )[0]:
            self.state["active"], self.on_trial = slot, False
            self.state["slots"][slot]["proven"] = True
            self.state["floor"] = max(self.state["floor"], self.state["slots"][slot]["floor"])
            self.save()

    def settle(self):
        """Tells how a switch ended, by what runs now: power may have failed anywhere in between."""
        work = self.state["work"]
        if not work or not work.pop("switching", False):
            return
        if self.slot == work["slot"] and not self.on_trial:
            self.report("confirmed")
            self.say("confirmed")
        else:
            self.report("reverted", reason="power-lost")

    def run(self):
        """The device's life."""
        self.enrol()
        self.start()
        if self.on_trial:
            self.prove(self.slot)
        while True:
            self.settle()
            order, pause = self.check_in(self.options.wait)
            if order is None:
                if self.options.until and self.state["slots"][self.slot]["version"] == self.options.until:
                    return
                self.sleep(0 if self.options.wait else pause)
            elif order["order"] == "fetch":
                self.fetch(order)
            elif order["order"] == "switch" and "slot" in (self.state["work"] or {}):
                self.switch()
            elif order["order"] == "switch-back":
                self.switch_back(order)
            elif order["order"] == "abandon":
                other = "b" if self.slot == "a" else "a"
                if not self.state["slots"].get(other, {}).get("proven"):  # what once ran is the way back
                    self.state["slots"].pop(other, None)
                self.save()
                self.sleep(pause)
            else:
                self.sleep(pause)


def main():
    """Runs the device until it is stopped."""
    parser = argparse.ArgumentParser(description="A device in one file.")
    for name in ("url", "code", "serial", "board", "line", "domain", "root", "image", "folder"):
        parser.add_argument(f"--{name}", required=True)
    parser.add_argument("--version", default="0.0.0", help="the version of the first image")
    parser.add_argument("--floor", type=int, default=0, help="the floor number of the first image")
    parser.add_argument("--hw-rev", type=int, default=1)
    parser.add_argument("--slot-size", type=int, default=1 << 20)
    parser.add_argument("--piece", type=int, default=16 * 1024, help="bytes a request")
    parser.add_argument("--wait", type=int, default=0, help="hold check-ins open for so many seconds")
    parser.add_argument("--until", help="end once this version runs and no order stands")
    Device(parser.parse_args()).run()


if __name__ == "__main__":
    main()
