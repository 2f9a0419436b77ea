"""Which demo market is in the store. Apart from the loader, so that a start that need not load stays quick."""

from __future__ import annotations

from sqlalchemy import Engine

from flinch.store.market.run import read_run
from flinch.store.market.state import read_state

SOURCE = "demo market"
SIMULATOR_VERSION = 17
"""Raised whenever the simulator makes a different market: an older one is then made afresh."""


def demo_market_loaded(engine: Engine) -> bool:
    """Whether the whole demo market of this version is in the store, or all of it but a moment that its exchange will tell
    again."""
    state = read_state(engine)
    return (
        state is not None
        and state.complete
        and (not state.writing or read_run(engine) is not None)
        and state.coming is None
        and (state.source, state.source_version) == (SOURCE, SIMULATOR_VERSION)
    )


def half_made(engine: Engine) -> bool:
    """Whether a load began, or a moment was being written, and did not finish."""
    state = read_state(engine)
    return state is not None and not (state.whole and state.coming is None)
