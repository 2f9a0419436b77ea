"""Dossier, price: one name's bars of any length, and what can be laid over them.

Every layer that a rule can ask for is that rule's own expression, evaluated on these bars.
"""

from __future__ import annotations

import bisect
import datetime as dt
from dataclasses import dataclass
from typing import Literal

import numpy as np

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.flow import SIDES
from flinch.core.moves import fan
from flinch.core.rolling import rolling_regression
from flinch.core.rules import RuleError, Truth, evaluate, percent
from flinch.core.technicals import open_gaps, turning_points
from flinch.features.dossier.moves import Fan, cycle_fans, fans_ahead
from flinch.features.dossier.news import NewsRow
from flinch.features.dossier.price_schemas import (
    BarFan,
    ChannelLine,
    GapZone,
    Layer,
    PriceBelow,
    PriceEvent,
    PriceLevel,
    PriceLine,
    PriceNews,
    PriceQuery,
    PriceSwing,
    PriceView,
    TicketMark,
)
from flinch.market import PLAIN, Dictionary, View
from flinch.market.headlines import headlines
from flinch.market.name_bars import NameBars, name_bars
from flinch.market.prints import market_prints
from flinch.market.shelves import WINDOW, shelves_of
from flinch.market.tickets import contract_of, ticket_table
from flinch.screening.columns import Described, describe
from flinch.store.market.chain import read_dividends

TICKETS_SHOWN, NEWS_SHOWN, SIDE, GAP_BARS = 40, 200, 5, 126
EXTENSIONS = (1.272, 1.618, 2.0)
_BANDS: dict[Layer, tuple[tuple[str, str], ...]] = {
    "bollinger": (
        ("Bollinger, upper", "bollinger_upper(close, 20, 2)"),
        ("Bollinger, lower", "bollinger_lower(close, 20, 2)"),
    ),
    "keltner": (("Keltner, upper", "keltner_upper(20, 1.5)"), ("Keltner, lower", "keltner_lower(20, 1.5)")),
}


@dataclass(frozen=True)
class _Chart:
    """A name's bars, and those of them that are drawn: bars in which nothing traded are computed with, as rules do, and not
    drawn. `place` says where each bar is drawn."""

    view: View
    row: int
    bars: NameBars
    drawn: IntArray
    place: IntArray

    def values(self, text: str, dictionary: Dictionary = PLAIN) -> FloatArray:
        """An expression at every bar; a condition as 1 and 0."""
        node = dictionary.read(text, "day" if self.bars.daily else "5").node
        if node.kind == "text":
            raise RuleError("A category has no history. Choose a number or a condition.", 0, len(text))
        if not self.bars.close.size:
            return np.empty(0)
        value = evaluate([node], self.bars.panel, 0, self.bars.close.size)[0]
        if isinstance(value, Truth):
            return np.where(value.yes[0], 1.0, np.where(value.no[0], 0.0, np.nan))
        numbers: FloatArray = np.asarray(value, np.float64)[0]
        return numbers

    def beside(self, values: FloatArray) -> list[float | None]:
        """Values at the bars that are drawn."""
        there: list[float | None] = values[self.drawn].tolist()
        return there

    def bars_on(self, day: dt.date) -> IntArray:
        """The drawn bars of a day; none of one that is no session."""
        session = self.view.session_on(day)
        there: IntArray = self.drawn[(self.bars.session[self.drawn] == session) & (self.view.date(session) == day)]
        return there

    def at(self, moment: dt.datetime) -> int | None:
        """Where the bar is drawn in which a moment (UTC) lies, or the last one before it in its session; None outside."""
        day = self.view.hours.day_of(moment)
        minute = (moment - self.view.hours.opens(day)).total_seconds() / 60
        mine = self.bars_on(day)
        mine = mine[self.bars.begins[mine] <= max(minute, 0)]
        return int(self.place[mine[-1]]) if mine.size else None


