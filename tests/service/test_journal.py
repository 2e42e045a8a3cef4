"""The journal as others keep it: exported, verified here and elsewhere, and changed behind the service's back."""

import json
from pathlib import Path

from sqlalchemy import text
from typer.testing import CliRunner

from mellow_herald.cli.main import app
from mellow_herald.core.inventory import Format
from mellow_herald.store.tables import JournalRow
from tests.harness.service import RunningService


def verify(service: RunningService, *arguments: str) -> tuple[int, str]:
    """What ``herald journal verify`` says, and with which exit code."""
    environment = {"HERALD_URL": service.url, "HERALD_TOKEN": service.token}
    done = CliRunner().invoke(app, ["journal", "verify", *arguments], env=environment)
    return done.exit_code, done.output.strip() or str(done.exception)


def test_whoever_noted_a_link_has_proof_of_all_before_it(service: RunningService, tmp_path: Path) -> None:
    check = service.herald.journal.check()
    newest = service.herald.journal.list(limit=1).items[0]
    assert (check.broken, check.links, check.hash) == (None, newest.link, newest.hash)
    noted = f"{check.links}:{check.hash}"
    assert verify(service) == (0, f"{check.links} links follow each other; the last is {noted}")
    file = tmp_path / "journal.jsonl"
    file.write_bytes(b"".join(service.herald.journal.export()))
    assert [json.loads(line)["link"] for line in file.read_text().splitlines()] == list(range(1, check.links + 1))
    service.code()
    assert service.herald.journal.check().links == check.links + 1
    assert verify(service, "--expect", noted)[0] == 0, "more was written since; what was is the same"
    assert "the journal ends at link" in verify(service, str(file), "--expect", f"{check.links + 1}:{'a' * 64}")[1]

    lines = file.read_text().splitlines()
    file.write_text("\n".join([*lines[:2], lines[2].replace('"who":"', '"who":"not-'), *lines[3:]]))
    assert "link 3 does not follow from link 2: an entry was changed" in verify(service, str(file))[1]
    file.write_text("\n".join(lines[1:]))
    assert "link 2 does not follow from link 0: it begins later" in verify(service, str(file))[1]
    file.write_text("link,at\n")
    assert "no exported journal" in verify(service, str(file))[1]


def test_an_entry_that_was_changed_in_the_database_is_found(service: RunningService) -> None:
    before = service.herald.journal.check()

    async def change() -> None:
        async with service.context.engine.begin() as connection:
            table = JournalRow.__tablename__
            await connection.execute(text(f"UPDATE {table} SET why = 'something nicer' WHERE link = 3"))

    service.call(change())
    check = service.herald.journal.check()
    assert (check.broken, check.links) == (3, 2) and before.broken is None
    assert "link 3 does not follow from link 2" in verify(service)[1]


def test_a_part_of_it_goes_into_a_table_that_is_safe_to_open(service: RunningService) -> None:
    service.publish("2.4.0").raise_for_status()
    release = service.herald.releases.list().items[0]
    service.herald.releases.withdraw(release.id, "=1+1")
    table = b"".join(service.herald.journal.export(written=Format.CSV, what="withdrawn")).decode()
    head, row = table.splitlines()
    assert head == "link,at,who,what,subject,why,data,hash"
    assert ",release withdrawn," in row and ",=1+1," not in row and "=1+1" in row
