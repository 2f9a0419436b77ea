"""Every positioning metric of the Screen, and what the Dossier shows, against one plain loop over the stored contracts."""

from __future__ import annotations

import datetime as dt
import math
from collections import defaultdict
from typing import NamedTuple

import numpy as np
import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine

from flinch.market import View
from flinch.store.market.chain import Snapshot, read_chain
from flinch.store.market.surfaces import Expiry, read_expiries

SYMBOLS = ("KESEO", "VILNI", "RENTU", "TISVI", "STAKU", "DELKU", "BULVI", "TRAFA")
WEEK, MONTH = dt.date(2026, 9, 11), dt.date(2026, 9, 18)


class Contract(NamedTuple):
    day: dt.date
    strike: float
    is_call: bool
    interest: int
    before: int | None
    exposure: float


def total_variance(svi: tuple[float, ...], k: float) -> float:
    """Raw SVI as printed in Gatheral & Jacquier (2014)."""
    a, b, rho, m, sigma = svi
    return a + b * (rho * (k - m) + math.sqrt((k - m) ** 2 + sigma**2))


def black_gamma(spot: float, strike: float, expiry: Expiry, vol: float, rate: float) -> float:
    deviation = vol * math.sqrt(expiry.years)
    d1 = (math.log(spot / strike) + (rate - expiry.carry + vol**2 / 2) * expiry.years) / deviation
    density = math.exp(-(d1**2) / 2) / math.sqrt(2 * math.pi)
    return math.exp(-expiry.carry * expiry.years) * density / (spot * deviation)


def _held(engine: Engine, name_id: int, moment: Snapshot) -> list[tuple[tuple[dt.date, float, bool], int]]:
    chain = read_chain(engine, name_id, moment.taken_at)
    return [((day, strike, call), held) for day, strike, call, _, _, _, held in chain.iter_rows()]


class Book:
    """A name's contracts at one moment, read one by one."""

    def __init__(self, market: View, engine: Engine, symbol: str, place: int = -1) -> None:
        frame, row = market.frame, market.row(symbol)
        name_id = int(frame.ids[row])
        now = frame.snapshots[place]
        earlier = [s for s in frame.snapshots if s.session < now.session][-1]
        session = int(np.searchsorted(frame.sessions, np.datetime64(now.session, "D")))
        self.spot = float(frame.close[row, session])
        self.multiplier = float(frame.multiplier[row])
        self.rate = frame.state.rate
        expiries = {e.expiration: e for e in read_expiries(engine, now.taken_at, frame.ids, name_id)[row]}
        before = dict(_held(engine, name_id, earlier))
        self.expiries = expiries
        self.contracts = [
            Contract(*key, held, before.get(key), self._exposure(expiries[key[0]], key[1], held))
            for key, held in _held(engine, name_id, now)
        ]

    def _exposure(self, expiry: Expiry, strike: float, interest: int) -> float:
        if interest == 0 or expiry.years <= 0:
            return 0.0
        w = total_variance(expiry.svi, math.log(strike / expiry.forward))
        gamma = black_gamma(self.spot, strike, expiry, math.sqrt(w / expiry.years), self.rate)
        return gamma * interest * self.multiplier * self.spot**2 / 100

    def total(self, of, among=lambda contract: True) -> float:
        return sum(of(contract) for contract in self.contracts if among(contract))

    def by_strike(self, of) -> dict[float, float]:
        found: dict[float, float] = defaultdict(float)
        for contract in self.contracts:
            found[contract.strike] += of(contract)
        return found


def opened(contract: Contract) -> int:
    return contract.interest - (contract.before or 0)


def size(contract: Contract) -> float:
    return contract.exposure


def interest(contract: Contract) -> int:
    return contract.interest


@pytest.fixture(scope="module")
def books(market: View, engine: Engine) -> dict[str, Book]:
    return {symbol: Book(market, engine, symbol) for symbol in SYMBOLS}


@pytest.fixture
def metric(market: View):
    def value(key: str, symbol: str, session: int | None = None) -> float:
        return float(market.at(market.last if session is None else session).metric(key)[market.row(symbol)])

    return value


@pytest.mark.parametrize("symbol", SYMBOLS)
def test_exposure_by_side_and_by_the_end_of_cycles(books, metric, symbol: str):
    book = books[symbol]
    calls, puts = (book.total(size, lambda c, side=side: c.is_call == side) for side in (True, False))
    gross = calls + puts
    nearest = min(c.day for c in book.contracts)
    near = book.total(size, lambda c: c.day == nearest)
    week = book.total(size, lambda c: c.day <= WEEK)
    month = book.total(size, lambda c: WEEK < c.day <= MONTH)
    value = metric("avg_dollar_volume_21", symbol)
    expected = {
        "call_exposure": calls,
        "put_exposure": -puts,
        "gross_exposure": gross,
        "call_put_exposure": calls / puts,
        "gross_exposure_pct": 100 * gross / value,
        "near_exposure": near,
        "week_exposure": week,
        "month_exposure": month,
        "roll_off_share": 100 * near / gross,
        "week_exposure_share": 100 * week / gross,
        "month_exposure_share": 100 * month / gross,
    }
    assert {key: metric(key, symbol) for key in expected} == pytest.approx(expected)
    # Kept in single precision: what is left of two sums is as exact as they are, however small it is.
    net = pytest.approx(calls - puts, abs=1e-6 * gross)
    assert metric("net_exposure", symbol) == net
    assert metric("net_exposure_pct", symbol) * value / 100 == net


