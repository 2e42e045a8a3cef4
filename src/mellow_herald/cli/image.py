"""Firmware files."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from mellow_herald.cli import choices
from mellow_herald.cli.output import AsJson, console, note, print_json

if TYPE_CHECKING:
    from mellow_herald.client.looking import Looked

app = typer.Typer(name="image", help="Firmware files on this machine.", no_args_is_help=True)


@app.callback()
def images() -> None:
    """Firmware files on this machine."""


@app.command("look")
def look(
    file: Annotated[Path, typer.Argument(help="A firmware file of any format, or a release file.")],
    board_file: choices.BoardFile = None,
    line: choices.Line = None,
    board: choices.Board = None,
    component: choices.Component = None,
    version: choices.Version = None,
    floor: choices.Floor = None,
    lower_version: choices.LowerVersion = False,
    cut_off_for_good: choices.CutOff = False,
    as_is: choices.AsIs = False,
    as_json: AsJson = False,
) -> None:
    """Show what is in a firmware file, and what publishing would say about it. Exit code 1 if it would refuse."""
    from mellow_herald.cli.checks import print_checks

    allowed = choices.allow(lower_version, cut_off_for_good, as_is)
    values = choices.stated(line=line, board=board, component=component, version=version, floor=floor)
    looked, unasked = _look(file, board_file, allowed, values)
    bad = looked.refusal is not None or any(check.verdict == "refuse" for check in looked.checks)
    if as_json:
        print_json(_as_json(looked))
        raise typer.Exit(int(bad))
    _print(looked)
    if looked.refusal is not None:
        from rich.text import Text

        console().print(Text.assemble(("  ■ refuse ", "herald.rose"), str(looked.refusal)), soft_wrap=True)
    print_checks(looked.checks)
    if unasked and looked.image is not None:
        note(f"Publishing was not asked: {unasked}")
    raise typer.Exit(int(bad))


def _look(file: Path, board_file: Path | None, allowed: Any, values: dict[str, Any]) -> "tuple[Looked, str]":
    """The look, and why the service was not asked, if it was not."""
    from dataclasses import replace
    from datetime import UTC, datetime

    from mellow_herald.client.documents import read_document
    from mellow_herald.client.errors import HeraldError
    from mellow_herald.client.looking import look as look_at
    from mellow_herald.client.sealing import facts_of
    from mellow_herald.core.checks import Reading, check_release
    from mellow_herald.core.seal import describe
    from mellow_herald.wire.board import BoardIn

    looked = look_at(file, **values)
    if looked.image is None:
        return looked, ""
    if board_file is None:
        from mellow_herald.cli.connection import connect

        try:
            with connect() as herald:
                return herald.releases.look(file, allowed=allowed, **values), ""
        except HeraldError as error:
            return looked, f"{error} Or pass --board-file."
    facts = facts_of(read_document(board_file, BoardIn))
    image = looked.image
    own = image.nameplate.version
    manifest = describe([image], facts.vendor_domain, version=own, without_updater=True)
    readings = {image.digest: Reading(image.nameplate if image.read else None, image.scanned.appearance)}
    known = facts if facts.name == manifest.board else None
    checks = check_release(manifest, known, None, datetime.now(UTC), allowed, readings)
    return replace(looked, checks=checks), ""


def _rows(looked: "Looked") -> list[tuple[str, str]]:
    from datetime import UTC, datetime

    from mellow_herald.cli.looks import amount

    if looked.release_file is not None:
        manifest = looked.release_file.manifest
        places = {c: "" if c.slot is None else f" for slot {c.slot}" for c in manifest.components}
        parts = ", ".join(f"{c.name} {c.version}{places[c]}" for c in manifest.components)
        return [
            ("kind", "release file, sealed"), ("release", manifest.name), ("floor", str(manifest.floor)),
            ("carries", parts), ("size", f"{looked.file_size} bytes ({amount(looked.file_size)})"),
        ]  # fmt: skip
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


def _print(looked: "Looked") -> None:
    from rich.text import Text

    screen = console()
    screen.print(Text(str(looked.path), "bold"))
    for name, value in _rows(looked):
        screen.print(Text.assemble((f"  {name:<10} ", "dim"), value), soft_wrap=True)


def _as_json(looked: "Looked") -> dict[str, Any]:
    from dataclasses import asdict

    scanned = looked.opened.scanned if looked.opened else None
    plate = scanned.plate if scanned else None
    return {
        "file": str(looked.path), "file_size": looked.file_size,
        "format": looked.opened.format.value if looked.opened else ("release file" if looked.release_file else None),
        "release": looked.release_file.manifest.name if looked.release_file else None,
        "size": scanned.size if scanned else None, "digest": scanned.digest if scanned else None,
        "base": looked.opened.base if looked.opened else None, "blank": scanned.blank if scanned else None,
        "seems": scanned.appearance.kind.value if scanned and scanned.appearance else None,
        "nameplate": {**asdict(plate), "needs": dict(plate.needs)} if plate else None,
        "refusal": str(looked.refusal) if looked.refusal else None,
        "checks": [{"name": c.name, "verdict": c.verdict, "detail": c.detail, "mend": c.mend} for c in looked.checks],
    }  # fmt: skip
