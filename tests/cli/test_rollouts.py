"""Plans and rollouts from the terminal."""

import json
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from mellow_herald.cli.watching import follow
from mellow_herald.client.plan_file import check_plan, locate
from mellow_herald.core.digest import sha256_hex
from mellow_herald.wire.rollout import RolloutOut
from tests.harness.device import PuppetDevice
from tests.harness.firmware import make_bytes
from tests.harness.patience import PATIENCE_S
from tests.harness.service import PASSWORD, RunningService
from tests.harness.terminal import Terminal
from tests.service.rollouts.test_life import go_through

PLAN = """\
name = "2.5.0 in two"
release = "comb-s1/hive-scale/2.5.0"
target = "board = comb-s1"

[numbers]
retries = 0

[[rings]]
name = "bench"
where = "has bench"
soak = "0s"

[[rings]]
name = "rest"
opens = "by-hand"
soak = "0s"
"""


@pytest.fixture
def terminal(service: RunningService, tmp_path: Path) -> Terminal:
    made = Terminal(service, tmp_path)
    made.good("sign-in", "--name", "admin", stdin=f"{PASSWORD}\n")
    return made


def wrong(tmp_path: Path, change: tuple[str, str]) -> list[tuple[int | None, str, str]]:
    path = tmp_path / "plan.toml"
    path.write_text(PLAN.replace(*change, 1))
    return [(one.line, one.key, one.words) for one in check_plan(path)[1]]


@pytest.mark.parametrize(
    ("change", "line", "key", "said"),
    [
        (("target =", "targt ="), 3, "targt", "did you mean target?"),
        (("retries = 0", "retrys = 0"), 6, "numbers.retrys", "did you mean retries?"),
        (("retries = 0", "hard_stop = 3"), 6, "numbers.hard_stop", "it stands in [brake]"),
        (('"has bench"', '"bensh ="'), 10, "rings[1].where", "ends too early"),
        (('"by-hand"', '"by-hnd"'), 15, "rings[2].opens", "did you mean by-hand?"),
        (('soak = "0s"', 'soak = "1 hour"'), 11, "rings[1].soak", "is not a duration"),
        (('name = "rest"', 'name = "bench"'), 8, "rings[1]", "ring 'bench' is there twice"),
        (('opens = "by-hand"', "count = 3\nshare = 0.5"), 13, "rings[2]", "takes devices in 2 ways"),
        (("[numbers]", '[device]\ncharging = "yes"\n[numbers]'), 6, "device.charging", "boolean"),
        (("[numbers]", "[numbers"), 5, "", "this is not TOML"),
    ],
)
def test_every_mistake_is_at_its_line_and_key(
    tmp_path: Path, change: tuple[str, str], line: int, key: str, said: str
) -> None:
    found = wrong(tmp_path, change)
    assert any((line, key) == (at, where) and said in words for at, where, words in found), found


def test_all_mistakes_are_told_at_once_in_the_order_of_lines(tmp_path: Path) -> None:
    path = tmp_path / "plan.toml"
    path.write_text(PLAN.replace("retries", "retrys").replace("target", "targt").replace("soak", "soka"))
    lines = [one.line for one in check_plan(path)[1]]
    assert lines == sorted(lines, key=lambda line: line or 0) and set(lines) >= {3, 6, 11, 16}


def test_keys_are_found_behind_long_values_and_in_dotted_names() -> None:
    text = 'a = """\nb = 1\n"""\nlist = [\n  { c = 2 },\n]\n[t.u]\n"quoted" = 1\nx.y = 3\n'
    text += "[[r]]\nn = 1\n[[r]]\nn = 2\n[r.in]\nz = 1\n"
    found = locate(text)
    assert ("b",) not in found and found[("list",)] == 4
    assert found[("t", "u", "quoted")] == 8 and found[("t", "u", "x", "y")] == 9
    assert (found[("r", 0, "n")], found[("r", 1, "n")], found[("r", 1, "in", "z")]) == (11, 13, 15)


