"""What "now" is: for the market the moment that its data tell, for what users do the wall clock, which is read here alone."""

from __future__ import annotations

import datetime as dt


def wall() -> dt.datetime:
    """When somebody does something, in UTC. Nothing that is said of the market depends on it."""
    return dt.datetime.now(dt.UTC)


def market_now(close: dt.datetime, kept: dt.datetime | None = None, newest: dt.datetime | None = None) -> dt.datetime:
    """The moment of the market as of a session: that of the newest data in the newest one, that of the session's last kept
    chains in a past one, its close where none are."""
    return newest or kept or close
