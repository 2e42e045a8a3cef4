"""Options that several commands of publishing take, and what becomes of them."""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    from mellow_herald.client.placed import Placed
    from mellow_herald.core.verdict import Allowed

Key = Annotated[Path | None, typer.Option("--key", envvar="HERALD_KEY", help="The private signing key (PEM).")]
Line = Annotated[str | None, typer.Option("--line", help="State the line, for an image without nameplate.")]
Board = Annotated[str | None, typer.Option("--board", help="State the board.")]
Component = Annotated[str | None, typer.Option("--component", help="State the component (app if left out).")]
Version = Annotated[str | None, typer.Option("--version", help="State the version.")]
Floor = Annotated[int | None, typer.Option("--floor", min=0, help="State the floor number.")]
BoardFile = Annotated[
    Path | None, typer.Option("--board-file", help="Take the board from this TOML file; no service is asked.")
]
LowerVersion = Annotated[bool, typer.Option("--lower-version", help="A version below the latest of the line is meant.")]
CutOff = Annotated[
    bool,
    typer.Option("--cut-off-for-good", help="Firmware without updater is meant: its devices are never updated again."),
]
AsIs = Annotated[bool, typer.Option("--as-is", help="The file is what the device boots, whatever it looks like.")]
Notes = Annotated[str, typer.Option("--notes", help="Notes in Markdown; @FILE reads them from a file.")]
Label = Annotated[list[str] | None, typer.Option("--label", help="A label, key=value; may be repeated.")]
Release = Annotated[str, typer.Argument(metavar="RELEASE", help="board/line/version, or the release's number.")]
Reason = Annotated[str, typer.Option("--reason", prompt=True, help="Why; it goes to the journal.")]
Yes = Annotated[bool, typer.Option("--yes", help="Do not ask.")]


KeepsSecret = Annotated[
    str,
    typer.Option(
        "--keeps-secret", metavar="REASON", help="Why a key or token stands in the image; goes to the journal."
    ),
]


File = Annotated[
    list[str] | None, typer.Option("--file", metavar="PLACE=PATH", help="Bring a file to a place. May be repeated.")
]
Settings = Annotated[
    list[str] | None, typer.Option("--settings", metavar="PLACE=PATH", help="Bring settings (JSON) to a place.")
]
Certificate = Annotated[
    list[str] | None, typer.Option("--certificate", metavar="PLACE=PATH", help="Bring a PEM chain to a place.")
]
Base = Annotated[
    str | None,
    typer.Option(
        "--base",
        metavar="PATH|SHA256|any",
        help="What the settings replace: the file that devices have now, its digest, or any.",
    ),
]
RestartToo = Annotated[bool, typer.Option("--restart", help="Devices restart although nothing in it needs that.")]


def placed_of(
    file: list[str] | None, settings: list[str] | None, certificate: list[str] | None, base: str | None
) -> "list[Placed]":
    """Files, settings and certificates as they were given."""
    from mellow_herald.client.placed import Placed
    from mellow_herald.core.component import Kind
    from mellow_herald.core.refusal import Refused

    found = []
    for kind, given in ((Kind.FILE, file), (Kind.SETTINGS, settings), (Kind.CERTIFICATE, certificate)):
        for one in given or []:
            place, equals, path = one.partition("=")
            if not (place and equals and path):
                raise Refused(
                    "bad-place",
                    f"{one!r} does not say which file is for which place.",
                    f"Write it as PLACE=PATH, for example --{kind.value} main=night.json.",
                )
            found.append(Placed(kind, place, Path(path), base if kind is Kind.SETTINGS else None))
    if base is not None and not settings:
        raise Refused("bad-base", "--base goes with --settings.", "Name the settings, or leave --base out.")
    return found


def need_something(files: Sequence[object] | None, placed: "list[Placed]") -> None:
    """Raises wrong usage where nothing is named that could be sealed."""
    if not files and not placed:
        raise typer.BadParameter(
            "Missing argument FILE: name firmware or a release sheet, or say --file, --settings or --certificate"
        )


def allow(lower_version: bool = False, cut_off: bool = False, as_is: bool = False, keeps_secret: str = "") -> "Allowed":
    """What was asked for in so many words."""
    from mellow_herald.core.verdict import Allowed

    return Allowed(lower_version, cut_off, as_is, keeps_secret)


def stated(**values: Any) -> dict[str, Any]:
    """The nameplate values that were given."""
    return {name: value for name, value in values.items() if value is not None}


def labels_of(given: list[str] | None) -> dict[str, str]:
    """Labels as they were given; raises ``Refused`` for one that is none."""
    from mellow_herald.core.refusal import Refused

    for one in given or []:
        if "=" not in one:
            raise Refused("bad-label", f"{one!r} is no label.", "Write it as key=value, for example ticket=HS-311.")
    return dict(one.partition("=")[::2] for one in given or [])


def notes_of(given: str) -> str:
    """Notes, read from a file where they begin with @."""
    from mellow_herald.client.sealing import read_file

    return read_file(Path(given[1:]), "the notes").decode("utf-8", "replace") if given.startswith("@") else given


def order_of(given: list[str] | None) -> dict[str, list[str]]:
    """``radio=app,assets``: radio is switched after app and assets."""
    from mellow_herald.core.refusal import Refused

    order: dict[str, list[str]] = {}
    for one in given or []:
        name, equals, before = one.partition("=")
        if not (name and equals and before):
            raise Refused(
                "bad-order", f"{one!r} is no order.", "Write it as COMPONENT=BEFORE[,BEFORE], e.g. radio=app."
            )
        order.setdefault(name, []).extend(before.split(","))
    return order


def open_key(path: Path | None) -> "Ed25519PrivateKey":
    """The signing key; asks for its passphrase if it is locked (or takes ``HERALD_KEY_PASSPHRASE``)."""
    import os
    import sys

    from mellow_herald.client.sealing import load_key, no_key
    from mellow_herald.core.refusal import Refused

    if path is None:
        raise no_key()
    try:
        return load_key(path, os.environ.get("HERALD_KEY_PASSPHRASE"))
    except Refused as refused:
        if refused.kind != "passphrase-needed" or not sys.stdin.isatty():
            raise
    return load_key(path, typer.prompt(f"Passphrase of {path.name}", hide_input=True, err=True))
