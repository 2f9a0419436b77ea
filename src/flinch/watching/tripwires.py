"""One moment of a market's tripwires: which rules hold of whom, who trips, and what is remembered."""

from __future__ import annotations

import datetime as dt
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Engine

from flinch.clock import wall
from flinch.core.arrays import BoolArray, find
from flinch.core.rules import METRICS, Node, RuleError, Truth, series_keys
from flinch.core.tripwires import Waiting, armed, watch
from flinch.errors import FlinchError
from flinch.market import Dictionary, View
from flinch.screening.body import RuleBody, StackBody
from flinch.screening.groups import mask, source_symbols
from flinch.screening.own_words import words_of
from flinch.screening.run import run_stack
from flinch.store.owned.kept import plain
from flinch.store.owned.models import Tripwire
from flinch.store.owned.owners import Whose
from flinch.store.owned.trips import REMEMBERED, Remembered
from flinch.watching.bodies import AgainBody, Parked, Rule

MOST_NUMBERS = 6
"""Metrics of a rule whose values are kept with a trip."""
_MINUTE = dt.timedelta(minutes=1)
_FIRST = dt.datetime(1970, 1, 1, tzinfo=dt.UTC)


class CannotWatch(FlinchError):
    """A tripwire cannot be watched as it is; the message says why."""

    kind, where = "cannot_watch", "rule"


class Holds(NamedTuple):
    """Where a rule certainly holds and certainly does not, shape (names,), and what it reads of numbers, by name."""

    yes: BoolArray
    no: BoolArray
    numbers: dict[str, np.ndarray]


class Looked(NamedTuple):
    """What came of a moment: trips as columns of `Trip`, and what is remembered of tripwires by id, where it changed."""

    trips: list[dict[str, Any]]
    remembered: dict[int, Remembered]


def read_rule(words: Dictionary, rule: Rule) -> Node:
    """The condition of a rule that is a text. Raises CannotWatch."""
    try:
        expression = words.read(rule.text, rule.bars)
    except RuleError as error:
        raise CannotWatch(str(error)) from error
    if expression.shape.is_open:
        raise CannotWatch(
            "This says what, and not from where on. Write a condition, such as close > 50 or rsi(14) < 30."
        )
    return expression.node


def holds(view: View, owned: Engine, whose: Whose, words: Dictionary, rule: Rule) -> Holds:
    """A rule for every name of a view. Raises CannotWatch, and NoSuchGroup where its screen is gone."""
    if rule.screen is not None:
        inside = mask(view, source_symbols(view, owned, whose, words, rule.screen))
        return Holds(inside, ~inside, {}) if rule.when == "enters" else Holds(~inside, inside, {})
    node = read_rule(words, rule)
    everybody = np.ones(len(view.frame.names), dtype=bool)
    stack = StackBody(rules=[RuleBody(text=rule.text, bars=rule.bars)])
    [ran] = run_stack(view, words, stack, everybody).rules
    truth: Truth | None = ran.truth
    if truth is None:
        raise CannotWatch("This is no condition.")
    read = [key for key in sorted(series_keys(node)) if key in METRICS and METRICS[key].kind == "number"]
    numbers = {} if rule.bars != "day" else {key: view.metric(key) for key in read[:MOST_NUMBERS]}
    return Holds(np.asarray(truth.yes), np.asarray(truth.no), numbers)


def parked_now(view: View, owned: Engine, whose: Whose, words: Dictionary, parked: Parked) -> BoolArray:
    """Which names are waited for at a view. Raises NoSuchGroup where the source is gone."""
    if parked.symbols is not None:
        return mask(view, parked.symbols)
    return mask(view, source_symbols(view, owned, whose, words, parked.source or "all"))


