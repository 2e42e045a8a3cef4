"""A scenario: which simulated devices there are and how they are made (TOML). The keys are docs/scenario.md."""

import random
import re
import tomllib
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import timedelta
from difflib import get_close_matches
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, ValidationError, model_validator

from mellow_herald.core.component import is_component
from mellow_herald.core.duration import parse_duration
from mellow_herald.core.radio.air import Region
from mellow_herald.core.refusal import Refused
from mellow_herald.core.selector import matches, parse_selector
from mellow_herald.wire.mistakes import mistakes


def _duration(value: object) -> object:
    if not isinstance(value, str):
        return value
    try:
        return parse_duration(value)
    except Refused as refused:
        raise ValueError(str(refused)) from None


def _selector(text: str) -> str:
    try:
        parse_selector(text)
    except Refused as refused:
        raise ValueError(str(refused)) from None
    return text


Span = Annotated[timedelta, BeforeValidator(_duration)]
Selector = Annotated[str, AfterValidator(_selector)]
Share = Annotated[float, Field(ge=0, le=1)]
Percent = Annotated[int, Field(ge=0, le=100)]
SERIAL = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,62}")
NUMBER = re.compile(r"\{n(:0[1-9])?\}")


class Strict(BaseModel):
    """A key that is not known is a mistake."""

    model_config = ConfigDict(extra="forbid")


class SpellSpec(Strict):
    """Something that comes back: ``every`` so often, for ``length`` (key ``for``)."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)

    every: Span
    length: Span = Field(alias="for")

    @model_validator(mode="after")
    def _shorter_than_its_round(self) -> "SpellSpec":
        if not timedelta(0) < self.length < self.every:
            raise ValueError("`for` must be shorter than `every`, and neither may be nothing")
        return self


class LinkSpec(Strict):
    """A link, in service time. ``loss`` is the share of calls that get lost, ``duty`` the share of time the radio may
    send, ``cut_at`` the shares of the first download at which the transfer breaks off, ``offline`` spells without any
    link, ``wait_s`` how long a check-in may be held open for an order."""

    kind: str = "wifi"
    bytes_per_s: int = Field(default=20_000, gt=0)
    latency_ms: int = Field(default=40, ge=0)
    loss: Annotated[float, Field(ge=0, lt=1)] = 0.0
    duty: Annotated[float, Field(gt=0, le=1)] = 1.0
    offline: SpellSpec | None = None
    cut_at: list[Share] = []
    wait_s: Annotated[int, Field(ge=0, le=60)] = 0


class BatterySpec(Strict):
    """A battery: its first charge in %, what it loses a day, and what it gains a day between two hours (UTC)."""

    start: Percent = 100
    drain_per_day: Annotated[float, Field(ge=0)] = 0.0
    charge_per_day: Annotated[float, Field(ge=0)] = 0.0
    charge_from: Annotated[int, Field(ge=0, le=23)] = 8
    charge_to: Annotated[int, Field(ge=1, le=24)] = 18


class OwnerSpec(Strict):
    """The person beside the device. ``postpones`` puts an update off ``times`` times by ``length`` (key ``for``);
    ``consents`` must press the button first; ``refuses`` never lets it switch."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)

    kind: Literal["willing", "postpones", "consents", "refuses"] = "willing"
    times: Annotated[int, Field(ge=0, le=100)] = 1
    length: Span = Field(default=timedelta(hours=1), alias="for")


class Outage(Strict):
    """The mains fail for the devices of ``where``, ``after`` the sim's first start, for ``length`` (key ``for``)."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)

    where: Selector
    after: Span
    length: Span = Field(alias="for")


class PartSpec(Strict):
    """Room for one component: two slots of ``size`` bytes, or with ``slots = 1`` one and a staging file; with
    ``streamed`` the files of a controller that is streamed into. What has a place (``file/sounds``) keeps the new and
    the former one: a file may have an ``action`` that runs after it, settings a JSON ``schema``, a certificate the
    device's own ``key`` and what is ``trusted`` (PEM)."""

    size: Annotated[int, Field(gt=0, multiple_of=4096, le=1 << 26)]
    slots: Literal[1, 2] = 2
    streamed: bool = False
    action: str | None = None
    schema_file: Path | None = Field(default=None, alias="schema")
    key: Path | None = None
    trusted: Path | None = None

    model_config = ConfigDict(extra="forbid", populate_by_name=True)


class BusSpec(Strict):
    """The bus to a streamed part: how fast it is (service time), and the block (from 1) at which it ``breaks_at``, so
    many ``times``."""

    bytes_per_s: int = Field(default=20_000, gt=0)
    breaks_at: Annotated[int, Field(ge=1)] | None = None
    times: Annotated[int, Field(ge=1)] = 1_000_000


