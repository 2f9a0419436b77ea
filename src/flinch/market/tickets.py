"""Tickets of the newest sessions as a table: what a stack of rules on tickets runs on."""

from __future__ import annotations

import datetime as dt
from dataclasses import astuple, dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.calendar import Hours
from flinch.core.flow import FORMS, KINDS, OPENING, Novelty, Parts, ask_shares, novelty, since, size_rank, unusual_parts
from flinch.core.interrupt import in_threads
from flinch.core.rules import TICKETS, percent, ticket_vocabulary
from flinch.core.rules.catalogue.metric import PERCENT
from flinch.market.columns import Arrays
from flinch.market.things import ThingTable
from flinch.market.version import Lasting
from flinch.market.view import View
from flinch.store.market.tape import read_fill_counts
from flinch.store.reading import numbers
from flinch.tape import Asked, Contract, Doubts, Paired, SessionTape, prices_at, read_session_tape

MOST_SESSIONS, MOST_FILLS = 5, 4_000_000
LABELS: dict[str, tuple[str, ...]] = {
    "right": ("put", "call"),
    "side": ("bid", "mid", "ask"),
    "ticket_kind": KINDS,
    "opening": OPENING,
    "package_form": FORMS,
}
"""Words of the columns that are texts; a table holds places in them."""
_PARTS = ("size_part", "interest_part", "ask_part", "novelty_part", "urgency_part")
_HELD = frozenset(key for key, metric in TICKETS.items() if metric.read) - {*LABELS, *_PARTS, "since", "sessions_ago"}
Columns = dict[str, NDArray[np.generic]]


@dataclass(frozen=True)
class TicketDay:
    """Tickets of all names in one session, by time: what the catalogue reads of them (texts as places in `LABELS`), beside
    `name` (row of the frame), `first` (milliseconds since midnight in UTC), `contract` (a row of `contracts`) and `roll`.
    `paired` is by row of the frame."""

    session: int
    columns: Columns
    contracts: Columns
    doubts: Doubts
    paired: Paired

    @property
    def size(self) -> int:
        """How many there are."""
        return int(self.columns["name"].size)

    @cached_property
    def place(self) -> IntArray:
        """Place of each among its name's tickets of the session."""
        name = self.columns["name"]
        order = np.argsort(name, kind="stable")
        out = np.empty(self.size, np.int64)
        out[order] = np.arange(self.size) - np.searchsorted(name[order], name[order])
        return out

    def legs(self, package: int) -> IntArray:
        """Tickets of a package, by time."""
        order, packages = self._by_package
        return order[np.searchsorted(packages, package) : np.searchsorted(packages, package, "right")]

    @cached_property
    def _by_package(self) -> tuple[IntArray, NDArray[np.generic]]:
        order = np.argsort(self.columns["package"], kind="stable")
        return order, self.columns["package"][order]


class ContractDays(NamedTuple):
    """Over some days, shape (contracts,): volume; open interest of the first morning on which it was listed; what was opened over
    the days whose next morning is known, NaN without one; how many days before the last one it traded on, NaN without one."""

    volume: NDArray[np.floating[Any]]
    open_interest: NDArray[np.floating[Any]]
    opened: NDArray[np.floating[Any]]
    quiet: NDArray[np.floating[Any]]


