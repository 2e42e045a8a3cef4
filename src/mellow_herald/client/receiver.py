"""A small receiver of webhooks: checks the signature of every call and says what happened, one line an event.

``problem_with`` is what a receiver of your own needs; it uses nothing but Python's standard library.
"""

import base64
import hashlib
import hmac
import json
import re
import time
from collections.abc import Callable, Mapping
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

OLDEST_S = 300  # older signatures are refused, so that nobody can play a call again later
INPUT = re.compile(r'herald=(\((?:"[^"]+" ?)+\);created=(\d+);keyid="[^"]*";alg="hmac-sha256")')


def problem_with(headers: Mapping[str, str], url: str, body: bytes, secret: str, now: float) -> str | None:
    """What is wrong with a call's signature (RFC 9421) and digest (RFC 9530); None if nothing is."""
    digest = f"sha-256=:{base64.b64encode(hashlib.sha256(body).digest()).decode()}:"
    if not hmac.compare_digest(headers.get("content-digest", ""), digest):
        return "the body is not what the digest says"
    found = INPUT.fullmatch(headers.get("signature-input", ""))
    if found is None:
        return "it is not signed"
    if abs(now - int(found[2])) > OLDEST_S:
        return "the signature is too old"
    covered = {
        "@method": "POST",
        "@target-uri": url,
        "content-type": headers.get("content-type", ""),
        "content-digest": digest,
    }
    names = re.findall(r'"([^"]+)"', found[1].partition(")")[0])
    if not {"@method", "@target-uri", "content-digest"} <= set(names) <= covered.keys():
        return "the signature does not cover what it should"
    base = "\n".join([f'"{name}": {covered[name]}' for name in names] + [f'"@signature-params": {found[1]}'])
    signed = base64.b64encode(hmac.new(secret.encode(), base.encode(), hashlib.sha256).digest()).decode()
    if not hmac.compare_digest(headers.get("signature", ""), f"herald=:{signed}:"):
        return "the signature is wrong"
    return None


def make_server(port: int, secret: str, refuse: int = 0, say: Callable[[str], None] = print) -> ThreadingHTTPServer:
    """A server on loopback that says every good event once; the first ``refuse`` calls are answered with 503, to see
    retries."""
    seen: set[str] = set()
    left = [refuse]

    class Receiver(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            """One event."""
            body = self.rfile.read(int(self.headers.get("content-length", "0")))
            url = f"http://{self.headers.get('host', '')}{self.path}"
            headers = {name.lower(): value for name, value in self.headers.items()}
            wrong = problem_with(headers, url, body, secret, time.time())
            if wrong is not None:
                self._answer(401, wrong)
                return
            if left[0] > 0:
                left[0] -= 1
                self._answer(503, "come back later")
                return
            event = json.loads(body)
            # An event may come twice (its answer got lost); its id is the same then.
            if event["id"] not in seen:
                seen.add(event["id"])
                words = (event["time"], event["type"], event.get("subject", ""), event["data"].get("why") or "")
                say("  ".join(words).rstrip())
            self._answer(204, "")

        def _answer(self, status: int, text: str) -> None:
            self.send_response(status)
            self.send_header("content-length", str(len(text.encode())))
            self.end_headers()
            self.wfile.write(text.encode())

        def log_message(self, *_: object) -> None:
            """Every call is said once, by its event."""

    return ThreadingHTTPServer(("127.0.0.1", port), Receiver)
