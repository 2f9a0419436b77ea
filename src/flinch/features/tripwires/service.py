"""What is told of tripwires: how they stand, what tripped, and how often one would have."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from functools import cache

import numpy as np
from sqlalchemy import Engine

from flinch.core.rules import METRICS, Truth, evaluate
from flinch.core.tripwires import through
from flinch.errors import FlinchError
from flinch.features.tripwires.schemas import (
    Before,
    BeforeAsked,
    NameOften,
    Number,
    TripRow,
    TripwireDraft,
    TripwireInfo,
)
from flinch.market import Dictionary, View
from flinch.screening.groups import screen_name
from flinch.store.owned.kept import BASKETS
from flinch.store.owned.models import Trip, Tripwire
from flinch.store.owned.owners import Whose
from flinch.store.owned.trips import Remembered, Told
from flinch.watching.bodies import MOST_PARKED, AgainBody, Parked, Rule
from flinch.watching.tripwires import CannotWatch, holds, is_new, parked_now, read_rule

MOST_OFTEN = 8
BEFORE_SESSIONS = 252
"""Sessions in which it is counted how often a tripwire would have tripped."""


def sound(view: View, owned: Engine, whose: Whose, words: Dictionary, draft: TripwireDraft) -> None:
    """Raises CannotWatch, UnknownName and NoSuchGroup for what could not be watched."""
    for symbol in draft.parked.symbols or []:
        view.row(symbol)
    parked_now(view, owned, whose, words, draft.parked)
    holds(view, owned, whose, words, draft.rule)


def kept_now(view: View, owned: Engine, whose: Whose, words: Dictionary, parked: Parked) -> Parked:
    """The names of a source as they are now. Raises CannotWatch where there is none, or more than are parked."""
    rows = np.flatnonzero(parked_now(view, owned, whose, words, parked)).tolist()
    if not rows or len(rows) > MOST_PARKED:
        raise CannotWatch(f"{len(rows)} names are in it now; a list of 1 to {MOST_PARKED:,} can be kept.")
    symbols = [view.frame.names[row].symbol for row in rows]
    return Parked(symbols=symbols, session=view.today.isoformat(), of=parked.source)


def rule_words(owned: Engine, whose: Whose, rule: Rule) -> str:
    """What is waited for."""
    if rule.screen is not None:
        return f"{rule.when} {screen_name(owned, whose, rule.screen)}"
    return rule.text if rule.bars == "day" else f"{rule.text}, on bars of {rule.bars} minutes"


def parked_words(owned: Engine, whose: Whose, parked: Parked) -> str:
    """On which names."""
    if parked.symbols is not None and parked.of is None:
        few = ", ".join(parked.symbols[:3]) + (
            f" and {len(parked.symbols) - 3} more" if len(parked.symbols) > 3 else ""
        )
        return f"{few}, as of {parked.session}" if parked.session else few
    source = parked.of or parked.source or "all"
    kind, _, detail = source.partition(":")
    plain = {"all": "all names", "stock": "all stocks", "fund": "all funds", "tray": "the tray"}
    called = plain.get(kind, f"{kind} {detail}")
    if kind == "screen":
        called = screen_name(owned, whose, source)
    elif kind == "basket" and detail.isdecimal() and len(detail) < 10:
        basket = BASKETS.one(owned, whose, int(detail))
        called = "a basket that is gone" if basket is None else f"basket {basket.name}"
    elif kind == "members":
        called = f"members of {detail}"
    elif kind == "sector":
        called = detail
    return f"{called} as of {parked.session}" if parked.of is not None else called


def count_parked(view: View, owned: Engine, whose: Whose, words: Dictionary) -> Callable[[Parked], int]:
    """How many names are parked now, asked once of a source whatever waits on it. Raises NoSuchGroup where it is gone."""

    @cache
    def counted(parked: str) -> int:
        return int(parked_now(view, owned, whose, words, Parked.model_validate_json(parked)).sum())

    return lambda parked: counted(parked.model_dump_json())


def info(
    view: View,
    owned: Engine,
    whose: Whose,
    one: Tripwire,
    told: Told,
    remembered: Remembered | None,
    parked_count: Callable[[Parked], int],
) -> TripwireInfo:
    """How a tripwire stands."""
    parked, rule = Parked(**one.parked), Rule(**one.rule)
    names: int | None = None
    error = None if remembered is None or is_new(one, remembered) else remembered.error
    try:
        names = parked_count(parked)
    except FlinchError as gone:
        error = error or str(gone)
    return TripwireInfo(
        id=one.id,
        version=one.version,
        name=one.name,
        parked=parked,
        rule=rule,
        again=AgainBody(**one.again),
        why=one.why,
        note=one.note,
        words=rule_words(owned, whose, rule),
        of=parked_words(owned, whose, parked),
        names=names,
        armed_at=_here(view, one.armed_at),
        error=error,
        trips=told.trips,
        unseen=told.unseen,
        last=_here(view, told.last),
    )


def trip_rows(
    view: View, owned: Engine, whose: Whose, trips: list[Trip], tripwires: dict[int, Tripwire]
) -> list[TripRow]:
    """Trips as they are told, with how far price has gone since."""

    @cache
    def waited_for(rule: str) -> str:
        return rule_words(owned, whose, Rule.model_validate_json(rule))

    @cache
    def parked_on(tripwire: int) -> str:
        one = tripwires.get(tripwire)
        return "" if one is None else parked_words(owned, whose, Parked(**one.parked))

    out = []
    for trip in trips:
        one, row = tripwires.get(trip.tripwire_id), view.frame.index.get(trip.symbol)
        price = float("nan") if row is None else view.price(row)
        since = (price - trip.price) / trip.move if trip.price is not None and trip.move else None
        out.append(
            TripRow(
                id=trip.id,
                tripwire=trip.tripwire_id,
                name=None if one is None else one.name,
                symbol=trip.symbol,
                moment=trip.moment.replace(tzinfo=dt.UTC).astimezone(view.hours.zone),
                words=waited_for(Rule(**trip.rule).model_dump_json()),
                numbers=[_number(key, value) for key, value in trip.numbers.items() if key in METRICS],
                price=trip.price,
                move=trip.move,
                since=since,
                missed=trip.missed,
                seen=trip.seen_at is not None,
                parked=parked_on(trip.tripwire_id),
            )
        )
    return out


def _number(key: str, value: float) -> Number:
    metric = METRICS[key]
    return Number(key=key, label=metric.label, unit=metric.unit, decimals=metric.decimals, value=value)


def before(view: View, owned: Engine, whose: Whose, words: Dictionary, asked: BeforeAsked) -> Before:
    """How often a tripwire would have tripped. Raises CannotWatch and NoSuchGroup."""
    parked = parked_now(view, owned, whose, words, asked.parked)
    now = holds(view, owned, whose, words, asked.rule)
    reason = None
    if asked.rule.screen is not None:
        reason = "How often names came into a screen is not counted; Evidence of the screen tells what followed."
    elif asked.rule.bars != "day":
        reason = "Counted are rules on daily bars, once a session at its close."
    counted = Before(
        reason=reason,
        names=int(parked.sum()),
        holds=int((now.yes & parked).sum()),
        unknown=int((~now.yes & ~now.no & parked).sum()),
        sessions=[],
        trips=[],
        total=0,
        a_session=None,
        none=0,
        again=asked.again.when,
        most=[],
    )
    if reason is not None:
        return counted
    rows, first = np.flatnonzero(parked), max(0, view.end - BEFORE_SESSIONS)
    [truth] = evaluate([read_rule(words, asked.rule)], view.panel.only(rows), first, view.end)
    assert isinstance(truth, Truth)
    trips = through(np.asarray(truth.yes), np.asarray(truth.no), asked.again.when)
    a_session, a_name = trips.sum(axis=0), trips.sum(axis=1)
    often = np.argsort(-a_name, kind="stable")[:MOST_OFTEN]
    return counted.model_copy(
        update={
            "sessions": view.sessions[first:],
            "trips": a_session.tolist(),
            "total": int(a_session.sum()),
            "a_session": float(a_session.mean()) if a_session.size else None,
            "none": int((a_session == 0).sum()),
            "most": [
                NameOften(symbol=view.frame.names[rows[place]].symbol, trips=int(a_name[place]))
                for place in often.tolist()
                if a_name[place]
            ],
        }
    )


def _here(view: View, moment: dt.datetime | None) -> dt.datetime | None:
    return None if moment is None else moment.replace(tzinfo=dt.UTC).astimezone(view.hours.zone)
