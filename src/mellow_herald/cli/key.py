"""Keys: made and used here, never by the service."""

from pathlib import Path
from typing import Annotated

import typer

from mellow_herald.cli.output import AsJson, note, print_json, table

app = typer.Typer(name="key", help="Root and signing keys, and the key list that devices trust.", no_args_is_help=True)
Out = Annotated[Path, typer.Argument(help="File for the private key; the public one goes beside it as .pub.pem.")]


def _make(out: Path, what: str) -> None:
    import os

    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    from mellow_herald.core.keys import fingerprint, private_to_pem, public_to_pem, raw_public
    from mellow_herald.core.refusal import Refused

    key = Ed25519PrivateKey.generate()
    public = raw_public(key)
    beside = out.with_name(out.name.removesuffix(".pem") + ".pub.pem")
    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        with open(os.open(out, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:  # noqa: PTH123
            file.write(private_to_pem(key))
        beside.write_bytes(public_to_pem(public))
    except FileExistsError:
        detail = f"{out} exists already; a key is never overwritten."
        raise Refused("key-exists", detail, "Choose another name.") from None
    except OSError as error:
        raise Refused("no-file", f"{error.filename} cannot be written ({error.strerror}).") from None
    print(f"{what} {fingerprint(public)} in {out}, its public half in {beside}.")


@app.command("root")
def make_root(out: Out) -> None:
    """Make a root key: it signs key lists and nothing else. Keep it off-line."""
    _make(out, "Root key")


@app.command("new")
def make_signing(out: Out) -> None:
    """Make a signing key: it signs releases."""
    _make(out, "Signing key")


@app.command("show")
def show(file: Annotated[Path, typer.Argument(help="A private or public key file (PEM).")]) -> None:
    """Show the fingerprint of a key file."""
    from mellow_herald.client.sealing import read_file
    from mellow_herald.core.keys import fingerprint, public_from_pem

    print(fingerprint(public_from_pem(read_file(file, "the key file"))))


@app.command("publish")
def publish(
    root: Annotated[Path, typer.Option("--root", help="The root's private key.")],
    active: Annotated[list[Path] | None, typer.Option("--active", help="A signing key that may sign.")] = None,
    retired: Annotated[list[Path] | None, typer.Option("--retired", help="One that may sign no more.")] = None,
    revoked: Annotated[list[Path] | None, typer.Option("--revoked", help="One that nobody trusts any more.")] = None,
    number: Annotated[int | None, typer.Option("--number", min=1, help="The list's number; default: the next.")] = None,
    out: Annotated[Path | None, typer.Option("--out", help="Also write the list to this file.")] = None,
    local: Annotated[bool, typer.Option("--local", help="Only write the file; do not call the service.")] = False,
) -> None:
    """Sign the next key list with the root and publish it."""
    from mellow_herald.cli.connection import connect
    from mellow_herald.client.errors import ProblemError
    from mellow_herald.client.sealing import load_key, read_file
    from mellow_herald.core.keys import KeyStatus, SigningKey, public_from_pem, raw_public, sign_key_list
    from mellow_herald.core.refusal import Refused

    root_key = load_key(root)
    keys = [
        SigningKey(public_from_pem(read_file(path, "the key file")), status, path.name.partition(".")[0])
        for paths, status in (
            (active, KeyStatus.ACTIVE), (retired, KeyStatus.RETIRED), (revoked, KeyStatus.REVOKED),
        )
        for path in paths or []
    ]  # fmt: skip
    if not keys:
        raise Refused("no-keys", "the list would be empty.", "Name at least one signing key with --active.")
    if local:
        if out is None:
            raise Refused("no-file", "with --local the list must go somewhere.", "Add --out FILE.")
        out.write_bytes(sign_key_list(root_key, number or 1, keys))
        print(f"Key list {number or 1} written to {out}.")
        return
    with connect() as herald:
        if number is None:
            try:
                number = herald.keys.newest().number + 1
            except ProblemError as error:
                if error.problem.status != 404:
                    raise
                number = 1
        signed = sign_key_list(root_key, number, keys)
        published = herald.keys.publish(raw_public(root_key), signed)
    if out is not None:
        out.write_bytes(signed)
    print(f"Key list {published.number} published, signed by root {published.root}.")


@app.command("list")
def list_keys(as_json: AsJson = False) -> None:
    """Show the key list in force."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        newest = herald.keys.newest()
    if as_json:
        print_json(newest)
        return
    table(
        f"Key list {newest.number}", ["key", "name", "status"], [[k.fingerprint, k.name, k.status] for k in newest.keys]
    )
    note(f"signed by root {newest.root}")