def test_a_rollout_of_two_rings_from_the_terminal(terminal: Terminal, service: RunningService, tmp_path: Path) -> None:
    service.publish("2.4.0").raise_for_status()
    service.publish("2.5.0").raise_for_status()
    code, devices = service.code(), []
    for number in range(3):
        device = PuppetDevice(service.url, f"TA-{number}")
        device.enrol(code, labels={"bench": "window"} if number == 0 else {}).raise_for_status()
        device.checkin()
        devices.append(device)
    plan, out = tmp_path / "plan.toml", tmp_path / "devices.csv"
    plan.write_text(PLAN)
    assert "good. comb-s1/hive-scale/2.5.0 in 2 rings: bench, rest" in terminal.good("rollout", "check", plan)
    shown = terminal.good("rollout", "preview", plan, "--export", out)
    assert "3 targeted, 3 eligible" in shown and "by hand" in shown and "TA-0" in shown
    assert out.read_text().splitlines()[:2] == ["ring,name,serial,hw_rev,version,passed_over", "1,bench,TA-0,1,2.4.0,"]
    assert json.loads(terminal.good("rollout", "preview", plan, "--json"))["counts"] == [1, 2]
    assert "Rollout 1 started" in terminal.good("rollout", "start", plan, "--yes")
    service.wait_for(1, lambda r: r.rings[0].state == "open")
    assert "does not await go" in terminal.bad(1, "rollout", "go", "1", "--reason", "too early", "--yes")
    go_through(devices[0])
    service.wait_for(1, lambda r: r.rings[0].state == "done")
    assert "2.5.0 in two" in terminal.good("rollout", "watch", "1", "--until", "ring:bench")
    assert "Write end, confirmed, or one of ring:bench" in terminal.bad(1, "rollout", "watch", "1", "--until", "ring:b")
    service.wait_for(1, lambda r: r.rings[1].state == "awaiting-go")
    assert "2 rest" in terminal.good("rollout", "go", "1", "--reason", "all quiet", "--yes")
    service.wait_for(1, lambda r: r.rings[1].state == "open")
    assert "called-off" in terminal.good("rollout", "call-off", "1", "TA-1", "--reason", "not this one", "--yes")
    assert "queued" in terminal.good("rollout", "retry", "1", "TA-1", "--reason", "after all", "--yes")
    edited = terminal.good("rollout", "edit", "1", "--at-risk", "1", "--reason", "slower", "--yes")
    assert "0 of 1 at risk" in edited
    asked = terminal.run(
        "rollout", "edit", "1", "--wait-at-most", "2h", "--last-day", "2099-01-01", "--reason", "x y", stdin="n\n"
    )
    assert "numbers.wait_at_most: 1d → 2h" in asked.stdout and "calendar.last_day: none → 2099-01-01" in asked.stdout
    assert "it ends at 2099-01-02 00:00 UTC" in asked.stdout and service.herald.rollouts.show(1).revision == 2
    later = tmp_path / "later.toml"
    later.write_text(PLAN.replace("[numbers]", "[device]\ncharging = true\n[numbers]"))
    refused = terminal.bad(1, "rollout", "edit", "1", "--plan", later, "--reason", "only on the charger", "--yes")
    assert "also differs in device" in refused, "nothing is left out without a word"
    listed = terminal.good("rollout", "attempts", "1", "--ring", "2")
    assert "TA-1" in listed and "TA-0" not in listed and "next check-in" in listed
    for device in devices[1:]:
        go_through(device)
    service.wait_for(1, lambda r: r.state == "finished")
    assert "finished" in terminal.good("rollout", "watch", "1")
    assert "| confirmed | 3 |" in terminal.good("rollout", "report", "1")
    page = tmp_path / "report.html"
    terminal.good("rollout", "report", "1", "--html", page)
    assert page.read_text().startswith("<!doctype html>")
    assert json.loads(terminal.good("rollout", "report", "1", "--json"))["rollout"]["state"] == "finished"


