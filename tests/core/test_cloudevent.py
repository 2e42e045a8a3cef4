"""CloudEvents as they are received, by the HTTP protocol binding."""

import base64
import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.cloudevent import MEDIA_TYPE, read_cloud_event
from mellow_herald.core.refusal import Refused

DATA = {"kind": "support-call", "text": "the scale shows nothing"}
ATTRIBUTES = {"specversion": "1.0", "id": "77", "source": "/desk", "type": "desk.call", "subject": "device/HS-1"}
EVENT = {**ATTRIBUTES, "data": DATA}


def structured(**changes: object) -> bytes:
    event = {**EVENT, **changes}
    return json.dumps({name: value for name, value in event.items() if value is not None}).encode()


def test_structured_and_binary_say_the_same() -> None:
    one = read_cloud_event({"content-type": f"{MEDIA_TYPE}; charset=utf-8"}, structured())
    headers = {f"ce-{name}": value for name, value in ATTRIBUTES.items()}
    other = read_cloud_event({"content-type": "application/json", **headers}, json.dumps(DATA).encode())
    assert one == other and one.data == DATA and (one.source, one.id) == ("/desk", "77")


def test_attributes_in_headers_are_percent_encoded() -> None:
    headers = {"ce-specversion": "1.0", "ce-id": "a%20b", "ce-source": "/d%C3%A9sk", "ce-type": "t"}
    event = read_cloud_event({"content-type": "application/json", **headers}, b"{}")
    assert (event.id, event.source) == ("a b", "/d\u00e9sk")


def test_data_may_be_packed() -> None:
    packed = base64.b64encode(json.dumps(DATA).encode()).decode()
    event = read_cloud_event({"content-type": MEDIA_TYPE}, structured(data=None, data_base64=packed))
    assert event.data == DATA


@pytest.mark.parametrize(
    ("media_type", "body", "says"),
    [
        (MEDIA_TYPE, b"\xff", "no JSON"),
        (MEDIA_TYPE, b"[]", "no JSON object"),
        (MEDIA_TYPE, structured(specversion="0.3"), "specversion"),
        (MEDIA_TYPE, structured(id=None), "its id"),
        (MEDIA_TYPE, structured(source=""), "its source"),
        (MEDIA_TYPE, structured(id="\0"), "its id"),
        (MEDIA_TYPE, structured(subject=7), "subject"),
        (MEDIA_TYPE, structured(data="text"), "no JSON object"),
        (MEDIA_TYPE, structured(data=None, data_base64="%%"), "base64"),
        ("application/cloudevents-batch+json", b"[]", "one event at a time"),
        ("application/json", b"{}", "no CloudEvent"),
    ],
)
def test_anything_else_is_refused_with_what_to_do(media_type: str, body: bytes, says: str) -> None:
    with pytest.raises(Refused, match=says):
        read_cloud_event({"content-type": media_type}, body)


@given(st.binary(max_size=200) | st.builds(json.dumps, st.recursive(st.none() | st.text(), st.lists)).map(str.encode))
def test_no_body_does_more_than_be_refused(body: bytes) -> None:
    with pytest.raises(Refused):
        read_cloud_event({"content-type": MEDIA_TYPE}, body)
