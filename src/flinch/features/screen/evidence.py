"""Evidence for a stack of rules: how often it fired, what followed, and the base rates of the same."""

from __future__ import annotations

import datetime as dt
import itertools
from collections.abc import Callable
from typing import Any, Literal, NamedTuple

import numpy as np
from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import Engine

from flinch.core.arrays import BoolArray, FloatArray
from flinch.core.evidence import (
    LEAST_DAYS,
    MEASURES,
    Compared,
    Estimate,
    Study,
    Target,
    cycle_target,
    move_target,
    moves_ahead,
    moves_from_open,
    ranges_ahead,
    sentence,
    study,
    touched_by,
)
from flinch.core.evidence import verdict as verdict_on
from flinch.core.evidence.words import Verdict
from flinch.core.interrupt import checkpoint, in_threads
from flinch.core.rules import RuleError, evaluate, percent
from flinch.jobs import Handle, Work
from flinch.market import Dictionary, Markets, View
from flinch.market.own_lines import LineAt
from flinch.market.touches import priced_touches
from flinch.screening.body import StackBody, Text
from flinch.screening.history import through_history, through_tape
from flinch.screening.own_words import with_own
from flinch.store.databases import DEMO
from flinch.store.owned.owners import Whose

# Sessions ahead, and the volatility that prices a move so far.
HORIZONS = {1: "iv_nearest", 5: "iv7", 10: "iv14", 21: "iv30"}
_LOOKED_AT = 3 * len(HORIZONS)

DISTANCES = (0.5, 0.75, 1.0, 1.25, 1.5, 2.0, 2.5, 3.0)
"""Expected moves at which the chances that options gave are held against what came."""

TargetKind = Literal["month", "week", "up", "down"]


