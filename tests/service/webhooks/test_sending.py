import json
import threading
from collections.abc import Iterator
from contextlib import contextmanager

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.client import ProblemError
from mellow_herald.client.receiver import make_server, problem_with
from mellow_herald.core.cloudevent import cloud_event, sign_call
from mellow_herald.service.webhooks import sending
from mellow_herald.service.webhooks.guard import NotCallableError, read_address
from mellow_herald.store.webhooks import change_webhook
from mellow_herald.wire.webhook import WebhookIn
from tests.harness.device import PuppetDevice
from tests.harness.patience import until
from tests.harness.service import RunningService


@contextmanager
def listening(secret: str, refuse: int = 0, port: int = 0) -> Iterator[tuple[str, list[str]]]:
    """A receiver on a free port: its address and the lines it says."""
    lines: list[str] = []
    server = make_server(port, secret, refuse, lines.append)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_address[1]}/herald", lines
    finally:
        server.shutdown()
        server.server_close()


def begin(service: RunningService) -> int:
    service.publish("2.4.0").raise_for_status()
    service.publish("2.5.0").raise_for_status()
    device = PuppetDevice(service.url, "TA-0")
    device.enrol(service.code()).raise_for_status()
    device.checkin()
    return service.herald.rollouts.start(service.plan()).id


def test_a_signature_covers_address_body_and_time() -> None:
    body, url = b'{"id":"1"}', "http://127.0.0.1:1/x"
    headers = sign_call("secret", "webhook-1", url, body, 1_000)
    assert problem_with(headers, url, body, "secret", 1_100) is None
    later = headers["signature-input"].replace("1000", "1050")
    for wrong in (
        problem_with(headers, url, body + b" ", "secret", 1_100),
        problem_with(headers, url + "y", body, "secret", 1_100),
        problem_with(headers, url, body, "other", 1_100),
        problem_with(headers, url, body, "secret", 2_000),
        problem_with({**headers, "signature-input": later}, url, body, "secret", 1_100),
        problem_with({}, url, body, "secret", 1_100),
    ):
        assert wrong is not None


def test_a_cloud_event_names_what_happened_and_to_whom() -> None:
    event = {
        "id": 7,
        "at": "2026-11-23T06:00:00+00:00",
        "kind": "attempt",
        "rollout_id": 3,
        "device_id": 9,
        "attempt_id": 5,
        "data": {"serial": "TA-S1-0001", "state": "reverted", "reason": "crashed", "moved": True},
    }
    made = cloud_event(event, "/mellow-herald")
    assert (made["specversion"], made["id"], made["type"]) == ("1.0", "7", "mellow-herald.attempt.reverted")
    assert made["subject"] == "rollout/3/attempt/5/device/TA-S1-0001"
    assert made["data"]["reason"] == "crashed" and made["data"]["rollout_id"] == 3
    ring = cloud_event({"id": 1, "at": "x", "kind": "rollout", "data": {"what": "ring 1 opened"}}, "/s")
    assert ring["type"] == "mellow-herald.rollout.ring-1-opened"


def test_events_arrive_in_order_signed_and_once_although_the_receiver_refuses_at_first(service: RunningService) -> None:
    with listening("will be replaced") as (url, _):
        pass
    port = int(url.rpartition(":")[2].partition("/")[0])
    made = service.herald.webhooks.add(WebhookIn(url=url, kinds=["rollout"], note="the pager"))
    assert made.secret is not None
    with listening(made.secret, refuse=1, port=port) as (_, lines):
        rollout_id = begin(service)
        until(lambda: len(lines) >= 2)
        service.herald.rollouts.hold(rollout_id, "the weather")
        until(lambda: len(lines) >= 3)
    assert ["started" in lines[0], "ring-1-opened" in lines[1], "held" in lines[2]] == [True] * 3
    assert "the weather" in lines[2] and len(lines) == 3
    (shown,) = service.herald.webhooks.list()
    assert (shown.delivered, shown.waiting, shown.dead, shown.secret) == (3, 0, 0, None)
    assert made.secret not in json.dumps([e.model_dump(mode="json") for e in service.herald.journal.list().items])
    service.herald.webhooks.close(made.id)
    with pytest.raises(ProblemError, match="no open webhook"):
        service.herald.webhooks.dead(made.id)