class TicketTable(ThingTable):
    """Tickets of up to five sessions, oldest first, as they were known at a view's moment or at an earlier time of its session.

    Of a market too large for that there are fewer sessions; `alone` says that only the view's own is wanted, and nothing kept.

    What rules ask of names is what was known of them in the view's session; when the time is an earlier one, in the session
    before.
    """

    vocabulary = ticket_vocabulary()
    labels = LABELS
    plain = _HELD

    def __init__(self, view: View, until: dt.datetime | None = None, *, alone: bool = False) -> None:
        self.until = until
        names_view = view.at(max(view.last - 1, 0)) if until is not None else view
        self.view = view
        self.days = (
            [read_ticket_day(view, view.last, until)] if alone else in_threads(self._day, ticket_sessions(view), 2)
        )
        super().__init__(view, names_view, (view.last, until, len(self.days)))
        self.price = _prices_now(view, until)
        self._move = np.stack([view.at(day.session).metric("one_day_move") for day in self.days]) if self.days else None
        self._contract_days: dict[str, NDArray[np.float32]] = {}
        self._over: dict[int, ContractDays] = {}
        self._among: tuple[tuple[int, bytes], BoolArray] = ((0, b""), np.empty(0, np.bool_))

    @property
    def size(self) -> int:
        """How many tickets there are."""
        return sum(day.size for day in self.days)

    @cached_property
    def session(self) -> NDArray[np.int32]:
        """Session of each ticket, as an index of the frame."""
        return np.repeat([day.session for day in self.days], [day.size for day in self.days]).astype(np.int32)

    @cached_property
    def begin(self) -> IntArray:
        """Where the tickets of each day begin, and where the last ones end."""
        return np.concatenate([[0], np.cumsum([day.size for day in self.days])]).astype(np.int64)

    @cached_property
    def name(self) -> NDArray[np.int32]:
        """Row in the frame of each ticket's name."""
        return self.raw("name").astype(np.int32)

    @cached_property
    def contract(self) -> NDArray[np.int32]:
        """Row of each ticket's contract in `contracts`."""
        before, parts = 0, []
        for day in self.days:
            parts.append(self._listed[1][before : before + day.contracts["name"].size][day.columns["contract"]])
            before += day.contracts["name"].size
        return np.concatenate(parts).astype(np.int32) if parts else np.empty(0, np.int32)

    @property
    def contracts(self) -> Columns:
        """Every contract listed in these sessions, once: name, expiration (days since 1970), strike, is_call."""
        return self._listed[0]

    def contract_days(self, key: str) -> NDArray[np.float32]:
        """A column of each day's contracts, shape (days, contracts); NaN where one was not listed. Not to be changed."""
        if key not in self._contract_days:
            self._contract_days[key] = self._by_day(key)
        return self._contract_days[key]

    def over(self, begin: int) -> ContractDays:
        """What became of each contract from the day at `begin` on. Not to be changed."""
        if begin not in self._over:
            self._over[begin] = self._over_days(begin)
        return self._over[begin]

    def _over_days(self, begin: int) -> ContractDays:
        volume, interest, later = (self.contract_days(k) for k in ("volume", "open_interest", "next_open_interest"))
        before, size = volume[:begin] > 0, self.contracts["name"].size
        quiet = (
            np.where(before.any(axis=0), 1 + np.argmax(before[::-1], axis=0), np.nan)
            if begin
            else np.full(size, np.nan)
        )
        interest, later = interest[begin:], later[begin:]
        listed, known = np.isfinite(interest), np.isfinite(later) & np.isfinite(interest)
        first = interest[listed.argmax(axis=0), np.arange(size)] if interest.size else np.full(size, np.nan)
        opened = np.where(known.any(axis=0), np.where(known, later - interest, 0.0).sum(axis=0), np.nan)
        return ContractDays(np.nansum(volume[begin:], axis=0), first, opened, quiet)

    def _by_day(self, key: str) -> NDArray[np.float32]:
        out = np.full((len(self.days), self.contracts["name"].size), np.nan, np.float32)
        before = 0
        for place, day in enumerate(self.days):
            size = day.contracts["name"].size
            out[place, self._listed[1][before : before + size]] = day.contracts[key]
            before += size
        return out

    @cached_property
    def _listed(self) -> tuple[Columns, IntArray]:
        keys = ("name", "expiration", "strike", "is_call")
        if not any(day.size for day in self.days):
            return {key: np.empty(0) for key in keys}, np.empty(0, np.int64)
        told = {key: np.concatenate([day.contracts[key] for day in self.days]) for key in keys}
        # A name, days until 2149, a strike in thousandths, as contracts are listed, and a right are one whole number.
        thousandths = np.round(told["strike"].astype(np.float64) * 1000).astype(np.int64)
        number = (told["name"].astype(np.int64) << 48) | (told["expiration"].astype(np.int64) << 32)
        number |= (thousandths << 1) | told["is_call"].astype(np.int64)
        _, first, place = np.unique(number, return_index=True, return_inverse=True)
        return {key: values[first] for key, values in told.items()}, place

    def raw(self, key: str) -> NDArray[np.generic]:
        """A column as it is held, all days together."""
        if not self.days:
            return np.empty(0)
        return np.concatenate([day.columns[key] for day in self.days])

    def take(self, key: str, rows: IntArray) -> NDArray[np.generic]:
        """A column of some tickets, which come in ascending order, as it is held."""
        if not self.days:
            return np.empty(0)
        ends = np.searchsorted(rows, self.begin)
        parts = [
            day.columns[key][rows[first:last] - begin]
            for day, begin, first, last in zip(self.days, self.begin, ends, ends[1:], strict=False)
        ]
        return parts[0] if len(parts) == 1 else np.concatenate(parts)

    def among(self, names: BoolArray, sessions: int) -> BoolArray:
        """Tickets of some names in the last `sessions` sessions, shape (tickets,). Not to be changed."""
        key = (sessions, names.tobytes())
        kept = self._among
        if kept[0] != key:
            # Another request may ask for others meanwhile: each answers what it was asked.
            kept = self._among = (key, names[self.name] & (self.session > self.view.last - sessions))
        return kept[1]

    def values(self, key: str) -> FloatArray:
        """A number or condition (1 or 0) that the catalogue reads of tickets, in its unit; NaN where there is none. Not the parts
        of *unusual*, which are made of others."""
        if key == "since":
            return self.since(np.arange(self.size))
        if key == "sessions_ago":
            return (self.view.last - self.session).astype(np.float64)
        return self.raw(key).astype(np.float64)

    def parts(self, tickets: IntArray) -> Parts:
        """The five parts of *unusual* of some tickets, from what is held."""

        def of(key: str) -> FloatArray:
            return self.raw(key)[tickets].astype(np.float64)

        return unusual_parts(
            size=of("size_rank") / PERCENT,
            volume=of("contract_volume"),
            open_interest=of("contract_interest"),
            ask_share=of("ask_share") / PERCENT,
            seen=Novelty(self.raw("first_in")[tickets].astype(np.int64), np.empty(0, np.bool_)),
            kind=self.raw("ticket_kind")[tickets].astype(np.int8),
            out_of_the_money=of("out_of_the_money_pct") > 0,
            days=self.raw("dte")[tickets].astype(np.int64),
        )

    def codes(self, key: str) -> NDArray[np.int8]:
        """A text column as places in its labels."""
        return self.raw(key).astype(np.int8)

    def several(self, keys: set[str]) -> dict[str, FloatArray]:
        """The parts of *unusual*."""
        if not keys & set(_PARTS):
            return {}
        every = zip(_PARTS, self.parts(np.arange(self.size)), strict=True)
        return {key: values for key, values in every if key in keys}

    # -- how it is made ------------------------------------------------------------------------------------------------

    def since(self, tickets: IntArray) -> FloatArray:
        """How far price has gone since some tickets, as the catalogue says."""
        if self._move is None:
            return np.empty(0)
        name = self.name[tickets]
        place = np.searchsorted([day.session for day in self.days], self.session[tickets])
        lean, then = (self.raw(key)[tickets] for key in ("lean", "price_then"))
        return since(self.price[name], then.astype(np.float64), self._move[place, name], lean.astype(np.int8))

    def _day(self, session: int) -> TicketDay:
        view, version = self.view, self.view.version
        until = self.until if session == view.last else None
        later = session < view.last
        if until is not None:
            return version.keep(("ticket time", session, until), lambda: read_ticket_day(view, session, until), 1)

        def make() -> TicketDay:
            of: Lasting = "moment" if session == version.last else "past"
            beside = ""
            if later and session == version.last - 1:
                # The open interest of the newest morning is told by the first look of its session, and by none otherwise.
                of, beside = "before", "" if view.listing else "-unknown"
            name = f"tickets-{session}-{'later' if later else 'then'}"
            packed = version.arrays(name, lambda: _packed(read_ticket_day(view, session)), of=of, beside=beside)
            return _unpacked(session, packed)

        return version.share(("ticket day", session, later), make, MOST_SESSIONS + 1)