def test_a_ring_that_stands_still_from_the_terminal(
    terminal: Terminal, service: RunningService, tmp_path: Path
) -> None:
    service.publish("2.4.0").raise_for_status()
    service.publish("2.5.0").raise_for_status()
    devices = [PuppetDevice(service.url, f"TA-{number}") for number in range(3)]
    for device in devices:
        device.enrol(service.code(), labels={"bench": "window"}).raise_for_status()
        device.checkin()
    plan = tmp_path / "plan.toml"
    plan.write_text(PLAN)
    terminal.good("rollout", "start", plan, "--yes")
    for device in devices[:2]:
        go_through(device)
    devices[2].checkin()
    devices[2].report("failed", reason="no-room")
    service.wait_for(1, lambda r: r.stands_still is not None)
    stopped = terminal.run("rollout", "watch", "1", "--until", "ring:bench")
    assert stopped.returncode == 5 and "ring bench stands still: 2 of 3 devices are good" in stopped.stderr
    shown = terminal.good("rollout", "show", "1")
    assert "stands still" in shown and "herald rollout go 1" in shown and "herald rollout edit 1 --enough" in shown
    asked = terminal.run("rollout", "go", "1", "--reason", "its flash is full", stdin="n\n")
    assert asked.returncode == 1 and "goes on all the same, though 2 of 3 devices are good" in asked.stderr
    failures = terminal.good("rollout", "failures", "1")
    assert "TA-2  no-room" in failures and "try 1 of 1, ring 1" in failures and "failed" in failures
    assert json.loads(terminal.good("rollout", "failures", "1", "--json"))[0]["reason"] == "no-room"
    first = terminal.good("rollout", "attempts", "1").index
    assert first("TA-2") < first("TA-0"), "whoever ever went bad comes first"
    assert "TA-0" not in terminal.good("rollout", "attempts", "1", "--ever-bad")
    asked = terminal.run("rollout", "leave-out", "1", "--reason", "its flash is full", stdin="n\n")
    assert asked.returncode == 1 and "1 devices are left out, and keep what they run" in asked.stderr
    assert "SERIAL, or --all-bad" in terminal.bad(2, "rollout", "retry", "1", "--reason", "perhaps")
    assert "queued" in terminal.good("rollout", "retry", "1", "--all-bad", "--reason", "emptied", "--yes")
    devices[2].checkin()
    devices[2].report("failed", reason="no-room")
    service.wait_for(1, lambda r: r.stands_still is not None)
    terminal.good("rollout", "edit", "1", "--enough", "0.6", "--reason", "one of them is known to be full", "--yes")
    service.wait_for(1, lambda r: r.rings[0].state in ("soaking", "done"))
    assert "stands still" not in terminal.good("rollout", "show", "1")
    assert "ring 1 stands still" in terminal.good("journal")


def test_webhooks_from_the_terminal(terminal: Terminal, service: RunningService) -> None:
    made = terminal.good("webhook", "add", "http://127.0.0.1:9/x", "--note", "the pager")
    assert "Its secret, shown this once" in made
    assert "the pager" in terminal.good("webhook", "list")
    assert terminal.good("webhook", "dead", "1")
    assert "0 events" in terminal.good("webhook", "redeliver", "1")
    assert "closed" in terminal.good("webhook", "close", "1", "--yes")
    assert "no open webhook" in terminal.bad(1, "webhook", "dead", "1")
    assert "kinds" in terminal.bad(1, "webhook", "add", "http://127.0.0.1:9/x", "--kind", "gossip")


EVERYBODY = """\
name = "2.5.0 to all"
release = "comb-s1/hive-scale/2.5.0"
target = "board = comb-s1"
[[rings]]
name = "all"
soak = "0s"
"""


