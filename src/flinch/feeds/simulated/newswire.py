"""A newswire: headlines that go with what happens, and some that go with nothing."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple, TypeVar

import numpy as np
import polars as pl
from numpy.typing import NDArray

from flinch.core.rolling import rolling_std
from flinch.feeds.simulated.calendar import DateArray, session_opens
from flinch.feeds.simulated.earnings import EarningsCalendar
from flinch.feeds.simulated.names import Listing

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
_T = TypeVar("_T")

_MINUTES = 390
_GUIDANCE, _TOLD, _LARGE, _IDLE = 0.4, 0.6, 2.8, 0.012
"""How often a report is followed by an outlook, and a move of so many usual ones has a headline; headlines a session of a company
that go with nothing."""
_REPORT = (
    ("earned less than expected", "missed what was expected of the quarter"),
    ("earned about what was expected", "reports a quarter in line"),
    ("earned more than expected", "beat what was expected of the quarter"),
)
_OUTLOOK = ("lowers its outlook for the year", "keeps its outlook for the year", "raises its outlook for the year")
_UP = (
    ("takeover", "is said to be in talks with a buyer"),
    ("takeover", "has turned down a bid, people close to it say"),
    ("upgrade", "raised to buy at {house}"),
    ("contract", "wins its largest order of the year"),
    ("product", "gets the approval it waited for"),
)
_DOWN = (
    ("downgrade", "cut to hold at {house}"),
    ("downgrade", "cut to sell at {house}"),
    ("guidance", "warns that the quarter will be weaker"),
    ("contract", "loses its largest customer"),
    ("legal", "says that a regulator asks questions"),
)
_NOTHING = (
    ("conference", "to speak at a conference next month"),
    ("management", "names a new head of finance"),
    ("product", "shows what it will sell next year"),
    ("filing", "says how much its directors own of it"),
    ("buyback", "bought back shares last month"),
)
_HOUSES = ("Quillmark Research", "Oster & Vane", "Halvard Sons", "Ninefold Partners")


class _Wire(NamedTuple):
    """Headlines as they are made: rows of the market (-1 for none), sessions, minutes from the open, topic and words."""

    name: list[int]
    session: list[int]
    minute: list[float]
    topic: list[str]
    headline: list[str]

    def tell(self, name: int, session: int, minute: float, topic: str, headline: str) -> None:
        self.name.append(name)
        self.session.append(session)
        self.minute.append(minute)
        self.topic.append(topic)
        self.headline.append(headline)


def make_news(
    names: list[Listing],
    sessions: DateArray,
    close: Floats,
    traded: Bools,
    earnings: EarningsCalendar,
    rng: np.random.Generator,
) -> pl.DataFrame:
    """Headlines of all sessions: name (row of the market, -1 for none), at (UTC, milliseconds), headline, topic; by time.

    Reports are told with what came of them, some with an outlook; most large moves have a reason, which is told before the open
    or in the session's first hours; some headlines go with nothing at all. Each close is summed up in one of no name. `close`
    and `traded` have shape (names, sessions).
    """
    wire = _Wire([], [], [], [], [])
    _reports(wire, names, sessions.size, traded, earnings, rng)
    _moves(wire, names, close, traded, earnings, rng)
    _idle(wire, names, traded, rng)
    _closes(wire, names, close)
    opens = session_opens(sessions).astype("datetime64[ms]")
    at = opens[wire.session] + np.round(np.array(wire.minute) * 60_000).astype("timedelta64[ms]")
    rows = pl.DataFrame({"name": wire.name, "at": at, "headline": wire.headline, "topic": wire.topic})
    return rows.unique(["name", "at"], keep="first", maintain_order=True).sort("at", "name")


def _reports(
    wire: _Wire,
    names: list[Listing],
    sessions: int,
    traded: Bools,
    earnings: EarningsCalendar,
    rng: np.random.Generator,
) -> None:
    """A report, and what the company thinks of the year."""
    surprise = earnings.jump / earnings.priced_move
    for place in range(earnings.company.size):
        company, session = int(earnings.company[place]), int(earnings.announced[place])
        early, draws = bool(earnings.before_open[place]), rng.random(4)
        if not 0 <= session < sessions or not traded[company, session]:
            continue
        tone = int(np.digitize(surprise[place], (-0.3, 0.3)))
        minute = -170 + 110 * draws[0] if early else _MINUTES + 3 + 15 * draws[0]
        words = names[company].company
        wire.tell(company, session, minute, "report", f"{words} {_one(_REPORT[tone], draws[1])}")
        if draws[2] < _GUIDANCE:
            wire.tell(company, session, minute + 1 + 20 * draws[3], "guidance", f"{words} {_OUTLOOK[tone]}")


def _moves(
    wire: _Wire,
    names: list[Listing],
    close: Floats,
    traded: Bools,
    earnings: EarningsCalendar,
    rng: np.random.Generator,
) -> None:
    """A reason for most moves that are large for the name and not those of a report."""
    moved = np.full(close.shape, np.nan)
    moved[:, 1:] = np.diff(np.log(close), axis=1)
    usual = np.full(close.shape, np.nan)
    usual[:, 1:] = rolling_std(moved, 63)[:, :-1]
    reported = np.zeros(close.shape, dtype=bool)
    inside = (earnings.reaction >= 0) & (earnings.reaction < close.shape[1])
    reported[earnings.company[inside], earnings.reaction[inside]] = True
    stock = np.array([name.kind == "stock" for name in names])
    large = (np.abs(moved) > _LARGE * usual) & ~reported & traded & stock[:, None]
    for row, session in zip(*np.nonzero(large), strict=True):
        draws = rng.random(4)
        if draws[0] < _TOLD:
            topic, words = _one(_UP if moved[row, session] > 0 else _DOWN, draws[1])
            minute = -140 + 200 * draws[2]
            told = words.format(house=_one(_HOUSES, draws[3]))
            wire.tell(int(row), int(session), minute, topic, f"{names[row].company} {told}")


def _idle(wire: _Wire, names: list[Listing], traded: Bools, rng: np.random.Generator) -> None:
    """What is told of companies on any day."""
    stock = np.array([name.kind == "stock" for name in names])
    told = (rng.random(traded.shape) < _IDLE) & traded & stock[:, None]
    for row, session in zip(*np.nonzero(told), strict=True):
        draws = rng.random(2)
        topic, words = _one(_NOTHING, draws[0])
        wire.tell(int(row), int(session), -120 + 540 * draws[1], topic, f"{names[row].company} {words}")


def _closes(wire: _Wire, names: list[Listing], close: Floats) -> None:
    """How each session ended, by what companies did on average, and which sector did best."""
    stock = np.flatnonzero([name.kind == "stock" for name in names])
    change = close[stock, 1:] / close[stock, :-1] - 1
    sector = np.array([names[row].sector for row in stock])
    sectors = sorted(set(sector))
    by_sector = np.stack([change[sector == one].mean(axis=0) for one in sectors])
    for place, mean in enumerate(change.mean(axis=0).tolist()):
        best = sectors[int(by_sector[:, place].argmax())]
        words = "little changed" if abs(mean) < 0.001 else f"{'higher' if mean > 0 else 'lower'} by {abs(mean):.1%}"
        wire.tell(-1, place + 1, _MINUTES + 6, "market", f"Stocks end {words}; {best} did best")


def _one(of: Sequence[_T], draw: float) -> _T:
    return of[int(draw * len(of))]
