"""Meters written from the standards' text alone, against the service."""

import time
from datetime import timedelta
from typing import Any

import httpx
import pytest

from mellow_herald.client import ProblemError
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.rollback import RollbackIn
from tests.harness.firmware import make_bytes
from tests.harness.meter import (
    BOTH,
    DOWNLOADED,
    FAILED,
    IDLE,
    INTEGRITY,
    PULL,
    PUSH,
    SUCCESS,
    Field,
    Meter,
)
from tests.harness.patience import until
from tests.harness.some import some
from tests.service.coap.conftest import CoapService

NEW = make_bytes("2.5.0")


def meter_of(coap: CoapService, field: Field, serial: str, **particulars: Any) -> Meter:
    """A meter with a secret, registered; the service knows what it runs."""
    meter = field.meter(coap.url, serial, oscore=coap.enrol(serial), **particulars)
    assert field.do(meter.register()).code.dotted == "2.01"
    until(lambda: coap.herald.devices.show(serial).version, lambda: coap.herald.coap.show(serial))
    return meter


def plan(coap: CoapService, serial: str, coap_keys: dict[str, Any] | None = None, **numbers: Any) -> PlanDocument:
    document = coap.running.plan(**numbers).model_dump(mode="json")
    return PlanDocument.model_validate({**document, "target": f"serial = {serial}", "coap": coap_keys or {}})


def timeline(coap: CoapService, serial: str) -> list[tuple[str | None, str]]:
    """State and detail of what was told, oldest first."""
    return [(one.state, one.detail) for one in reversed(coap.herald.devices.show(serial).timeline)]


@pytest.mark.parametrize("delivery", [PULL, PUSH])
def test_a_release_by_the_standard_object_and_back(coap: CoapService, field: Field, serial: str, delivery: int) -> None:
    meter = meter_of(coap, field, serial, delivery=delivery, tlv=True)
    shown = coap.herald.devices.show(serial)
    assert shown.version == "2.4.0" and shown.known_build
    told = coap.herald.coap.show(serial)
    assert (told.protocols, told.delivery, told.says_version, told.says_digest) == ([0], delivery, "2.4.0", False)
    rollout = coap.herald.rollouts.start(plan(coap, serial)).id
    assert coap.running.wait_for(rollout, lambda one: one.live == 0).states == {"confirmed": 1}
    assert NEW in meter.package and meter.executed == 1
    states = [state for state, _ in timeline(coap, serial) if state]
    # One that is back before its answer was taken down is not said to have been installing.
    path = [state for state in states if state not in ("downloading", "installing")]
    assert path == ["offered", "staged", "cleared", "confirmed"] and "downloading" in states
    after = coap.herald.coap.show(serial)
    assert (after.state_word, after.result_word, after.trouble) == ("idle", "success", "")
    assert after.method == ("push" if delivery == PUSH else "pull by coap") and after.proved_at is not None

    # Back: it has no second slot that the standard would know of, so it is brought the former release.
    coap.running.wait_for(rollout, lambda one: one.state == "finished")
    meter.on_update = lambda: ("2.4.0", SUCCESS)
    back = coap.herald.rollouts.roll_back(rollout, RollbackIn(reason="not wanted")).id
    coap.running.wait_for(back, lambda one: one.live == 0 and one.states.get("confirmed") == 1)
    assert make_bytes("2.4.0") in meter.package and coap.herald.devices.show(serial).version == "2.4.0"


def test_what_it_runs_decides_and_not_the_success_that_it_tells(coap: CoapService, field: Field, serial: str) -> None:
    meter = meter_of(coap, field, serial)
    meter.on_update = lambda: ("2.4.0", SUCCESS)
    rollout = coap.herald.rollouts.start(plan(coap, serial)).id
    assert coap.running.wait_for(rollout, lambda one: one.live == 0).states == {"reverted": 1}
    assert coap.herald.coap.show(serial).result_word == "success"


