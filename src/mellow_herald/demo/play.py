"""Plays the demo: a bad release is halted, understood and rolled back, the next one goes through, and what the service
says is compared with what stands in the devices' flash."""

import json
import secrets
import signal
import sys
import threading
import time
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import typer
from rich.console import Console
from rich.table import Table

from mellow_herald.client import Herald, HeraldError
from mellow_herald.core.digest import sha256_hex
from mellow_herald.demo import meadow, meters, scenario, yard
from mellow_herald.demo.accounting import closing_line, print_accounting, states_by_serial
from mellow_herald.demo.meadow_act import MeadowAct, publish_meadow, write_meadow
from mellow_herald.demo.meters_act import MetersAct, publish_meters, write_meters
from mellow_herald.demo.processes import DemoFailed, Processes
from mellow_herald.demo.readings_act import ReadingsAct
from mellow_herald.demo.scenario import Place
from mellow_herald.demo.second_act import Act
from mellow_herald.sim.fleet import chip_path
from mellow_herald.sim.hardware import running_image

OUT = Console(highlight=False)
READY_SECONDS = 60.0
ONLINE_SECONDS = 150.0
# Of an enrolment code, for devices that a user adds to the demo.
SPARE_USES = 100
DECIDED_SECONDS = 120.0
BRINGS = "forward"


@dataclass(frozen=True, slots=True)
class Options:
    """What can be asked of the demo. ``speed``: service seconds per real second."""

    data_dir: Path
    port: int
    devices: int
    seed: int
    speed: float
    once: bool