@pytest.mark.parametrize("symbol", SYMBOLS)
def test_strikes_with_most(books, metric, symbol: str):
    book = books[symbol]
    exposed, open_at = book.by_strike(size), book.by_strike(interest)
    peak, peak_interest = max(exposed, key=exposed.__getitem__), metric("peak_interest_strike", symbol)
    assert metric("peak_exposure_strike", symbol) == peak
    assert open_at[peak_interest] == max(open_at.values()), "two strikes may hold the same"
    assert metric("peak_exposure_distance", symbol) == pytest.approx(100 * (peak / book.spot - 1))
    assert metric("peak_interest_distance", symbol) == pytest.approx(100 * (peak_interest / book.spot - 1))
    top = sum(sorted(open_at.values())[-5:])
    assert metric("top_strikes_share", symbol) == pytest.approx(100 * top / sum(open_at.values()))


@pytest.mark.parametrize("symbol", SYMBOLS)
def test_open_interest_and_what_was_opened(books, metric, symbol: str):
    book = books[symbol]
    whole = book.total(interest)
    calls, puts = (book.total(interest, lambda c, side=side: c.is_call == side) for side in (True, False))
    above = book.total(opened, lambda c: c.strike > book.spot)
    below = book.total(opened, lambda c: c.strike < book.spot)
    new = book.total(opened)
    over = book.total(interest, lambda c: c.strike > book.spot)
    expected = {
        "open_interest": whole,
        "call_open_interest": calls,
        "put_open_interest": puts,
        "put_call_open_interest": puts / calls,
        "opened": new,
        "opened_pct": 100 * new / (whole - new),
        "opened_above": above,
        "opened_below": below,
        "opened_above_share": 100 * above / whole,
        "interest_above": over,
        "interest_above_share": 100 * over / whole,
    }
    assert {key: metric(key, symbol) for key in expected} == pytest.approx(expected)


@pytest.mark.parametrize("symbol", SYMBOLS)
def test_the_largest_build_and_its_base(books, metric, symbol: str):
    book = books[symbol]
    build = max(opened(c) for c in book.contracts)
    assert metric("largest_build", symbol) == build
    base = metric("largest_build_base", symbol)
    assert base in {c.before or 0 for c in book.contracts if opened(c) == build}
    percent = metric("largest_build_pct", symbol)
    assert math.isnan(percent) if base == 0 else percent == pytest.approx(100 * build / base)
    assert metric("small_base", symbol) == (base < 100)


def test_an_index_has_a_multiplier_of_its_own_and_no_daily_value(market: View, engine: Engine, metric):
    book = Book(market, engine, "MUFEO")
    assert book.multiplier == 10
    assert metric("gross_exposure", "MUFEO") == pytest.approx(book.total(size))
    assert math.isnan(metric("gross_exposure_pct", "MUFEO"))
    assert market.reason("gross_exposure_pct", market.row("MUFEO")) == "an index does not trade"


def test_changes_are_against_the_chains_of_those_moments(market: View, engine: Engine, books, metric):
    """The snapshot before, yesterday's close and the close five sessions ago, each read contract by contract."""

    def net(book: Book) -> float:
        return book.total(lambda c: c.exposure if c.is_call else -c.exposure)

    for symbol in ("KESEO", "VILNI", "RENTU"):
        now, yesterday = net(books[symbol]), net(Book(market, engine, symbol, -6))
        assert metric("net_exposure", symbol, market.last - 1) == pytest.approx(yesterday)
        change = now - yesterday
        assert metric("net_exposure_change_1", symbol) == pytest.approx(change, rel=1e-6)
        assert metric("net_exposure_change_1_pct", symbol) == pytest.approx(100 * change / abs(yesterday), rel=1e-6)
        value = metric("avg_dollar_volume_21", symbol)
        assert metric("net_exposure_change_share", symbol) == pytest.approx(100 * change / value, rel=1e-6)
        week = net(Book(market, engine, symbol, -10))
        assert metric("net_exposure_change_5", symbol) == pytest.approx(now - week, rel=1e-6)


