"""Dossier, tape: one name's option trades of a session, as tickets, and what they point at."""

from __future__ import annotations

import datetime as dt
from dataclasses import asdict

import numpy as np
from pydantic import BaseModel, Field

from flinch.core.flow import FORMS, KINDS, OPENING, ask_shares
from flinch.core.gamma import interest_change
from flinch.core.rules import percent
from flinch.market import View
from flinch.market.bars import load_day_minutes
from flinch.market.tape import read_name_tape, tape_since
from flinch.store.market.tape import read_tape_sessions, read_venues
from flinch.store.reading import numbers
from flinch.tape import WORDS, Contract, SessionTape, leg_words, moment_of_day, paired_words, rolled_words, tell_fills
from flinch.web import AsOfQuery

TICKETS_SHOWN, CONTRACTS_SHOWN, PACKAGES_SHOWN, FILLS_SHOWN = 200, 60, 40, 60
HISTORY = 60
_QUARTER_MINUTES = 15


class TapeQuery(AsOfQuery):
    session: dt.date | None = Field(None, description="One whose trades are kept; the as-of session when left out")


class Fill(BaseModel):
    at: dt.datetime
    venue: str
    price: float
    contracts: int
    bid: float | None
    ask: float | None


class TicketRow(BaseModel):
    """One ticket; percent where a unit is told so."""

    at: dt.datetime
    seconds: float = Field(description="From the first fill to the last")
    is_call: bool
    strike: float
    expiration: dt.date
    days: int
    side: int = Field(description="+1 on the ask side, -1 on the bid side, 0 nobody knows")
    kind: str
    contracts: int
    price: float
    premium: float
    spot: float
    away_pct: float | None = Field(description="Strike over the price of the stock - 1, positive out of the money")
    lean: int
    shares: float | None = Field(description="Share equivalent, signed; missing where the side is not known")
    since: float | None = Field(description="Price now less price then in one-day expected moves, signed by the lean")
    opening: str
    package: int | None = Field(description="Place in the packages")
    roll: str | None = Field(description="The other side of the roll, in words")
    fills: list[Fill] = Field(description=f"At most {FILLS_SHOWN}")
    fill_count: int


class ContractTotal(BaseModel):
    """What traded of one contract."""

    is_call: bool
    strike: float
    expiration: dt.date
    volume: int
    premium: float
    tickets: int
    open_interest: int
    opened: int | None = Field(
        description="Open interest of the next morning less that of this one; missing until it is known"
    )
    opened_pct: float | None
    small_base: bool
    ask_share_pct: float | None


class PackageRow(BaseModel):
    at: dt.datetime
    form: str
    units: int
    lean: int
    premium: float = Field(description="Paid less received, all legs; negative for a credit")
    legs: list[str]


class Quarter(BaseModel):
    """A quarter of an hour: premium by right and side, and the share equivalent of what leans."""

    at: dt.datetime
    call_ask: float
    call_bid: float
    call_mid: float
    put_ask: float
    put_bid: float
    put_mid: float
    shares: float


class PremiumDay(BaseModel):
    """What a session's trades came to, legs of packages apart."""

    session: dt.date
    call: float | None
    put: float | None
    package: float | None


class TapeView(BaseModel):
    """One name's tape of a session."""

    symbol: str
    session: dt.date
    sessions: list[dt.date] = Field(description="Those of which trades are kept, up to the as-of session")
    upto: dt.datetime
    next_known: bool = Field(description="Whether the open interest of the morning after is known")
    price: float
    one_day_move: float | None
    minutes: list[dt.datetime]
    prices: list[float | None]
    reason: str | None = None
    tickets_total: int = 0
    tickets: list[TicketRow] = Field([], description="The largest by premium")
    contracts_total: int = 0
    contracts: list[ContractTotal] = Field([], description="The busiest by premium")
    packages_total: int = 0
    packages: list[PackageRow] = []
    premium: float = 0.0
    lean_shares: float = Field(0.0, description="Share equivalent of all tickets with a known side")
    lean_shares_pct: float | None = Field(None, description="The same in percent of the average volume of 50 sessions")
    quarters: list[Quarter] = []
    history: list[PremiumDay] = Field([], description="The sessions up to the one shown, at most 60, oldest first")
    below: int = Field(0, description="How many of the others had less premium than the one shown")
    doubts: list[str] = Field([], description="What was wrong with fills, each with how many")
    left_out: int = 0
    paired: list[str] = Field([], description="Rolls and packages that no source flags, and what chance makes of them")


