"""Lists of devices that somebody wrote down: kept as they were, and looked at line by line."""

import hashlib
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence

from mellow_herald.core.serials import ListedSerial, read_serials
from mellow_herald.service.context import Context
from mellow_herald.service.problems import ProblemError
from mellow_herald.store import lists
from mellow_herald.store.lists import NamedDevice
from mellow_herald.store.rows import StoredList
from mellow_herald.wire.inventory import Refusal
from mellow_herald.wire.lists import ListDetail, ListOut

MOST_REMARKS = 1000


async def add(context: Context, text: str, board: str | None, line: str | None, by: str) -> ListOut:
    """Keeps a list; says of each line that a rollout (for ``board`` and ``line``, if they are known) would not
    serve."""
    entries = read_serials(text)
    serials = list(dict.fromkeys(entry.serial for entry in entries))
    digest = hashlib.sha256("\n".join(serials).encode()).hexdigest()
    async with context.engine.begin() as connection:
        list_id = await lists.add_list(connection, digest, serials, context.clock.now(), by)
        row = await lists.find_list(connection, list_id)
        known = await lists.named_devices(connection, list_id)
    assert row is not None
    remarks = list(_remarks(entries, known, board, line))
    return _shown(row, remarks)


async def show(context: Context, list_id: int) -> ListDetail:
    """A list with its serials."""
    async with context.engine.connect() as connection:
        row = await lists.find_list(connection, list_id)
        if row is None:
            raise ProblemError(404, "not-found", f"There is no list {list_id}. Lists are made by a plan's target_file.")
        serials = await lists.serials_of(connection, list_id)
    return ListDetail(**_shown(row, []).model_dump(), serials=serials)


def _shown(row: StoredList, remarks: Sequence[Refusal]) -> ListOut:
    return ListOut(
        id=row["id"],
        target=f"in_list = {row['id']}",
        devices=row["devices"],
        added_at=row["added_at"],
        added_by=row["added_by"],
        counts=dict(Counter(one.kind for one in remarks)),
        remarks=list(remarks[:MOST_REMARKS]),
    )


def _remarks(
    entries: Iterable[ListedSerial], known: Mapping[str, NamedDevice], board: str | None, line: str | None
) -> Iterator[Refusal]:
    for entry in entries:
        device = known.get(entry.serial)
        if entry.first_at is not None:
            yield _remark(entry, "doubled", f"named on line {entry.first_at} already")
        elif device is None:
            yield _remark(entry, "unknown", "no device of this serial has ever enrolled or was imported")
        elif device["admission"] != "admitted":
            yield _remark(entry, "not-admitted", f"it is {device['admission']}")
        elif board is not None and device["board"] != board:
            yield _remark(entry, "wrong-board", f"it is a {device['board']}, the release is for {board}")
        elif line is not None and device["line"] != line:
            yield _remark(entry, "wrong-line", f"its line is {device['line']}, the release is for {line}")


def _remark(entry: ListedSerial, kind: str, detail: str) -> Refusal:
    return Refusal(line_number=entry.line_number, serial=entry.serial, kind=kind, detail=detail)