def test_the_flip_is_where_the_plain_sum_of_gammas_changes_sign(market: View, engine: Engine, metric):
    """Just under and just over the flip, every gamma worked out there, exposure has opposite signs. Some names have none."""
    frame = market.frame
    flips = np.isfinite(market.metric("flip"))
    others = [frame.names[row].symbol for row in np.flatnonzero(flips)[::90]]
    assert len(others) >= 3
    for symbol in ("VILNI", *others):
        row = market.row(symbol)
        flip = metric("flip", symbol)
        expiries = {e.expiration: e for e in frame.expiries[row]}
        chain = read_chain(engine, int(frame.ids[row]), frame.state.as_of).rows()

        def net(spot: float, expiries=expiries, chain=chain) -> float:
            found = 0.0
            for day, strike, call, _, _, _, held in chain:
                expiry = expiries[day]
                vol = math.sqrt(total_variance(expiry.svi, math.log(strike / expiry.forward)) / expiry.years)
                found += (1 if call else -1) * held * black_gamma(spot, strike, expiry, vol, frame.state.rate)
            return found

        assert net(0.9999 * flip) * net(1.0001 * flip) < 0
        close = float(frame.close[row, -1])
        assert metric("flip_distance", symbol) == pytest.approx(100 * (flip / close - 1))
        assert metric("flip_distance_moves", symbol) == pytest.approx((flip - close) / metric("next_day_move", symbol))


# -- the Dossier -----------------------------------------------------------------------------------------------------------

SIDES = {"calls_sold_puts_bought": (1, -1), "both_sold": (1, 1), "both_bought": (-1, -1)}


@pytest.fixture
def dossier(client: FlaskClient):
    def get(symbol: str, **query: str) -> dict:
        return client.get(f"/api/dossier/positioning/{symbol}", query_string=query).json

    return get


@pytest.mark.parametrize("rule", SIDES)
def test_each_strike_of_the_chosen_expirations(books, dossier, rule: str):
    book, (call_side, put_side) = books["VILNI"], SIDES[rule]
    days = {dt.date(2026, 9, 11), dt.date(2026, 10, 16)}
    shown = dossier("VILNI", rule=rule, expirations=",".join(str(day) for day in days))
    found = {s["strike"]: s for s in shown["strikes"]}
    for right, side in ((True, call_side), (False, put_side)):
        name = "call" if right else "put"
        mine = [c for c in book.contracts if c.day in days and c.is_call == right]
        for strike in {c.strike for c in mine}:
            there = [c for c in mine if c.strike == strike]
            assert found[strike][f"{name}_interest"] == sum(c.interest for c in there)
            exposure = side * sum(c.exposure for c in there)
            assert found[strike][f"{name}_exposure"] == pytest.approx(exposure, rel=1e-9, abs=1e-9)


def test_each_price_of_the_profile(books, dossier):
    """Every gamma worked out anew at each of the 41 prices."""
    for symbol in ("VILNI", "KESEO"):
        book = books[symbol]
        profile = dossier(symbol)["profile"]
        assert len(profile["spots"]) == 41
        for spot, net in list(zip(profile["spots"], profile["net"], strict=True))[::5]:
            plain = 0.0
            for c in book.contracts:
                expiry = book.expiries[c.day]
                if c.interest and expiry.years > 0:
                    vol = math.sqrt(total_variance(expiry.svi, math.log(c.strike / expiry.forward)) / expiry.years)
                    gamma = black_gamma(spot, c.strike, expiry, vol, book.rate)
                    plain += (1 if c.is_call else -1) * gamma * c.interest * book.multiplier * spot**2 / 100
            assert net == pytest.approx(plain, rel=1e-7, abs=1e-6 * book.total(size))


@pytest.mark.parametrize("symbol", SYMBOLS)
def test_each_expiration_and_the_changes_listed(books, dossier, symbol: str):
    book, found = books[symbol], dossier(symbol)
    gross = book.total(size)
    for part in found["expiries"]:
        mine = [c for c in book.contracts if str(c.day) == part["expiration"]]
        assert part["interest"] == sum(c.interest for c in mine)
        assert part["opened"] == sum(opened(c) for c in mine)
        assert part["share"] == pytest.approx(100 * sum(c.exposure for c in mine) / gross)
        bucket = "week" if mine[0].day <= WEEK else "month" if mine[0].day <= MONTH else "beyond"
        assert part["bucket"] == bucket
    changes = sorted((opened(c) for c in book.contracts), reverse=True)
    assert [b["change"] for b in found["builds"]] == [change for change in changes[:12] if change > 0]
    assert [b["change"] for b in found["unwinds"]] == [change for change in changes[::-1][:12] if change < 0]
    held = {(str(c.day), c.strike, c.is_call): c for c in book.contracts}
    for build in found["builds"] + found["unwinds"]:
        contract = held[(build["expiration"], build["strike"], build["is_call"])]
        assert (build["interest"], build["change"]) == (contract.interest, opened(contract))
        assert build["new"] == (contract.before is None)
        assert build["small_base"] == ((contract.before or 0) < 100)
