"""Headlines about a name, as far as they had been told."""

from __future__ import annotations

from flinch.market.view import View
from flinch.store.market.news import OF_NO_NAME, Headline, read_headlines


def headlines(view: View, row: int, most: int) -> list[Headline]:
    """The newest headlines about a name, the newest first, in exchange time: up to the view's moment in the newest session of its
    version, else to the close of its session."""
    return _told(view, view.id(row), most)


def market_headlines(view: View, most: int) -> list[Headline]:
    """Likewise those about no name."""
    return _told(view, OF_NO_NAME, most)


def _told(view: View, name_id: int, most: int) -> list[Headline]:
    until = view.as_of if view.ends_version else view.hours.closes(view.today)
    told = read_headlines(view.store, name_id, until, most)
    return [one._replace(at=one.at.astimezone(view.hours.zone)) for one in told]
