"""Whose things a test is about."""

from __future__ import annotations

from sqlalchemy import Engine

from flinch.store.databases import DEMO
from flinch.store.owned.owners import LOCAL_OWNER, Whose, owner_called


def somebody(owned: Engine, name: str = LOCAL_OWNER, market: str = DEMO) -> Whose:
    """An owner of a name, on a market."""
    return Whose(owner_called(owned, name), market)
