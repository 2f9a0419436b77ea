"""What changed between two moments of a market, by kind and name (*update*)."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray
from flinch.core.rules.catalogue import BAR_KEYS
from flinch.market.frame import fields_of
from flinch.market.view import View
from flinch.store.market.models import ExtendedDay, FlowDay, OptionDay, Position, VolatilityDay

_OF_KIND = {
    "minute_bars": [*BAR_KEYS, *fields_of(ExtendedDay)],
    "option_trades": fields_of(FlowDay),
    "chains": [field for table in (OptionDay, VolatilityDay, Position) for field in fields_of(table)],
    "news": ["headlines"],
}
"""What is kept of the newest session of each kind; prints are told of with the minutes that they come with."""


class Changes(NamedTuple):
    """Kinds that came since the version `before`, and symbols of whom any of them says otherwise; None: whatever there is."""

    before: int | None
    kinds: list[str] | None
    names: list[str] | None


EVERYTHING = Changes(None, None, None)


def changes(before: View, now: View) -> Changes:
    """What the newest session of a version says otherwise than that of the one before; everything where a session came, or the
    past is another."""
    was, state = before.frame.state, now.frame.state
    same = (was.load_id, was.past_version) == (state.load_id, state.past_version)
    if not same or before.last != now.last or before.frame.ids.size != now.frame.ids.size:
        return EVERYTHING._replace(before=before.data_version)
    kinds: list[str] = []
    names = np.zeros(now.frame.ids.size, dtype=bool)
    for kind, fields in _OF_KIND.items():
        found = np.zeros(names.size, dtype=bool)
        for field in fields:
            found |= _differs(before, now, field)
        # A look at the chains that says the same is a look all the same.
        if found.any() or (kind == "chains" and before.snapshot != now.snapshot):
            kinds.append(kind)
        names |= found
    return Changes(before.data_version, kinds, [now.frame.names[row].symbol for row in np.flatnonzero(names).tolist()])


def _differs(before: View, now: View, field: str) -> BoolArray:
    def newest(view: View) -> np.ndarray:
        frame = view.frame
        if field in BAR_KEYS:
            values: np.ndarray = getattr(frame, field)[:, -1]
        elif field.startswith("iv") and field[2:].isdigit():
            values = frame.implied[int(field[2:])][:, -1]
        else:
            values = frame.daily[field][:, -1]
        return values

    one, other = newest(before), newest(now)
    differs: BoolArray = ~((one == other) | (np.isnan(one) & np.isnan(other)))
    return differs