def test_harm_is_seen_and_undone_from_the_terminal(service: RunningService, terminal: Terminal, tmp_path: Path) -> None:
    devices = in_the_field(service, 14)
    path = tmp_path / "all.toml"
    path.write_text(EVERYBODY)
    shown = terminal.good("rollout", "preview", str(path))
    assert "a fault of" in shown and "25 × the limit" in shown
    terminal.good("rollout", "start", str(path), "--yes")
    service.wait_for(1, lambda r: r.rings[0].state == "open")
    for device in devices[4:]:
        go_through(device)
        device.checkin(after_restart=True)
    for device in devices[:4]:
        device.checkin()
        device.stage()
        device.checkin()
    for device in devices[:4]:
        device.report("reverted", reason="crashed")
        device.checkin()
    watched = terminal.run("rollout", "watch", "1")
    assert watched.returncode == 4, "halted"
    service.wait_for(1, lambda r: r.state == "halted" and r.live == 0)
    said = terminal.good("rollout", "show", "1")
    assert "firmware brake: evidence" in said and "What can be done" in said
    assert "control: in the same time" in said or "no device of this rollout is left to compare with" in said
    brakes = json.loads(terminal.good("rollout", "show", "1", "--json"))["brakes"]
    assert brakes["round"] == 1 and brakes["brakes"][0]["bad"] == 4

    suspects = terminal.good("rollout", "suspects", "1")
    assert "batch = march" in suspects and "herald rollout resume 1 --except" in suspects
    found = json.loads(terminal.good("rollout", "suspects", "1", "--json"))
    assert found["suspects"][0]["selector"] == "batch = march" and found["suspects"][0]["bad"] == 4
    assert "0 of" in terminal.good("rollout", "suspects", "1", "--delivery")

    report = terminal.good("rollout", "report", "1")
    assert "## What the brakes saw" in report and "`batch = march`" in report
    page = tmp_path / "report.html"
    terminal.good("rollout", "report", "1", "--html", str(page))
    assert "halts at" in page.read_text() and "Evidence over time" in page.read_text()

    asked = terminal.run("rollout", "rollback", "1", "--reason", "it hurts", stdin="n\n")
    assert asked.returncode != 0 and "switch-back" in asked.stdout and "already-back" in asked.stdout
    assert service.herald.rollouts.show(1).rolled_back_by == []
    back = terminal.good("rollout", "rollback", "1", "--reason", "it hurts", "--where", "batch != march", "--yes")
    assert "Rollout 2 brings them back" in back
    terminal.good("rollout", "resume", "1", "--reason", "known by now", "--except", "batch = march", "--yes")
    assert service.herald.rollouts.show(1).round == 2


def test_one_device_is_swapped_from_the_terminal(service: RunningService, terminal: Terminal) -> None:
    (device,) = in_the_field(service, 1)
    refused = terminal.run("device", "swap", device.serial, "--reason", "try it", "--yes")
    assert refused.returncode == 1 and "its other slot holds nothing" in refused.stderr
    device.standby = {"app": {"version": "2.5.0", "digest": sha256_hex(make_bytes("2.5.0")), "slot": "b", "floor": 4}}
    device.checkin()
    said = terminal.good("device", "swap", device.serial, "--reason", "try it", "--yes", "--no-follow")
    assert said == ""
    assert service.herald.rollouts.list().items[0].kind == "swap"
    assert device.checkin().json()["order"] == "switch-back"


def in_the_field(service: RunningService, count: int) -> list[PuppetDevice]:
    """Devices on 2.4.0, the first four of another batch than the rest."""
    service.publish("2.4.0").raise_for_status()
    service.publish("2.5.0").raise_for_status()
    code, made = service.code(), []
    for number in range(count):
        device = PuppetDevice(service.url, f"TA-{number:02d}")
        device.enrol(code, labels={"batch": "march" if number < 4 else "june"}).raise_for_status()
        device.checkin()
        made.append(device)
    return made


def test_what_ends_while_one_begins_to_watch_is_not_waited_for_for_ever(
    service: RunningService, monkeypatch: pytest.MonkeyPatch
) -> None:
    service.publish("2.4.0").raise_for_status()
    service.publish("2.5.0").raise_for_status()
    device = PuppetDevice(service.url, "TA-0")
    device.enrol(service.code()).raise_for_status()
    device.checkin()
    rollout_id = service.herald.rollouts.start(service.plan()).id
    shown = service.herald.rollouts.show

    def shown_and_ended(number: int) -> RolloutOut:
        rollout = shown(number)
        if rollout.state == "running":
            service.herald.rollouts.cancel(number, "the moment after it was looked at")
        return rollout

    monkeypatch.setattr(service.herald.rollouts, "show", shown_and_ended)
    with ThreadPoolExecutor(1) as pool:
        assert pool.submit(follow, service.herald, rollout_id).result(PATIENCE_S).state == "cancelled"
