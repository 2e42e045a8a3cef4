"""Events as CloudEvents 1.0 in structured JSON, and the signature of the call that brings one.

The signature is an HTTP message signature (RFC 9421, hmac-sha256) over method, address, content type and content digest
(RFC 9530); the receiver checks it with the webhook's secret.
"""

import base64
import hashlib
import hmac
from collections.abc import Mapping
from typing import Any

MEDIA_TYPE = "application/cloudevents+json"
TYPE_PREFIX = "mellow-herald"
COVERED = '("@method" "@target-uri" "content-type" "content-digest")'


def cloud_event(event: Mapping[str, Any], source: str) -> dict[str, Any]:
    """The CloudEvent for an event of the feed (``id``, ``at`` as ISO 8601, ``kind``, ``rollout_id`` …, ``data``).

    Its ``id`` is the event's number, so that a receiver knows one that comes twice; its ``type`` names what happened.
    """
    word = event["data"].get("state") if event["kind"] == "attempt" else event["data"].get("what")
    subjects = [f"{name}/{event[f'{name}_id']}" for name in ("rollout", "attempt") if event.get(f"{name}_id")]
    if event["data"].get("serial"):
        subjects.append(f"device/{event['data']['serial']}")
    made = {
        "specversion": "1.0",
        "id": str(event["id"]),
        "source": source,
        "type": ".".join([TYPE_PREFIX, event["kind"], *_segments(word)]),
        "time": event["at"],
        "datacontenttype": "application/json",
        "data": {**event["data"], **{k: event[k] for k in ("rollout_id", "device_id", "attempt_id") if event.get(k)}},
    }
    return made | ({"subject": "/".join(subjects)} if subjects else {})


def _segments(word: Any) -> list[str]:
    return ["-".join(str(word).lower().split())] if word else []


def content_digest(body: bytes) -> str:
    """The ``Content-Digest`` of a body (RFC 9530)."""
    return f"sha-256=:{base64.b64encode(hashlib.sha256(body).digest()).decode()}:"


def sign_call(secret: str, key_id: str, url: str, body: bytes, created: int) -> dict[str, str]:
    """The headers of a signed POST of ``body`` to ``url`` at ``created`` (seconds since 1970)."""
    digest = content_digest(body)
    parameters = f'{COVERED};created={created};keyid="{key_id}";alg="hmac-sha256"'
    signed = signature_of(secret, url, digest, parameters)
    return {
        "content-type": MEDIA_TYPE,
        "content-digest": digest,
        "signature-input": f"herald={parameters}",
        "signature": f"herald=:{signed}:",
    }


def signature_of(secret: str, url: str, digest: str, parameters: str) -> str:
    """The signature (base64) over the signature base of RFC 9421 §2.5."""
    base = "\n".join(
        (
            '"@method": POST',
            f'"@target-uri": {url}',
            f'"content-type": {MEDIA_TYPE}',
            f'"content-digest": {digest}',
            f'"@signature-params": {parameters}',
        )
    )
    return base64.b64encode(hmac.new(secret.encode(), base.encode(), hashlib.sha256).digest()).decode()
