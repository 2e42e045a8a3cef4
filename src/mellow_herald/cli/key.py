"""Keys and key lists. Private keys never leave this machine."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from mellow_herald.cli.choices import Yes, open_key
from mellow_herald.cli.output import AsJson, note, print_json, table

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    from mellow_herald.client import Herald
    from mellow_herald.core.key_status import KeyStatus
    from mellow_herald.core.keys import KeyList, SigningKey

app = typer.Typer(name="key", help="Signing keys, the root, and the key list that devices trust.", no_args_is_help=True)
Out = Annotated[Path, typer.Argument(help="File for the private key; the public one goes beside it as .pub.pem.")]
Locked = Annotated[
    bool, typer.Option("--passphrase", help="Lock it with a passphrase: asked for, or HERALD_KEY_PASSPHRASE.")
]
Root = Annotated[Path, typer.Option("--root", help="The root's private key.")]
OutList = Annotated[Path | None, typer.Option("--out", help="Also write the list to this file.")]
WhichKey = Annotated[str, typer.Argument(metavar="KEY", help="A key's fingerprint, or its public key file.")]


def _make(out: Path, what: str, locked: bool) -> None:
    import os

    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    from mellow_herald.core.keys import fingerprint, private_to_pem, public_to_pem, raw_public
    from mellow_herald.core.refusal import Refused

    passphrase = None
    if locked:
        passphrase = os.environ.get("HERALD_KEY_PASSPHRASE") or typer.prompt(
            "Passphrase", hide_input=True, confirmation_prompt=True, err=True
        )
    key = Ed25519PrivateKey.generate()
    public = raw_public(key)
    beside = out.with_name(out.name.removesuffix(".pem") + ".pub.pem")
    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        with open(os.open(out, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:  # noqa: PTH123
            file.write(private_to_pem(key, passphrase))
        beside.write_bytes(public_to_pem(public))
    except FileExistsError:
        detail = f"{out} exists already; a key is never overwritten."
        raise Refused("key-exists", detail, "Choose another name.") from None
    except OSError as error:
        raise Refused("no-file", f"{error.filename} cannot be written ({error.strerror}).") from None
    lock = ", locked with a passphrase" if passphrase else ""
    print(f"{what} {fingerprint(public)} in {out}{lock}, its public half in {beside}.")


@app.command("root")
def make_root(out: Out, passphrase: Locked = False) -> None:
    """Make a root key: it signs key lists and nothing else. Keep it off-line."""
    _make(out, "Root key", passphrase)


@app.command("new")
def make_signing(out: Out, passphrase: Locked = False) -> None:
    """Make a signing key: it signs releases."""
    _make(out, "Signing key", passphrase)


@app.command("show")
def show(
    file: Annotated[Path, typer.Argument(help="A private or public key file (PEM), or a key list.")],
    as_json: AsJson = False,
) -> None:
    """Show the fingerprint of a key file, or what a key list says."""
    from mellow_herald.client.sealing import read_file
    from mellow_herald.core.keys import fingerprint, is_encrypted, public_from_pem, raw_public, read_key_list
    from mellow_herald.core.refusal import Refused

    data = read_file(file, "the key file")
    if b"-----BEGIN" not in data:
        try:
            listed = read_key_list(data)
        except Refused:
            detail = f"{file} holds no Ed25519 public key, nor a key list."
            raise Refused("bad-key", detail, "Pass a .pem file, or a list made by `herald key publish`.") from None
        rows = [[key.fingerprint, key.name, key.status.value] for key in listed.keys]
        if as_json:
            print_json(
                {"number": listed.number, "keys": [dict(zip(("key", "name", "status"), r, strict=True)) for r in rows]}
            )
            return
        table(f"Key list {listed.number} (its signature was not checked)", ["key", "name", "status"], rows)
        return
    if is_encrypted(data):
        public, kind = raw_public(open_key(file)), "private, locked"
    else:
        public, kind = public_from_pem(data), "private" if b"PRIVATE KEY" in data else "public"
    if as_json:
        print_json({"fingerprint": fingerprint(public), "kind": kind})
        return
    print(f"{fingerprint(public)}  {kind}")


@app.command("publish")
def publish(
    root: Root,
    active: Annotated[list[Path] | None, typer.Option("--active", help="A signing key that may sign.")] = None,
    retired: Annotated[list[Path] | None, typer.Option("--retired", help="One that may sign no more.")] = None,
    revoked: Annotated[list[Path] | None, typer.Option("--revoked", help="One that nobody trusts any more.")] = None,
    number: Annotated[int | None, typer.Option("--number", min=1, help="The list's number; default: the next.")] = None,
    out: OutList = None,
    local: Annotated[bool, typer.Option("--local", help="Only write the file; do not call the service.")] = False,
    before: Annotated[
        Path | None, typer.Option("--before", help="With --local: the list to go on from. Keys on it stay on the next.")
    ] = None,
) -> None:
    """Sign the next key list with the root and publish it. Keys that are on the list in force stay on it."""
    from mellow_herald.client.sealing import read_file
    from mellow_herald.core.key_status import KeyStatus
    from mellow_herald.core.keys import SigningKey, public_from_pem, raw_public, verify_key_list
    from mellow_herald.core.refusal import Refused

    root_key = open_key(root)
    changes = [
        SigningKey(public_from_pem(read_file(path, "the key file")), status, path.name.partition(".")[0])
        for paths, status in (
            (active, KeyStatus.ACTIVE),
            (retired, KeyStatus.RETIRED),
            (revoked, KeyStatus.REVOKED),
        )
        for path in paths or []
    ]
    if not changes:
        raise Refused("no-keys", "no key was named.", "Name at least one signing key, for example with --active.")
    if local:
        if out is None:
            raise Refused("no-file", "with --local the list must go somewhere.", "Add --out FILE.")
        known = verify_key_list(read_file(before, "the key list"), raw_public(root_key)) if before else None
        signed, made = _sign(root_key, known, changes, number)
        _write(out, signed)
        print(f"Key list {made} written to {out}.")
        return
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        _publish(herald, root_key, _in_force(herald, root_key), changes, number, out)


def _in_force(herald: "Herald", root_key: "Ed25519PrivateKey") -> "KeyList | None":
    """The list in force, checked against the root at hand; None if there is none yet."""
    import base64

    from mellow_herald.client.errors import ProblemError
    from mellow_herald.core.keys import raw_public, verify_key_list

    try:
        newest = herald.keys.newest()
    except ProblemError as error:
        if error.problem.status != 404:
            raise
        return None
    return verify_key_list(base64.b64decode(newest.key_list), raw_public(root_key))


def _sign(
    root_key: "Ed25519PrivateKey", known: "KeyList | None", changes: "list[SigningKey]", number: int | None
) -> tuple[bytes, int]:
    from mellow_herald.core.keys import revise, sign_key_list

    made = number or (known.number + 1 if known else 1)
    return sign_key_list(root_key, made, revise(known.keys if known else (), changes)), made


def _publish(
    herald: "Herald",
    root_key: "Ed25519PrivateKey",
    known: "KeyList | None",
    changes: "list[SigningKey]",
    number: int | None,
    out: Path | None,
) -> None:
    from mellow_herald.core.keys import raw_public

    signed, _ = _sign(root_key, known, changes, number)
    published = herald.keys.publish(raw_public(root_key), signed)
    if out is not None:
        _write(out, signed)
    said = ", ".join(f"{key.fingerprint} {key.name} {key.status}" for key in published.keys)
    print(f"Key list {published.number} published, signed by root {published.root}: {said}.")


def _write(out: Path, signed: bytes) -> None:
    from mellow_herald.core.refusal import Refused

    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        out.write_bytes(signed)
    except OSError as error:
        raise Refused("no-file", f"{out} cannot be written ({error.strerror}).") from None


@app.command("retire")
def retire(which: WhichKey, root: Root, out: OutList = None, yes: Yes = False) -> None:
    """Retire a key: it signs no new releases; what it signed stays good."""
    from mellow_herald.core.key_status import KeyStatus

    _end(which, root, out, yes, KeyStatus.RETIRED)


@app.command("revoke")
def revoke(which: WhichKey, root: Root, out: OutList = None, yes: Yes = False) -> None:
    """Revoke a key: nothing it signed is ever switched to again. Running rollouts of that halt at once."""
    from mellow_herald.core.key_status import KeyStatus

    _end(which, root, out, yes, KeyStatus.REVOKED)


def _end(which: str, root: Path, out: Path | None, yes: bool, status: "KeyStatus") -> None:
    from mellow_herald.cli.connection import connect
    from mellow_herald.core.key_status import KeyStatus
    from mellow_herald.core.keys import SigningKey
    from mellow_herald.core.refusal import Refused

    root_key = open_key(root)
    with connect() as herald:
        known = _in_force(herald, root_key)
        wanted = _fingerprint(which)
        key = known.find(wanted) if known else None
        if key is None:
            raise Refused("unknown-key", f"no key {wanted} is on the list in force.", "See `herald key list`.")
        if not yes:
            _say_effect(herald, key, status)
            typer.confirm(f"{'Revoke' if status is KeyStatus.REVOKED else 'Retire'} it?", abort=True, err=True)
        _publish(herald, root_key, known, [SigningKey(key.public, status, key.name)], None, out)


def _fingerprint(which: str) -> str:
    from mellow_herald.client.sealing import read_file
    from mellow_herald.core.keys import fingerprint, public_from_pem

    path = Path(which)
    return fingerprint(public_from_pem(read_file(path, "the key file"))) if path.is_file() else which


def _say_effect(herald: "Herald", key: "SigningKey", status: "KeyStatus") -> None:
    from mellow_herald.core.key_status import KeyStatus

    signed = list(herald.releases.each(where=f"key = {key.fingerprint}"))
    offered = [release for release in signed if release.state != "withdrawn"]
    running = sum(release.running for release in signed)
    note(
        f"Key {key.fingerprint} {key.name} ({key.status}) signed {len(signed)} releases; "
        f"{running} devices run one of them."
    )
    if status is KeyStatus.RETIRED:
        note("They stay good and can be rolled out. New releases need another key.")
        return
    note("What devices run goes on running. None of these releases is ever switched to again:")
    for release in offered:
        note(f"  {release.name}, {release.running} running, {release.on_the_way} on the way")
    note("Rollouts of them that run now halt. Devices learn of it when they next fetch keys.")


@app.command("list")
def list_keys(as_json: AsJson = False) -> None:
    """Show the key list in force, and how much each key has signed."""
    from mellow_herald.cli.connection import connect

    with connect() as herald:
        newest = herald.keys.newest()
        if as_json:
            print_json(newest)
            return
        signed = [release.key for release in herald.releases.each()]
    rows = [[k.fingerprint, k.name, k.status, str(signed.count(k.fingerprint))] for k in newest.keys]
    table(f"Key list {newest.number}", ["key", "name", "status", "releases"], rows, right=["releases"])
    note(f"signed by root {newest.root}, published {newest.published_at:%Y-%m-%d %H:%M}")
