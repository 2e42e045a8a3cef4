#!/usr/bin/env python3
"""A device with nothing but Python's standard library: the device protocol from a device's side.

Two files stand for the slots, one for what must survive a restart. It verifies everything itself, as a real device
does, before it writes or switches: the key list by the root it was made with, the manifest by a key of that list, the
image by the digest in the manifest. What it trusts, and why, is in ``device_trust.py`` beside this file.

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

sys.path.insert(0, str(Path(__file__).parent))  # so that it is found wherever this file is run from
from device_trust import Refused, raw_key, read_key_list, read_manifest

LOG_LINES = 200
FAILING = b"its self-test fails"
"""Its firmware does nothing; of one that has these words in it the self-test fails, so that it can be tried."""


def in_order(version):
    """A version's three numbers, and 0 for a pre-release, which comes before it (SemVer)."""
    plain = version.partition("+")[0]
    return [*(int(number) for number in plain.partition("-")[0].split(".")), 0 if "-" in plain else 1]


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
                "boots": 0,
                "active": "a",
                "trial": None,
                "floor": 0,
                "slots": {"a": note},
                "unsent": [],
                "nonce": secrets.token_hex(16),
                "token": None,
                "key_list": None,
                "work": None,
            }
            self.save()
        self.state = json.loads(self.file.read_text())
        self.seq, self.started, self.scale = 0, time.monotonic(), 1.0
        self.lines = self.state.setdefault("log", [])

    def save(self):
        """Keeps the state whole, whenever power is lost: a new file takes the old one's place."""
        fresh = self.file.with_suffix(".new")
        with fresh.open("w") as file:
            json.dump(self.state, file)
            file.flush()
            os.fsync(file.fileno())
        fresh.rename(self.file)

    def say(self, line):
        """A line of the log; the last ones outlive a restart, for whoever asks why an update went bad."""
        print(f"{self.options.serial}: {line}", flush=True)
        self.lines.append(f"boot {self.state['boots']}: {line}")
        del self.lines[:-LOG_LINES]

    def call(self, method, path, body=None, headers=None, patient=True):
        """One call: (status, headers, bytes). Overload and silence are waited out."""
        pause = 1.0
        while True:
            least = 0.0
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
                least = float(error.headers.get("Retry-After") or 0)
            except (OSError, http.client.HTTPException):
                if not patient:
                    return 0, {}, b""
            # Not before it is asked to, and not all devices at once.
            time.sleep(max(least, min(60, pause) * 0.5) + random.uniform(0, min(60, pause) * 0.5))
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
            "boots": self.state["boots"],
            "seq": self.seq,
            "ready": not self.on_trial,
            "updater": 2,
            "trial": self.on_trial,
            "running": {"app": {**slots[self.slot], "slot": self.slot}},
            "standby": {"app": {**slots[standby], "slot": standby}} if standby in slots else {},
            "condition": {"charging": True, "link": "ethernet"},
            "readings": {},
            "uptime_s": int((time.monotonic() - self.started) * self.scale),
            **more,
        }

    def check_in(self, wait=0):
        """Tells what runs; returns the order, or None, and how long to wait. No order is acted upon while reports are
        kept: once they are known, it may no longer be the one that stands."""
        self.send_reports()
        prefer = {"Prefer": f"wait={wait}"} if wait else {}
        status, headers, body = self.call("POST", "checkins", self.word(), prefer)
        if status == 204:
            return None, float(headers["Herald-Next-Checkin"])
        if status != 200:
            self.say(f"check-in refused: {body.decode()}")
            return None, 60.0
        order = json.loads(body)
        stands = order.get("order") and not self.state["unsent"]
        return (order if stands else None), 1.0 if self.state["unsent"] else float(order["next_checkin_s"])

    def report(self, state, **more):
        """Reports, now or when the service can be reached again."""
        self.seq += 1
        work = self.state["work"]
        said = {"boots": self.state["boots"], "seq": self.seq, "attempt": work["attempt"], "try": work["try"]}
        if state in ("failed", "reverted"):
            more["log"] = "\n".join(self.lines)
        self.state["unsent"].append(said | {"state": state} | more)
        self.save()
        self.send_reports()

    def send_reports(self):
        """Sends what is kept. What an answer names as refused would be refused again: it goes like the others."""
        unsent = self.state["unsent"]
        if not unsent:
            return
        status, _, body = self.call("POST", "reports", {"reports": unsent}, patient=False)
        if status == 200:
            for one in json.loads(body).get("refused", []):
                self.say(f"a report was refused: {one['detail']}")
        if status in (200, 204, 400, 403, 422):
            self.state["unsent"] = []
            self.save()

    def keys(self):
        """The newest key list that the root signed; one with a lower number is not taken."""
        status, _, body = self.call("GET", "keys")
        own = self.state["key_list"]
        known = read_key_list(base64.b64decode(own), self.root) if own else (0, {})
        if status == 200:
            try:
                offered = read_key_list(body, self.root)
            except Refused as refused:
                self.say(f"key list not taken: {refused.args[1]}")
                return known[1]
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
            if self.state["work"].get("began"):
                self.drop("b" if self.slot == "a" else "a")
            self.lamp("update stopped")
            self.report("failed", reason=refused.args[0], detail=refused.args[1])

    def drop(self, slot):
        """Erases a slot, and notes that nothing stands there."""
        self.state["slots"].pop(slot, None)
        self.save()
        (self.folder / f"{slot}.bin").unlink(missing_ok=True)

    def lamp(self, words):
        """What people before the device see."""
        (self.folder / "lamp").write_text(words)

    def check_fit(self, wanted):
        """Whether a release is for this very device."""
        one = self.options
        ours = uuid.uuid5(uuid.uuid5(uuid.NAMESPACE_DNS, one.domain), f"{one.board}/{one.line}").bytes
        low, high = wanted["hw_revs"]
        if wanted["class_id"] != ours or not low <= one.hw_rev <= high:
            raise Refused("refused-by-device", "the release is for another board, line or revision")
        if wanted["floor"] < self.state["floor"]:
            raise Refused("refused-by-device", f"floor number {wanted['floor']} is below {self.state['floor']}")
        runs = self.state["slots"][self.slot]["version"]
        if in_order(runs) < [*wanted["needs"], 1]:
            least = ".".join(str(number) for number in wanted["needs"])
            raise Refused("refused-by-device", f"the release needs app {least} or later to be running")
        if wanted["size"] > one.slot_size:
            raise Refused("no-room", f"{wanted['size']} bytes do not fit {one.slot_size}")

    def download(self, wanted, standby):
        """Fetches in pieces; each goes on where the one before ended, whatever broke off."""
        self.drop(standby)
        path, size = self.folder / f"{standby}.bin", wanted["size"]
        path.write_bytes(b"")
        self.state["work"]["began"] = True
        self.lamp("updating")
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

    def holds(self, slot, digest):
        """Whether a slot holds an image."""
        return self.state["slots"].get(slot, {}).get("digest") == digest

    def switch_to(self, order):
        """Switches to the image that the order names, and to nothing else."""
        digest, other = order["to"]["app"], "b" if self.slot == "a" else "a"
        self.state["work"] = (self.state["work"] or {}) | {name: order[name] for name in ("attempt", "try", "trial_s")}
        self.state["work"]["clearance"] = order["clearance"]["number"]
        if self.holds(self.slot, digest):
            self.say("told to switch to what runs already")
            self.confirm()
        elif order["order"] == "switch-back":
            self.switch_back(other, digest)
        elif not self.holds(other, digest) or self.state["work"].get("slot") != other:
            self.fetch(order)
        else:
            self.switch()

    def confirm(self):
        """Vouches for what runs, by its digest."""
        self.report("confirmed", digests={"app": self.state["slots"][self.slot]["digest"]})
        self.say("confirmed")

    def switch(self):
        """Puts the standby slot on trial and restarts, if its signer is still good (what came by cable has none)."""
        work = self.state["work"]
        if work["kid"] and self.keys().get(work["kid"], (b"", "unknown"))[1] not in ("active", "retired"):
            self.drop(work["slot"])
            self.report("failed", reason="signature-refused", detail=f"key {work['kid']} was revoked meanwhile")
            return
        self.report("installing", clearance=work["clearance"])
        self.state["trial"], work["switching"] = work["slot"], True
        self.save()
        self.start()
        if self.on_trial:
            self.prove(work["slot"])

    def switch_back(self, other, digest):
        """Switches to what ran here before and still stands in the other slot: a trial, but no download."""
        note = self.state["slots"].get(other, {})
        self.state["work"] |= {"slot": other, "kid": note.get("kid")}
        if self.holds(other, digest) and note.get("proven") and note["floor"] >= self.state["floor"]:
            self.switch()
        else:
            detail = "the other slot holds nothing that once ran here, or its floor number is too low"
            self.report("failed", reason="refused-by-device", detail=detail)

    def prove(self, slot):
        """On trial: tests itself, reaches the service, then vouches for the new firmware; or boots what ran before."""
        passed = FAILING not in (self.folder / f"{slot}.bin").read_bytes()
        self.report("proving", tests=[{"name": "image", "passed": passed}])
        if not passed:
            self.say("the self-test failed")
            self.state["work"]["failed"] = "self-test-failed"
            self.start()
            return
        if self.call("POST", "checkins", self.word(after_restart=True), patient=False)[0]:
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
            self.confirm()
        else:
            self.report("reverted", reason=work.pop("failed", "power-lost"))

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
            elif order["order"] in ("switch", "switch-back") and order["clearance"]["seconds"] > 0:
                self.switch_to(order)
            elif order["order"] == "abandon":
                other = "b" if self.slot == "a" else "a"
                if not self.state["slots"].get(other, {}).get("proven"):  # what once ran is the way back
                    self.drop(other)
                self.lamp("update stopped")
                self.sleep(pause)
            else:
                self.sleep(pause)


def main():
    """Runs the device until it is stopped."""
    parser = argparse.ArgumentParser(description="A device with nothing but the standard library.")
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
