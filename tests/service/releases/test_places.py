"""Files, settings and certificates from the desk to the device: published, brought out, refused, taken back."""

from pathlib import Path
from typing import Any

import pytest
from typer.testing import CliRunner

from mellow_herald.cli.main import app
from mellow_herald.client import ProblemError
from mellow_herald.client.placed import Placed
from mellow_herald.core.component import Kind
from mellow_herald.core.digest import sha256_hex
from mellow_herald.core.refusal import Refused
from mellow_herald.core.settings import canonical
from mellow_herald.wire.board import BoardIn
from mellow_herald.wire.plan import PlanDocument
from mellow_herald.wire.rollback import RollbackIn
from tests.core.test_places import LEAF, MIDDLE, ROOT, SCHEMA, STRANGER, pem
from tests.harness.device import PuppetDevice
from tests.harness.firmware import BOARD, DOMAIN, LINE
from tests.harness.service import RunningService
from tests.service.rollouts.test_rings import plan

MAIN, STATED = "settings/main", {"line": LINE, "board": BOARD, "floor": 4}
DAY, NIGHT = {"every_s": 600}, {"every_s": 1800}


@pytest.fixture
def places(service: RunningService) -> RunningService:
    """A board with places."""
    slots = [{"name": "a", "size": 65536}, {"name": "b", "size": 65536}]
    components = [
        {"kind": "settings", "place": "main", "size": 4096, "schema": SCHEMA},
        {"kind": "certificate", "place": "uplink", "size": 8192, "trusted": pem(ROOT).decode()},
        {"kind": "file", "place": "sounds", "size": 4096, "action": "import"},
    ]
    given = {"vendor_domain": DOMAIN, "lines": [LINE], "hw_revs": [1, 2, 3], "slots": slots, "components": components}
    board = service.herald.boards.add(BoardIn.model_validate({"name": BOARD, **given}))
    assert [one.full_name for one in board.components] == [MAIN, "certificate/uplink", "file/sounds"]
    assert board.components[0].json_schema == SCHEMA
    return service


def write(folder: Path, name: str, data: bytes) -> Path:
    path = folder / name
    path.write_bytes(data)
    return path


def publish(service: RunningService, *placed: Placed, version: str = "1.0.0", **more: Any) -> Any:
    stated = {**STATED, "version": version}
    return service.herald.releases.publish([], key=service.publisher.key, placed=placed, stated=stated, **more)


def settings(folder: Path, document: dict[str, Any], base: str | None = "any") -> Placed:
    return Placed(
        Kind.SETTINGS, "main", write(folder, f"{len(list(folder.iterdir()))}.json", canonical(document)), base
    )


class Placing(PuppetDevice):
    """A puppet with settings at a place."""

    def __init__(self, url: str, serial: str, document: dict[str, Any]) -> None:
        super().__init__(url, serial)
        self.here = sha256_hex(canonical(document))
        self.beside: str | None = None

    def checkin(self, *, wait: int = 0, **more: Any) -> Any:
        app_content = {"version": self.version, "digest": self.digest, "slot": "a", "floor": 4}
        running = {"app": app_content, MAIN: {"digest": self.here, "slot": "a", "floor": 4}}
        standby = {MAIN: {"digest": self.beside, "slot": "b", "floor": 4}} if self.beside else {}
        return super().checkin(wait=wait, running=running, standby=standby, **more)

    def take(self) -> None:
        """Takes what it was brought into use, without a restart."""
        self.report("installing")
        assert self.beside is not None
        self.here, self.beside = self.beside, self.here
        self.report("confirmed", digests={MAIN: self.here})


def started(service: RunningService, version: str, **more: Any) -> int:
    document: PlanDocument = plan([{"name": "all"}], release=f"{BOARD}/{LINE}/{version}", name=version, **more)
    rollout_id = service.herald.rollouts.start(document).id
    service.wait_for(rollout_id, lambda r: r.rings[0].state == "open")
    return rollout_id