def _packed(day: TicketDay) -> Arrays:
    """A day as arrays alone."""
    return {
        **{f"ticket-{key}": values for key, values in day.columns.items()},
        **{f"contract-{key}": values for key, values in day.contracts.items()},
        "doubts": np.array(astuple(day.doubts), np.int64),
        "paired": np.stack(day.paired),
    }


def _unpacked(session: int, arrays: Arrays) -> TicketDay:
    def of(kind: str) -> Columns:
        return {key.partition("-")[2]: values for key, values in arrays.items() if key.partition("-")[0] == kind}

    doubts = Doubts(*arrays["doubts"].tolist())
    return TicketDay(session, of("ticket"), of("contract"), doubts, Paired(*arrays["paired"]))


def _newest(fills: dict[dt.date, int], last: dt.date) -> list[dt.date]:
    """The newest sessions up to a day, as many as have few enough fills to be held; one at least, if there is one."""
    out: list[dt.date] = []
    total = 0
    for day in sorted((day for day in fills if day <= last), reverse=True)[:MOST_SESSIONS]:
        total += fills[day]
        if out and total > MOST_FILLS:
            break
        out.insert(0, day)
    return out


_EPOCH = dt.date(1970, 1, 1)


def contract_of(contracts: Columns, place: int) -> Contract:
    """A contract of a table or of one of its days."""
    expiration = _EPOCH + dt.timedelta(days=int(contracts["expiration"][place]))
    return Contract(float(contracts["strike"][place]), bool(contracts["is_call"][place]), expiration)


