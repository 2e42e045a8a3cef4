import alembic.command
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, text

from mellow_herald.core.attempt import State
from mellow_herald.store.database import alembic_config, make_engine, migrate, revisions
from mellow_herald.store.releases import list_releases
from mellow_herald.store.tables import Base
from tests.harness.database import Databases

BESIDE_0_1_0 = {"board": ("position_dependent",), "person": ("role",), "pulse": ("odd_boots", "odd_seq")}


async def test_the_migrations_lead_to_the_tables_we_use(database_url: str) -> None:
    engine = make_engine(database_url)

    def compare(connection: Connection) -> list[object]:
        context = MigrationContext.configure(connection, opts={"compare_type": True})
        found = compare_metadata(context, Base.metadata)
        return [one for one in found if not _is_kept_for_0_1_0(one)]

    async with engine.connect() as connection:
        assert await connection.run_sync(compare) == []
        states = await connection.scalar(
            text("SELECT pg_get_constraintdef(oid) FROM pg_constraint WHERE conname = 'ck_attempt_state'")
        )
    assert all(f"'{state.value}'" in states for state in State)
    await engine.dispose()


def _is_kept_for_0_1_0(difference: object) -> bool:
    """A column that only workers of that version still look at."""
    match difference:
        case ("remove_column", _, table, column):
            return column.name in BESIDE_0_1_0.get(table, ())
    return False


def test_the_names_of_migrations_are_their_order() -> None:
    script = ScriptDirectory.from_config(alembic_config(None))  # type: ignore[arg-type]
    assert [one.revision for one in script.walk_revisions()] == revisions()[::-1]


async def test_migrating_twice_is_harmless(database_url: str) -> None:
    engine = make_engine(database_url)
    await migrate(engine)
    await migrate(engine)
    await engine.dispose()


async def test_what_the_first_version_kept_is_still_there(databases: Databases) -> None:
    engine = make_engine(databases.empty())

    def upgrade(connection: Connection, revision: str) -> None:
        alembic.command.upgrade(alembic_config(connection), revision)

    async with engine.begin() as connection:
        await connection.run_sync(upgrade, "0001")
        for statement in (
            "INSERT INTO board VALUES ('comb-s1', 'x.example', '[]', '[]', '[]', 60, now())",
            "INSERT INTO release (id, board, line, version, version_key, state, floor, hw_rev_min, hw_rev_max,"
            " description, manifest_digest, authentication, manifest, kid, published_at, published_by) VALUES"
            " (7, 'comb-s1', 'scale', '1.0.0', '', 'published', 4, 0, 9, 'first words', 'm', '', '', 'k',"
            " now(), 'ada')",
            f"INSERT INTO image VALUES ('{'a' * 64}', 5, now())",
            f"INSERT INTO release_image VALUES (7, 'app', '{'a' * 64}', '1.0.0', 'b1')",
        ):
            await connection.execute(text(statement))
    await migrate(engine)
    async with engine.connect() as connection:
        (release,) = await list_releases(connection)
    assert (release["notes"], release["uploaded_by"], release["published_by"]) == ("first words", "ada", "ada")
    assert (release["components"][0]["digest"], release["components"][0]["slot"]) == ("a" * 64, None)
    await engine.dispose()