def test_settings_go_out_and_come_back_as_firmware_does(places: RunningService, tmp_path: Path) -> None:
    places.publish("2.4.0").raise_for_status()
    release = publish(places, settings(tmp_path, NIGHT, sha256_hex(canonical(DAY))))
    (component,) = release.components
    assert (component.name, component.base) == (MAIN, sha256_hex(canonical(DAY)))
    here, other = Placing(places.url, "TA-0", DAY), Placing(places.url, "TA-1", {"every_s": 42})
    for device in (here, other):
        device.enrol(places.code()).raise_for_status()
        device.checkin()
    document = plan([{"name": "all"}], release=f"{BOARD}/{LINE}/1.0.0")
    assert places.herald.rollouts.steps(document).restart is False
    rollout_id = started(places, "1.0.0", brake={"delivery_limit": 0.9})
    for device in (here, other):
        assert device.checkin().json()["order"] == "fetch"
        assert device.get(f"images/{component.digest}").content == canonical(NIGHT)
    here.report("downloading", percent=1, parts={MAIN: {"state": "downloading", "percent": 1}})
    here.beside = component.digest
    here.report("staged")
    other.report("failed", reason="settings-changed", component=MAIN, detail="here → new: every_s: 42 → 1800")
    order = here.checkin().json()
    assert (order["order"], order["to"]) == ("switch", {MAIN: component.digest})
    here.take()
    rollout = places.herald.rollouts.show(rollout_id)
    assert rollout.states == {"confirmed": 1, "failed": 1}
    (failed,) = rollout.failed_parts
    assert (failed.part, failed.serial, failed.devices) == (MAIN, "TA-1", 1) and "every_s: 42" in failed.line
    assert places.herald.releases.show(release.id).components[0].failed_on == 1
    here.checkin()
    assert places.herald.releases.show(release.id).running == 1
    (part,) = places.herald.devices.show("TA-0").parts
    assert (part.state, part.from_digest, part.digest) == ("confirmed", sha256_hex(canonical(DAY)), component.digest)
    again = places.herald.rollouts.preview(document)
    assert {one.reason: one.devices for one in again.passed_over}["already-running"] == 1
    places.herald.rollouts.halt(rollout_id, "not at night after all")
    back = places.herald.rollouts.roll_back(rollout_id, RollbackIn(reason="not at night after all"))
    places.wait_for(back.id, lambda r: r.rings[0].state == "open" and r.states)
    order = here.checkin().json()
    assert (order["order"], order["to"]) == ("switch-back", {MAIN: sha256_hex(canonical(DAY))})
    here.take()
    assert places.wait_for(back.id, lambda r: r.state == "finished").states["confirmed"] == 1
    assert places.herald.rollouts.show(rollout_id).states["rolled-back"] == 1
    (part,) = places.herald.devices.show("TA-0").parts
    assert part.to_version is None, "no release has what it went back to"


@pytest.mark.parametrize(
    ("placed", "said"),
    [
        (lambda f: Placed(Kind.FILE, "sound", write(f, "x", b"hum")), "has no place 'sound'"),
        (lambda f: Placed(Kind.FILE, "sounds", write(f, "x", b"h" * 5000)), "has 5000 bytes, its place"),
        (lambda f: Placed(Kind.FILE, "sounds", write(f, "x", b"")), "is empty"),
        (lambda f: Placed(Kind.FILE, "sounds", f / "none"), "cannot be read"),
        (lambda f: Placed(Kind.FILE, "so unds", write(f, "x", b"hum")), "no name of a place"),
        (lambda f: settings(f, {"every_s": 1}), "breaks the schema"),
        (lambda f: settings(f, DAY, None), "not said which settings these replace"),
        (lambda f: Placed(Kind.SETTINGS, "main", write(f, "x", b"[1]"), "any"), "no JSON object"),
        (lambda f: Placed(Kind.CERTIFICATE, "uplink", write(f, "x", pem(STRANGER))), "not trusted there"),
        (lambda f: Placed(Kind.CERTIFICATE, "uplink", write(f, "x", pem(LEAF))), "not trusted there"),
        (lambda f: Placed(Kind.CERTIFICATE, "uplink", write(f, "x", b"hello")), "no PEM certificate chain"),
    ],
)
def test_what_cannot_go_to_its_place_is_said_at_the_desk(
    places: RunningService, tmp_path: Path, placed: Any, said: str
) -> None:
    with pytest.raises(Refused, match=said):
        publish(places, placed(tmp_path))
    assert places.herald.releases.list().items == []


def test_the_service_looks_for_itself(places: RunningService, tmp_path: Path) -> None:
    """What somebody's own tool sealed without looking."""
    from mellow_herald.core.placed import Belongs, placed_bytes
    from mellow_herald.core.seal import describe, seal

    belongs = Belongs(LINE, BOARD, "1.0.0", 4)
    image = placed_bytes(Kind.SETTINGS, "main", belongs, canonical({"every_s": 1}))
    body = b"".join(seal([image], describe([image], DOMAIN, version="1.0.0"), places.publisher.key)[1])
    problem = places.post_release(body)
    assert problem.status_code == 422 and "breaks the schema" in problem.text
    assert places.herald.releases.list().items == []


