"""Runs migrations on the connection that `flinch.store.migrate` hands over."""

from alembic import context

from flinch.store.owned.models import OwnedBase

context.configure(connection=context.config.attributes["connection"], target_metadata=OwnedBase.metadata)
with context.begin_transaction():
    context.run_migrations()
