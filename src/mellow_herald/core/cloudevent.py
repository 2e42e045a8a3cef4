"""Events as CloudEvents 1.0 in structured JSON, and the signature of the call that brings one.

The signature is an HTTP message signature (RFC 9421, hmac-sha256) over method, address, content type and content digest
(RFC 9530); the receiver checks it with the webhook's secret.
"""

import base64
import hashlib
import hmac
import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import unquote

from mellow_herald.core.refusal import Refused

MEDIA_TYPE = "application/cloudevents+json"
TYPE_PREFIX = "mellow-herald"
LONGEST_ATTRIBUTE = 500
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


@dataclass(frozen=True, slots=True)
class CloudEvent:
    """A CloudEvent that was received; ``data`` is its JSON object."""

    id: str
    source: str
    type: str
    subject: str | None
    data: Mapping[str, Any]


def read_cloud_event(headers: Mapping[str, str], body: bytes) -> CloudEvent:
    """Reads a CloudEvent 1.0 by the HTTP protocol binding: structured (all of it in the body) or binary (its attributes
    in ``ce-`` headers, percent-encoded, its data in the body). Raises ``Refused`` for anything else."""
    media_type = headers.get("content-type", "").partition(";")[0].strip().lower()
    if media_type == MEDIA_TYPE:
        event = _object(body, "the event")
        data = event.get("data")
        if "data_base64" in event:
            data = _object(_unpacked(event["data_base64"]), "its data")
    elif media_type.startswith("application/cloudevents"):
        raise Refused("bad-event", f"{media_type} is not taken.", f"Send one event at a time, as {MEDIA_TYPE}.")
    else:
        event = {name[3:]: unquote(value) for name, value in headers.items() if name.startswith("ce-")}
        if not event:
            raise Refused("bad-event", "it is no CloudEvent.", f"Send it as {MEDIA_TYPE}, or with ce- headers.")
        data = _object(body, "its data")
    if event.get("specversion") != "1.0":
        raise Refused("bad-event", "its specversion is not 1.0.", 'Send "specversion": "1.0".')
    for name in ("id", "source", "type"):
        value = event.get(name)
        if not isinstance(value, str) or not 0 < len(value) <= LONGEST_ATTRIBUTE or "\0" in value:
            raise Refused(
                "bad-event", f"its {name} is no text of 1 to {LONGEST_ATTRIBUTE} characters.", f"Give its {name}."
            )
    subject = event.get("subject")
    if subject is not None and not isinstance(subject, str):
        raise Refused("bad-event", "its subject is no text.", "Leave it out, or write device/SERIAL.")
    if not isinstance(data, dict):
        raise Refused(
            "bad-event", "its data is no JSON object.", 'Send data like {"kind": "support-call", "text": "…"}.'
        )
    return CloudEvent(event["id"], event["source"], event["type"], subject, data)


def _object(body: bytes, what: str) -> dict[str, Any]:
    try:
        found = json.loads(body)
    except ValueError:
        raise Refused("bad-event", f"{what} is no JSON.", "Send a JSON object in UTF-8.") from None
    if not isinstance(found, dict):
        raise Refused("bad-event", f"{what} is no JSON object.", "Send a JSON object.")
    return found


def _unpacked(text: Any) -> bytes:
    try:
        return base64.b64decode(text, validate=True)
    except (ValueError, TypeError):
        raise Refused("bad-event", "its data_base64 is no base64.", "Send data as a JSON object instead.") from None


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
