"""Importing and exporting devices: streamed both ways, with a word about every line that was refused."""

import codecs
import json
from collections.abc import AsyncIterator
from typing import Any

from mellow_herald.core.inventory import Entry, Format, Mistake, Reader, differences, header, write_csv
from mellow_herald.core.selector import Node
from mellow_herald.service.context import Context
from mellow_herald.service.fleet.devices import as_shown
from mellow_herald.store import boards, inventory
from mellow_herald.store.feed import FeedEvent, JournalEntry, publish, write_journal
from mellow_herald.wire.inventory import Change, FieldChange, ImportReport, Refusal

BATCH = 2000
MOST_REFUSALS = 1000


async def import_devices(
    context: Context, body: AsyncIterator[bytes], format_: Format, by: str, *, check: bool
) -> ImportReport:
    """Reads devices line by line. New ones are admitted and may enrol with a code of their board and line; known ones
    get labels, note and gateway. With ``check`` nothing is written."""
    importing = _Importing(context, check)
    await importing.start()
    reader = Reader(format_)
    # Characters may lie across the borders of pieces.
    decoder = codecs.getincrementaldecoder("utf-8")("replace")
    async for piece in body:
        for found in reader.feed(decoder.decode(piece)):
            await importing.take(found)
    for found in reader.end():
        await importing.take(found)
    await importing.flush()
    report = importing.report
    if not check and report.added + report.changed:
        now = context.clock.now()
        async with context.engine.begin() as connection:
            counts = report.model_dump(include={"added", "changed", "unchanged", "refused"})
            why = f"{report.added} new, {report.changed} changed, {report.refused} lines refused"
            await write_journal(connection, JournalEntry(now, by, "devices imported", "devices", why, counts))
            await publish(connection, [FeedEvent(now, "device", data={"imported": report.added + report.changed})])
        context.memory.epoch += 1
    return report


class _Importing:
    """Gathers entries into batches, each a transaction of its own."""

    def __init__(self, context: Context, check: bool) -> None:
        self._context, self._check = context, check
        self._batch: dict[str, Entry] = {}
        self._boards: dict[str, Any] = {}
        self.report = ImportReport(added=0, changed=0, unchanged=0, refused=0, refusals=[])

    async def start(self) -> None:
        async with self._context.engine.connect() as connection:
            self._boards = {row["name"]: row for row in await boards.list_boards(connection)}

    async def take(self, found: Entry | Mistake) -> None:
        mistake = found if isinstance(found, Mistake) else self._misfit(found)
        if mistake is not None:
            self._refuse(mistake)
            return
        assert isinstance(found, Entry)
        self._batch[found.serial] = found
        if len(self._batch) >= BATCH:
            await self.flush()

    def _misfit(self, entry: Entry) -> Mistake | None:
        board = self._boards.get(entry.board)
        if entry.serial in self._batch:
            first = self._batch[entry.serial].line_number
            return self._mistake(entry, "twice", f"{entry.serial} stands in line {first} already")
        if board is None:
            return self._mistake(entry, "unknown-board", f"there is no board {entry.board}")
        if entry.line not in board["lines"]:
            return self._mistake(entry, "unknown-line", f"{entry.board} serves {', '.join(board['lines'])}")
        if entry.hw_rev not in board["hw_revs"]:
            return self._mistake(entry, "unknown-revision", f"{entry.board} has no hardware revision {entry.hw_rev}")
        return None

    @staticmethod
    def _mistake(entry: Entry, kind: str, detail: str) -> Mistake:
        return Mistake(entry.line_number, entry.serial, kind, detail)

    def _refuse(self, mistake: Mistake) -> None:
        self.report.refused += 1
        if len(self.report.refusals) < MOST_REFUSALS:
            self.report.refusals.append(
                Refusal(
                    line_number=mistake.line_number, serial=mistake.serial, kind=mistake.kind, detail=mistake.detail
                )
            )

    def _tell(self, change: Change) -> None:
        if self._check and len(self.report.changes) < MOST_REFUSALS:
            self.report.changes.append(change)

    async def flush(self) -> None:
        batch, self._batch = self._batch, {}
        if not batch:
            return
        now = self._context.clock.now()
        async with self._context.engine.begin() as connection:
            known = await inventory.lock_existing(connection, list(batch))
            new = [entry for serial, entry in batch.items() if serial not in known]
            changes = []
            for serial, row in known.items():
                entry = batch[serial]
                if (entry.board, entry.line, entry.hw_rev) != (row["board"], row["line"], row["hw_rev"]):
                    is_one = f"{serial} is a {row['board']}/{row['line']} of revision {row['hw_rev']}"
                    self._refuse(self._mistake(entry, "another-device", is_one))
                    continue
                change = {
                    "serial": serial,
                    "labels": {**row["labels"], **entry.labels},
                    "note": row["note"] if entry.note is None else entry.note,
                    "gateway": row["gateway"] if entry.gateway is None else entry.gateway,
                }
                if all({**row}[name] == value for name, value in change.items()):
                    self.report.unchanged += 1
                else:
                    changes.append(change)
                    fields = differences({**row}, change).items()
                    told = {name: FieldChange(before=was, after=now_is) for name, (was, now_is) in fields}
                    self._tell(Change(serial=serial, fields=told))
            self.report.changed += len(changes)
            if self._check:
                self.report.added += len(new)
                self.report.new += [one.serial for one in new[: MOST_REFUSALS - len(self.report.new)]]
                return
            self.report.added += await inventory.add_devices(connection, new, now)
            await inventory.change_devices(connection, changes, now)


async def export_devices(context: Context, where: Node | None, format_: Format) -> AsyncIterator[str]:
    """All devices of a selector as lines of text; what is exported can be imported."""
    now = context.clock.now()
    async with context.engine.connect() as connection:
        keys = await inventory.label_keys(connection, where, now)
        columns = header(keys)
        if format_ is Format.CSV:
            yield write_csv([columns])
        async for rows in inventory.each_device(connection, where, now):
            shown = [_plain(as_shown(row, now)) for row in rows]
            if format_ is Format.CSV:
                yield write_csv([[_cell(one, name) for name in columns] for one in shown])
            else:
                yield "".join(json.dumps(_line(one), ensure_ascii=False) + "\n" for one in shown)


def _plain(facts: dict[str, Any]) -> dict[str, Any]:
    times = {name: facts[name].isoformat() for name in ("seen_at", "pinned_until") if facts[name]}
    return {**facts, **times, "presence": facts["presence"].value}


def _cell(facts: dict[str, Any], column: str) -> Any:
    value = facts["labels"].get(column[6:]) if column.startswith("label.") else facts[column]
    return "" if value is None else value


def _line(facts: dict[str, Any]) -> dict[str, Any]:
    own = {name: facts[name] for name in header([]) if facts[name] is not None}
    return {**own, "labels": facts["labels"]}
