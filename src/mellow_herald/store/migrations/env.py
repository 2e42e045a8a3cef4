"""Runs the migrations on the connection that the service opened."""

from alembic import context

from mellow_herald.store.tables import Base

context.configure(connection=context.config.attributes["connection"], target_metadata=Base.metadata)
with context.begin_transaction():
    context.run_migrations()