def price(view: View, dictionary: Dictionary, own: dict[str, Described], symbol: str, query: PriceQuery) -> PriceView:
    """One name's bars and the layers asked for; raises UnknownName and RuleError."""
    row = view.row(symbol)
    bars = name_bars(view, row, query.length, extended=query.extended)
    known = np.isfinite(bars.close)
    chart = _Chart(view, row, bars, np.flatnonzero(known), np.cumsum(known) - 1)
    wanted = set(query.layers) if chart.drawn.size else set()

    def on(layer: Layer) -> bool:
        return layer in wanted

    sessions, day = np.unique(bars.session[chart.drawn], return_inverse=True)
    ahead, fans = _fans(chart) if on("fans") else ([], [])
    levels = [
        *(_day_before(chart) if on("day") else []),
        *(_gamma(chart) if on("gamma") else []),
        *(_shelves(chart) if on("shelves") else []),
        *(_extensions(chart) if on("swings") else []),
    ]
    return PriceView(
        symbol=view.name(row).symbol,
        session=view.today,
        length=query.length,
        price=view.price(row),
        one_day_move=float(view.metric("one_day_move")[row]),
        at=_times(chart),
        day=day.tolist(),
        sessions=[view.date(session) for session in sessions.tolist()],
        ahead=ahead,
        open=chart.beside(bars.open),
        high=chart.beside(bars.high),
        low=chart.beside(bars.low),
        close=chart.beside(bars.close),
        volume=chart.beside(bars.volume),
        regular=bars.regular[chart.drawn].tolist(),
        lines=_lines(chart, query, wanted),
        channel=_channel(chart, query) if on("channel") else None,
        squeeze=np.flatnonzero(chart.values("squeeze_on")[chart.drawn] == 1).tolist() if on("squeeze") else [],
        fans=fans,
        gaps=_gaps(chart) if on("gaps") else [],
        swings=_swings(chart) if on("swings") else [],
        levels=levels,
        tickets=_tickets(chart) if on("tickets") else [],
        events=_events(chart) if on("events") else [],
        news=_news(chart) if on("news") else [],
        below=[_below(chart, dictionary, own, text.strip()) for text in query.below if text.strip()],
        reason=None if chart.drawn.size else _reason(chart),
    )


def _reason(chart: _Chart) -> str:
    if not chart.bars.daily and not chart.bars.close.size:
        return "minutes of these sessions are not kept; choose bars of a day"
    return "nothing traded in the time that is kept"


def _times(chart: _Chart) -> list[dt.datetime]:
    bars, view = chart.bars, chart.view
    sessions = np.unique(bars.session[chart.drawn]).tolist()
    opens = {session: view.hours.opens(view.date(session)).astimezone(dt.UTC) for session in sessions}
    return [
        opens[session] + dt.timedelta(minutes=minute)
        for session, minute in zip(bars.session[chart.drawn].tolist(), bars.begins[chart.drawn].tolist(), strict=True)
    ]


# -- lines ---------------------------------------------------------------------------------------------------------------------


def _lines(chart: _Chart, query: PriceQuery, wanted: set[Layer]) -> list[PriceLine]:
    asked: list[tuple[Layer, str, str]] = []
    if "averages" in wanted:
        for text in filter(None, query.averages.split(", ")):
            kind, bars = text.split(" ")
            asked.append(("averages", text, f"{kind}(close, {bars})"))
    for layer, pair in _BANDS.items():
        if layer in wanted:
            asked += [(layer, label, expression) for label, expression in pair]
    return [
        PriceLine(layer=layer, label=label, expression=text, values=chart.beside(chart.values(text)))
        for layer, label, text in asked
    ]


def _channel(chart: _Chart, query: PriceQuery) -> ChannelLine | None:
    """The line that `channel` tells the end of, and its beginning."""
    size = chart.bars.close.size
    if size < query.channel:
        return None
    slope, end, residual = (float(part[0, -1]) for part in rolling_regression(chart.bars.close[None, :], query.channel))
    first, last = size - query.channel, size - 1
    if not np.isfinite(end):
        return None
    begin = end - slope * (query.channel - 1)
    return ChannelLine(
        first=int(chart.place[first]),
        last=int(chart.place[last]),
        begin=begin,
        end=end,
        width=query.deviations * residual,
    )