def play(options: Options) -> int:
    """Plays the demo; returns the exit code. Everything it starts is stopped when it ends, whatever ends it."""
    for number in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, lambda *_: sys.exit(143))
    # Started in the background of a script, a process inherits that SIGINT is ignored.
    signal.signal(signal.SIGINT, signal.default_int_handler)
    demo = _Demo(options)
    try:
        return demo.play()
    except DemoFailed as failed:
        print(f"herald demo: {failed}", file=sys.stderr)
        return 1
    except HeraldError as error:
        print(f"herald demo: {error}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        return 0 if not options.once else 130
    finally:
        signal.signal(signal.SIGINT, signal.SIG_IGN)  # a second Ctrl-C must not leave PostgreSQL behind
        with suppress(OSError):  # the terminal may be gone
            print("stopping the devices, the service and PostgreSQL …", file=sys.stderr, flush=True)
        demo.processes.stop()


class _Demo:
    def __init__(self, options: Options) -> None:
        self._options = options
        self._data = options.data_dir.absolute()
        self._place = Place(self._data / "demo")
        self._notes_file = self._data / "demo" / "notes.json"
        self._notes = self._read_notes()
        self._url = f"http://127.0.0.1:{options.port}"
        environment = {
            "HERALD_ADMIN_PASSWORD": self._notes["password"],
            "HERALD_PASSWORD": self._notes["password"],
            "HERALD_CREDENTIALS": str(self._data / "demo" / "credentials.json"),
            "HERALD_URL": self._url,
        }
        self._wrong: list[str] = []
        self.processes = Processes(environment, self._data / "logs")

    def play(self) -> int:
        options = self._options
        self._say("Thistledown Apiaries: a release hurts some hive scales, and is taken back")
        self._start_service()
        self._prepare()
        self._start_devices()
        self._start_receiver()
        self._bad_release()
        self._good_release()
        self._second_act()
        self._third_act()
        self._fourth_act()
        agreed = self._compare() and not self._wrong
        for line in self._wrong:
            print(f"NOT AS SCRIPTED {line}", flush=True)
        if options.once:
            return 0 if agreed else 1
        self._say("The service and the simulated devices stay up until Ctrl-C")
        print(f"console   {self._url}")
        print(f"sign in   admin / {self._notes['password']}")
        credentials = self._data / "demo" / "credentials.json"
        print(f"terminal  export HERALD_URL={self._url} HERALD_CREDENTIALS={credentials}", flush=True)
        while True:
            time.sleep(1)
            self.processes.check()

    def _read_notes(self) -> dict[str, Any]:
        if self._notes_file.exists():
            notes: dict[str, Any] = json.loads(self._notes_file.read_text())
            return notes
        return {"password": secrets.token_urlsafe(9), "prepared": False}

    def _write_notes(self, **more: Any) -> None:
        self._notes |= more
        self._notes_file.parent.mkdir(parents=True, exist_ok=True)
        self._notes_file.touch(0o600)
        self._notes_file.write_text(json.dumps(self._notes, indent=2))

    def _say(self, text: str) -> None:
        OUT.print(f"\n[bold #d99a2b]●[/] [bold]{text}[/]")

    def _herald(self) -> Herald:
        token = json.loads((self._data / "demo" / "credentials.json").read_text())["token"]
        return Herald(self._url, token=token)

    def _start_service(self) -> None:
        options = self._options
        self._write_notes()
        self.processes.start(
            "service",
            "serve",
            "--data-dir",
            str(self._data),
            "--port",
            str(options.port),
            "--time-scale",
            str(options.speed),
            "--webhook-allow",
            "127.0.0.1",
            "--radio",
            f"http://127.0.0.1:{options.port + 2}",
            "--coap-port",
            str(options.port),
        )
        deadline = time.monotonic() + READY_SECONDS
        with Herald(self._url) as herald:
            while True:
                self.processes.check()
                with suppress(HeraldError):
                    herald.ready()
                    break
                if time.monotonic() > deadline:
                    raise DemoFailed(f"the service did not get ready; see {self.processes.log('service')}")
                time.sleep(0.2)
        print(f"service ready at {self._url}, time runs {options.speed:g} times as fast", flush=True)
        self.processes.run("sign-in", "--name", "admin", "--url", self._url)

    def _prepare(self) -> None:
        """Keys, board, releases and an enrolment code, once per data folder."""
        if self._notes["prepared"]:
            print("keys, board and releases are there from an earlier start", flush=True)
            return
        place, run = self._place, self.processes.run
        scenario.write_files(place, self._options.seed, self._options.devices)
        for pair in (place.root_key, place.signing_key):
            for file in (pair, pair.with_suffix(".pub.pem")):
                file.unlink(missing_ok=True)  # of a start that was cut short before anything was published
        self._say("Keys: a root that stays off-line, a signing key, a list that says so")
        run("key", "root", str(place.root_key))
        run("key", "new", str(place.signing_key))
        run(
            "key",
            "publish",
            "--root",
            str(place.root_key),
            "--active",
            str(place.signing_key.with_suffix(".pub.pem")),
            "--out",
            str(place.key_list),
        )
        self._say("A board, and a release that the field runs: signed here, verified there")
        run("board", "add", str(place.board))
        key, old = str(place.signing_key), f"{scenario.BOARD}/{scenario.LINE}/{scenario.OLD}"
        run("release", "publish", str(place.firmware(scenario.OLD)), "--key", key, "--notes", "runs in the field")
        run("release", "baseline", old, "--reason", "what the field runs", "--yes")
        self._say("The next: looked at, sealed into a file, published from the file")
        run("image", "look", str(place.firmware(scenario.NEW)))
        run(
            "release",
            "seal",
            str(place.firmware(scenario.NEW)),
            "--key",
            key,
            "--notes",
            "finer weighing at night",
            "--board-file",
            str(place.board),
            "--out",
            str(place.release_file),
        )
        run("release", "publish", str(place.release_file))
        self._say("And one that is only a draft yet: two components, by a release sheet")
        run("release", "publish", str(place.sheet), "--key", key, "--draft")
        self._prepare_others()
        lines = {
            scenario.BOARD: scenario.LINE,
            scenario.GATEWAY_BOARD: scenario.GATEWAY_LINE,
            scenario.SENSOR_BOARD: scenario.SENSOR_LINE,
            yard.RELAY_BOARD: yard.RELAY_LINE,
        }
        codes = {board: self._code(board, line) for board, line in lines.items()}
        scenario.write_scenario(place, codes, self._options.devices, self._options.seed)
        publish_meadow(self.processes, place, self._options.seed)
        write_meadow(place, self._options.seed, self._code(meadow.BOARD, meadow.LINE))
        publish_meters(self.processes, place, self._options.seed)
        write_meters(place, self._options.seed, self._code(meters.BOARD, meters.LINE))
        there = {"yard": True, "meadow": True, "meters": True}
        self._write_notes(prepared=True, devices=self._options.devices, **there)

    def _prepare_others(self) -> None:
        """The boards and releases of a gateway and its sensors."""
        self._say("A gateway and the sensors behind it: boards and releases of their own")
        place, key = self._place, str(self._place.signing_key)
        for board in place.other_boards:
            self.processes.run("board", "add", str(board))
        for version, name, line in (
            (scenario.GATEWAY_VERSION, scenario.GATEWAY_BOARD, scenario.GATEWAY_LINE),
            (scenario.SENSOR_VERSION, scenario.SENSOR_BOARD, scenario.SENSOR_LINE),
        ):
            image = str(place.firmware(version, line))
            self.processes.run("release", "publish", image, "--key", key, "--notes", "runs in the field")
            release = f"{name}/{line}/{version}"
            self.processes.run("release", "baseline", release, "--reason", "what the field runs", "--yes", show=False)
        sheet = str(place.folder / f"{yard.RELAY_LINE}-{yard.RELAY_OLD}.toml")
        self.processes.run("release", "publish", sheet, "--key", key, "--notes", "runs in the field", show=False)

    def _code(self, board: str, line: str) -> str:
        uses = ["--uses", str(self._options.devices + SPARE_USES)]
        made = self.processes.run(
            "code", "new", "--board", board, "--line", line, *uses, "--json", show=False, capture=True
        )
        return str(json.loads(made)["code"])

    def _start_devices(self) -> None:
        place, devices = self._place, self._notes["devices"]
        self._say(f"{devices} simulated hive scales come on-line, one of the lab, a gateway and its sensors")
        everyone = devices + 3 + scenario.SENSORS + len(scenario.OUTSIDE)
        scenario_file, flash = str(place.scenario), str(place.flash)
        self.processes.start(
            "devices", "sim", "run", scenario_file, "--data-dir", flash, "--log", "-", "--url", self._url
        )
        deadline = time.monotonic() + ONLINE_SECONDS + self._options.devices / 4
        with self._herald() as herald:
            # Some hive scales are off-line now and then: it is enough that all have been heard of.
            while (heard := sum(herald.overview().presence.values())) < everyone:
                self.processes.check()
                if time.monotonic() > deadline:
                    raise DemoFailed(f"only {heard} of {everyone} devices came on-line")
                time.sleep(0.3)
        if not self._notes.get("on_bench"):
            self.processes.run("device", "mark", scenario.LAB_UNIT, "--bench", "--reason", "builds are tried on it")
            self._write_notes(on_bench=True)
        self.processes.run("device", "list", "--limit", "8")
        self.processes.run("release", "list")

    def _start_receiver(self) -> None:
        """A program of somebody else that wants to know what happens."""
        if "webhook" not in self._notes:
            self._say("Another program wants to know: a webhook, and a small receiver that checks its signatures")
            address = f"http://127.0.0.1:{self._options.port + 1}/apiaries"
            made = self.processes.run("webhook", "add", address, "--note", "the pager", "--json", capture=True)
            self._write_notes(webhook=json.loads(made)["secret"])
        self.processes.start(
            "receiver",
            "webhook",
            "receive",
            "--port",
            str(self._options.port + 1),
            environment={"HERALD_WEBHOOK_SECRET": self._notes["webhook"]},
        )

    def _bad_release(self) -> None:
        """2.5.0 passes the bench, where no hw_rev 2 stands, and is halted in the next ring; its devices go back."""
        if self._notes.get("taken_back"):
            return
        run, place = self.processes.run, self._place
        if "bad_rollout" not in self._notes:
            self._say("A rollout of four rings: checked, previewed, started, watched")
            plan = str(place.plan(scenario.NEW))
            run("rollout", "check", plan)
            self._say("Rehearsed first: as it should go, and as if one revision crashed")
            run("rollout", "rehearse", plan, "--fault", "none", "--fault", scenario.FEARED, "--runs", "60")
            run("rollout", "start", plan, "--yes")
            with self._herald() as herald:
                self._write_notes(bad_rollout=herald.rollouts.list(limit=1).items[0].id)
        bad = str(self._notes["bad_rollout"])
        run("rollout", "watch", bad, good=(4,))
        self._say("Halted by its brake. Those still at risk are waited for; what do the failing ones have in common?")
        self._wait_until_decided(int(bad))
        run("rollout", "show", bad)
        run("rollout", "suspects", bad)
        self._say("It is the release, on one hardware revision: back to what the devices came from")
        if "rollback" not in self._notes:
            why = "crashes at boot on hw_rev 2"
            made = run("rollout", "rollback", bad, "--reason", why, "--yes", "--json", capture=True)
            self._write_notes(rollback=json.loads(made)["id"])
        run("rollout", "watch", str(self._notes["rollback"]))
        self._report(bad)
        self._write_notes(taken_back=True)

    def _good_release(self) -> None:
        """2.5.1 goes through all rings."""
        run, place = self.processes.run, self._place
        if "good_rollout" not in self._notes:
            self._say("The next one, mended: looked at against the rings again, and out")
            fixed, key = str(place.firmware(scenario.FIXED)), str(place.signing_key)
            run("release", "publish", fixed, "--key", key, "--notes", "starts on hw_rev 2 again")
            made = run("rollout", "start", str(place.plan(scenario.FIXED)), "--yes", "--json", capture=True)
            self._write_notes(good_rollout=json.loads(made)["id"])
        good = int(self._notes["good_rollout"])
        over = threading.Event()
        helper = threading.Thread(target=self._say_go, args=(good, over), daemon=True)
        helper.start()
        run("rollout", "watch", str(good))
        over.set()
        helper.join()
        self._report(str(good))

    def _third_act(self) -> None:
        """Sixty sensors on narrow radio are sent a release at once, and those that fell short in a repair; beside them
        twelve meters take theirs by CoAP."""
        if "meadow" not in self._notes:
            self._say("This data folder was made by an earlier version: the third act needs a new one")
            return
        port, place, herald = self._options.port, self._place, self._herald()
        act = MeadowAct(self.processes, place, herald, port + 2, self._url)
        act.start_devices()
        beside = MetersAct(self.processes, place, herald, f"coap://127.0.0.1:{port}", self._url)
        if "meters" in self._notes:
            beside.start_devices()
        if self._notes.get("third_act"):
            return
        self._listen()
        self._say("Third act: sixty sensors on narrow radio, all sent to at once")
        if "meadow_rollout" not in self._notes:
            self._write_notes(meadow_rollout=act.start())
        if "meters" in self._notes:
            self._say("Beside them twelve meters that speak CoAP: half fetch their release, half are written to")
            if "meters_rollout" not in self._notes:
                self._write_notes(meters_rollout=beside.start())
            self._wrong += beside.finish(int(self._notes["meters_rollout"]))
            self._say("Back to the sensors")
        self._wrong += act.finish(int(self._notes["meadow_rollout"]))
        self._write_notes(third_act=True)

    def _listen(self) -> None:
        """The scales are asked for what the fourth act compares with."""
        if not self._notes.get("listens"):
            self._say("The scales are listened to meanwhile")
            with self._herald() as herald:
                ReadingsAct(self.processes, self._place, herald).listen()
            self._write_notes(listens=True)

    def _fourth_act(self) -> None:
        """A release that costs battery, and fails nobody."""
        if self._notes.get("fourth_act"):
            return
        self._listen()
        self._say("Fourth act: a release that fails nobody, and costs three times the battery")
        with self._herald() as herald:
            act = ReadingsAct(self.processes, self._place, herald)
            if "drain_rollout" not in self._notes:
                self._write_notes(drain_rollout=act.start(self._options.seed))
            self._wrong += act.finish(int(self._notes["drain_rollout"]))
        self._write_notes(fourth_act=True)

    def _second_act(self) -> None:
        """A yard from the leaves to the gateway, and what is no firmware."""
        if "yard" not in self._notes:
            self._say("This data folder was made by an earlier version: the second act needs a new one")
            return
        if self._notes.get("second_act"):
            return
        self._say("Second act: a yard with a gateway, a relay and sensors; settings and a certificate for the scales")
        began = time.monotonic()
        with self._herald() as herald:
            act = Act(self.processes, self._place, herald)
            act.publish()
            ids = act.play()
            self._wrong = act.wrong(ids)
        for line in self._wrong:
            print(f"NOT AS SCRIPTED {line}")
        what = "as scripted" if not self._wrong else "NOT as scripted"
        print(f"the second act went {what}, in {time.monotonic() - began:.0f} s", flush=True)
        self._write_notes(second_act=ids)

    def _say_go(self, rollout_id: int, over: threading.Event) -> None:
        """The engineer beside it: lets a ring open that asks, once whoever went bad was looked at."""
        with self._herald() as herald:
            while not over.wait(1):
                with suppress(HeraldError):
                    if any(ring.state == "awaiting-go" for ring in herald.rollouts.show(rollout_id).rings):
                        herald.rollouts.go(rollout_id, "looked at: worn load cells, not the release")

    def _wait_until_decided(self, rollout_id: int) -> None:
        """Until no device of a halted rollout is at risk any more."""
        deadline = time.monotonic() + DECIDED_SECONDS
        with self._herald() as herald:
            while herald.rollouts.show(rollout_id).live:
                self.processes.check()
                if time.monotonic() > deadline:
                    raise DemoFailed(f"devices of rollout {rollout_id} stay at risk")
                time.sleep(0.3)

    def _report(self, rollout_id: str) -> None:
        report = str(self._place.folder / f"rollout-{rollout_id}.html")
        self.processes.run("rollout", "report", rollout_id, "--html", report)

    def _compare(self) -> bool:
        """Holds the service's count against what the devices' flash would boot; prints the accounting of every
        rollout."""
        versions = (scenario.OLD, scenario.NEW, scenario.FIXED, scenario.LOCAL)
        known = {version: sha256_hex(self._place.firmware(version).read_bytes()) for version in versions}
        wrong = []
        with self._herald() as herald:
            said = {device.serial: device for device in herald.devices.each(where=f"board = {scenario.BOARD}")}
            rollouts = list(reversed(herald.rollouts.list(limit=200).items))
            expected = dict.fromkeys(said, known[scenario.OLD]) | {scenario.LAB_UNIT: known[scenario.LOCAL]}
            had: dict[int, dict[str, str]] = {}
            for rollout in rollouts:
                had[rollout.id] = dict(expected)
                before = had.get(rollout.rolls_back or 0, {})
                brings = known.get(rollout.release.rpartition("/")[2]) if rollout.kind == BRINGS else None
                states = states_by_serial(herald, rollout.id)
                # A way back brings what each had; what somebody tried here besides the story is due as the service has
                # it.
                expected |= {
                    serial: brings or before.get(serial) or said[serial].digest or ""
                    for serial, state in states.items()
                    if state == "confirmed" and serial in said
                }
        in_flash = {}
        for serial, digest in expected.items():
            _, in_flash[serial] = running_image(chip_path(self._place.flash, serial))
            if in_flash[serial] != digest or said[serial].digest != digest:
                wrong.append(f"{serial}: flash {in_flash[serial][:12]}, service {said[serial].digest}, due {digest}")
        told = [device.digest for device in said.values()]
        running = {
            version: (told.count(digest), list(in_flash.values()).count(digest)) for version, digest in known.items()
        }
        for rollout in rollouts:
            if not print_accounting(rollout):
                wrong.append(f"rollout {rollout.id} does not add up")
        self._print_summary(running, len(said), len(in_flash))
        for line in wrong:
            print(f"DISAGREE {line}")
        agreed = not wrong and len(said) == self._notes["devices"] + 1
        print("the service and the devices' flash agree" if agreed else "the service and the devices' flash DISAGREE")
        for rollout in rollouts:
            print(closing_line(rollout), flush=True)
        return agreed

    def _print_summary(self, running: dict[str, tuple[int, int]], said: int, devices: int) -> None:
        """What the service says beside what stands in the flash; cut transfers are counted in the devices' own log."""
        cut = self.processes.log("devices").read_text(errors="replace").count("transfer cut at")
        taken = self.processes.log("receiver").read_text(errors="replace").splitlines()
        table = Table(title="\nWhat runs", title_justify="left", box=None, padding=(0, 2))
        table.add_column("")
        table.add_column("service", justify="right")
        table.add_column("flash", justify="right")
        table.add_row("hive scales", str(said), str(devices))
        for version, (service, flash) in running.items():
            table.add_row(f"run {version}", str(service), str(flash))
        OUT.print(table)
        print(f"{cut} transfers were cut and went on where they broke off")
        print(
            f"{sum('mellow-herald.' in line for line in taken)} events reached the webhook's receiver, all well signed"
        )


def run(options: Options) -> None:
    """Plays and exits."""
    raise typer.Exit(play(options))
