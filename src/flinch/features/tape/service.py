"""The ways to look at surviving tickets: by name, one by one, by contract, through the day; and one name's on its price."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.flow import KINDS, OPENING, SIDES, Groups, group_tickets, highest, place_of_highest, unusual
from flinch.core.gamma import SMALL_BASE
from flinch.core.rules import percent
from flinch.features.tape.schemas import (
    FillList,
    FillRow,
    FillsAsked,
    Mark,
    NameTickets,
    Pointed,
    QuarterRow,
    Sided,
    TapeContract,
    TapeName,
    TapeReply,
    TapeRequest,
    TicketLine,
)
from flinch.features.tape.survivors import QUARTER_MINUTES, Survivors, moment_of, quarter_of, quarters
from flinch.features.tape.words import package_legs, package_words, roll_words
from flinch.market import View
from flinch.market.bars import load_day_minutes
from flinch.market.tickets import TicketDay, asked_of, contract_of
from flinch.screening.columns import Described
from flinch.screening.report import rule_reports
from flinch.store.market.tape import read_venues
from flinch.tape import WORDS, Contract, Paired, moment_of_day, paired_words, read_session_tape, tell_fills

_DAY_MILLISECONDS = 86_400_000
MOST_SYMBOLS, MOST_MARKS, MOST_POINTED, MOST_FILLS = 2_000, 80, 5, 200


def look(found: Survivors, own: dict[str, Described], request: TapeRequest) -> TapeReply:
    """The funnel and the rows asked for."""
    view, table = found.table.view, found.table
    rows: dict[str, Any]
    if request.view == "names":
        rows = _names(found, request)
    elif request.view == "contracts":
        rows = _contracts(found, request)
    elif request.view == "tickets":
        rows = _tickets(found, request)
    else:
        rows = _quarters(found)
    days = table.days[_first_shown(found) :]
    doubts = {key: sum(getattr(day.doubts, key) for day in days) for key in WORDS}
    return TapeReply(
        version=view.data_version,
        session=view.today,
        newest=view.is_newest and table.until is None,
        past=view.past if table.until is None else view.past or view.today.isoformat(),
        moment=table.until or view.as_of,
        sessions=[view.date(day.session) for day in table.days],
        universe=int(found.ran.universe.sum()),
        survivors=found.rows.size,
        shown=found.shown.size,
        premium=float(table.take("premium", found.shown).astype(np.float64).sum()) if table.size else 0.0,
        rules=rule_reports(own, found.ran, request.aim, found.bins_of),
        doubts=[f"{number:,} {WORDS[key]}" for key, number in doubts.items() if number],
        paired=_paired(days),
        left_out=sum(day.doubts.left_out for day in days),
        first=request.first,
        **rows,
    )


def _paired(days: Sequence[TicketDay]) -> list[str]:
    """What was put together of all tickets of the sessions shown, with what of it chance makes."""
    return paired_words(Paired(*np.sum([day.paired for day in days], axis=0))) if days else []


def _grouped(found: Survivors, group: NDArray[np.integer[Any]], groups: int, rows: IntArray | None = None) -> Groups:
    table, rows = found.table, found.shown if rows is None else rows
    return group_tickets(
        group,
        groups,
        table.take("is_call", rows).astype(np.bool_),
        table.take("side", rows).astype(np.int8),
        table.take("premium", rows).astype(np.float64),
        table.take("contracts", rows).astype(np.int64),
    )


def _ordered(rows: IntArray, keys: FloatArray, sort: str) -> IntArray:
    """Rows by their keys, which fall when `sort` begins with -; those without one come last whichever way."""
    order = np.argsort(np.where(np.isnan(keys), np.inf, -keys if sort.startswith("-") else keys), kind="stable")
    return rows[order]


def _symbols(view: View, names: NDArray[np.integer[Any]]) -> list[str]:
    """Symbols in the order in which their names first come."""
    place = np.full(len(view.frame.names), names.size)
    # Of what is written to one place several times the last stays.
    place[names[::-1]] = np.arange(names.size)[::-1]
    there = np.flatnonzero(place < names.size)
    return [view.name(row).symbol for row in there[np.argsort(place[there])][:MOST_SYMBOLS].tolist()]


# -- by name -----------------------------------------------------------------------------------------------------------


def name_table(found: Survivors, sort: str, least: int) -> tuple[IntArray, dict[str, FloatArray], Groups]:
    """Names with surviving tickets in order, what is told of them (by row of the frame), and their groups."""
    view, table, rows = found.table.view, found.table, found.shown
    size = len(view.frame.names)
    name = table.name[rows]
    groups = _grouped(found, name, size)
    premium, net = groups.premium, groups.call[:, 2] - groups.call[:, 0] - groups.put[:, 2] + groups.put[:, 0]
    contract = table.contract[rows]
    paid, owner = table.take("premium", rows), table.contracts["name"].astype(np.int64)
    of_contract: FloatArray = np.bincount(contract, paid, owner.size).astype(np.float64)
    strongest = place_of_highest(owner, size, of_contract)
    key = 3 * contract + table.take("side", rows).astype(np.int64)
    repeats = np.bincount(key, minlength=3 * of_contract.size)
    used = np.flatnonzero(repeats)
    repeated = highest(owner[used // 3], size, repeats[used])
    # Of the newest ticket of each name, by session and time; both begin at one, so that none is taken for nothing.
    when = (table.session[rows].astype(np.int64) + 1) * _DAY_MILLISECONDS + table.take("first", rows).astype(np.int64)
    newest = place_of_highest(name, size, when)
    firsts, ever = (
        np.where(newest >= 0, table.take(key, rows).astype(np.float64)[newest], 0.0) if rows.size else np.zeros(size)
        for key in ("first_in", "first_ever")
    )
    gone = np.full(size, np.nan)
    there = groups.largest >= 0
    gone[there] = table.since(rows[groups.largest[there]])
    told = {
        "premium": premium,
        "tickets": groups.tickets.astype(np.float64),
        "net": net,
        "strongest": np.where(strongest >= 0, of_contract[strongest], 0.0) if owner.size else np.zeros(size),
        "strongest_contract": strongest.astype(np.float64),
        "repeated": repeated,
        "first_in": firsts,
        "first_ever": ever,
        "since": gone,
        "symbol": np.argsort(np.argsort([name.symbol for name in view.frame.names])).astype(np.float64),
    }
    wanted = np.flatnonzero(groups.tickets >= least)
    keys = told.get(sort.removeprefix("-"), premium)[wanted]
    return _ordered(wanted, keys, sort), told, groups


def _names(found: Survivors, request: TapeRequest) -> dict[str, Any]:
    view = found.table.view
    order, told, groups = name_table(found, request.sort, request.least)
    page = order[request.first : request.first + request.count]
    return {
        "total": order.size,
        "symbols": [view.name(row).symbol for row in order[:MOST_SYMBOLS].tolist()],
        "names": [name_row(found, row, told, groups) for row in page.tolist()],
    }


def _sided(values: FloatArray) -> Sided:
    return Sided(bid=float(values[0]), mid=float(values[1]), ask=float(values[2]))


def name_row(found: Survivors, row: int, told: dict[str, FloatArray], groups: Groups) -> TapeName:
    """One name's line."""
    table = found.table
    c, place = table.contracts, int(told["strongest_contract"][row])
    name = table.view.name(row)
    return TapeName(
        symbol=name.symbol,
        company=name.company,
        call=_sided(groups.call[row]),
        put=_sided(groups.put[row]),
        premium=float(told["premium"][row]),
        net=float(told["net"][row]),
        tickets=int(told["tickets"][row]),
        strongest=contract_of(c, place).words,
        strongest_premium=float(told["strongest"][row]),
        repeated=int(told["repeated"][row]),
        first_in=int(told["first_in"][row]),
        first_ever=bool(told["first_ever"][row]),
        since=float(told["since"][row]),
    )


