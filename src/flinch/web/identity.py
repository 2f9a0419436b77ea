"""Who asks."""

from __future__ import annotations

from flinch.store.owned.owners import LOCAL_OWNER


def who() -> str:
    """The name of whoever sent the request. Flinch is served on loopback alone, so all who reach it are one."""
    return LOCAL_OWNER