class TlsSpec(Strict):
    """The port that devices connect to with a certificate on trial: its own certificate and key, and what it trusts."""

    certificate: Path
    key: Path
    trusted: Path


class RadioSpec(Strict):
    """A device on narrow radio: how often it speaks, what it loses of what is sent to it (a share, in bursts of so many
    fragments) and what is lost of its own words; by how much its clock is wrong when it starts, and runs wrong (parts
    in a million); for how many lost fragments it has memory, and the largest that it takes (bytes). With
    ``wrong_key`` another root key is on record than its own, without ``key_on_record`` none; one that does not
    ``listen`` hears no session."""

    region: Region = Region.EU868
    every: Span = timedelta(minutes=10)
    loss: Annotated[float, Field(ge=0, lt=1)] = 0.08
    burst: Annotated[float, Field(ge=1, le=1000)] = 5.0
    uplink_loss: Annotated[float, Field(ge=0, lt=1)] = 0.02
    clock_off_s: Annotated[float, Field(ge=-100_000, le=100_000)] = 0.0
    drift_ppm: Annotated[float, Field(ge=-1000, le=1000)] = 20.0
    most_missing: Annotated[int, Field(ge=1, le=256)] = 256
    most_fragment: Annotated[int, Field(ge=8, le=239)] | None = None
    key_on_record: bool = True
    wrong_key: bool = False
    listens: bool = True


class CoapSpec(Strict):
    """A device that speaks CoAP: how firmware may come to it, what it fetches by, whether it hears only after it has
    spoken (``queue``), and for how long it registers. With ``wrong_secret`` it has another secret than the one on
    record."""

    delivery: Literal["pull", "push", "both"] = "both"
    protocols: list[Literal["coap", "http"]] = ["coap"]
    queue: bool = False
    lifetime: Span = timedelta(minutes=5)
    wrong_secret: bool = False


class BoardSpec(Strict):
    """A board: how its devices are divided, how often they check in, and the code they enrol with."""

    code: str
    check_in: Span = timedelta(seconds=300)
    parts: dict[str, PartSpec]
    recovery: Path | None = None

    @model_validator(mode="after")
    def _has_an_app(self) -> "BoardSpec":
        if "app" not in self.parts:
            raise ValueError("every board has a part `app`")
        for name, part in self.parts.items():
            if "/" in name and not is_component(name):
                raise ValueError(f"{name} is no place; write file/NAME, settings/NAME or certificate/NAME")
            if part.streamed and (name == "app" or "/" in name):
                raise ValueError(f"{name} cannot be streamed; that is for the firmware of other controllers")
        return self


class DeviceSpec(Strict):
    """One device, or ``count`` like it whose serial has ``{n}`` in it. ``quirks`` are facts of its hardware that the
    service does not know but its firmware feels; ``bus`` are those to its streamed parts, ``clock_behind`` by how much
    its own clock is behind, ``restart`` how long it takes to start; ``power_cuts`` are flash operations, counted over
    the device's life, during which power fails."""

    serial: str
    count: Annotated[int, Field(ge=1, le=1_000_000)] | None = None
    board: str
    line: str
    hw_rev: int | list[int] = 1
    labels: dict[str, str | list[str]] = {}
    gateway: str | None = None
    quirks: dict[str, str] = {}
    link: LinkSpec = LinkSpec()
    radio: RadioSpec | None = None
    coap: CoapSpec | None = None
    battery: BatterySpec | None = None
    owner: OwnerSpec = OwnerSpec()
    busy: SpellSpec | None = None
    settings: dict[str, int | str] = {"sample_every_s": 600, "tare_g": 1180}
    power_cuts: list[Annotated[int, Field(ge=1)]] = []
    bus: dict[str, BusSpec] = {}
    clock_behind: Span = timedelta(0)
    restart: Span = timedelta(seconds=4)
    images: dict[str, Path]

    @model_validator(mode="after")
    def _counted(self) -> "DeviceSpec":
        if (self.count is not None) != ("{n" in self.serial):
            raise ValueError('`count` and `{n}` in the serial go together, as in serial = "TA-{n:04}", count = 40')
        if not SERIAL.fullmatch(NUMBER.sub("0", self.serial, count=1)):
            raise ValueError("a serial has letters, digits, dots, dashes and underlines, {n} or {n:04} at most once")
        return self

    @model_validator(mode="after")
    def _speaks_one_way(self) -> "DeviceSpec":
        if self.radio is not None and self.coap is not None:
            raise ValueError(f"{self.serial}: a device is on narrow radio or speaks CoAP, not both")
        return self

    @property
    def facts(self) -> dict[str, Any]:
        """What rules in images and outages may ask about."""
        own = {"serial": self.serial, "board": self.board, "line": self.line, "hw_rev": self.hw_rev}
        return {**self.quirks, **self.labels, **own}


