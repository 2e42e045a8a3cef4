"""What goes wrong between the service and devices that speak CoAP."""

import json

import pytest
from aiocoap import Code, Message

from mellow_herald.service.coap.bridge import Speaker
from mellow_herald.service.coap.registration import Asked
from tests.harness.meter import PULL, PUSH, Field
from tests.harness.patience import until
from tests.service.coap.conftest import CoapService
from tests.service.coap.test_foreign_device import NEW, meter_of, plan, timeline


def test_datagrams_that_are_lost_and_that_come_twice(coap: CoapService, field: Field, serial: str) -> None:
    relay = field.relay(coap.address)
    meter = field.meter(f"coap://127.0.0.1:{relay.port}", serial, oscore=coap.enrol(serial), delivery=PUSH)
    relay.loses, relay.doubles = (lambda number: number % 29 == 0), (lambda number: number % 3 == 0)
    assert field.do(meter.register()).code.dotted == "2.01"
    rollout = coap.herald.rollouts.start(plan(coap, serial, {"block": 1024})).id
    assert coap.running.wait_for(rollout, lambda one: one.live == 0).states == {"confirmed": 1}
    assert NEW in meter.package and meter.executed == 1
    assert sum(state == "cleared" for state, _ in timeline(coap, serial)) == 1


@pytest.mark.parametrize("delivery", [PULL, PUSH])
def test_the_service_is_killed_in_mid_transfer(coap: CoapService, field: Field, serial: str, delivery: int) -> None:
    """What is fetched goes on where it was; what is pushed begins anew. Nothing is installed twice."""
    meter = meter_of(coap, field, serial, delivery=delivery)
    meter.slow_s = 0.03
    rollout = coap.herald.rollouts.start(plan(coap, serial, {"block": 256})).id
    until(lambda: meter.blocks >= 20)
    coap.stop()
    before = meter.blocks
    coap.start()
    assert coap.running.wait_for(rollout, lambda one: one.live == 0).states == {"confirmed": 1}
    assert NEW in meter.package and meter.executed == 1
    whole = len(meter.package) // 256 + 1
    # Where an answer comes too late for a slow machine, what is pushed begins anew once more.
    assert before < whole and meter.blocks <= (whole + 5 if delivery == PULL else 4 * whole)


@pytest.mark.parametrize("anew", [False, True])
def test_it_is_somewhere_else_by_now(coap: CoapService, field: Field, serial: str, anew: bool) -> None:
    relay = field.relay(coap.address)
    meter = field.meter(f"coap://127.0.0.1:{relay.port}", serial, oscore=coap.enrol(serial))
    field.do(meter.register())
    until(lambda: coap.herald.devices.show(serial).version)
    first = coap.herald.coap.show(serial).address
    field.do(relay.move())
    answer = field.do(meter.register() if anew else meter.renew())
    assert answer.code.dotted == ("2.01" if anew else "2.04")
    assert coap.herald.coap.show(serial).address != first
    rollout = coap.herald.rollouts.start(plan(coap, serial)).id
    assert coap.running.wait_for(rollout, lambda one: one.live == 0).states == {"confirmed": 1}


