"""Devices that speak CoAP."""

import json
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from mellow_herald.cli.output import AsJson, Limit, print_json, table
from mellow_herald.core.refusal import Refused

if TYPE_CHECKING:
    from mellow_herald.wire.coap import CoapDeviceOut, CoapServiceOut

app = typer.Typer(name="coap", help="Devices that speak CoAP, with the standard update object.", no_args_is_help=True)
Serial = Annotated[str, typer.Argument(metavar="SERIAL", help="The device.")]
DELIVERY = {0: "fetches", 1: "is written to", 2: "either"}


@app.callback()
def coap() -> None:
    """Devices that speak CoAP, with the standard update object."""


@app.command("list")
def list_(as_json: AsJson = False, limit: Limit = 100) -> None:
    """List devices that speak CoAP: where they are registered, and what their update object told last."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        served = herald.coap.service()
        page = herald.coap.list(limit=limit)
    if as_json:
        print_json(page.items)
        return
    print(_served(served))
    rows = [
        [
            one.serial,
            one.address or one.gone or "never registered",
            "" if one.expires_at is None else f"{one.expires_at:%m-%d %H:%M:%S}",
            _pair(one.state, one.state_word),
            _pair(one.result, one.result_word),
            one.says_version or "",
            one.method or "",
            "restarting: expected to be away" if one.restarting else one.trouble,
        ]
        for one in page.items
    ]
    total = f" of {page.total}" if page.next else ""
    columns = ["serial", "registered at", "until", "5/0/3", "5/0/5", "says it runs", "given by", ""]
    table(f"{len(rows)}{total} devices that speak CoAP", columns, rows)


def _served(served: "CoapServiceOut") -> str:
    if served.port is None:
        return "The service does not serve CoAP. Start it with --coap-port 5683."
    open_ = "; open to what is not protected, from its own machine" if served.open else ""
    return f"CoAP is served at UDP port {served.port}{open_}: {served.registered} of {served.devices} are registered."


def _pair(number: int | None, word: str) -> str:
    return "" if number is None else f"{number} {word}"


@app.command("show")
def show(serial: Serial, as_json: AsJson = False) -> None:
    """Show a device: its registration, what it can, how it was given its package, what went wrong last."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        one = herald.coap.show(serial)
    if as_json:
        print_json(one)
        return
    table(f"{serial} by CoAP", ["", ""], [[name, value] for name, value in _facts(one)])


def _facts(one: "CoapDeviceOut") -> list[tuple[str, str]]:
    registered = one.address or (f"no: {one.gone}" if one.gone else "never")
    runs = "by digest" if one.says_digest else "by its version alone: the bytes are those released under it"
    secret = "none" if not one.has_secret else "proved" if one.proved_at else "not used yet"
    facts = [
        ("registered", registered),
        ("until", "" if one.expires_at is None else f"{one.expires_at:%Y-%m-%d %H:%M:%S}, renewed each time it speaks"),
        ("hears", "only after it has spoken (queue mode)" if one.queue else "at any time"),
        ("objects", ", ".join(one.objects)),
        ("secret", secret),
        ("5/0/3 state", _pair(one.state, one.state_word)),
        ("5/0/5 result", _pair(one.result, one.result_word)),
        ("told at", "" if one.told_at is None else f"{one.told_at:%Y-%m-%d %H:%M:%S}"),
        ("5/0/8 protocols", ", ".join(map(str, one.protocols)) or "not told"),
        ("5/0/9 delivery", "not told" if one.delivery is None else _pair(one.delivery, DELIVERY.get(one.delivery, ""))),
        ("says it runs", f"{one.says_version or 'nothing'}; known {runs}"),
        ("given by", "" if one.method is None else f"{one.method}, blocks of {one.block} bytes"),
    ]
    if one.restarting:
        facts.append(("now", "it was told to switch and is expected to be away"))
    if one.trouble:
        facts.append(("went wrong last", f"{one.trouble_at:%Y-%m-%d %H:%M:%S}: {one.trouble}"))
    return facts


@app.command("secret")
def secret(
    serial: Serial,
    out: Annotated[
        Path | None, typer.Option("--out", help="Write it to this new file (JSON), which only you can read.")
    ] = None,
    reason: Annotated[str, typer.Option("--reason", help="Why, for the journal.")] = "secret renewed",
) -> None:
    """Give a device a new OSCORE secret, shown this once; its former one ends at once."""
    from mellow_herald.cli.connection import connect

    if out is not None and out.exists():
        raise Refused("file-exists", f"{out} is there already.", "Name another file: a secret is not written over.")
    with connect() as herald:
        made = herald.coap.renew_secret(serial, reason)
    if out is None:
        print_json(made)
        return
    out.touch(0o600, exist_ok=False)
    out.write_text(json.dumps(made.model_dump(), indent=2) + "\n")
    print(f"{serial} has a new secret: {out}. Put it into the device; with the former one it is not heard any more.")
