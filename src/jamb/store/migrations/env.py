"""Alembic's entry: migrate over the connection that `jamb.store.migrate` hands in."""

from alembic import context

from jamb.store.tables import METADATA

context.configure(connection=context.config.attributes["connection"], target_metadata=METADATA)
with context.begin_transaction():
    context.run_migrations()