def tape(view: View, symbol: str, session: dt.date | None) -> TapeView:
    """The tape of a name; raises UnknownName."""
    row = view.row(symbol)
    held = [day for day in read_tape_sessions(view.store) if day <= view.today]
    chosen = session if session in held else view.today
    place = view.session_on(chosen)
    then = view.at(place)
    read = read_name_tape(view, row, place)
    minutes, prices = load_day_minutes(view.store, view.id(row), chosen)
    upto = np.datetime64(then.as_of.astimezone(dt.UTC).replace(tzinfo=None))
    minutes, prices = minutes[minutes < upto], prices[minutes < upto]
    opened = view.hours.opens(chosen).astimezone(dt.UTC)
    regular = minutes >= np.datetime64(opened.replace(tzinfo=None))
    answer = TapeView(
        symbol=view.name(row).symbol,
        session=chosen,
        sessions=held,
        upto=then.as_of,
        next_known=place < view.last,
        price=view.price(row),
        one_day_move=float(then.metric("one_day_move")[row]),
        minutes=[moment.replace(tzinfo=dt.UTC) for moment in minutes[regular].astype("datetime64[us]").tolist()],
        prices=prices[regular].tolist(),
    )
    answer.history = _history(then, row)
    answer.below = _below(answer.history)
    if read is None:
        answer.reason = (
            "no option trades of this session are kept" if chosen not in held else "no option of this name traded"
        )
        return answer
    venues = read_venues(view.store)
    shown = np.argsort(-read.tickets.premium, kind="stable")[:TICKETS_SHOWN]
    contracts = _contracts(read)
    shares = float(np.nansum(read.shares))
    usual = float(then.metric("avg_volume_50")[row])
    answer.tickets_total = read.tickets.first.size
    answer.tickets = _ticket_rows(read, tape_since(view, row, read), chosen, shown, venues)
    answer.contracts_total = len(contracts)
    answer.contracts = contracts[:CONTRACTS_SHOWN]
    answer.packages_total = read.packages.form.size
    answer.packages = _packages(read, chosen)
    answer.premium = float(read.tickets.premium.sum())
    answer.lean_shares = shares
    answer.lean_shares_pct = percent(shares / usual)
    answer.quarters = _quarters(read, opened, view.hours.minutes(chosen))
    answer.doubts = [f"{number:,} {WORDS[key]}" for key, number in asdict(read.doubts).items() if number]
    answer.left_out = read.doubts.left_out
    answer.paired = paired_words(read.paired)
    return answer


def _history(then: View, row: int) -> list[PremiumDay]:
    """Premium of the last sessions that are known, by right."""

    def of(right: str) -> np.ndarray:
        sides = [then.daily(f"{right}_{side}_premium", row)[-HISTORY:] for side in ("ask", "bid", "mid")]
        total: np.ndarray = np.sum(sides, axis=0)
        return total

    call, put, package = of("call"), of("put"), then.daily("package_premium", row)[-HISTORY:]
    sessions = then.sessions[-HISTORY:]
    return [
        PremiumDay(session=day, call=float(call[i]), put=float(put[i]), package=float(package[i]))
        for i, day in enumerate(sessions)
        if np.isfinite(call[i])
    ]


def _below(history: list[PremiumDay]) -> int:
    totals = [(day.call or 0.0) + (day.put or 0.0) for day in history]
    return sum(total < totals[-1] for total in totals[:-1])


