"""Firmware files."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from mellow_herald.cli import choices
from mellow_herald.cli.output import AsJson, console, note, print_json

if TYPE_CHECKING:
    from mellow_herald.client.looking import Looked, LookedFile

app = typer.Typer(name="image", help="Firmware files on this machine.", no_args_is_help=True)


@app.callback()
def images() -> None:
    """Firmware files on this machine."""


@app.command("look")
def look(
    files: Annotated[
        list[Path],
        typer.Argument(
            metavar="FILE",
            help="A firmware file of any format, or a release file; all images of a release; or its sheet.",
        ),
    ],
    board_file: choices.BoardFile = None,
    line: choices.Line = None,
    board: choices.Board = None,
    component: choices.Component = None,
    version: choices.Version = None,
    floor: choices.Floor = None,
    lower_version: choices.LowerVersion = False,
    cut_off_for_good: choices.CutOff = False,
    as_is: choices.AsIs = False,
    keeps_secret: choices.KeepsSecret = "",
    as_json: AsJson = False,
) -> None:
    """Show what is in firmware files, and what publishing would say about them. Exit code 1 if it would refuse."""
    from mellow_herald.cli.checks import print_checks

    allowed = choices.allow(lower_version, cut_off_for_good, as_is, keeps_secret)
    values = choices.stated(line=line, board=board, component=component, version=version, floor=floor)
    looked, unasked = _look(files, board_file, allowed, values)
    bad = looked.refusal is not None or any(check.verdict == "refuse" for check in looked.checks)
    if as_json:
        print_json(_as_json(looked))
        raise typer.Exit(int(bad))
    for one in looked.files:
        _print(one, looked)
    alone = {id(one.refusal) for one in looked.files}
    if looked.refusal is not None and id(looked.refusal) not in alone:
        _print_refusal(looked.refusal)
    print_checks(looked.checks)
    if unasked and all(one.image is not None for one in looked.files):
        note(f"Publishing was not asked: {unasked}")
    raise typer.Exit(int(bad))


def _look(files: list[Path], board_file: Path | None, allowed: Any, values: dict[str, Any]) -> "tuple[Looked, str]":
    """The look, and why the service was not asked, if it was not."""
    from mellow_herald.client.documents import read_document
    from mellow_herald.client.errors import HeraldError
    from mellow_herald.client.looking import look as look_here
    from mellow_herald.wire.board import BoardIn

    if board_file is not None:
        return look_here(files, [read_document(board_file, BoardIn)], **values).checked_here(allowed), ""
    looked = look_here(files, **values)
    if any(one.image is None for one in looked.files):
        return looked, ""
    from mellow_herald.cli.connection import connect

    try:
        with connect() as herald:
            return herald.releases.look(files, allowed=allowed, **values), ""
    except HeraldError as error:
        return looked, f"{error} Or pass --board-file."


def _rows(looked: "LookedFile") -> list[tuple[str, str]]:
    from datetime import UTC, datetime

    from mellow_herald.cli.looks import amount
    from mellow_herald.core.board import image_words

    if looked.release_file is not None:
        manifest = looked.release_file.manifest
        parts = ", ".join(f"{image_words(c.name, c.slot, None)} {c.version}" for c in manifest.components)
        return [
            ("kind", "release file, sealed"),
            ("release", manifest.name),
            ("floor", str(manifest.floor)),
            ("carries", parts),
            ("size", f"{looked.file_size} bytes ({amount(looked.file_size)})"),
        ]
    opened = looked.opened
    if opened is None:
        return [("size", f"{looked.file_size} bytes ({amount(looked.file_size)})")]
    scanned = opened.scanned
    rows = [("format", opened.format.value), ("size", f"{scanned.size} bytes ({amount(scanned.size)})")]
    if opened.base is not None:
        filled = f", {opened.filled} bytes of gaps filled" if opened.filled else ""
        rows.append(("addresses", f"{opened.base:#x} to {opened.base + scanned.size:#x}{filled}"))
    else:
        rows.append(("addresses", "a raw binary says none"))
    rows += [("SHA-256", scanned.digest), ("blank", f"{100 * scanned.blank:.1f} %")]
    rows.append(("seems", scanned.appearance.words if scanned.appearance else "firmware"))
    for leak in scanned.leaks:
        rows.append(("holds", leak.description))
    if scanned.plate is None:
        rows.append(("nameplate", "none found" if scanned.fault is None else "damaged or contradictory"))
        return rows
    plate = scanned.plate
    rows.append(("nameplate", f"at offset {scanned.plate_at} of the image"))
    updater = f"updater {plate.updater}" if plate.updater else "no updater"
    rows += [
        ("  for", f"{plate.line} on {plate.board}, hardware revisions {plate.hw_rev_min}–{plate.hw_rev_max}"),
        ("  is", f"{plate.component} {plate.version}, floor number {plate.floor}, {updater}"),
    ]
    if plate.build_id or plate.build_time:
        try:
            built = f"{datetime.fromtimestamp(plate.build_time, UTC):%Y-%m-%d %H:%M} UTC" if plate.build_time else ""
        except (ValueError, OverflowError, OSError):
            built = f"second {plate.build_time}"
        rows.append(("  built", " ".join(filter(None, [plate.build_id, built]))))
    if plate.needs:
        rows.append(("  needs", ", ".join(f"{name} {least} or later" for name, least in plate.needs)))
    return rows


def _print(file: "LookedFile", looked: "Looked") -> None:
    from rich.text import Text

    screen = console()
    screen.print(Text(str(file.path), "bold"))
    rows = _rows(file)
    slot = next((i.slot for i in looked.images if file.image is not None and i.digest == file.image.digest), None)
    if slot is not None and looked.board is not None and file.image is not None:
        rows.append(("for slot", looked.board.slots_of(file.image.nameplate.component)[slot].name))
    for name, value in rows:
        screen.print(Text.assemble((f"  {name:<10} ", "dim"), value), soft_wrap=True)
    if file.refusal is not None:
        _print_refusal(file.refusal)


def _print_refusal(refusal: Any) -> None:
    from rich.text import Text

    console().print(Text.assemble(("  ■ refuse ", "herald.rose"), str(refusal)), soft_wrap=True)


def _as_json(looked: "Looked") -> dict[str, Any]:
    return {
        "files": [_file_as_json(one) for one in looked.files],
        "release": looked.manifest.name if looked.manifest else None,
        "refusal": str(looked.refusal) if looked.refusal else None,
        "checks": [{"name": c.name, "verdict": c.verdict, "detail": c.detail, "mend": c.mend} for c in looked.checks],
    }


def _file_as_json(file: "LookedFile") -> dict[str, Any]:
    from dataclasses import asdict

    scanned = file.opened.scanned if file.opened else None
    plate = scanned.plate if scanned else None
    return {
        "file": str(file.path),
        "file_size": file.file_size,
        "format": file.opened.format.value if file.opened else ("release file" if file.release_file else None),
        "release": file.release_file.manifest.name if file.release_file else None,
        "size": scanned.size if scanned else None,
        "digest": scanned.digest if scanned else None,
        "base": file.opened.base if file.opened else None,
        "blank": scanned.blank if scanned else None,
        "seems": scanned.appearance.kind.value if scanned and scanned.appearance else None,
        "nameplate": {**asdict(plate), "needs": dict(plate.needs)} if plate else None,
        "secrets": [{"kind": leak.kind, "offset": leak.offset} for leak in scanned.leaks] if scanned else [],
        "refusal": str(file.refusal) if file.refusal else None,
    }
