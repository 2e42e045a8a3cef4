"""A scenario: which simulated devices there are and how they are made (TOML)."""

import tomllib
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from mellow_herald.core.refusal import Refused


class Strict(BaseModel):
    """A key that is not known is a mistake."""

    model_config = ConfigDict(extra="forbid")


class LinkSpec(Strict):
    """A link: ``bytes_per_s`` and ``latency_ms`` in service time; ``cut_at`` are the shares (0–1) of the first
    download at which the transfer breaks off."""

    kind: str = "wifi"
    bytes_per_s: int = Field(default=20_000, gt=0)
    latency_ms: int = Field(default=40, ge=0)
    cut_at: list[float] = []


class DeviceSpec(Strict):
    """One device. ``quirks`` are facts of its hardware that the service does not know but its firmware feels."""

    serial: str
    board: str
    line: str
    hw_rev: int
    labels: dict[str, str] = {}
    quirks: dict[str, str] = {}
    link: LinkSpec = LinkSpec()
    battery: int = Field(default=100, ge=0, le=100)
    image: Path


class Scenario(Strict):
    """Devices, and what all of them are made with. Paths are relative to the scenario file."""

    seed: int = 1
    vendor_domain: str
    root: Path
    key_list: Path
    code: str
    slot_size: int = Field(gt=0, multiple_of=4096)
    check_in_s: int = Field(default=300, gt=0)
    devices: list[DeviceSpec] = Field(min_length=1)


@dataclass(frozen=True, slots=True)
class LoadedScenario:
    """A scenario and the folder its paths are relative to."""

    scenario: Scenario
    folder: Path

    def read(self, path: Path) -> bytes:
        """A file that the scenario names."""
        return (self.folder / path).read_bytes()


def load_scenario(path: Path) -> LoadedScenario:
    """Reads a scenario; raises ``Refused`` with the place of a mistake."""
    try:
        document: dict[str, Any] = tomllib.loads(path.read_text())
        return LoadedScenario(Scenario.model_validate(document), path.parent)
    except OSError as error:
        raise Refused("no-file", f"the scenario {path} cannot be read ({error.strerror}).") from None
    except tomllib.TOMLDecodeError as error:
        raise Refused("bad-scenario", f"{path} is not TOML: {error}.") from None
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"])
        raise Refused("bad-scenario", f"{path}: {place}: {first['msg']}.") from None