def _below(chart: _Chart, dictionary: Dictionary, own: dict[str, Described], text: str) -> PriceBelow:
    described = describe(text, own, "number")
    try:
        values = chart.values(text, dictionary)
        reason = None if np.isfinite(values[chart.drawn]).any() else "it has no value on these bars"
    except RuleError as error:
        values, reason = np.full(chart.bars.close.size, np.nan), error.message
    return PriceBelow(
        expression=text,
        label=described.label,
        unit=described.unit,
        decimals=described.decimals,
        values=chart.beside(values),
        reason=reason,
    )


# -- what was priced -----------------------------------------------------------------------------------------------------------


def _fans(chart: _Chart) -> tuple[list[dt.date], list[BarFan]]:
    """Weeks, months and what lies ahead over days; over shorter bars each session's own move."""
    return _long_fans(chart) if chart.bars.daily else ([], _day_fans(chart))


def _long_fans(chart: _Chart) -> tuple[list[dt.date], list[BarFan]]:
    view, row = chart.view, chart.row
    fans: list[Fan] = [*cycle_fans(view, row, "month"), *cycle_fans(view, row, "week"), *fans_ahead(view, row)]
    ahead = sorted({day for one in fans for day in one.sessions if day > view.today})
    bars = {view.date(session): bar for bar, session in enumerate(chart.bars.session[chart.drawn].tolist())}
    places = bars | {day: chart.drawn.size + i for i, day in enumerate(ahead)}
    return ahead, [
        BarFan(
            bars=[places[day] for day in one.sessions if day in places],
            lower=[edge for day, edge in zip(one.sessions, one.lower, strict=True) if day in places],
            upper=[edge for day, edge in zip(one.sessions, one.upper, strict=True) if day in places],
            current=one.current,
        )
        for one in fans
    ]


def _day_fans(chart: _Chart) -> list[BarFan]:
    moves = chart.view.history(PLAIN.read("one_day_move").node, chart.row)
    close, out = chart.view.frame.close[chart.row], []
    held = chart.bars.session[chart.drawn]
    for session in np.unique(held).tolist():
        mine = chart.drawn[(held == session) & chart.bars.regular[chart.drawn]]
        anchor, move = float(close[session - 1]) if session else np.nan, float(moves[session])
        if mine.size and np.isfinite(anchor) and move > 0:
            # It opens where the bar before the first one ends.
            before = chart.place[mine[:1]] - 1
            places = np.concatenate([before[before >= 0], chart.place[mine]])
            elapsed = np.concatenate([np.zeros(places.size - mine.size), chart.bars.ends[mine]])
            half = fan(move, elapsed, int(chart.bars.closes[mine[0]]))
            out.append(
                BarFan(
                    bars=places.tolist(),
                    lower=(anchor - half).tolist(),
                    upper=(anchor + half).tolist(),
                    current=session == chart.view.last,
                )
            )
    return out


# -- what price left behind ----------------------------------------------------------------------------------------------------


def _gaps(chart: _Chart) -> list[GapZone]:
    gaps = open_gaps(chart.bars.high, chart.bars.low, window=GAP_BARS)
    return [
        GapZone(bar=int(chart.place[bar]), fill=fill, reached=reached, above=above)
        for bar, fill, reached, above in zip(*(column.tolist() for column in gaps), strict=True)
    ]


def _swings(chart: _Chart) -> list[PriceSwing]:
    found = [
        PriceSwing(bar=int(chart.place[bar]), price=float(values[bar]), high=high)
        for values, high in ((chart.bars.high, True), (chart.bars.low, False))
        for bar in turning_points(values, SIDE, high=high).tolist()
    ]
    return sorted(found, key=lambda swing: swing.bar)


def _extensions(chart: _Chart) -> list[PriceLevel]:
    levels = [(ratio, float(chart.values(f"fib_extension({ratio}, {SIDE})")[-1])) for ratio in EXTENSIONS]
    return [
        PriceLevel(layer="swings", label=f"{percent(ratio):g} %", price=level)
        for ratio, level in levels
        if np.isfinite(level)
    ]


def _day_before(chart: _Chart) -> list[PriceLevel]:
    _, high, low, _ = chart.view.prices(chart.row)
    if chart.view.last == 0:
        return []
    levels = (("high before", float(high[-2])), ("low before", float(low[-2])))
    return [PriceLevel(layer="day", label=label, price=level) for label, level in levels if np.isfinite(level)]