def ticket_sessions(view: View) -> list[int]:
    """Sessions whose tickets are held up to a view's, as indices of the frame, oldest first."""
    return [view.session_on(day) for day in _newest(read_fill_counts(view.store), view.today)]


def ticket_table(view: View, until: dt.datetime | None = None) -> TicketTable:
    """The table of a view, made once."""
    version = view.version
    # Of an earlier time there are many: it is the work of whoever asks.
    made = version.share if until is None else version.keep
    return made(("tickets", view.last, until), lambda: TicketTable(view, until), 1)


def asked_of(view: View, rows: slice | IntArray, session: int, until: dt.datetime | None = None) -> Asked | None:
    """What is read for the tape of some names in a session as a view knows it; None when no chain of it is kept.

    An earlier time of the session is looked at with the surfaces that were read by then.
    """
    then = view.at(session)
    listing = then.listing
    if listing is None:
        return None
    following = view.at(session + 1).listing if session < view.last else None
    frame = view.frame
    ids = frame.ids[rows]
    moment = (until or then.as_of).astimezone(dt.UTC)
    earlier = [snapshot.taken_at for snapshot in then.snapshots if snapshot.taken_at <= moment]
    return Asked(
        ids=ids,
        previous_close=frame.close[rows, session - 1] if session else np.full(ids.size, np.nan),
        multiplier=frame.multiplier[rows],
        session=view.date(session),
        snapshot=listing.taken_at,
        surfaces=earlier[-1] if earlier else listing.taken_at,
        next_snapshot=None if following is None else following.taken_at,
        until=moment,
        rate=then.rate,
        hours=view.hours,
    )


def read_ticket_day(view: View, session: int, until: dt.datetime | None = None) -> TicketDay:
    """Tickets of all names in a session as a view, of that session or a later one, knows them."""
    asked = asked_of(view, slice(None), session, until)
    tape = None if asked is None else read_session_tape(view.store, asked)
    if tape is None:
        return TicketDay(
            session, _EMPTY, _NO_CONTRACTS, Doubts(*[0] * 8), Paired(*np.zeros((4, len(view.frame.names))))
        )
    columns = _told(tape, view.hours) | _standing(view, tape, session)
    contracts: Columns = {
        "name": np.searchsorted(view.frame.ids, tape.contracts["name_id"].to_numpy()).astype(np.int32),
        "expiration": tape.contracts["expiration"].to_physical().to_numpy().astype(np.int32),
        "strike": numbers(tape.contracts["strike"]),
        "is_call": tape.contracts["is_call"].to_numpy(),
        "open_interest": numbers(tape.contracts["open_interest"]).astype(np.float32),
        "next_open_interest": numbers(tape.contracts["next_open_interest"]).astype(np.float32),
        "volume": tape.contracts["volume"].to_numpy().astype(np.int32),
    }
    return TicketDay(session, columns, contracts, tape.doubts, tape.paired)