def test_a_failed_update_says_so_and_numbers_stand_beside_words(coap: CoapService, field: Field, serial: str) -> None:
    meter = meter_of(coap, field, serial)
    meter.on_update = lambda: ("2.4.0", FAILED)
    rollout = coap.herald.rollouts.start(plan(coap, serial)).id
    coap.running.wait_for(rollout, lambda one: one.live == 0)
    (attempt,) = some(coap.herald.rollouts.attempts(rollout).items)
    assert (attempt.state, attempt.reason) == ("reverted", "fell-back")
    assert ("reverted", "5/0/3 is 0, 5/0/5 is 8") in timeline(coap, serial)
    told = coap.herald.coap.show(serial)
    assert (told.state, told.result, told.result_word) == (IDLE, FAILED, "update-failed")


def test_a_package_that_it_will_not_have_is_tried_again_as_often_as_the_plan_says(
    coap: CoapService, field: Field, serial: str
) -> None:
    meter = meter_of(coap, field, serial, delivery=PUSH)
    packages: list[bytes] = []

    def take(package: bytes) -> None:
        packages.append(package)
        if len(packages) == 1:
            meter.say(IDLE, INTEGRITY)
        else:
            Meter.take(meter, package)

    meter.take = take  # type: ignore[method-assign]
    rollout = coap.herald.rollouts.start(plan(coap, serial, retries=1, retry_pause="1s")).id
    coap.running.wait_for(rollout, lambda one: one.states == {"failed": 1})
    coap.running.pass_time(timedelta(seconds=2))
    field.do(meter.wake())
    assert coap.running.wait_for(rollout, lambda one: one.live == 0).states == {"confirmed": 1}
    assert len(packages) == 2
    (attempt,) = some(coap.herald.rollouts.attempts(rollout).items)
    assert (attempt.first_bad_why, attempt.first_bad_try) == ("digest-mismatch", 1), "it stays visible"


def test_a_plan_that_asks_for_what_it_cannot_is_refused(coap: CoapService, field: Field, serial: str) -> None:
    meter_of(coap, field, serial, delivery=PULL, protocols=2)
    rollout = coap.herald.rollouts.start(plan(coap, serial, {"method": "push"})).id
    coap.running.wait_for(rollout, lambda one: one.live == 0)
    (attempt,) = some(coap.herald.rollouts.attempts(rollout).items)
    assert (attempt.state, attempt.reason) == ("failed", "refused-by-device")
    assert any("it takes firmware by pull only (5/0/9 is 0)" in detail for _, detail in timeline(coap, serial))


@pytest.mark.parametrize("answers", ["late", "refuses"])
def test_an_execute_without_a_yes(coap: CoapService, field: Field, serial: str, answers: str) -> None:
    """One that restarts before it has answered is expected away; one that says no is asked again, and that is told."""
    meter = meter_of(coap, field, serial)
    meter.answers_execute, meter.refuses_execute = answers != "late", answers == "refuses"
    rollout = coap.herald.rollouts.start(plan(coap, serial)).id
    if answers == "refuses":
        until(lambda: "it was told to switch, and answered 4.05" in coap.herald.coap.show(serial).trouble)
        meter.refuses_execute = False
        field.do(meter.wake())
    assert coap.running.wait_for(rollout, lambda one: one.live == 0).states == {"confirmed": 1}
    refused = [detail for _, detail in timeline(coap, serial) if "4.05 (nothing to install)" in detail]
    assert len(refused) == (answers == "refuses"), "whatever went wrong stays visible, whatever goes wrong later"


def test_one_that_defers_switches_when_it_may(coap: CoapService, field: Field, serial: str) -> None:
    """It takes the execute, says that it puts it off (result 11), and does it later by itself."""
    meter = meter_of(coap, field, serial)
    meter.defers_s = 1.5
    rollout = coap.herald.rollouts.start(plan(coap, serial)).id
    until(lambda: coap.herald.coap.show(serial).result_word == "deferred")
    assert coap.running.wait_for(rollout, lambda one: one.live == 0).states == {"confirmed": 1}
    assert meter.executed == 1