def look(
    view: View,
    owned: Engine,
    tripwires: list[Tripwire],
    remembered: dict[int, Remembered],
    *,
    missed: bool = False,
) -> Looked:
    """One moment of armed tripwires, on what is remembered of them. What rules share is read once; one that cannot be watched
    says why, and the others are watched all the same."""
    out = Looked([], {})
    words: dict[int, Dictionary] = {}
    held: dict[tuple[int, str], Holds] = {}
    places: dict[tuple[int, str], BoolArray] = {}
    market = tripwires[0].market if tripwires else ""
    minute, day = (view.as_of.astimezone(dt.UTC) - _FIRST) // _MINUTE, (view.today - _FIRST.date()).days
    move = view.metric("next_day_move")
    for one in tripwires:
        whose = Whose(one.owner_id, market)
        if one.owner_id not in words:
            words[one.owner_id] = words_of(owned, whose)
        before = remembered.get(one.id)
        if is_new(one, before):
            before = None
        mine = words[one.owner_id]
        try:
            rule, parked, again = Rule(**one.rule), Parked(**one.parked), AgainBody(**one.again)
            key, place = (one.owner_id, rule.model_dump_json()), (one.owner_id, parked.model_dump_json())
            if key not in held:
                held[key] = holds(view, owned, whose, mine, rule)
            if place not in places:
                places[place] = parked_now(view, owned, whose, mine, parked)
        except FlinchError as error:
            if before is None or before.error != str(error)[:300]:
                rows = np.empty(0, REMEMBERED) if before is None else before.names
                out.remembered[one.id] = _of(one, rows, str(error)[:300])
            continue
        then = _waiting(view, before)
        trips, now = watch(
            then, held[key].yes, held[key].no, parked=places[place], minute=minute, day=day,
            again=again.when, after=again.minutes,
        )  # fmt: skip
        if before is None or before.error is not None or not _alike(then, now):
            out.remembered[one.id] = _of(one, _rows(view, now), None)
        for row in np.flatnonzero(trips).tolist():
            numbers = {
                name: float(values[row]) for name, values in held[key].numbers.items() if np.isfinite(values[row])
            }
            out.trips.append(
                {
                    "owner_id": one.owner_id,
                    "market": market,
                    "tripwire_id": one.id,
                    "symbol": view.frame.names[row].symbol,
                    "moment": plain(view.as_of),
                    "session": view.today,
                    "data_version": view.data_version,
                    "rule": rule.model_dump(),
                    "numbers": numbers,
                    "price": _known(view.price(row)),
                    "move": _known(float(move[row])),
                    "missed": missed,
                    "told_at": plain(wall()),
                    "seen_at": None,
                }
            )
    return out


def is_new(one: Tripwire, remembered: Remembered | None) -> bool:
    """Whether nothing is remembered of a tripwire as it is armed now."""
    return remembered is None or (remembered.armed_at, remembered.version) != (one.armed_at, one.version)


def _known(value: float) -> float | None:
    return value if np.isfinite(value) else None


def _of(one: Tripwire, names: Any, error: str | None) -> Remembered:
    assert one.armed_at is not None
    return Remembered(one.armed_at, one.version, names, error)


def _waiting(view: View, before: Remembered | None) -> Waiting:
    """What is remembered, by row of the view; nothing of a name that came since."""
    waiting = armed(view.frame.ids.size)
    if before is None:
        return waiting
    row = find(view.frame.ids, before.names["name"].astype(np.int64))
    there = row >= 0
    for field, values in _fields(waiting).items():
        values[row[there]] = before.names[field][there]
    return waiting


def _fields(waiting: Waiting) -> dict[str, NDArray[Any]]:
    """Its arrays by field of what is remembered."""
    return {"known": waiting.last_known, "no_since": waiting.no_since, "tripped_on": waiting.tripped_on}


def _alike(one: Waiting, other: Waiting) -> bool:
    return all(np.array_equal(values, _fields(other)[field]) for field, values in _fields(one).items())


def _rows(view: View, waiting: Waiting) -> Any:
    """What is remembered, of names of which something is."""
    kept = (waiting.last_known >= 0) | (waiting.tripped_on >= 0)
    rows = np.zeros(int(kept.sum()), REMEMBERED)
    rows["name"] = view.frame.ids[kept]
    for field, values in _fields(waiting).items():
        rows[field] = values[kept]
    return rows