# -- one by one --------------------------------------------------------------------------------------------------------


def _tickets(found: Survivors, request: TapeRequest) -> dict[str, Any]:
    newest = found.shown[::-1]
    page = newest[request.first : request.first + request.count]
    return {
        "total": newest.size,
        "symbols": _symbols(found.table.view, found.table.name[newest]),
        "tickets": ticket_lines(found, page),
    }


def ticket_lines(found: Survivors, page: IntArray) -> list[TicketLine]:
    """Tickets in words and numbers."""
    table, view = found.table, found.table.view
    gone, rate = table.since(page), unusual(table.parts(page))
    lines = []
    for line, ticket in enumerate(page.tolist()):
        place = int(np.searchsorted(table.begin, ticket, "right")) - 1
        day = table.days[place]
        at = ticket - int(table.begin[place])
        session = view.date(day.session)
        row, c = int(day.columns["name"][at]), day.columns
        expiration = session + dt.timedelta(days=int(c["dte"][at]))
        lines.append(
            TicketLine(
                symbol=view.name(row).symbol,
                session=session,
                at=moment_of_day(session, int(c["first"][at])),
                place=int(day.place[at]),
                is_call=bool(c["is_call"][at]),
                strike=float(c["strike"][at]),
                expiration=expiration,
                days=int(c["dte"][at]),
                side=SIDES[int(c["side"][at])],
                kind=KINDS[int(c["ticket_kind"][at])],
                contracts=int(c["contracts"][at]),
                price=float(c["fill_price"][at]),
                premium=float(c["premium"][at]),
                fills=int(c["fills"][at]),
                price_then=float(c["price_then"][at]),
                away_pct=float(c["out_of_the_money_pct"][at]),
                lean=int(c["lean"][at]),
                since=float(gone[line]),
                opening=OPENING[int(c["opening"][at])],
                first_in=int(c["first_in"][at]),
                first_ever=bool(c["first_ever"][at]),
                unusual=float(rate[line]),
                package=package_words(day, at),
                package_legs=package_legs(day, at),
                roll=roll_words(day, at),
            )
        )
    return lines