def test_a_halt_before_clearance_takes_the_package_back_and_nothing_is_executed(
    coap: CoapService, field: Field, serial: str
) -> None:
    meter = meter_of(coap, field, serial, battery=3)
    rollout = coap.herald.rollouts.start(plan(coap, serial)).id
    until(lambda: coap.herald.rollouts.attempts(rollout).items[0].waiting_for == "battery")
    assert meter.uri == "", "low as it is, it is not even told to fetch"
    # Charged, it fetches; by then it has used that up, and may not switch.
    meter.on_downloaded = lambda: setattr(meter, "battery", 4)
    meter.battery = 90
    field.do(meter.renew())
    coap.running.wait_for(rollout, lambda one: one.states == {"staged": 1})
    assert meter.state == DOWNLOADED
    coap.herald.rollouts.halt(rollout, "something is odd")
    until(lambda: meter.state == IDLE)
    assert (meter.package, meter.uri, meter.executed) == (b"", "", 0)
    assert coap.herald.rollouts.show(rollout).states == {"called-off": 1}


@pytest.mark.parametrize("delivery", [PULL, PUSH])
def test_a_halt_in_mid_transfer_and_a_resume(coap: CoapService, field: Field, serial: str, delivery: int) -> None:
    meter = meter_of(coap, field, serial, delivery=delivery)
    meter.slow_s = 0.05
    rollout = coap.herald.rollouts.start(plan(coap, serial, {"block": 256})).id
    until(lambda: meter.blocks >= 10)
    coap.herald.rollouts.halt(rollout, "something is odd")
    until(lambda: coap.herald.rollouts.show(rollout).states == {"called-off": 1})
    until(lambda: (before := meter.blocks) and not time.sleep(0.4) and meter.blocks == before)
    # What it fetches it is not given any more; what is written to it stops, and is taken back.
    until(lambda: meter.state == IDLE, about=lambda: (meter.state, meter.blocks))
    assert (meter.package, meter.executed) == (b"", 0) and meter.blocks < 70
    meter.slow_s = 0
    coap.herald.rollouts.resume(rollout, "it was nothing")
    assert coap.running.wait_for(rollout, lambda one: one.live == 0).states == {"confirmed": 1}
    assert NEW in meter.package and meter.executed == 1


def test_one_in_queue_mode_hears_only_after_it_has_spoken(coap: CoapService, field: Field, serial: str) -> None:
    meter = meter_of(coap, field, serial, queue=True)
    assert coap.herald.coap.show(serial).queue
    # For all that a service knows that has just begun, it sleeps.
    coap.stop()
    coap.start()
    rollout = coap.herald.rollouts.start(plan(coap, serial)).id
    coap.running.wait_for(rollout, lambda one: one.states == {"queued": 1})
    before = meter.reads
    time.sleep(1.5)
    assert meter.reads == before, "nothing is said to one that sleeps"

    # It wakes now and then, as such a device does: on a slow machine one waking is too short for all there is to say.
    def woken() -> bool:
        field.do(meter.wake())
        return coap.herald.rollouts.show(rollout).live == 0

    until(woken, every=1.0)
    assert coap.herald.rollouts.show(rollout).states == {"confirmed": 1}


def test_a_lifetime_that_is_over_and_one_that_goes(coap: CoapService, field: Field, serial: str) -> None:
    meter = meter_of(coap, field, serial)
    coap.running.pass_time(timedelta(seconds=301))
    until(lambda: coap.herald.coap.show(serial).gone == "lifetime over")
    assert not coap.herald.coap.show(serial).registered
    answer = field.do(meter.renew())
    assert answer.code.dotted == "4.04" and b"Register anew at /rd" in answer.payload
    assert field.do(meter.register(lt="60")).code.dotted == "2.01"
    assert coap.herald.coap.show(serial).lifetime_s == 60
    assert field.do(meter.renew("lt=90")).code.dotted == "2.04"
    assert coap.herald.coap.show(serial).lifetime_s == 90
    assert field.do(meter.deregister()).code.dotted == "2.02"
    assert coap.herald.coap.show(serial).gone == "it deregistered"
    assert not coap.herald.coap.show(serial).registered