def _ticket_rows(
    read: SessionTape, gone: np.ndarray, session: dt.date, shown: np.ndarray, venues: dict[int, str]
) -> list[TicketRow]:
    tickets, contracts = read.tickets, read.contracts
    strikes, rights = contracts["strike"].to_list(), contracts["is_call"].to_list()
    days = contracts["expiration"].to_list()
    by_ticket = np.argsort(read.ticket, kind="stable")
    begin = np.searchsorted(read.ticket[by_ticket], np.arange(tickets.first.size + 1))
    rows = []
    for t in shown.tolist():
        key = int(tickets.contract[t])
        mine = by_ticket[begin[t] : begin[t + 1]]
        other = int(read.rolls.other[t])
        package = int(read.packages.of_ticket[t])
        rows.append(
            TicketRow(
                at=moment_of_day(session, int(tickets.first[t]) // 1_000_000),
                seconds=(int(tickets.last[t]) - int(tickets.first[t])) / 1e9,
                is_call=rights[key],
                strike=strikes[key],
                expiration=days[key],
                days=(days[key] - session).days,
                side=int(tickets.side[t]),
                kind=KINDS[tickets.kind[t]],
                contracts=int(tickets.contracts[t]),
                price=float(tickets.price[t]),
                premium=float(tickets.premium[t]),
                spot=float(read.spot[t]),
                away_pct=percent(float(read.away[t])),
                lean=int(read.lean[t]),
                shares=float(read.shares[t]),
                since=float(gone[t]),
                opening=OPENING[read.opening[t]],
                package=None if package < 0 else package,
                roll=None if other < 0 else _rolled(read, t, other),
                fills=[Fill(**fill) for fill in tell_fills(read.fills[mine[:FILLS_SHOWN]], session, venues)],
                fill_count=mine.size,
            )
        )
    return rows


def _rolled(read: SessionTape, ticket: int, other: int) -> str:
    """The roll that two tickets are the sides of, in words."""
    tickets = read.tickets
    sold, bought = (ticket, other) if tickets.side[ticket] < 0 else (other, ticket)
    old, new = (_contract(read, t) for t in (sold, bought))
    return rolled_words(old, new, float(tickets.premium[sold]), float(tickets.premium[bought]))


def _contract(read: SessionTape, ticket: int) -> Contract:
    told = read.contracts.row(int(read.tickets.contract[ticket]), named=True)
    return Contract(told["strike"], told["is_call"], told["expiration"])


def _contracts(read: SessionTape) -> list[ContractTotal]:
    """What traded of each contract, most premium first."""
    tickets, size = read.tickets, read.contracts.height
    premium = np.bincount(tickets.contract, tickets.premium, size)
    count = np.bincount(tickets.contract, minlength=size)
    asked = ask_shares(tickets.contract, size, tickets.side, tickets.contracts)
    now, later = (numbers(read.contracts[column]) for column in ("open_interest", "next_open_interest"))
    change = interest_change(later, now)
    rows = read.contracts.to_dicts()
    return [
        ContractTotal(
            is_call=rows[i]["is_call"],
            strike=rows[i]["strike"],
            expiration=rows[i]["expiration"],
            volume=rows[i]["volume"],
            premium=float(premium[i]),
            tickets=int(count[i]),
            open_interest=rows[i]["open_interest"],
            opened=int(change.contracts[i]) if np.isfinite(change.contracts[i]) else None,
            opened_pct=percent(float(change.percent[i])),
            small_base=bool(change.small_base[i]),
            ask_share_pct=percent(float(asked[i])),
        )
        for i in np.argsort(-premium, kind="stable").tolist()
        if count[i]
    ]


def _packages(read: SessionTape, session: dt.date) -> list[PackageRow]:
    """The largest packages by what changed hands, each with its legs in words."""
    packages, tickets = read.packages, read.tickets
    size = packages.form.size
    inside = np.flatnonzero(packages.of_ticket >= 0)
    owner = packages.of_ticket[inside]
    gross = np.bincount(owner, tickets.premium[inside], size)
    net = np.bincount(owner, tickets.premium[inside] * tickets.side[inside], size)
    out = []
    for place in np.argsort(-gross, kind="stable")[:PACKAGES_SHOWN].tolist():
        legs = inside[owner == place]
        out.append(
            PackageRow(
                at=moment_of_day(session, int(tickets.first[legs].min()) // 1_000_000),
                form=FORMS[packages.form[place]],
                units=int(packages.units[place]),
                lean=int(read.package_lean[place]),
                premium=float(net[place]),
                legs=[
                    leg_words(int(tickets.side[t]), int(tickets.contracts[t]), _contract(read, t))
                    for t in legs.tolist()
                ],
            )
        )
    return out


def _quarters(read: SessionTape, opened: dt.datetime, minutes: int) -> list[Quarter]:
    tickets, count = read.tickets, -(-minutes // _QUARTER_MINUTES)
    midnight = opened.replace(hour=0, minute=0)
    begin = int((opened - midnight).total_seconds() * 1e9)
    place = np.clip((tickets.first - begin) // (_QUARTER_MINUTES * 60 * 10**9), 0, count - 1)
    is_call = read.contracts["is_call"].to_numpy()[tickets.contract]

    def summed(right: bool, side: int) -> list[float]:
        chosen = (is_call == right) & (tickets.side == side)
        total: list[float] = np.bincount(place[chosen], tickets.premium[chosen], count).tolist()
        return total

    sums = {
        f"{name}_{word}": summed(right, side)
        for name, right in (("call", True), ("put", False))
        for word, side in (("ask", 1), ("bid", -1), ("mid", 0))
    }
    shares = np.bincount(place, np.nan_to_num(read.shares), count)
    return [
        Quarter(
            at=opened + dt.timedelta(minutes=_QUARTER_MINUTES * i),
            shares=float(shares[i]),
            **{key: values[i] for key, values in sums.items()},
        )
        for i in range(count)
    ]
