"""Nameplates: records to link into firmware, so that it says itself what it is."""

from pathlib import Path
from typing import Annotated

import typer

from mellow_herald.core.limits import LARGEST_REVISION

app = typer.Typer(
    name="nameplate", help="Records to link into firmware, so that it says what it is.", no_args_is_help=True
)
C_SUFFIXES = (".c", ".h")


@app.callback()
def nameplates() -> None:
    """Records to link into firmware, so that it says itself what it is."""


@app.command("make")
def make(
    line: Annotated[str, typer.Option("--line", help="What the firmware is for, e.g. hive-scale.")],
    board: Annotated[str, typer.Option("--board", help="The board it runs on.")],
    version: Annotated[str, typer.Option("--version", help="Its version (SemVer 2.0.0).")],
    floor: Annotated[int, typer.Option("--floor", min=0, help="Its floor number.")],
    out: Annotated[Path, typer.Option("--out", "-o", help="The file to write: C source (.c) or binary (any other).")],
    component: Annotated[str, typer.Option("--component", help="The component it is.")] = "app",
    updater: Annotated[
        int,
        typer.Option(
            "--updater", min=0, max=LARGEST_REVISION, help="The update protocol its updater speaks, 0 for none."
        ),
    ] = 2,
    build_id: Annotated[str, typer.Option("--build-id", help="Anything that finds the build again.")] = "",
    build_time: Annotated[
        str, typer.Option("--build-time", help="now, or seconds since 1970 (SOURCE_DATE_EPOCH), or 0 for none.")
    ] = "0",
    hw_rev: Annotated[str, typer.Option("--hw-rev", help="Hardware revisions it runs on: 2, or 1-3.")] = "0-65535",
    needs: Annotated[
        list[str] | None,
        typer.Option("--needs", help="radio=1.2.0: needs radio in that version or later. May be repeated."),
    ] = None,
) -> None:
    """Write a nameplate as C source (section .nameplate) or as a binary to link or to place in an image."""
    from mellow_herald.core.nameplate import Nameplate, encode_nameplate, nameplate_source
    from mellow_herald.core.refusal import Refused

    lowest, highest = _revisions(hw_rev)
    wanted = [one.partition("=") for one in needs or []]
    if any(not (name and equals and least) for name, equals, least in wanted):
        raise Refused("bad-nameplate", "--needs takes COMPONENT=VERSION.", "Write for example --needs radio=1.2.0.")
    plate = Nameplate(
        line=line,
        board=board,
        component=component,
        version=version,
        floor=floor,
        updater=updater,
        build_id=build_id,
        build_time=_seconds(build_time),
        hw_rev_min=lowest,
        hw_rev_max=highest,
        needs=tuple(sorted((name, least) for name, _, least in wanted)),
    )
    data = encode_nameplate(plate)
    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        if out.suffix in C_SUFFIXES:
            out.write_text(nameplate_source(plate))
        else:
            out.write_bytes(data)
    except OSError as error:
        raise Refused("no-file", f"{out} cannot be written ({error.strerror}).") from None
    print(
        f"Nameplate of {component} {version} for {line} on {board}, floor number {floor}: {len(data)} bytes in {out}."
    )


def _revisions(text: str) -> tuple[int, int]:
    from mellow_herald.core.refusal import Refused

    lowest, _, highest = text.partition("-")
    try:
        return int(lowest), int(highest or lowest)
    except ValueError:
        raise Refused("bad-nameplate", f"--hw-rev {text!r} is no range.", "Write 2, or 1-3.") from None


def _seconds(text: str) -> int:
    import time

    from mellow_herald.core.refusal import Refused

    if text == "now":
        return int(time.time())
    try:
        return int(text)
    except ValueError:
        raise Refused(
            "bad-nameplate", f"--build-time {text!r} is no time.", "Write now, or seconds since 1970."
        ) from None
