"""Runs migrations on the connection that `flinch.store.migrate` hands over."""

from alembic import context

from flinch.store.market.models import MarketBase

context.configure(connection=context.config.attributes["connection"], target_metadata=MarketBase.metadata)
with context.begin_transaction():
    context.run_migrations()