def test_a_wrong_secret_and_a_new_one(coap: CoapService, field: Field, serial: str) -> None:
    right = coap.enrol(serial)
    meter = field.meter(coap.url, serial, oscore={**right, "secret": right["secret"][::-1]})
    answer = field.do(meter.register())
    assert answer.code.dotted == "4.00" and answer.payload == b"Decryption failed"
    told = until(lambda: (one := coap.herald.coap.show(serial)).trouble and one)
    assert "is its secret the one on record?" in told.trouble and not told.registered and told.proved_at is None
    # The engineer gives it another: the former one is good for nothing from then on.
    proper = field.meter(coap.url, serial, oscore=right)
    until(lambda: field.do(proper.register()).code.dotted == "2.01")
    new = coap.herald.coap.renew_secret(serial, "the maker's list was wrong")
    ended = field.do(proper.register())
    assert ended.code.dotted == "4.01" and b"not good for anything any more" in ended.payload
    assert not coap.herald.coap.show(serial).registered
    other = field.meter(coap.url, serial, oscore=new.model_dump())
    until(lambda: field.do(other.register()).code.dotted == "2.01")
    assert coap.herald.coap.show(serial).proved_at is not None
    assert field.do(proper.register()).code.dotted in ("4.00", "4.01")
    entries = [(one.what, one.subject) for one in coap.herald.journal.list(limit=10).items]
    assert ("CoAP secret renewed", serial) in entries
    texts = [coap.get(path) for path in ("/api/v1/coap/devices", f"/api/v1/coap/devices/{serial}", "/api/v1/journal")]
    assert not any(secret in text for text in texts for secret in (right["secret"], new.secret))
    assert serial in json.dumps(texts)


def test_a_message_that_is_sent_again_by_somebody_else(coap: CoapService, field: Field, serial: str) -> None:
    relay = field.relay(coap.address)
    meter = field.meter(f"coap://127.0.0.1:{relay.port}", serial, oscore=coap.enrol(serial))
    field.do(meter.register())
    until(lambda: coap.herald.devices.show(serial).version)
    field.do(meter.deregister())
    goodbye = next(data for data in reversed(relay.seen) if data[1])
    field.do(meter.register())
    # With another message ID it is no repetition that the network itself would take for one.
    field.do(relay.say(goodbye[:2] + b"\xfa\xce" + goodbye[4:]))
    until(lambda: "had been taken before" in coap.herald.coap.show(serial).trouble)
    assert coap.herald.coap.show(serial).registered, "it is still there"


def test_one_that_is_away_is_said_to_be(coap: CoapService, field: Field, serial: str) -> None:
    meter = meter_of(coap, field, serial)
    field.do(meter.stop())
    rollout = coap.herald.rollouts.start(plan(coap, serial)).id
    until(lambda: "it did not answer" in coap.herald.coap.show(serial).trouble)
    assert coap.herald.rollouts.show(rollout).states in ({"queued": 1}, {"offered": 1})
    field.do(meter.start())
    field.do(meter.register())
    assert coap.running.wait_for(rollout, lambda one: one.live == 0).states == {"confirmed": 1}
    assert "it did not answer" in coap.herald.coap.show(serial).trouble, "what went wrong once stays visible"


def test_a_device_that_registers_while_something_to_it_is_refused_is_answered(
    coap: CoapService, field: Field, serial: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It restarts, and what was on its way to it comes back as undeliverable in the moment in which it registers."""
    meter = meter_of(coap, field, serial)
    assert coap.bridge is not None
    bridge, register = coap.bridge, coap.bridge.register

    async def late(speaker: Speaker, asked: Asked) -> str:
        refused = ConnectionRefusedError(111, "Connection refused")
        for manager in bridge._protocol.request_interfaces:  # type: ignore[union-attr]
            for _, remote in list(getattr(manager, "incoming_requests", {})):
                manager.dispatch_error(refused, remote)
        return await register(speaker, asked)

    monkeypatch.setattr(bridge, "register", late)
    assert field.do(meter.register(), 5).code.dotted == "2.01"


def test_while_the_database_is_away_a_device_is_told_to_come_again(
    coap: CoapService, field: Field, serial: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    meter = meter_of(coap, field, serial)

    async def away(*_: object) -> None:
        raise ConnectionRefusedError(111, "Connect call failed")

    with monkeypatch.context() as patched:
        for call in ("register", "renew", "find_package"):
            patched.setattr(coap.bridge, call, away)
        fetch = Message(code=Code.GET, uri=f"{coap.url}/p/some-ticket")
        for answer in (field.do(meter.register()), field.do(meter.renew()), field.do(meter.request(fetch))):
            assert answer.code.dotted == "5.03" and b"Come again" in answer.payload
    assert field.do(meter.renew()).code.dotted == "2.04", "its registration still stands"
