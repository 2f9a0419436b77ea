"""A version with everything that is made for it when it is asked for, put together where all of that is known."""

from __future__ import annotations

from sqlalchemy import Engine

from flinch.market.frame import MarketFrame
from flinch.market.shelves import print_series
from flinch.market.version import Version
from flinch.market.view import View


def opened(frame: MarketFrame, engine: Engine) -> View:
    """A view of a frame's newest session on a version of its own."""
    return View(Version(frame, engine, lambda version: print_series(View(version))))
