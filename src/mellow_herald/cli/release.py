"""Releases."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from mellow_herald.cli import choices
from mellow_herald.cli.output import AsJson, Limit, Where, byte_progress, console, note, print_json, table

if TYPE_CHECKING:
    from mellow_herald.client import Herald
    from mellow_herald.client.sealing import SealedRelease
    from mellow_herald.core.board import BoardFacts
    from mellow_herald.wire.release import ReleaseOut

app = typer.Typer(name="release", help="Signed versions of a line for one board.", no_args_is_help=True)
Files = Annotated[
    list[Path] | None,
    typer.Argument(metavar="FILE", help="Firmware of any usual format, one of each component; or a release sheet."),
]
After = Annotated[
    list[str] | None, typer.Option("--after", help="Order: radio=app switches radio after app. May be repeated.")
]
OwnVersion = Annotated[
    str | None, typer.Option("--release-version", help="The release's own version, where it is not that of app.")
]
Independent = Annotated[
    bool, typer.Option("--independent", help="If one component fails, those already switched stay.")
]


@app.command("seal")
def seal(
    out: Annotated[Path, typer.Option("--out", "-o", help="The release file to write (.suit).")],
    files: Files = None,
    file: choices.File = None,
    settings: choices.Settings = None,
    certificate: choices.Certificate = None,
    base: choices.Base = None,
    restart: choices.RestartToo = False,
    key: choices.Key = None,
    board_file: choices.BoardFile = None,
    notes: choices.Notes = "",
    release_version: OwnVersion = None,
    after: After = None,
    independent: Independent = False,
    line: choices.Line = None,
    board: choices.Board = None,
    component: choices.Component = None,
    version: choices.Version = None,
    floor: choices.Floor = None,
    cut_off_for_good: choices.CutOff = False,
    as_is: choices.AsIs = False,
    keeps_secret: choices.KeepsSecret = "",
    as_json: AsJson = False,
) -> None:
    """Sign a release and write it to a file, to be published from here or from elsewhere."""
    from mellow_herald.cli.looks import amount

    placed = choices.placed_of(file, settings, certificate, base)
    choices.need_something(files, placed)
    options = _options(
        notes,
        release_version,
        after,
        independent,
        restart,
        placed,
        choices.allow(cut_off=cut_off_for_good, as_is=as_is, keeps_secret=keeps_secret),
        choices.stated(line=line, board=board, component=component, version=version, floor=floor),
    )
    sealed = _seal(files or [], key, board_file, options)
    with byte_progress("sealing", sealed.length, quiet=as_json) as progress:
        sealed.write(out, progress)
    manifest = sealed.manifest
    if as_json:
        print_json(
            {
                "file": str(out),
                "bytes": sealed.length,
                "release": manifest.name,
                "floor": manifest.floor,
                "images": {image.nameplate.component: image.digest for image in sealed.images},
                "checks": [{"name": c.name, "verdict": c.verdict, "detail": c.detail} for c in sealed.checks],
            }
        )
        return
    _print_warnings(sealed.checks)
    print(f"{manifest.name} sealed into {out}: {amount(sealed.length)}, floor number {manifest.floor}.")
    print(f"  herald release publish {out}")


@app.command("publish")
def publish(
    files: Annotated[
        list[str] | None,
        typer.Argument(metavar="FILE", help="A release file; or firmware to be sealed here; or the name of a draft."),
    ] = None,
    file: choices.File = None,
    settings: choices.Settings = None,
    certificate: choices.Certificate = None,
    base: choices.Base = None,
    restart: choices.RestartToo = False,
    key: choices.Key = None,
    draft: Annotated[bool, typer.Option("--draft", help="Check and keep it, but do not offer it yet.")] = False,
    label: choices.Label = None,
    notes: choices.Notes = "",
    release_version: OwnVersion = None,
    after: After = None,
    independent: Independent = False,
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
    """Publish a release file, or sign firmware here and publish it. A draft is published by its name."""
    from dataclasses import replace

    from mellow_herald.cli.connection import connect
    from mellow_herald.client.sealing import facts_of, is_release_file, open_release_file

    allowed = choices.allow(lower_version, cut_off_for_good, as_is, keeps_secret)
    files = files or []
    paths = [Path(one) for one in files]
    labels = choices.labels_of(label)
    placed = choices.placed_of(file, settings, certificate, base)
    choices.need_something(files, placed)
    with connect() as herald:
        if len(files) == 1 and not placed and not paths[0].exists() and _names_release(files[0]):
            found = herald.releases.find(files[0])
            release = herald.releases.publish_draft(found.id, allowed=allowed)
        else:
            sealed: Any
            if len(paths) == 1 and not placed and is_release_file(paths[0]):
                sealed = replace(open_release_file(paths[0]), labels=labels)
            else:
                values = choices.stated(line=line, board=board, component=component, version=version, floor=floor)
                options = _options(notes, release_version, after, independent, restart, placed, allowed, values)
                sealed = herald.releases.seal(paths, key=choices.open_key(key), labels=labels, **options)
            with byte_progress("publishing", sealed.length, quiet=as_json) as progress:
                release = herald.releases.upload(sealed, draft=draft, allowed=allowed, progress=progress)
        # The board's names for its slots are wanted where an image is for one of them alone.
        linked = any(one.slot is not None for one in release.components) and not as_json
        facts = facts_of(herald.boards.show(release.board)) if linked else None
    if as_json:
        print_json(release)
        return
    _print_published(release, facts)


def _names_release(text: str) -> bool:
    from mellow_herald.core.refusal import Refused
    from mellow_herald.core.release_name import parse_release_name

    try:
        parse_release_name(text)
    except Refused:
        return text.isdigit()
    return True


def _print_published(release: "ReleaseOut", board: "BoardFacts | None") -> None:
    from mellow_herald.cli.looks import amount
    from mellow_herald.core.board import image_words

    if release.already_there:
        what = "is there already, with the same bytes" + (", as a draft" if release.state == "draft" else "")
    else:
        what = "is kept as a draft" if release.state == "draft" else "published"
    sources = {one.read for one in release.components}
    source = (
        {True: "read from its nameplate", False: "as stated"}[sources.pop()]
        if len(sources) == 1
        else "partly as stated"
    )
    _print_warnings(release.checks if not release.already_there else [])
    print(f"{release.name} {what}: {amount(release.size)}, floor number {release.floor}, {source}.")
    width = max(8, *(len(image_words(one.name, one.slot, board)) for one in release.components))
    for one in release.components:
        print(f"  {image_words(one.name, one.slot, board):<{width}} {one.version:<10} {one.digest}")
    print(f"  {'manifest':<{width}} {'':<10} {release.manifest}, signed by {release.key}")
    if release.state == "draft":
        print(f"  herald release publish {release.name}")


def _print_warnings(checks: Any) -> None:
    from mellow_herald.cli.checks import print_checks

    print_checks(checks, quiet=True, error=True)


@app.command("list")
def list_releases(
    where: Where = None,
    by_version: Annotated[bool, typer.Option("--by-version", help="Each line's highest version first.")] = False,
    as_json: AsJson = False,
    limit: Limit = 50,
) -> None:
    """List releases, the newest upload first. --where takes board, line, version, state, floor, key, by and labels."""
    from rich.text import Text

    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.looks import amount

    with connect() as herald:
        page = herald.releases.list(where=where, limit=limit, by_version=by_version)
    if as_json:
        print_json(page.items)
        return
    rows = [
        [
            str(r.id),
            r.version,
            r.line,
            r.board,
            Text.assemble(_state(r), " baseline" if r.baseline else ""),
            amount(r.size),
            str(r.floor),
            str(r.running),
            str(r.on_the_way),
            f"{r.published_at:%Y-%m-%d %H:%M}" if r.published_at else "–",
            r.published_by or "–",
            r.headline,
        ]
        for r in page.items
    ]
    columns = [
        "id",
        "version",
        "line",
        "board",
        "state",
        "size",
        "floor",
        "running",
        "on the way",
        "published",
        "by",
        "notes",
    ]
    table("Releases", columns, rows, right=["id", "size", "floor", "running", "on the way"])


def _state(release: "ReleaseOut") -> Any:
    from rich.text import Text

    looks = {
        "draft": ("○", "herald.grey-blue"),
        "published": ("●", "herald.sage"),
        "withdrawn": ("–", "herald.stone"),
        "scratch": ("◌", "herald.grey-blue"),
    }
    shape, colour = looks[release.state]
    return Text(f"{shape} {release.state}", colour)


@app.command("show")
def show(
    release: choices.Release,
    manifest: Annotated[
        bool, typer.Option("--manifest", help="Also the manifest, in CBOR diagnostic notation.")
    ] = False,
    as_json: AsJson = False,
) -> None:
    """Show a release: its images, its checks, who runs it."""
    from mellow_herald.cli.checks import print_checks
    from mellow_herald.cli.connection import connect
    from mellow_herald.cli.looks import amount

    with connect() as herald:
        shown = herald.releases.find(release)
        signed = herald.releases.manifest(shown.id)
        board = herald.boards.show(shown.board)
    if as_json:
        print_json(shown)
        return
    screen = console()
    screen.print(f"[bold]{shown.name}[/]  ", _state(shown), "  baseline" if shown.baseline else "")
    when = [
        ("uploaded", shown.uploaded_at, shown.uploaded_by),
        ("published", shown.published_at, shown.published_by),
        ("withdrawn", shown.withdrawn_at, shown.withdrawn_by),
    ]
    differs = f" ({shown.version_differs} say another version: version-differs)" if shown.version_differs else ""
    _field("running", f"{shown.running} devices{differs}, {shown.on_the_way} on the way")
    for what, at, by in when:
        if at is not None:
            why = f": {shown.withdrawn_why}" if what == "withdrawn" else ""
            _field(what, f"{at:%Y-%m-%d %H:%M} by {by}{why}")
    if shown.cleaned_at:
        _field("images", f"cleaned away {shown.cleaned_at:%Y-%m-%d %H:%M}")
    _field("floor", f"{shown.floor}, for hardware revisions {shown.hw_rev_min}–{shown.hw_rev_max}")
    if shown.restart:
        _field("restart", "devices restart although nothing in it needs that")
    if shown.needs:
        _field("needs", ", ".join(f"{name} {least} or later" for name, least in shown.needs.items()))
    _field("signed by", f"{shown.key} {signed.key_name} ({signed.key_status})")
    _field("manifest", f"{shown.manifest}, {signed.size} bytes")
    if shown.labels:
        _field("labels", ", ".join(f"{key} = {value}" for key, value in sorted(shown.labels.items())))
    if board.single_slot:
        _field("way back", f"{board.name} has a single slot for app: no way back without a download")
    rows = [
        [
            one.name,
            _slot(board, one),
            one.version,
            amount(one.size),
            one.build_id or "–",
            "–" if one.address is None else f"{one.address:#x}",
            "read" if one.read else "stated",
            ", ".join(one.after) or "–",
            (one.base[:12] + "…" if one.base else "any") if one.name.startswith("settings/") else "–",
            one.digest,
        ]
        for one in shown.components
    ]
    columns = ["component", "slot", "version", "size", "build", "address", "nameplate", "after", "replaces", "SHA-256"]
    table("Images", columns, rows, right=["size"])
    if shown.checks:
        print("Checks at publishing")
        print_checks(shown.checks)
    if shown.notes:
        from rich.markdown import Markdown

        print("Notes")
        screen.print(Markdown(shown.notes), width=100)
    if manifest:
        print(signed.diagnostic)


def _slot(board: Any, one: Any) -> str:
    """The name of the slot that an image is linked for."""
    if "/" in one.name:
        return "its place"
    own = [slot.name for slot in board.slots if slot.component == one.name]
    if one.slot is None:
        return "any"
    return own[one.slot] if one.slot < len(own) else str(one.slot)


def _field(name: str, value: str) -> None:
    from rich.text import Text

    console().print(Text.assemble((f"  {name:<10} ", "dim"), value), soft_wrap=True)


@app.command("edit")
def edit(
    release: choices.Release,
    notes: Annotated[str | None, typer.Option("--notes", help="New notes; @FILE reads them from a file.")] = None,
    label: choices.Label = None,
    unlabel: Annotated[list[str] | None, typer.Option("--unlabel", help="Take a label off, by its key.")] = None,
) -> None:
    """Change the notes or labels of a release."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        found = herald.releases.find(release)
        labels = {k: v for k, v in {**found.labels, **choices.labels_of(label)}.items() if k not in (unlabel or [])}
        text = None if notes is None else choices.notes_of(notes)
        herald.releases.edit(found.id, notes=text, labels=labels, revision=found.revision)
    print(f"{found.name} changed.")


