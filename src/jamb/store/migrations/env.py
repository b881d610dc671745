"""Alembic's entry: migrate over the connection that `jamb.store.base.migrate` hands in."""

from alembic import context

from jamb.store.base.tables import METADATA

context.configure(connection=context.config.attributes["connection"], target_metadata=METADATA)
with context.begin_transaction():
    context.run_migrations()