def _told(tape: SessionTape, hours: Hours) -> Columns:
    """What is said of each ticket by itself."""
    tickets, contracts = tape.tickets, tape.contracts
    key = tickets.contract
    is_call = contracts["is_call"].to_numpy()[key]
    expiration = contracts["expiration"].to_physical().to_numpy().astype(np.int64)[key]
    opened = hours.opens(tape.session).astimezone(dt.UTC)
    since_open = tickets.first - (opened.hour * 3600 + opened.minute * 60) * 10**9
    package = tape.packages.of_ticket
    form = np.append(tape.packages.form, -1)[package]
    return {
        "name": tape.name.astype(np.int32),
        "first": (tickets.first // 1_000_000).astype(np.int32),
        "contract": key.astype(np.int32),
        "package": package.astype(np.int32),
        "roll": tape.rolls.other.astype(np.int32),
        "is_call": is_call,
        "right": is_call.astype(np.int8),
        "side": (tickets.side + 1).astype(np.int8),
        "ticket_kind": tickets.kind.astype(np.int8),
        "premium": tickets.premium.astype(np.float32),
        "contracts": tickets.contracts.astype(np.int32),
        "fill_price": tickets.price.astype(np.float32),
        "strike": numbers(contracts["strike"])[key].astype(np.float32),
        "dte": (expiration - np.datetime64(tape.session, "D").astype(np.int64)).astype(np.int16),
        "out_of_the_money_pct": percent(tape.away).astype(np.float32),
        "out_of_the_money_moves": tape.away_moves.astype(np.float32),
        "price_then": tape.spot.astype(np.float32),
        "fills": tickets.fills.astype(np.int32),
        "venues": tickets.venues.astype(np.int8),
        "minutes_since_open": (since_open // (60 * 10**9)).astype(np.int16),
        "lean": tape.lean.astype(np.int8),
        "share_equivalent": tape.shares.astype(np.float32),
        "opening": tape.opening.astype(np.int8),
        "in_package": package >= 0,
        "package_form": form.astype(np.int8),
        "is_roll": tape.rolls.other >= 0,
        **_rolls(tape, expiration),
        "contract_volume": tape.so_far.astype(np.int32),
        "contract_interest": numbers(contracts["open_interest"])[key].astype(np.float32),
    }


def _rolls(tape: SessionTape, expiration: IntArray) -> Columns:
    """How much more, at which other strike and how much further out: the same for both sides of a roll."""
    tickets = tape.tickets
    strike = numbers(tape.contracts["strike"])[tickets.contract]
    out = {
        key: np.full(tape.rolls.other.size, np.nan, np.float32)
        for key in ("roll_ratio", "roll_strike_pct", "roll_days")
    }
    one = np.flatnonzero(tape.rolls.other >= 0)
    other = tape.rolls.other[one]
    sold, bought = np.where(tickets.side[one] < 0, one, other), np.where(tickets.side[one] < 0, other, one)
    with np.errstate(divide="ignore", invalid="ignore"):
        out["roll_ratio"][one] = tickets.premium[bought] / tickets.premium[sold]
    out["roll_strike_pct"][one] = percent(strike[bought] / strike[sold] - 1)
    out["roll_days"][one] = expiration[bought] - expiration[sold]
    return dict(out)


def _standing(view: View, tape: SessionTape, session: int) -> Columns:
    """What a ticket is beside the others of its session, and beside the name's past."""
    tickets, frame = tape.tickets, view.version.frame
    key, size = tickets.contract, tape.contracts.height
    is_call = tape.contracts["is_call"].to_numpy()[key]
    largest = np.stack(
        [frame.daily[f"largest_{right}_premium"][:, :session] for right in ("put", "call")], axis=1
    ).reshape(2 * len(frame.names), -1)
    owner = 2 * tape.name + is_call
    seen = novelty(tickets.premium, owner, largest)
    rank = size_rank(tickets.premium, owner, largest)
    asked = ask_shares(key, size, tickets.side, tickets.contracts)[key]
    group = 3 * key + tickets.side + 1
    repeated = np.bincount(group, minlength=3 * size)[group]
    return {
        "ask_share": percent(asked).astype(np.float32),
        "repeated": repeated.astype(np.int32),
        "first_in": seen.sessions.astype(np.int16),
        "first_ever": seen.first,
        "size_rank": percent(rank).astype(np.float32),
    }


def _prices_now(view: View, until: dt.datetime | None) -> FloatArray:
    """Price of every name at the view's moment, or at an earlier time of its session."""
    if until is None:
        return np.ascontiguousarray(view.frame.close[:, view.last])
    asked = asked_of(view, slice(None), view.last, until)
    assert asked is not None
    midnight = dt.datetime.combine(view.today, dt.time(), dt.UTC)
    moment = int((until.astimezone(dt.UTC) - midnight).total_seconds() * 1e9)
    rows = np.arange(asked.ids.size)
    return prices_at(view.store, asked, rows, np.full(rows.size, moment))


_NO_CONTRACTS: Columns = {
    key: np.empty(0)
    for key in ("name", "expiration", "strike", "is_call", "open_interest", "next_open_interest", "volume")
}
_EMPTY: Columns = {
    **{key: np.empty(0, np.float32) for key, metric in TICKETS.items() if metric.read and key not in LABELS},
    **{key: np.empty(0, np.int8) for key in LABELS},
    **{key: np.empty(0, np.int64) for key in ("name", "first", "contract", "package", "roll")},
    "first_ever": np.empty(0, np.bool_),
}
