"""The calls about devices: the fleet, its inventory, and its baselines."""

from mellow_herald.client.calls import API, Call, get, post, reader, wishes
from mellow_herald.core.inventory import Format
from mellow_herald.core.verdict import Allowed
from mellow_herald.wire.baseline import BaselineOut, BaselinePreview, BaselineSwitch
from mellow_herald.wire.fleet import (
    AdmissionIn,
    AdmissionOut,
    DeviceDetail,
    DeviceEdit,
    DeviceOut,
    DeviceReleases,
    InstallIn,
    LabelsIn,
    LogAsk,
    LogLineOut,
    PinIn,
)
from mellow_herald.wire.inventory import FactName, FactValue, ImportReport, Visit
from mellow_herald.wire.lists import ListDetail, ListOut
from mellow_herald.wire.model import Page
from mellow_herald.wire.release import ENVELOPE_MEDIA_TYPE
from mellow_herald.wire.rollout import ReasonIn, RolloutOut
from mellow_herald.wire.topology import AlarmOut, TopologyOut

MEDIA = {Format.CSV: "text/csv", Format.JSONL: "application/jsonl"}


def pin_devices(request: PinIn) -> Call[AdmissionOut]:
    """Pins devices, or lets them go."""
    return post("pinning devices", f"{API}/pins", AdmissionOut, request, repeatable=True)


def label_devices(request: LabelsIn) -> Call[AdmissionOut]:
    """Labels devices, or marks them as bench devices."""
    return post("labelling devices", f"{API}/labels", AdmissionOut, request, repeatable=True)


def edit_device(serial: str, request: DeviceEdit) -> Call[DeviceDetail]:
    """Changes labels and note."""
    headers, body = {"content-type": "application/json"}, request.model_dump_json(exclude_unset=True).encode()
    path = f"{API}/devices/{serial}"
    return Call(f"changing device {serial}", "PATCH", path, reader(DeviceDetail), {}, body, headers, repeatable=True)


def allow_enrolment(serial: str, reason: str) -> Call[DeviceDetail]:
    """Lets a device enrol once more."""
    path = f"{API}/devices/{serial}/allow_enrolment"
    return post(f"allowing {serial} to enrol again", path, DeviceDetail, ReasonIn(reason=reason), repeatable=True)


def list_devices(
    where: str | None, limit: int, after: str | None, order: str | None, exact: bool | None
) -> Call[Page[DeviceOut]]:
    """A page of devices."""
    asked = {"where": where, "limit": limit, "after": after, "order": order, "exact": "true" if exact else None}
    return get("listing devices", f"{API}/devices", Page[DeviceOut], **asked)


def show_topology(behind: str | None, limit: int) -> Call[TopologyOut]:
    """Gateways and the devices behind them."""
    return get("reading the tree of gateways", f"{API}/topology", TopologyOut, behind=behind, limit=limit)


def list_alarms(serial: str | None, rollout_id: int | None, explained: bool | None, limit: int) -> Call[list[AlarmOut]]:
    """Alarms, newest first."""
    told = None if explained is None else str(explained).lower()
    return get(
        "listing alarms",
        f"{API}/alarms",
        list[AlarmOut],
        serial=serial,
        rollout=rollout_id,
        explained=told,
        limit=limit,
    )


def show_device(serial: str) -> Call[DeviceDetail]:
    """One device."""
    return get(f"reading device {serial}", f"{API}/devices/{serial}", DeviceDetail)


def releases_for_device(serial: str) -> Call[DeviceReleases]:
    """Releases that a device could take."""
    return get(f"reading the releases for {serial}", f"{API}/devices/{serial}/releases", DeviceReleases)


def decide_admission(request: AdmissionIn) -> Call[AdmissionOut]:
    """Admits, refuses or retires devices."""
    return post("deciding who is admitted", f"{API}/admissions", AdmissionOut, request, repeatable=True)


def settle_device(serial: str, reason: str) -> Call[DeviceDetail]:
    """Takes marks off a device."""
    path = f"{API}/devices/{serial}/settle"
    return post(f"settling {serial}", path, DeviceDetail, ReasonIn(reason=reason), repeatable=True)