@pytest.mark.parametrize(
    ("component", "said"),
    [
        ({"kind": "file", "place": "x"}, "a place and a size"),
        ({"kind": "file", "place": "x", "size": 9, "schema": {}}, "schema goes with"),
        ({"name": "radio"}, "no slot for component radio"),
        ({"name": "app", "storage": "streamed"}, "nobody streams into it"),
        ({"kind": "settings", "place": "m", "size": 9, "schema": {"type": "none"}}, "JSON Schema is wrong"),
        ({"kind": "certificate", "place": "m", "size": 9, "trusted": "hello"}, "no PEM certificates"),
    ],
)
def test_a_board_says_what_is_wrong_with_its_components(service: RunningService, component: Any, said: str) -> None:
    with service.http(service.token) as http:
        slots = [{"name": "a", "size": 65536}]
        board = {"name": "x-1", "vendor_domain": DOMAIN, "lines": [LINE], "hw_revs": [1], "slots": slots}
        answer = http.post("/api/v1/boards", json={**board, "components": [component]})
    assert answer.status_code == 422 and said in answer.text


def test_a_device_that_lacks_a_part_is_told_before(places: RunningService, tmp_path: Path) -> None:
    places.publish("2.4.0").raise_for_status()
    publish(places, settings(tmp_path, NIGHT))
    for number, parts in enumerate((["app"], ["app", MAIN], None)):
        device = PuppetDevice(places.url, f"TA-{number}")
        device.enrol(places.code()).raise_for_status()
        device.checkin(**({"parts": parts} if parts else {}))
    preview = places.herald.rollouts.preview(plan([{"name": "all"}], release=f"{BOARD}/{LINE}/1.0.0"))
    assert [(one.reason, one.first) for one in preview.passed_over] == [("no-part", ["TA-0"])]
    assert preview.counts == [2], "who does not tell is asked by trying"
    found = places.herald.devices.list(where='parts ~ "*,settings/main,*"')
    assert [one.serial for one in found.items] == ["TA-1"]


def test_from_the_command_line_by_a_sheet_and_by_options(places: RunningService, tmp_path: Path) -> None:
    from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

    key = places.publisher.key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    write(tmp_path, "key.pem", key)
    write(tmp_path, "day.json", b'{ "every_s": 600 }')
    write(tmp_path, "night.json", b'{ "every_s": 1800 }')
    write(tmp_path, "chain.pem", pem(LEAF, MIDDLE))
    environment = {"HERALD_URL": places.url, "HERALD_TOKEN": places.token, "HERALD_KEY": str(tmp_path / "key.pem")}

    def herald(*arguments: str) -> str:
        done = CliRunner().invoke(app, arguments, env=environment)
        return f"{done.exit_code} {done.output} {done.exception}"

    stated = ("--board", BOARD, "--line", LINE, "--floor", "4", "--version")
    given = ("--settings", f"main={tmp_path}/night.json")
    assert "not said which settings these replace" in herald("release", "publish", *given, *stated, "1.0.0")
    done = herald("release", "publish", *given, "--base", f"{tmp_path}/day.json", *stated, "1.0.0")
    assert f"{BOARD}/{LINE}/1.0.0 published" in done and MAIN in done
    assert "line, board" in herald("release", "publish", *given, "--base", "any")
    assert "which file is for which place" in herald("release", "publish", "--file", "sounds", *stated, "1.1.0")
    sheet = f"""
line = "{LINE}"
board = "{BOARD}"
version = "1.2.0"
floor = 4

[[contents]]
kind = "settings"
place = "main"
file = "night.json"
base = "day.json"

[[contents]]
kind = "certificate"
place = "uplink"
file = "chain.pem"
after = ["settings/main"]
"""
    write(tmp_path, "sheet.toml", sheet.encode())
    assert "1.2.0 published" in herald("release", "publish", str(tmp_path / "sheet.toml"))
    shown = herald("release", "show", f"{BOARD}/{LINE}/1.2.0")
    assert "certificate/uplink" in shown and "its place" in shown
    with pytest.raises(ProblemError, match="version-not-higher|does not follow"):
        publish(places, settings(tmp_path, DAY), version="1.1.0")
