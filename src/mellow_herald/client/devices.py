"""Devices, by the synchronous client."""

import builtins
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal

from mellow_herald.client import fleet_calls as calls
from mellow_herald.client import rollout_calls
from mellow_herald.client.paging import every
from mellow_herald.core.inventory import Format
from mellow_herald.wire.baseline import BaselineOut, BaselinePreview, BaselineSwitch
from mellow_herald.wire.fleet import AdmissionIn, DeviceDetail, DeviceEdit, DeviceOut, InstallIn, LogLineOut, PinIn
from mellow_herald.wire.inventory import FactName, FactValue, ImportReport, Visit
from mellow_herald.wire.model import Page
from mellow_herald.wire.rollback import SwapIn
from mellow_herald.wire.rollout import RolloutOut

if TYPE_CHECKING:
    from mellow_herald.client.synchronous import Herald

Admission = Literal["admitted", "refused", "retired"]
Serials = list[str]
IMPORT_TIMEOUT_S = 600.0


class Devices:
    """Devices."""

    def __init__(self, herald: "Herald") -> None:
        self._herald = herald

    def list(self, *, where: str | None = None, limit: int = 100, after: str | None = None) -> Page[DeviceOut]:
        """A page of the devices that a selector picks."""
        return self._herald.send(calls.list_devices(where, limit, after))

    def each(self, *, where: str | None = None) -> Iterator[DeviceOut]:
        """All devices that a selector picks, page after page."""
        return every(lambda after: self.list(where=where, limit=1000, after=after))

    def decide(self, to: Admission, serials: Sequence[str] = (), *, where: str | None = None, reason: str) -> Serials:
        """Admits, refuses or retires devices (``to``), named or picked by a selector; returns those it concerned."""
        said = AdmissionIn(to=to, serials=[*serials], where=where, reason=reason)
        return (self._herald.send(calls.decide_admission(said))).serials

    def pin(
        self, serials: Sequence[str] = (), *, where: str | None = None, valid_for: str | None, reason: str
    ) -> Serials:
        """Keeps devices on what they run for so long (``30d``), or lets them go (None); returns those it concerned."""
        said = PinIn(serials=[*serials], where=where, valid_for=valid_for, reason=reason)
        return (self._herald.send(calls.pin_devices(said))).serials

    def edit(
        self,
        serial: str,
        labels: Mapping[str, str | None] | None = None,
        note: str | None = None,
        gateway: str | None = None,
    ) -> DeviceDetail:
        """Changes labels (None takes one off, others stay), the note, and the gateway before it (empty: none)."""
        given: dict[str, Any] = {"labels": dict(labels or {}), "note": note, "gateway": gateway}
        said = DeviceEdit(**{name: value for name, value in given.items() if value is not None})
        return self._herald.send(calls.edit_device(serial, said))

    def allow_enrolment(self, serial: str, reason: str) -> DeviceDetail:
        """Lets a device that lost its token enrol once more."""
        return self._herald.send(calls.allow_enrolment(serial, reason))

    def settle(self, serial: str, reason: str) -> DeviceDetail:
        """Takes the marks off a device that was rescued, or whose token two units used."""
        return self._herald.send(calls.settle_device(serial, reason))

    def show(self, serial: str) -> DeviceDetail:
        """One device with its timeline."""
        return self._herald.send(calls.show_device(serial))

    def install(
        self,
        serial: str,
        release: str,
        *,
        again: bool = False,
        older: bool = False,
        over_unknown_build: bool = False,
        reason: str = "tried on one device",
    ) -> RolloutOut:
        """Brings a release (``board/line/version``) to one device at once: a rollout of one."""
        said = InstallIn(
            release=release, again=again, older=older, over_unknown_build=over_unknown_build, reason=reason
        )
        return self._herald.send(calls.install_on_device(serial, said))

    def swap(self, serial: str, reason: str) -> RolloutOut:
        """Lets a device switch to what stands in its other slot, back or forth: a rollout of one, no download."""
        return self._herald.send(rollout_calls.swap_slots(serial, SwapIn(reason=reason)))

    def ask_for_log(self, serial: str, valid_for: str | None = "30m") -> DeviceDetail:
        """Asks a device for its log lines for so long, or (None) no longer."""
        return self._herald.send(calls.ask_for_log(serial, valid_for))

    def log(self, serial: str, *, after: int = 0, limit: int = 200) -> builtins.list[LogLineOut]:
        """The last lines of a device's log after line ``after``, oldest first."""
        return self._herald.send(calls.show_log(serial, after, limit))

    def import_from(
        self, portions: Iterable[bytes], written: Format = Format.CSV, *, check: bool = False
    ) -> ImportReport:
        """Imports devices from CSV or JSON Lines, streamed; with ``check`` only says what would be done."""
        return self._herald.upload(calls.import_devices(written, check), iter(portions), timeout_s=IMPORT_TIMEOUT_S)

    def export(self, *, where: str | None = None, written: Format = Format.CSV) -> Iterator[bytes]:
        """The devices that a selector picks as CSV or JSON Lines, piece by piece."""
        return self._herald.download(calls.export_devices(written, where))

    def visits(self, *, where: str | None = None) -> builtins.list[Visit]:
        """Devices that somebody must go to, by site."""
        return self._herald.send(calls.list_visits(where))

    def visit_list(self, *, where: str | None = None) -> str:
        """The same as CSV, to take along."""
        return self._herald.send(calls.visit_list(where))

    def facts(self) -> builtins.list[FactName]:
        """The names that a selector may speak of."""
        return self._herald.send(calls.list_facts())

    def values(self, name: str) -> builtins.list[FactValue]:
        """The values that a fact or label has, most frequent first."""
        return self._herald.send(calls.list_values(name))


class Baselines:
    """What newly admitted or returning devices should run."""

    def __init__(self, herald: "Herald") -> None:
        self._herald = herald

    def list(self) -> list[BaselineOut]:
        """All baselines."""
        return self._herald.send(calls.list_baselines())

    def preview(self, board: str, line: str) -> BaselinePreview:
        """What a baseline would do now if it brought devices."""
        return self._herald.send(calls.preview_baseline(board, line))

    def switch(self, board: str, line: str, *, brings: bool, reason: str) -> BaselinePreview:
        """Lets a baseline bring devices that arrive, or no longer."""
        said = BaselineSwitch(brings=brings, reason=reason)
        return self._herald.send(calls.switch_baseline(board, line, said))