def test_what_is_never_taken_becomes_a_dead_letter_and_can_be_sent_again(
    service: RunningService, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(sending, "TRIES", 1)
    with listening("nobody yet") as (url, _):
        pass
    made = service.herald.webhooks.add(WebhookIn(url=url, kinds=["rollout"]))
    assert made.secret is not None
    rollout_id = begin(service)
    until(lambda: service.herald.webhooks.list()[0].dead >= 2)
    dead = service.herald.webhooks.dead(made.id)
    assert dead[0].body["type"] == "mellow-herald.rollout.started" and dead[0].failure
    assert dead[0].body["subject"] == f"rollout/{rollout_id}"
    with listening(made.secret, port=int(url.rpartition(":")[2].partition("/")[0])) as (_, lines):
        assert service.herald.webhooks.redeliver(made.id).events == len(dead)
        until(lambda: len(lines) >= len(dead))
        until(lambda: service.herald.webhooks.list()[0].delivered == len(dead))
    assert [line.split()[1] for line in lines] == [one.body["type"] for one in dead], "the very same, in order"
    assert service.herald.webhooks.dead(made.id) == []


NO_ADDRESSES = (
    "ftp://x",
    "http://",
    "javascript:alert(1)",
    "http://a b",
    "http://[::1",
    "http://::1]/x",
    "http://a:99999/",
    "http://a:0/",
    "http://a:b/",
    "http://:80/",
    "http://user@/",
    "http://a..b/",
    f"http://{'a' * 64}.example/",
    "http://a\x7f/",
    "http://a/\x01",
)


@given(
    st.one_of(
        st.sampled_from(
            ["https://events.example/x", "http://127.0.0.1:80", "http://[::1]:8443/a?b=c#d", *NO_ADDRESSES]
        ),
        st.from_regex(r"\Ahttps?://[^\s/?#]{1,20}([/?#]\S{0,20})?\Z"),
        st.text("ab.:@[]%-_~1/?#\u00fc", max_size=20).map("http://".__add__),
    )
)
def test_whatever_address_is_taken_can_be_called(address: str) -> None:
    try:
        read_address(WebhookIn(url=address).url)
    except (ValueError, NotCallableError):
        return
    request = httpx.Request("POST", address, content=b"{}", headers=sign_call("s", "webhook-1", address, b"{}", 1))
    assert request.url.host.encode("idna") and request.headers["host"]
    assert request.url.port is None or 0 < request.url.port < 65536


def test_one_address_that_cannot_be_called_keeps_no_other_waiting(service: RunningService) -> None:
    """As one might be that was taken by an earlier version."""
    with listening("will be replaced") as (url, _):
        pass
    broken = service.herald.webhooks.add(WebhookIn(url="http://127.0.0.1:9/x", kinds=["rollout"]))
    good = service.herald.webhooks.add(WebhookIn(url=url, kinds=["rollout"]))
    service.call(_spoil(service, broken.id))
    with listening(good.secret or "", port=int(url.rpartition(":")[2].partition("/")[0])) as (_, lines):
        begin(service)
        until(lambda: len(lines) >= 2)

    def failure() -> str:
        return next(hook.failure for hook in service.herald.webhooks.list() if hook.id == broken.id)

    until(failure)
    assert "no call can be made to" in failure(), failure()


async def _spoil(service: RunningService, webhook_id: int) -> None:
    async with service.context.engine.begin() as connection:
        await change_webhook(connection, webhook_id, url="http://127.0.0.1:99999/x")


def test_addresses_that_cannot_be_are_refused(shared_service: RunningService) -> None:
    with shared_service.http(shared_service.token) as http:
        for url in NO_ADDRESSES:
            assert http.post("/api/v1/webhooks", json={"url": url}).status_code == 422, url
        assert http.post("/api/v1/webhooks", json={"url": "http://a", "kinds": ["gossip"]}).status_code == 422
        assert http.get("/api/v1/webhooks/999/dead").status_code == 404