class TargetAsked(BaseModel):
    """A price to touch: the edge of the month's or week's expected move on the side price is on, by the cycle's end; or so many
    expected moves up or down within some sessions."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    kind: TargetKind = "month"
    moves: float = Field(1.0, ge=0.1, le=5, description="For up and down: expected moves over the sessions")
    sessions: int = Field(10, ge=1, le=63, description="For up and down")


class EvidenceRequest(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    stack: StackBody
    table: Literal["names", "tickets"] = Field("names", description="What the rules are on")
    fresh: bool = Field(False, description="Count a name only on the first session of each stretch in which it holds")
    side: Text = Field(
        "up",
        description="The side of the bet: up, down, an expression whose sign says it, or for tickets lean, that of those left",
    )
    entry: Literal["close", "open"] = Field(
        "close",
        description="Outcomes count from that close, or from the next open, since a close cannot be traded once known",
    )
    target: TargetAsked | None = None


class Range(BaseModel):
    """A figure and its 95 % interval."""

    value: float | None
    low: float | None
    high: float | None


class Measured(BaseModel):
    """One measure of what followed."""

    measure: Literal["mean", "up", "size", "beyond", "range"]
    fired: Range
    same_days: Range
    other_days: Range
    against_days: Range
    against_names: Range
    verdict: Verdict


class Followed(BaseModel):
    """What followed within a number of sessions."""

    horizon: int
    cases: int
    days: int
    independent: int = Field(description="Days at least a horizon apart")
    measures: list[Measured]


class AtDistance(BaseModel):
    """Of the same cases and time, a price so many expected moves away: how often it was touched, and the chance options gave."""

    moves: float
    touched: float | None
    priced: float | None
    cases: int


class TargetFound(BaseModel):
    """How often the target was touched in time."""

    words: str
    cases: int
    days: int
    independent: int
    open: int = Field(description="Cases whose window is not over, which do not count")
    touched: Range
    same_days: Range
    other_days: Range
    against_days: Range
    priced: float | None = Field(description="The mean chance that options gave it")
    verdict: Verdict
    sentence: str
    by_distance: list[AtDistance] = Field(description="For up and down; none for the edge of a cycle")


class EvidencePath(BaseModel):
    id: int = Field(ge=1, description="What was answered when the evidence was asked for")


class Evidence(BaseModel):
    """What the history held says about a stack."""

    sessions: list[dt.date]
    fired: list[int] = Field(description="Names that met it, by session")
    eligible: list[int] = Field(description="Names that could have, by session")
    names: int = Field(description="Different names among them")
    cases: int
    days: int
    least_days: int
    side: str = Field(description="up, down, or the expression whose sign is the side of the bet")
    sideless: int = Field(description="Cases left out because the side has no sign there")
    sentence: str
    followed: list[Followed]
    target: TargetFound | None


class EvidenceJob(BaseModel):
    """Evidence that was asked for: how far it is and at what, and itself once it is there."""

    id: int
    percent: int
    stage: str
    evidence: Evidence | None


KIND = "evidence"
LEAN = "lean"
"""The side of a bet on tickets: up where more premium of those left leans up."""


def evidence_work(markets: Markets, owned: Engine) -> Work:
    """What does jobs of this kind, on the newest version of its market when its turn comes."""

    def work(handle: Handle) -> str:
        assert handle.owner is not None
        request = EvidenceRequest.model_validate(handle.asked["request"])
        own = tuple((key, expression) for key, expression in handle.asked["own"])
        lines = tuple(LineAt(symbol, price, dt.date.fromisoformat(day)) for symbol, price, day in handle.asked["lines"])
        # Asked before there were others it is the demo's.
        market = handle.asked.get("market", DEMO)
        asker = Asker(
            owned, Whose(handle.owner, market), with_own(own, request.table, lines), with_own(own, "names", lines)
        )
        return evidence(markets.open(market).holder.current(), asker, request, handle.tell).model_dump_json()

    return work


def asked_for(
    market: str, view: View, own: tuple[tuple[str, str], ...], lines: tuple[LineAt, ...], request: EvidenceRequest
) -> dict[str, Any]:
    """What is kept of a job of this kind: of which market and version it was asked for, and with which own metrics and lines;
    thousands of lines go along only where a text may use them."""
    used = any("line" in text for text in (request.model_dump_json(), *(expression for _, expression in own)))
    return {
        "market": market,
        "request": request.model_dump(mode="json"),
        "version": view.data_version,
        "own": [list(pair) for pair in own],
        "lines": [[line.symbol, line.price, str(line.since)] for line in lines] if used else [],
    }


class Asker(NamedTuple):
    """Who asks: where what they own lies, who they are, and what their texts may use: of the things that the rules are on, and of
    names."""

    owned: Engine
    whose: Whose
    things: Dictionary
    names: Dictionary


def evidence(
    view: View,
    asker: Asker,
    request: EvidenceRequest,
    tell: Callable[[float, str], None] = lambda share, stage: None,
) -> Evidence:
    """Evidence as of the newest session; `tell` gets the share that is done, and at what. Raises RuleError, NoSuchGroup."""
    stage = "following the rules through every session"
    tell(0.05, stage)
    asked = (view, asker.owned, asker.whose, asker.things, request.stack)
    followed_rules = (
        through_tape(*asked, lambda share: tell(0.05 + 0.35 * share, stage))
        if request.table == "tickets"
        else through_history(*asked)
    )
    fired, looked = followed_rules.met, followed_rules.looked
    if request.fresh:
        before = np.zeros_like(fired)
        before[:, 1:] = fired[:, :-1]
        fired = fired & ~before
    frame = view.frame
    leaning = request.side.strip() == LEAN and followed_rules.lean is not None
    side = followed_rules.lean if leaning else _side(view, asker.names, request.side)
    assert side is not None
    sideless = int((fired & ~(np.isfinite(side) & (side != 0))).sum())
    fired = fired & np.isfinite(side) & (side != 0)

    compared = itertools.count(1)

    def followed(horizon: int, priced: str) -> Study:
        checkpoint()
        expected = view.series(priced) * np.sqrt(horizon / 252)
        if request.entry == "open":
            moved = moves_from_open(frame.open, frame.close, expected, horizon)
        else:
            moved = moves_ahead(frame.close, expected, horizon)
        ranges = ranges_ahead(frame.high, frame.low, frame.close, expected, horizon)
        result = study(
            moved, followed_rules.eligible, fired, horizon=horizon, looks=_LOOKED_AT, ranges=ranges, side=side
        )
        tell(0.4 + 0.5 * next(compared) / len(HORIZONS), "comparing what followed")
        return result

    tell(0.4, "comparing what followed")
    # Two at a time: each takes several arrays of the market's size.
    studies = in_threads(lambda asked: followed(*asked), list(HORIZONS.items()), 2)
    by_day = fired.sum(axis=0)
    days, cases = int((by_day > 0).sum()), int(by_day.sum())
    return Evidence(
        sessions=view.sessions[looked],
        fired=by_day[looked].tolist(),
        eligible=followed_rules.eligible.sum(axis=0)[looked].tolist(),
        names=int(fired.any(axis=1).sum()),
        cases=cases,
        days=days,
        least_days=LEAST_DAYS,
        side=request.side.strip(),
        sideless=sideless,
        sentence=sentence(studies, days, cases, looked.stop - looked.start, side=request.side.strip()),
        followed=[
            Followed(
                horizon=s.horizon,
                cases=s.cases,
                days=s.days,
                independent=s.independent,
                measures=[_measured(s, measure) for measure in MEASURES],
            )
            for s in studies
        ],
        target=_target(view, followed_rules.eligible, fired, request.target, tell) if request.target else None,
    )


def _side(view: View, dictionary: Dictionary, text: str) -> FloatArray:
    """The side of the bet, names x sessions or something that broadcasts to it; raises RuleError for a text that has no sign."""
    if text.strip() in ("up", "down"):
        return np.full((1, 1), 1.0 if text.strip() == "up" else -1.0)
    expression = dictionary.read(text)
    if expression.node.kind != "number":
        raise RuleError(
            "The side of the bet wants a number, whose sign says it: above zero up, below zero down.", 0, len(text)
        )
    value = evaluate([expression.node], view.panel, 0, view.panel.sessions)[0]
    return np.asarray(value, dtype=np.float64)


def _range(estimate: Estimate) -> Range:
    return Range(**estimate._asdict())


def _measured(studied: Study, measure: str) -> Measured:
    compared: Compared = studied.measures[measure]
    return Measured(
        measure=measure,
        fired=_range(compared.fired),
        same_days=_range(compared.same_days),
        other_days=_range(compared.other_days),
        against_days=_range(compared.against_days),
        against_names=_range(compared.against_names),
        verdict=verdict_on(studied, measure),
    )


def _target(
    view: View, eligible: BoolArray, fired: BoolArray, asked: TargetAsked, tell: Callable[[float, str], None]
) -> TargetFound:
    frame = view.frame
    others: list[Target] = []
    if asked.kind in ("month", "week"):
        target = cycle_target(frame.close, view.band(asked.kind), frame.calendar, monthly=asked.kind == "month")
        words = f"the edge of the {asked.kind}’s expected move, on the side price is on, by the cycle’s end"
    else:
        tenors, sign = sorted(frame.implied), 1.0 if asked.kind == "up" else -1.0
        vols = [np.ascontiguousarray(frame.implied[tenor]) for tenor in tenors]
        target, *others = (
            move_target(frame.close, tenors, vols, sign * moves, asked.sessions) for moves in (asked.moves, *DISTANCES)
        )
        plural = "move" if asked.moves == 1 else "moves"
        words = f"{asked.moves:g} expected {plural} {asked.kind} within {asked.sessions} sessions"
    touched, still_open = touched_by(frame.high, frame.low, frame.close, target.price, target.end)
    counted = fired & eligible & np.isfinite(touched)
    first, *chances = priced_touches(
        view,
        [one.price for one in (target, *others)],
        target.end,
        counted,
        lambda share: tell(0.9 + 0.1 * share, "reading what options said"),
    )
    studied = study(touched, eligible, fired, horizon=target.span, looks=1)
    compared, verdict = studied.measures["mean"], verdict_on(studied, "mean")
    known = counted & np.isfinite(first)
    priced = float(first[known].mean()) if known.any() else float("nan")
    open_cases = int(still_open[fired & eligible].sum())
    return TargetFound(
        words=words,
        cases=studied.cases,
        days=studied.days,
        independent=studied.independent,
        open=open_cases,
        touched=_range(compared.fired),
        same_days=_range(compared.same_days),
        other_days=_range(compared.other_days),
        against_days=_range(compared.against_days),
        priced=priced,
        verdict=verdict,
        sentence=_target_words(studied, words, priced, verdict, open_cases),
        by_distance=[
            _at_distance(view, moves, other, chance, counted)
            for moves, other, chance in zip(DISTANCES, others, chances, strict=False)
        ],
    )


def _at_distance(view: View, moves: float, target: Target, chance: FloatArray, counted: BoolArray) -> AtDistance:
    frame = view.frame
    touched, _ = touched_by(frame.high, frame.low, frame.close, target.price, target.end)
    both = counted & np.isfinite(touched) & np.isfinite(chance)
    there = both.any()
    return AtDistance(
        moves=moves,
        touched=float(touched[both].mean()) if there else None,
        priced=float(chance[both].mean()) if there else None,
        cases=int(both.sum()),
    )


def _target_words(studied: Study, words: str, priced: float, verdict: str, open_cases: int) -> str:
    waiting = f" {open_cases:,} whose time is not over do not count." if open_cases else ""
    if not studied.cases:
        return f"No case in which {words} could still be touched and whose time is over.{waiting}"
    compared = studied.measures["mean"]
    told = (
        f"It touched {words} in {percent(compared.fired.value):.0f} % of {studied.cases:,} cases; all names on the same days did "
        f"in {percent(compared.same_days.value):.0f} %, and options priced {percent(priced):.0f} %.{waiting}"
    )
    if verdict == "too few":
        return f"{told} Too few to say: {studied.independent} independent days, {LEAST_DAYS} are needed."
    if verdict == "none":
        return f"{told} That is no better than the base rate."
    return f"{told} That is {'more' if verdict == 'above' else 'less'} often than chance explains."