@app.command("withdraw")
def withdraw(release: choices.Release, reason: choices.Reason, yes: choices.Yes = False) -> None:
    """Withdraw a release: no device is offered it any more, and its running rollouts halt."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        found = herald.releases.find(release)
        stops = herald.releases.foresee_withdrawal(found.id)
        if not yes:
            halts = ", ".join(f"{number} ({name})" for number, name in stops.rollouts.items()) or "none"
            note(
                f"{stops.release}: rollouts that halt: {halts}; devices on the way: {stops.on_the_way}, "
                f"running it: {stops.running}."
            )
            if stops.baseline:
                note("It is the baseline; there will be none.")
            typer.confirm("Withdraw it?", abort=True, err=True)
        done = herald.releases.withdraw(found.id, reason)
    halted = f"; halted: {', '.join(map(str, done.rollouts))}" if done.rollouts else ""
    print(f"{done.release} withdrawn{halted}. {done.running} devices run it: they keep it until another release comes.")


@app.command("drop")
def drop(release: choices.Release, yes: choices.Yes = False) -> None:
    """Drop a draft."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        found = herald.releases.find(release)
        if not yes:
            typer.confirm(f"Drop {found.name} ({found.state})?", abort=True, err=True)
        herald.releases.drop(found.id)
    print(f"{found.name} dropped.")


def _options(
    notes: str,
    version: str | None,
    after: list[str] | None,
    independent: bool,
    restart: bool,
    placed: list[Any],
    allowed: Any,
    stated: dict[str, Any],
) -> Any:
    return {
        "restart": restart,
        "placed": placed,
        "notes": choices.notes_of(notes),
        "version": version,
        "after": choices.order_of(after),
        "independent": independent,
        "allowed": allowed,
        "stated": stated,
    }


def _seal(files: list[Path], key: Path | None, board_file: Path | None, options: Any) -> "SealedRelease":
    """Seals with the board from a file, or with the boards that the service knows."""
    from mellow_herald.client.documents import read_document
    from mellow_herald.client.sealing import seal_files
    from mellow_herald.wire.board import BoardIn

    opened = choices.open_key(key)
    if board_file is not None:
        return seal_files(files, opened, [read_document(board_file, BoardIn)], **options)
    from mellow_herald.cli.connection import connect

    herald: Herald
    with connect() as herald:
        return herald.releases.seal(files, key=opened, **options)