# -- by contract -------------------------------------------------------------------------------------------------------


def contract_table(found: Survivors, sort: str) -> tuple[IntArray, dict[str, FloatArray]]:
    """Contracts with surviving tickets in order, and what is told of them, by row of the table's contracts."""
    table, rows = found.table, found.shown
    size = table.contracts["name"].size
    groups = _grouped(found, table.contract[rows], size)
    told = {
        "premium": groups.premium,
        "tickets": groups.tickets.astype(np.float64),
        "contracts": (groups.contracts @ np.ones(3)),
        "ask_share": groups.ask_share,
        **table.over(_first_shown(found))._asdict(),
    }
    wanted = np.flatnonzero(groups.tickets)
    key = told.get(sort.removeprefix("-"), told["premium"])[wanted]
    if sort.removeprefix("-") == "quiet":
        key = np.where(np.isnan(key), len(table.days), key)
    return _ordered(wanted, key, sort), told


def _first_shown(found: Survivors) -> int:
    """Which day of the table is the first that is looked at."""
    first = found.table.view.last - found.sessions + 1
    return sum(day.session < first for day in found.table.days)


def _contracts(found: Survivors, request: TapeRequest) -> dict[str, Any]:
    order, told = contract_table(found, request.sort)
    page = order[request.first : request.first + request.count]
    names = found.table.contracts["name"].astype(np.int64)
    return {
        "total": order.size,
        "symbols": _symbols(found.table.view, names[order]),
        "contracts": [contract_row(found, place, told) for place in page.tolist()],
    }


def contract_row(found: Survivors, place: int, told: dict[str, FloatArray]) -> TapeContract:
    """One contract's line."""
    table, c = found.table, found.table.contracts
    interest = float(told["open_interest"][place])

    def whole(value: float) -> int | None:
        return int(value) if np.isfinite(value) else None

    return TapeContract(
        symbol=table.view.name(int(c["name"][place])).symbol,
        **contract_of(c, place)._asdict(),
        premium=float(told["premium"][place]),
        tickets=int(told["tickets"][place]),
        contracts=int(told["contracts"][place]),
        volume=int(told["volume"][place]),
        open_interest=whole(interest),
        opened=whole(float(told["opened"][place])),
        small_base=not interest >= SMALL_BASE,
        ask_share_pct=percent(float(told["ask_share"][place])),
        quiet=whole(float(told["quiet"][place])),
        quiet_at_least=_first_shown(found),
    )


# -- through the day ---------------------------------------------------------------------------------------------------