def install_on_device(serial: str, request: InstallIn) -> Call[RolloutOut]:
    """Brings a release to one device."""
    return post(f"installing {request.release} on {serial}", f"{API}/devices/{serial}/install", RolloutOut, request)


def install_build(
    serial: str, name: str, length: int, *, allowed: Allowed, again: bool, reason: str
) -> Call[RolloutOut]:
    """Brings a sealed build of ``length`` bytes to a bench device; the body is given when the call is sent."""
    headers = {"content-type": ENVELOPE_MEDIA_TYPE, "content-length": str(length)}
    params = wishes(allowed, again="true" if again else "", reason=reason)
    path = f"{API}/devices/{serial}/bench_install"
    return Call(f"installing {name} on {serial}", "POST", path, reader(RolloutOut), params=params, headers=headers)


def ask_for_log(serial: str, valid_for: str | None) -> Call[DeviceDetail]:
    """Asks for log lines."""
    path = f"{API}/devices/{serial}/log"
    return post(f"asking {serial} for its log", path, DeviceDetail, LogAsk(valid_for=valid_for), repeatable=True)


def show_log(serial: str, after: int, limit: int) -> Call[list[LogLineOut]]:
    """Log lines."""
    path = f"{API}/devices/{serial}/log"
    return get(f"reading the log of {serial}", path, list[LogLineOut], after=after, limit=limit)


def import_devices(written: Format, check: bool) -> Call[ImportReport]:
    """Imports devices; the body is streamed."""
    params = {"format": written.value, "check": check}
    headers = {"content-type": MEDIA[written]}
    return Call("importing devices", "POST", f"{API}/inventory", reader(ImportReport), params, None, headers)


def export_devices(written: Format, where: str | None) -> Call[bytes]:
    """Exports devices; the answer is streamed."""
    params = {"format": written.value} | ({} if where is None else {"where": where})
    return Call("exporting devices", "GET", f"{API}/inventory", bytes, params, repeatable=True)


def list_visits(where: str | None, limit: int) -> Call[list[Visit]]:
    """Devices that somebody must go to."""
    return get("listing visits", f"{API}/visits", list[Visit], where=where, limit=limit)


def visit_list(where: str | None) -> Call[str]:
    """The same as CSV."""
    params = {} if where is None else {"where": where}
    return Call("listing visits", "GET", f"{API}/visits.csv", bytes.decode, params, repeatable=True)


def add_list(length: int, board: str | None, line: str | None) -> Call[ListOut]:
    """Keeps a list of devices of ``length`` bytes; the body is given when the call is sent."""
    params = {name: value for name, value in (("board", board), ("line", line)) if value}
    headers = {"content-type": "text/plain; charset=utf-8", "content-length": str(length)}
    return Call("keeping a list of devices", "POST", f"{API}/lists", reader(ListOut), params, None, headers)


def show_list(list_id: int) -> Call[ListDetail]:
    """One list."""
    return get(f"reading list {list_id}", f"{API}/lists/{list_id}", ListDetail)


def list_facts() -> Call[list[FactName]]:
    """Names a selector may speak of."""
    return get("listing facts", f"{API}/facts", list[FactName])


def list_values(name: str) -> Call[list[FactValue]]:
    """Values of a fact."""
    return get(f"listing values of {name}", f"{API}/facts/{name}", list[FactValue])


def list_baselines() -> Call[list[BaselineOut]]:
    """All baselines."""
    return get("listing baselines", f"{API}/baselines", list[BaselineOut])


def preview_baseline(board: str, line: str) -> Call[BaselinePreview]:
    """What a baseline would do."""
    return get(f"reading the baseline of {board}/{line}", f"{API}/baselines/{board}/{line}", BaselinePreview)


def switch_baseline(board: str, line: str, request: BaselineSwitch) -> Call[BaselinePreview]:
    """Lets a baseline bring devices, or no longer."""
    headers, body = {"content-type": "application/json"}, request.model_dump_json().encode()
    path = f"{API}/baselines/{board}/{line}"
    doing = f"switching the baseline of {board}/{line}"
    return Call(doing, "PATCH", path, reader(BaselinePreview), {}, body, headers, repeatable=True)