def test_bad_input_is_answered_with_the_reason(coap: CoapService, field: Field, serial: str) -> None:
    meter = field.meter(coap.url, serial, oscore=coap.enrol(serial), delivery=BOTH)

    def answered(**query: str) -> tuple[str, str]:
        answer = field.do(meter.register(**query))
        return answer.code.dotted, answer.payload.decode()

    assert answered(ep="TA-M1-9") == ("4.00", f"ep=TA-M1-9: this secret is that of {serial}.")
    assert answered(lt="soon") == ("4.00", "lt=soon is no lifetime: write seconds, as in lt=300.")
    assert answered(b="S")[0] == "4.00"
    meter.links = "3/0,5/0"
    assert answered() == ("4.00", "the objects are no link list. Write them as </3/0>,</5/0> (RFC 6690).")
    meter.links = ""
    assert answered() == ("4.00", "Say which objects there are: </3/0>,</5/0>.")
    meter.links = "</3/0>,</5/0>"
    assert answered()[0] == "2.01"
    meter.location = ("rd", "nowhere")
    assert field.do(meter.renew()).code.dotted == "4.04"
    with pytest.raises(ProblemError) as refused:
        coap.herald.coap.show("TA-none")
    assert refused.value.problem.type.rpartition(":")[2] == "not-found"


def test_who_does_not_protect_what_it_says(coap: CoapService, field: Field, serial: str) -> None:
    """On a bench it may; otherwise nobody answers it."""
    coap.enrol(serial)
    plain = field.meter(coap.url, serial)
    assert field.do(plain.register()).code.dotted == "2.01"
    until(lambda: coap.herald.devices.show(serial).version == "2.4.0")
    unknown = field.meter(coap.url, "TA-M1-2")
    answer = field.do(unknown.register())
    assert answer.code.dotted == "4.03" and b"It has to enrol first" in answer.payload
    coap.stop()
    coap.running.context.settings.coap_open = False
    coap.start()
    answer = field.do(plain.register())
    assert answer.code.dotted == "4.01" and b"Protect it with OSCORE" in answer.payload
    coap.stop()
    coap.running.context.settings.coap_open = True
    coap.start()


def test_a_package_by_http_is_for_who_was_told_its_address(coap: CoapService, field: Field, serial: str) -> None:
    meter = meter_of(coap, field, serial, delivery=PULL, protocols=2)
    meter.fetches_http = True
    rollout = coap.herald.rollouts.start(plan(coap, serial)).id
    until(lambda: meter.uri)
    assert meter.uri.startswith(f"{coap.running.url}/device/v1/packages/")
    whole = httpx.get(meter.uri)
    tag = whole.headers["etag"]
    assert whole.status_code == 200 and NEW in whole.content
    part = httpx.get(meter.uri, headers={"range": "bytes=100-199", "if-range": tag})
    assert part.status_code == 206 and part.content == whole.content[100:200]
    assert httpx.get(meter.uri, headers={"range": "bytes=-5"}).content == whole.content[-5:]
    assert httpx.get(meter.uri, headers={"range": "bytes=100-", "if-range": '"other"'}).content == whole.content
    assert httpx.get(meter.uri, headers={"range": f"bytes={len(whole.content)}-"}).status_code == 416
    assert httpx.get(meter.uri, headers={"if-none-match": tag}).status_code == 304
    assert httpx.get(meter.uri[:-1] + "~").status_code == 404
    field.do(meter.take_later(whole.content))
    assert coap.running.wait_for(rollout, lambda one: one.live == 0).states == {"confirmed": 1}
    assert httpx.get(meter.uri).status_code == 404, "nobody wants it any more"