class Scenario(Strict):
    """Boards and devices, and what all of them are made with. Paths are relative to the scenario file."""

    seed: int = 1
    vendor_domain: str
    root: Path
    key_list: Path
    boards: dict[str, BoardSpec] = Field(min_length=1)
    devices: list[DeviceSpec] = Field(min_length=1)
    tls: TlsSpec | None = None
    outages: list[Outage] = []

    @model_validator(mode="after")
    def _fits_together(self) -> "Scenario":
        for device in self.devices:
            board = self.boards.get(device.board)
            if board is None:
                raise ValueError(f"{device.serial}: there is no board {device.board}{_near(device.board, self.boards)}")
            for name in device.images:
                if name not in board.parts:
                    raise ValueError(f"{device.serial}: {device.board} has no part {name}{_near(name, board.parts)}")
            if "app" not in device.images:
                raise ValueError(f"{device.serial}: a device needs an image of `app`")
        return self


def _near(name: str, known: Any) -> str:
    found = get_close_matches(name, list(known), n=1)
    return f"; did you mean {found[0]}?" if found else f"; there are {', '.join(known)}"


@dataclass(frozen=True, slots=True)
class LoadedScenario:
    """A scenario and the folder its paths are relative to; ``devices`` are single ones, counts written out."""

    scenario: Scenario
    folder: Path
    devices: list[DeviceSpec]

    def read(self, path: Path) -> bytes:
        """A file that the scenario names."""
        return (self.folder / path).read_bytes()

    @property
    def radio_region(self) -> Region | None:
        """The region of its devices on narrow radio; None if there are none."""
        return next((one.radio.region for one in self.devices if one.radio is not None), None)

    def outages_of(self, spec: DeviceSpec) -> list[Outage]:
        """The outages that meet a device."""
        return [one for one in self.scenario.outages if matches(parse_selector(one.where), spec.facts)]


def load_scenario(path: Path) -> LoadedScenario:
    """Reads a scenario; raises ``Refused`` with the place of a mistake."""
    try:
        document: dict[str, Any] = tomllib.loads(path.read_text())
        scenario = Scenario.model_validate(document)
    except OSError as error:
        raise Refused("no-file", f"the scenario {path} cannot be read ({error.strerror}).") from None
    except tomllib.TOMLDecodeError as error:
        raise Refused("bad-scenario", f"{path} is not TOML: {error}.") from None
    except ValidationError as error:
        raise Refused("bad-scenario", f"{path}:{mistakes(error, Scenario)}") from None
    devices = [single for spec in scenario.devices for single in _singles(spec, scenario.seed)]
    seen: set[str] = set()
    for device in devices:
        if device.serial in seen:
            raise Refused("bad-scenario", f"{path}: two devices are called {device.serial}.")
        seen.add(device.serial)
    loaded = LoadedScenario(scenario, path.parent, devices)
    files = {file for spec in scenario.devices for file in spec.images.values()}
    files |= {board.recovery for board in scenario.boards.values() if board.recovery}
    parts = [part for board in scenario.boards.values() for part in board.parts.values()]
    files |= {file for part in parts for file in (part.schema_file, part.key, part.trusted) if file}
    files |= set(scenario.tls.model_dump().values()) if scenario.tls else set()
    for file in sorted({scenario.root, scenario.key_list} | files):
        if not (path.parent / file).is_file():
            raise Refused("no-file", f"{path} names {file}, which is not there.")
    return loaded


def _singles(spec: DeviceSpec, seed: int) -> Iterator[DeviceSpec]:
    """A device for each of ``count``; where a list was given, each draws one of its values."""
    for number in range(1, (spec.count or 1) + 1):
        serial = spec.serial.format(n=number) if spec.count else spec.serial
        labels = {key: _drawn(value, f"{seed}/{serial}/{key}") for key, value in spec.labels.items()}
        hw_rev = _drawn(spec.hw_rev, f"{seed}/{serial}/hw_rev")
        yield spec.model_copy(update={"serial": serial, "count": None, "labels": labels, "hw_rev": hw_rev})


def _drawn(value: Any, key: str) -> Any:
    return random.Random(key).choice(value) if isinstance(value, list) else value
