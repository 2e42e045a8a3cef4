from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import Connection, text

from mellow_herald.core.attempt import State
from mellow_herald.store.database import make_engine, migrate
from mellow_herald.store.tables import Base


async def test_the_migrations_lead_to_the_tables_we_use(database_url: str) -> None:
    engine = make_engine(database_url)

    def compare(connection: Connection) -> list[object]:
        context = MigrationContext.configure(connection, opts={"compare_type": True})
        return list(compare_metadata(context, Base.metadata))

    async with engine.connect() as connection:
        assert await connection.run_sync(compare) == []
        states = await connection.scalar(
            text("SELECT pg_get_constraintdef(oid) FROM pg_constraint WHERE conname = 'ck_attempt_state'")
        )
    assert all(f"'{state.value}'" in states for state in State)
    await engine.dispose()


async def test_migrating_twice_is_harmless(database_url: str) -> None:
    engine = make_engine(database_url)
    await migrate(engine)
    await migrate(engine)
    await engine.dispose()
