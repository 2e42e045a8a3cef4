"""What a device registers, and which way a release can come to it."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.coap.delivery import BLOCKS, CoapPlan, Delivery, Method, Transport, choose
from mellow_herald.core.coap.links import read_links
from mellow_herald.core.coap.objects import resource_of, sender_id
from mellow_herald.core.coap.update_object import FAILED, TOLD_AS, UpdateResult, in_words, result_of
from mellow_herald.core.refusal import Refused


@pytest.mark.parametrize(
    ("payload", "paths"),
    [
        (b"</3/0>,</5/0>", {"/3/0", "/5/0"}),
        (b'</lwm2m>;rt="oma.lwm2m";ct=11542,</lwm2m/3/0>,</lwm2m/5/0>;ver=1.1', {"/", "/3/0", "/5/0"}),
        (b'</>;rt="oma.lwm2m",</1/0>,</5>;ver="1.0"', {"/", "/1/0", "/5"}),
        (b"", set()),
    ],
)
def test_links_by_hand(payload: bytes, paths: set[str]) -> None:
    assert read_links(payload) == paths


@pytest.mark.parametrize("payload", [b"3/0", b"</3/0", b"</3/0> ,</5/0>", b"</3/0>,</5/0>x", b"\xff"])
def test_what_is_no_link_list_is_refused(payload: bytes) -> None:
    with pytest.raises(Refused, match="no link list"):
        read_links(payload)


@given(st.binary(max_size=80))
def test_any_bytes_are_links_or_refused(payload: bytes) -> None:
    try:
        read_links(payload)
    except Refused:
        return


@pytest.mark.parametrize(
    ("plan", "protocols", "delivery", "way"),
    [
        (CoapPlan(), [], None, Delivery(Method.PULL, Transport.COAP, 512)),
        (CoapPlan(), [0], 0, Delivery(Method.PULL, Transport.COAP, 512)),
        (CoapPlan(), [2], 0, Delivery(Method.PULL, Transport.HTTP, 512)),
        (CoapPlan(), [0], 1, Delivery(Method.PUSH, Transport.COAP, 512)),
        (CoapPlan(), [0, 2], 2, Delivery(Method.PULL, Transport.COAP, 512)),
        (CoapPlan(Method.PUSH, None, 64), [3], 2, Delivery(Method.PUSH, Transport.COAP, 64)),
        (CoapPlan(transport=Transport.HTTP), [0, 3], 2, Delivery(Method.PULL, Transport.HTTP, 512)),
    ],
)
def test_which_way(plan: CoapPlan, protocols: list[int], delivery: int | None, way: Delivery) -> None:
    assert choose(plan, protocols, delivery) == way


@pytest.mark.parametrize(
    ("plan", "protocols", "delivery"),
    [
        (CoapPlan(Method.PUSH), [0], 0),
        (CoapPlan(Method.PULL), [0], 1),
        (CoapPlan(transport=Transport.HTTP), [0], 2),
        (CoapPlan(), [4], 0),
    ],
)
def test_what_it_cannot_is_refused_with_its_own_numbers(plan: CoapPlan, protocols: list[int], delivery: int) -> None:
    with pytest.raises(Refused, match=r"5/0/[89] is"):
        choose(plan, protocols, delivery)


@given(
    st.sampled_from([None, *Method]),
    st.sampled_from([None, *Transport]),
    st.lists(st.integers(0, 9), max_size=4),
    st.none() | st.integers(0, 255),
)
def test_whatever_a_device_says_there_is_a_way_or_a_reason(
    method: Method | None, transport: Transport | None, protocols: list[int], delivery: int | None
) -> None:
    try:
        way = choose(CoapPlan(method, transport), protocols, delivery)
    except Refused:
        return
    assert method in (None, way.method) and way.block in BLOCKS
    assert way.method is Method.PUSH or transport in (None, way.transport)


@pytest.mark.parametrize("plan", [CoapPlan(block=100), CoapPlan(Method.PUSH, Transport.HTTP)])
def test_a_plan_that_makes_no_sense_is_refused(plan: CoapPlan) -> None:
    with pytest.raises(Refused):
        plan.check()


def test_names_and_numbers() -> None:
    assert (sender_id(12), sender_id(256), resource_of("5/0/3")) == (b"\x0c", b"\x01\x00", 3)
    assert in_words(2, 0) == ("downloaded", "initial") and in_words(None, None) == ("", "")
    assert in_words(9, 5) == ("not of the standard", "integrity-failed")
    # What a device tells for a reason is read as the nearest one.
    assert result_of("crashed") is UpdateResult.UPDATE_FAILED
    told = {reason: FAILED[result_of(reason)] for reason in TOLD_AS}
    assert told == {reason: reason for reason in TOLD_AS} | {"signature-refused": "digest-mismatch"}