# -- what others hold and trade ------------------------------------------------------------------------------------------------


def _gamma(chart: _Chart) -> list[PriceLevel]:
    levels = (("flip", "flip"), ("peak exposure", "peak_exposure_strike"), ("peak interest", "peak_interest_strike"))
    told = [(label, float(chart.view.metric(key)[chart.row])) for label, key in levels]
    return [PriceLevel(layer="gamma", label=label, price=level) for label, level in told if np.isfinite(level)]


def _shelves(chart: _Chart) -> list[PriceLevel]:
    view, row = chart.view, chart.row
    move = float(view.metric("next_day_move")[row])
    found = shelves_of(market_prints(view), row, view.last - WINDOW + 1, view.last, move)
    columns = (found.price, found.low, found.high, found.share)
    return [
        PriceLevel(layer="shelves", label="shelf", price=middle, low=low, high=high, share_pct=percent(share))
        for middle, low, high, share in zip(*(column.tolist() for column in columns), strict=True)
    ]


def _tickets(chart: _Chart) -> list[TicketMark]:
    """The largest by premium of the sessions of which trades are kept and bars are drawn."""
    table = ticket_table(chart.view)
    mine = np.flatnonzero(table.name == chart.row)
    mine = mine[np.isin(table.session[mine], chart.bars.session[chart.drawn])]
    mine = np.sort(mine[np.argsort(-table.values("premium")[mine], kind="stable")[:TICKETS_SHOWN]])
    keys = ("first", "side", "contracts", "fill_price", "premium", "price_then")
    columns = (*(table.take(key, mine) for key in keys), table.session[mine], table.contract[mine], table.since(mine))
    out = []
    for first, side, contracts, paid, premium, spot, session, place, since in zip(
        *(column.tolist() for column in columns), strict=True
    ):
        at = dt.datetime.combine(chart.view.date(session), dt.time(), dt.UTC) + dt.timedelta(milliseconds=first)
        bar, contract = chart.at(at), contract_of(table.contracts, place)
        if bar is not None and np.isfinite(spot):
            out.append(
                TicketMark(
                    bar=bar, at=at, is_call=contract.is_call, side=side - 1, premium=premium, spot=spot, since=since,
                    words=f"{contracts:,.0f} {contract.words} at {paid:.2f}, {SIDES[side]} side",
                )
            )  # fmt: skip
    return out


def _news(chart: _Chart) -> list[PriceNews]:
    """The newest headlines, each at the bar in which it was told; one told while the exchange was closed at the next bar."""
    view, marks = chart.view, dict[int, PriceNews]()
    days = [view.date(session) for session in np.unique(chart.bars.session[chart.drawn]).tolist()]
    ends = [view.hours.closes(day) for day in days]
    for one in headlines(view, chart.row, NEWS_SHOWN):
        place = bisect.bisect_left(ends, one.at)
        # Before the first session that is drawn a day is taken to be the one before.
        if place == len(ends) or one.at <= ends[0] - dt.timedelta(days=1):
            continue
        bar = chart.at(max(one.at, view.hours.opens(days[place])).astimezone(dt.UTC))
        if bar is not None:
            mark = marks.setdefault(bar, PriceNews(bar=bar, headlines=[]))
            mark.headlines.append(NewsRow(**one._asdict()))
    return sorted(marks.values(), key=lambda mark: mark.bar)


def _events(chart: _Chart) -> list[PriceEvent]:
    view = chart.view
    told: list[tuple[dt.date, Literal["report", "dividend"], str]] = [
        (
            report.session,
            "report",
            f"earnings {'before the open' if report.timing == 'before_open' else 'after the close'}",
        )
        for report in view.reports(chart.row)
    ]
    for day, amount in read_dividends(view.store, view.id(chart.row)).select("ex_date", "amount").iter_rows():
        told.append((day, "dividend", f"ex-dividend {amount:.2f}"))
    return [
        PriceEvent(bar=int(chart.place[mine[0]]), kind=kind, words=words)
        for day, kind, words in told
        if (mine := chart.bars_on(day)).size
    ]
