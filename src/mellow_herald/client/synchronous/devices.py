# Written by `make client` from ../asynchronous; change it there.
"""Devices and baselines, by the synchronous client."""

import builtins
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal

from mellow_herald.client import fleet_calls as calls
from mellow_herald.client import rollout_calls
from mellow_herald.client.paging import every
from mellow_herald.client.release_bytes import Progress, ReleaseBytes, counted
from mellow_herald.core.inventory import Format
from mellow_herald.core.verdict import Allowed
from mellow_herald.wire.baseline import BaselineOut, BaselinePreview, BaselineSwitch
from mellow_herald.wire.fleet import (
    AdmissionIn,
    DeviceDetail,
    DeviceEdit,
    DeviceOut,
    DeviceReleases,
    InstallIn,
    LabelsIn,
    LogLineOut,
    PinIn,
)
from mellow_herald.wire.inventory import FactName, FactValue, ImportReport, Visit
from mellow_herald.wire.lists import ListDetail, ListOut
from mellow_herald.wire.model import Page
from mellow_herald.wire.rollback import SwapIn
from mellow_herald.wire.rollout import RolloutOut
from mellow_herald.wire.topology import AlarmOut, TopologyOut

if TYPE_CHECKING:
    from mellow_herald.client.synchronous.herald import Herald

Admission = Literal["admitted", "refused", "retired"]
Serials = list[str]
IMPORT_TIMEOUT_S = 600.0


class Devices:
    """Devices."""

    def __init__(self, herald: "Herald") -> None:
        self._herald = herald

    def list(
        self,
        *,
        where: str | None = None,
        limit: int = 100,
        after: str | None = None,
        order: str | None = None,
        exact: bool = False,
    ) -> Page[DeviceOut]:
        """A page of the devices that a selector picks, by serial or by another ``order``: ``hw_rev``, ``-seen`` (the
        other way round), ``label.site`` … In a very large fleet its ``total`` is ``about`` right, unless ``exact``."""
        return self._herald.send(calls.list_devices(where, limit, after, order, exact))

    def each(self, *, where: str | None = None) -> Iterator[DeviceOut]:
        """All devices that a selector picks, page after page."""
        return every(lambda after: self.list(where=where, limit=1000, after=after))

    def decide(self, to: Admission, serials: Sequence[str] = (), *, where: str | None = None, reason: str) -> Serials:
        """Admits, refuses or retires devices (``to``), named or picked by a selector; returns those it concerned."""
        request = AdmissionIn(to=to, serials=[*serials], where=where, reason=reason)
        return (self._herald.send(calls.decide_admission(request))).serials

    def pin(
        self, serials: Sequence[str] = (), *, where: str | None = None, valid_for: str | None, reason: str
    ) -> Serials:
        """Keeps devices on what they run for so long (``30d``), or lets them go (None); returns those it concerned."""
        request = PinIn(serials=[*serials], where=where, valid_for=valid_for, reason=reason)
        return (self._herald.send(calls.pin_devices(request))).serials

    def label(
        self,
        serials: Sequence[str] = (),
        labels: Mapping[str, str | None] | None = None,
        *,
        where: str | None = None,
        on_bench: bool | None = None,
        reason: str = "",
    ) -> Serials:
        """Puts labels on devices or (None) takes them off, and marks them as bench devices or no longer; returns those
        that were changed."""
        request = LabelsIn(labels=dict(labels or {}), on_bench=on_bench, where=where, serials=[*serials], reason=reason)
        return (self._herald.send(calls.label_devices(request))).serials

    def edit(
        self,
        serial: str,
        labels: Mapping[str, str | None] | None = None,
        note: str | None = None,
        gateway: str | None = None,
    ) -> DeviceDetail:
        """Changes labels (None takes one off, others stay), the note, and the gateway before it (empty: none)."""
        given: dict[str, Any] = {"labels": dict(labels or {}), "note": note, "gateway": gateway}
        request = DeviceEdit(**{name: value for name, value in given.items() if value is not None})
        return self._herald.send(calls.edit_device(serial, request))

    def allow_enrolment(self, serial: str, reason: str) -> DeviceDetail:
        """Lets a device that lost its token enrol once more."""
        return self._herald.send(calls.allow_enrolment(serial, reason))

    def settle(self, serial: str, reason: str) -> DeviceDetail:
        """Takes the marks off a device that was rescued, or whose token two units used."""
        return self._herald.send(calls.settle_device(serial, reason))

    def show(self, serial: str) -> DeviceDetail:
        """One device with its timeline."""
        return self._herald.send(calls.show_device(serial))

    def tree(self, behind: str | None = None, *, limit: int = 1000) -> TopologyOut:
        """Gateways and the devices behind them, or what is behind one."""
        return self._herald.send(calls.show_topology(behind, limit))

    def alarms(
        self,
        serial: str | None = None,
        *,
        rollout_id: int | None = None,
        explained: bool | None = None,
        limit: int = 100,
    ) -> builtins.list[AlarmOut]:
        """Alarms, newest first: those that a device raised or that are about it, or that a rollout explains."""
        return self._herald.send(calls.list_alarms(serial, rollout_id, explained, limit))

    def releases(self, serial: str) -> DeviceReleases:
        """Which releases of its board a device could take, or why not; and what it was brought so far."""
        return self._herald.send(calls.releases_for_device(serial))

    def install(
        self,
        serial: str,
        release: str,
        *,
        again: bool = False,
        older: bool = False,
        over_unknown_build: bool = False,
        over_bench_build: bool = False,
        reason: str = "tried on one device",
    ) -> RolloutOut:
        """Brings a release (``board/line/version``) to one device at once: a rollout of one."""
        request = InstallIn(
            release=release,
            again=again,
            older=older,
            over_unknown_build=over_unknown_build,
            over_bench_build=over_bench_build,
            reason=reason,
        )
        return self._herald.send(calls.install_on_device(serial, request))

    def install_build(
        self,
        serial: str,
        sealed: ReleaseBytes,
        *,
        again: bool = False,
        allowed: Allowed = Allowed(),
        reason: str = "tried on the bench",
        progress: Progress | None = None,
    ) -> RolloutOut:
        """Brings a build that was sealed here (``releases.seal``) to a bench device at once, as a scratch image: no
        release, no version used up. ``again``: although it runs these very bytes."""
        name, length = sealed.manifest.version, sealed.length
        call = calls.install_build(serial, name, length, allowed=allowed, again=again, reason=reason)
        return self._herald.upload(call, counted(sealed.portions(), progress))

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

    def visits(self, *, where: str | None = None, limit: int = 1000) -> builtins.list[Visit]:
        """Devices that somebody must go to, by site."""
        return self._herald.send(calls.list_visits(where, limit))

    def visit_list(self, *, where: str | None = None) -> str:
        """The same as CSV, to take along."""
        return self._herald.send(calls.visit_list(where))

    def keep_list(self, text: str, *, board: str | None = None, line: str | None = None) -> ListOut:
        """Keeps a list of devices, one serial a line; its ``target`` picks them in a plan. ``board`` and ``line`` are
        those of the release: what does not fit them is remarked on, as is what is unknown, doubled or not admitted."""
        body = text.encode()
        return self._herald.upload(calls.add_list(len(body), board, line), iter([body]))

    def kept_list(self, list_id: int) -> ListDetail:
        """A list with its serials."""
        return self._herald.send(calls.show_list(list_id))

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
        request = BaselineSwitch(brings=brings, reason=reason)
        return self._herald.send(calls.switch_baseline(board, line, request))