def _quarters(found: Survivors) -> dict[str, Any]:
    """Of all survivors, whichever quarter is chosen."""
    table, rows, begin = found.table, found.rows, _first_shown(found)
    days = table.days[begin:]
    place = np.searchsorted([day.session for day in days], table.session[rows])
    most = quarters(table.view)
    groups = _grouped(found, place * most + quarter_of(table, rows), max(1, len(days)) * most, rows)
    out = []
    for i, day in enumerate(days):
        session = table.view.date(day.session)
        out += [
            QuarterRow(
                session=session,
                place=q,
                at=table.view.hours.opens(session) + dt.timedelta(minutes=QUARTER_MINUTES * q),
                call=_sided(groups.call[i * most + q]),
                put=_sided(groups.put[i * most + q]),
                tickets=int(groups.tickets[i * most + q]),
            )
            for q in range(quarters(table.view, session))
        ]
    return {"total": len(out), "symbols": _symbols(table.view, table.name[found.shown[::-1]]), "quarters": out}


# -- one name ----------------------------------------------------------------------------------------------------------


def name_tape(found: Survivors, symbol: str) -> NameTickets:
    """A name's price of the as-of session with its surviving tickets; raises UnknownName."""
    table, view = found.table, found.table.view
    row = view.row(symbol)
    mine = found.shown[table.name[found.shown] == row]
    premium, lean = (table.values(key)[mine] for key in ("premium", "lean"))
    gone = table.since(mine)
    leaning = np.isfinite(gone)
    minutes, prices = load_day_minutes(view.store, view.id(row), view.today)
    upto = np.datetime64((table.until or view.as_of).astimezone(dt.UTC).replace(tzinfo=None))
    opened = np.datetime64(view.hours.opens(view.today).astimezone(dt.UTC).replace(tzinfo=None))
    regular = (minutes >= opened) & (minutes < upto)
    today = mine[table.session[mine] == view.last]
    largest = today[np.argsort(-table.values("premium")[today], kind="stable")[:MOST_MARKS]]
    contract = table.contract[mine]
    pointed = np.bincount(contract, premium * np.abs(lean), table.contracts["name"].size)
    strikes = np.argsort(-pointed, kind="stable")[:MOST_POINTED]
    c, total = table.contracts, float(premium[leaning].sum())
    return NameTickets(
        symbol=view.name(row).symbol,
        company=view.name(row).company,
        opens=view.hours.opens(view.today),
        closes=view.hours.closes(view.today),
        minutes=[at.replace(tzinfo=dt.UTC) for at in minutes[regular].astype("datetime64[us]").tolist()],
        prices=prices[regular].tolist(),
        previous_close=view.previous_close(row),
        price=float(table.price[row]),
        one_day_move=float(view.metric("one_day_move")[row]),
        tickets=mine.size,
        premium=float(premium.sum()),
        since=float((premium * gone)[leaning].sum() / total) if total > 0 else None,
        marks=[
            Mark(at=t.at, price=t.price_then, is_call=t.is_call, side=t.side, premium=t.premium,
                 words=f"{t.contracts:,} {Contract(t.strike, t.is_call, t.expiration).words} at {t.price:.2f}, {t.side} side")
            for t in ticket_lines(found, largest)
        ],
        pointed=[
            Pointed(strike=float(c["strike"][i]), is_call=bool(c["is_call"][i]), premium=float(pointed[i]))
            for i in strikes.tolist()
            if pointed[i] > 0
        ],
    )  # fmt: skip


def fills(view: View, symbol: str, asked: FillsAsked) -> FillList:
    """The fills of one ticket, none when there is no such ticket; raises UnknownName, NoSuchTime."""
    row, session = view.row(symbol), view.session_on(asked.session)
    until = moment_of(view, asked.until) if session == view.last else None
    wanted = asked_of(view, np.array([row]), session, until)
    tape = None if wanted is None else read_session_tape(view.store, wanted)
    if tape is None:
        return FillList(fills=[], total=0)
    mine = tape.fills.filter(tape.ticket == asked.place)
    return FillList(
        total=mine.height,
        fills=[FillRow(**fill) for fill in tell_fills(mine.head(MOST_FILLS), asked.session, read_venues(view.store))],
    )
