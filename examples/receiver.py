#!/usr/bin/env python3
"""A small receiver of webhooks: checks the signature of every call and prints what happened, one line an event.

    python3 receiver.py --secret SECRET [--port 8420] [--refuse N]

Nothing but Python's standard library is needed. ``--refuse N`` answers the first N calls with 503, to see retries.
"""

import argparse
import base64
import hashlib
import hmac
import json
import re
import sys
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

OLDEST_S = 300  # older signatures are refused, so that nobody can play a call again later
INPUT = re.compile(r'herald=(\((?:"[^"]+" ?)+\);created=(\d+);keyid="[^"]*";alg="hmac-sha256")')


def problem_with(headers, url: str, body: bytes, secret: str, now: float) -> str | None:
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


def make_server(port: int, secret: str, refuse: int = 0, say=print) -> ThreadingHTTPServer:
    """A server that says every good event once."""
    seen: set[str] = set()
    left = [refuse]

    class Receiver(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers.get("content-length", "0")))
            url = f"http://{self.headers.get('host', '')}{self.path}"
            wrong = problem_with(self.headers, url, body, secret, time.time())
            if wrong is not None:
                return self._answer(401, wrong)
            if left[0] > 0:
                left[0] -= 1
                return self._answer(503, "come back later")
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
            pass

    return ThreadingHTTPServer(("127.0.0.1", port), Receiver)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--secret", required=True, help="what `herald webhook add` showed")
    parser.add_argument("--port", type=int, default=8420)
    parser.add_argument("--refuse", type=int, default=0, metavar="N", help="answer the first N calls with 503")
    asked = parser.parse_args()
    server = make_server(asked.port, asked.secret, asked.refuse, lambda line: print(line, flush=True))
    print(f"listening at http://127.0.0.1:{server.server_address[1]}/", file=sys.stderr)
    try:
        server.serve_forever()
    except KeyboardInterrupt:
        server.server_close()


if __name__ == "__main__":
    main()
