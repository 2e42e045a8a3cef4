"""What is missing on this machine, or in this set-up."""

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from mellow_herald.cli.output import AsJson, print_json

if TYPE_CHECKING:
    from mellow_herald.client import Herald
    from mellow_herald.core.verdict import Check

# Of those that were settled, so many are named one by one.
MOST_SETTLED = 20
LEAST_FREE = 1024**3


def doctor(
    data_dir: Annotated[Path, typer.Option("--data-dir", help="Where `herald serve` would keep its data.")] = Path(
        "data"
    ),
    key: Annotated[list[Path] | None, typer.Option("--key", help="Also look at this private key file.")] = None,
    as_json: AsJson = False,
) -> None:
    """Say what is missing on this machine or in this set-up, and what to do. Exit code 1 if something is."""
    from mellow_herald.cli.checks import print_checks
    from mellow_herald.core.verdict import refused

    found = [_python(), _postgresql(), _console(), _space(data_dir), *_keys(key or []), *_service()]
    if as_json:
        print_json(
            {"checks": [{"name": c.name, "verdict": c.verdict, "detail": c.detail, "mend": c.mend} for c in found]}
        )
    else:
        print_checks(found)
    raise typer.Exit(int(bool(refused(found))))


def _python() -> "Check":
    from mellow_herald.core.verdict import Check, Verdict

    version = ".".join(map(str, sys.version_info[:3]))
    return Check("Python", Verdict.PASS, version)


def _postgresql() -> "Check":
    from mellow_herald.core.verdict import Check, Verdict

    # What `herald serve` itself looks for; the database is needed where the service runs, not where releases are made.
    from mellow_herald.store.cluster import ClusterError, find_binaries

    try:
        return Check("PostgreSQL", Verdict.PASS, str(find_binaries()))
    except ClusterError as error:
        mend = "Needed only where the service runs: apt-get install postgresql, or serve with --database-url."
        return Check("PostgreSQL", Verdict.WARN, str(error), mend)


def _console() -> "Check":
    from importlib.resources import files

    from mellow_herald.core.verdict import Check, Verdict

    index = files("mellow_herald") / "service" / "console_files" / "index.html"
    if index.is_file():
        return Check("console", Verdict.PASS, "built")
    return Check("console", Verdict.WARN, "not built: the service would serve none", "Run make console.")


def _space(data_dir: Path) -> "Check":
    import os
    import shutil

    from mellow_herald.cli.looks import amount
    from mellow_herald.core.verdict import Check, Verdict

    folder = data_dir.absolute()
    while not folder.exists():
        folder = folder.parent
    if not os.access(folder, os.W_OK):
        return Check("data folder", Verdict.REFUSE, f"{folder} cannot be written", "Choose another with --data-dir.")
    free = shutil.disk_usage(folder).free
    verdict = Verdict.PASS if free > LEAST_FREE else Verdict.WARN
    mend = "" if free > LEAST_FREE else "Images need room; make some, or choose another disk with --data-dir."
    return Check("data folder", verdict, f"{data_dir}, {amount(free)} free", mend)


def _keys(paths: list[Path]) -> "list[Check]":
    from mellow_herald.client.sealing import read_file
    from mellow_herald.core.keys import fingerprint, is_encrypted, private_from_pem, raw_public
    from mellow_herald.core.refusal import Refused
    from mellow_herald.core.verdict import Check, Verdict

    found = []
    for path in paths:
        try:
            pem = read_file(path, "the key file")
            said = "locked" if is_encrypted(pem) else fingerprint(raw_public(private_from_pem(pem)))
        except Refused as refused:
            found.append(Check("key", Verdict.REFUSE, f"{path}: {refused.detail}", refused.mend))
            continue
        mode = path.stat().st_mode & 0o777
        if mode & 0o077:
            mend = f"chmod 600 {path}"
            found.append(Check("key", Verdict.REFUSE, f"{path} ({said}) can be read by others (mode {mode:o})", mend))
        else:
            found.append(Check("key", Verdict.PASS, f"{path} ({said})"))
    return found


def _settled(herald: "Herald") -> "Check":
    """What the service found to stand wrong when it was brought up to date, and settled."""
    from mellow_herald.core.verdict import Check, Verdict

    settled = herald.rollouts.settlements()
    if not settled:
        return Check("attempts", Verdict.PASS, "none was found to stand wrong")
    lines = [
        f"{one.serial}, rollout {one.rollout_id}: {_standing(one.state_before, one.reason_before)} is by now "
        f"{_standing(one.state, one.reason)}, since {one.why}"
        for one in settled[:MOST_SETTLED]
    ]
    more = [f"and {len(settled) - MOST_SETTLED} more"] if len(settled) > MOST_SETTLED else []
    detail = f"{len(settled)} stood wrong and {'was' if len(settled) == 1 else 'were'} settled: "
    mend = "Look at each with herald device show SERIAL; the journal has them all."
    return Check("attempts", Verdict.WARN, detail + "; ".join([*lines, *more]), mend)


def _standing(state: str, reason: str | None) -> str:
    return state if reason is None else f"{state} ({reason})"


def _service() -> "list[Check]":
    from datetime import UTC, datetime

    from mellow_herald.cli.connection import connect
    from mellow_herald.client.errors import HeraldError, NotSignedInError, ProblemError
    from mellow_herald.core.verdict import Check, Verdict

    with connect() as herald:
        try:
            health = herald.ready()
        except ProblemError as error:
            return [Check("service", Verdict.REFUSE, str(error), "Its own log, and that of PostgreSQL, say more.")]
        except HeraldError as error:
            return [Check("service", Verdict.WARN, str(error), "Start it with herald serve, or set HERALD_URL.")]
        said = "; ".join(f"{name}: {what}" for name, what in health.checks.items())
        found = [
            Check("service", Verdict.PASS, f"{herald.url}, version {health.version}")
            if health.ok
            else Check("service", Verdict.WARN, f"{herald.url}: {said}", "See /health/ready and the journal.")
        ]
        try:
            me = herald.people.whoami()
        except NotSignedInError as error:
            return [*found, Check("sign-in", Verdict.WARN, error.problem.detail, "herald sign-in --name NAME")]
        found.append(Check("sign-in", Verdict.PASS, f"{me.name} ({', '.join(me.roles)})"))
        overview = herald.overview()
        apart = abs((overview.now - datetime.now(UTC)).total_seconds())
        if overview.scale == 1 and apart > 60:
            mend = "Set the clock of one of the two machines."
            found.append(Check("clock", Verdict.WARN, f"the service's clock is {apart:.0f} s off this machine's", mend))
        try:
            keys = herald.keys.newest()
        except ProblemError:
            mend = "herald key root, herald key new, herald key publish"
            return [*found, Check("key list", Verdict.WARN, "none yet: no release can be published", mend)]
        active = [key.fingerprint for key in keys.keys if key.status == "active"]
        if active:
            found.append(Check("key list", Verdict.PASS, f"number {keys.number}, active: {', '.join(active)}"))
        else:
            mend = "herald key publish --active KEY.pub.pem --root ROOT.pem"
            found.append(Check("key list", Verdict.WARN, f"number {keys.number} has no active key", mend))
        try:
            found.append(_settled(herald))
        except ProblemError as error:  # somebody who is narrowed to some devices
            found.append(Check("attempts", Verdict.WARN, str(error), "an admin sees them"))
        boards = herald.boards.list()
        found.append(
            Check("boards", Verdict.PASS, ", ".join(board.name for board in boards))
            if boards
            else Check("boards", Verdict.WARN, "none yet", "herald board add FILE.toml")
        )
    return found
