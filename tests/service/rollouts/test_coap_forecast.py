"""What a preview says of devices that speak CoAP."""

from typing import Any

from mellow_herald.core.coap.delivery import CoapPlan, Method
from mellow_herald.service.rollouts.coap_forecast import read_targets
from tests.harness.device import PuppetDevice
from tests.harness.service import RunningService


def target(serial: str, **more: Any) -> Any:
    return {"serial": serial, "registered": True, "protocols": [0], "delivery": 2, **more}


def test_who_is_away_and_who_cannot_is_named() -> None:
    found = [target(f"TA-{number}", registered=False) for number in range(1, 6)]
    found += [target("TA-6", delivery=0), target("TA-7")]
    assert read_targets(found, CoapPlan(), served=True) == [
        "Not registered by CoAP now: TA-1, TA-2, TA-3 and 2 more. Who is not takes it once it is."
    ]
    told = read_targets(found[5:], CoapPlan(method=Method.PUSH), served=True)
    assert told == ["TA-6 would refuse it: the plan has it push, and it takes firmware by pull only (5/0/9 is 0)."]
    assert read_targets(found[:1], CoapPlan(), served=False) == [
        "1 device speaks CoAP, and the service does not serve it: start it with --coap-port."
    ]
    assert read_targets([], CoapPlan(), served=False) == []


def test_a_preview_says_so(service: RunningService) -> None:
    for version in ("2.4.0", "2.5.0"):
        service.publish(version).raise_for_status()
    device = PuppetDevice(service.url, "TA-1")
    device.enrol(service.code(), coap=True).raise_for_status()
    device.checkin()
    warnings = service.herald.rollouts.preview(service.plan()).warnings
    assert any("the service does not serve it" in one for one in warnings), warnings
