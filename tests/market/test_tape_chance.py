"""Rolls and packages that the simulator made, by its manifest, against those that are told of the same trades."""

import datetime as dt

import numpy as np
import pytest

from flinch.core.flow import LARGE_CONTRACTS, LARGE_PREMIUM
from flinch.feeds.simulated import SimulatedMarket
from flinch.feeds.simulated.calendar import EXCHANGE_ZONE
from flinch.market import View
from flinch.market.tape import read_name_tape
from flinch.market.tickets import TicketDay, asked_of, read_ticket_day, ticket_table
from flinch.tape import read_session_tape

Pairs = set[tuple[int, frozenset[tuple[int, int, dt.date, float, bool]]]]
"""Two sides or more each: session, and name, millisecond, expiration, strike, right of each."""


def told(day: TicketDay, tickets: np.ndarray) -> frozenset:
    columns, contracts = day.columns, day.contracts
    row = columns["contract"][tickets]
    return frozenset(
        zip(
            columns["name"][tickets].tolist(),
            columns["first"][tickets].tolist(),
            contracts["expiration"][row].astype("datetime64[D]").tolist(),
            contracts["strike"][row].tolist(),
            contracts["is_call"][row].tolist(),
            strict=True,
        )
    )


@pytest.fixture(scope="module")
def days(market: View) -> list[TicketDay]:
    return list(ticket_table(market).days)


@pytest.fixture(scope="module")
def made(simulated: SimulatedMarket) -> dict[str, dict]:
    """By kind the pairs of the manifest, each with the least premium of its two sides."""
    out: dict[str, dict] = {"roll": {}, "package": {}}
    keys = ("session", "pair", "kind", "name", "at", "expiration", "strike", "is_call", "premium")
    rows = list(zip(*(simulated.pairs[key].to_list() for key in keys), strict=True))
    for one, other in zip(rows[::2], rows[1::2], strict=True):
        assert one[:3] == other[:3]
        out[one[2]][one[0], frozenset((one[3:8], other[3:8]))] = min(one[8], other[8])
    return out


@pytest.fixture(scope="module")
def rolls(days: list[TicketDay]) -> Pairs:
    out = set()
    for day in days:
        other = day.columns["roll"]
        one = np.flatnonzero(other > np.arange(other.size))
        out |= {(day.session, told(day, np.array([i, other[i]]))) for i in one.tolist()}
    return out


def unflagged(market: View, day: TicketDay, symbols: list[str]) -> Pairs:
    out = set()
    for symbol in symbols:
        row = market.row(symbol)
        tape = read_name_tape(market, row, day.session)
        if tape is None:
            continue
        own = np.flatnonzero(day.columns["name"] == row)
        for package in np.flatnonzero(~tape.packages.flagged).tolist():
            legs = own[tape.packages.of_ticket == package]
            out.add((day.session, told(day, legs)))
    return out


def test_of_large_tickets_two_in_a_hundred_are_sides_of_either(days: list[TicketDay], made: dict):
    large = sum(
        int(((day.columns["contracts"] >= LARGE_CONTRACTS) | (day.columns["premium"] >= LARGE_PREMIUM)).sum())
        for day in days
    )
    for kind in ("roll", "package"):
        assert 0.008 < 2 * len(made[kind]) / large < 0.025


def test_a_roll_is_told_from_the_side_sold_to_the_side_bought(days: list[TicketDay]):
    """How much more it cost, how much higher and how much further out: the same at both sides."""
    for day in days:
        columns, contracts = day.columns, day.contracts
        one = np.flatnonzero(columns["roll"] >= 0)
        other = columns["roll"][one]
        sold = np.where(columns["side"][one] == 0, one, other)
        bought = np.where(columns["side"][one] == 0, other, one)
        assert (columns["side"][sold] == 0).all()
        assert (columns["side"][bought] == 2).all()
        days_on = (
            contracts["expiration"][columns["contract"][bought]] - contracts["expiration"][columns["contract"][sold]]
        )
        np.testing.assert_array_equal(columns["roll_days"][one], days_on)
        strike = contracts["strike"][columns["contract"]]
        np.testing.assert_allclose(
            columns["roll_strike_pct"][one], 100 * (strike[bought] / strike[sold] - 1), atol=1e-4
        )
        np.testing.assert_allclose(
            columns["roll_ratio"][one], columns["premium"][bought] / columns["premium"][sold], rtol=1e-5
        )
    assert any((day.columns["roll_days"] > 0).any() and (day.columns["roll_days"] < 0).any() for day in days)


def test_three_in_four_rolls_that_are_told_were_made(rolls: Pairs, made: dict):
    assert len(rolls) > 150
    assert len(rolls & set(made["roll"])) >= 0.75 * len(rolls)


def test_half_of_the_rolls_above_25_000_are_found(rolls: Pairs, made: dict):
    large = {pair for pair, premium in made["roll"].items() if premium >= 25_000}
    assert len(large) > 150
    assert len(large & rolls) >= 0.5 * len(large)


def test_packages_that_no_source_flags_are_found_and_are_true(market: View, days: list[TicketDay], made: dict):
    symbols = [market.name(row).symbol for row in range(len(market.frame.names))]
    found: Pairs = set()
    for day in days:
        with_pairs = {next(iter(legs))[0] for (session, legs) in made["package"] if session == day.session}
        with_told = np.flatnonzero(day.paired.packages > 0).tolist()
        found |= unflagged(market, day, [symbols[row] for row in sorted({*with_pairs, *with_told})])
    assert len(found) == sum(day.paired.packages.sum() for day in days)
    true = found & set(made["package"])
    assert len(true) >= 0.75 * len(found)
    large = {pair for pair, premium in made["package"].items() if premium >= 25_000}
    assert len(large & found) >= 0.5 * len(large)


def test_what_chance_makes_is_about_what_is_not_true(days: list[TicketDay], rolls: Pairs, made: dict):
    by_chance = sum(float(day.paired.rolls_by_chance.sum()) for day in days)
    false = len(rolls - set(made["roll"]))
    assert abs(false - by_chance) < 4 * np.sqrt(by_chance)
    assert sum(day.paired.rolls.sum() for day in days) == len(rolls)


def test_a_name_s_own_tape_tells_the_same_rolls_as_the_table(market: View, days: list[TicketDay]):
    until = dt.datetime.combine(market.today, dt.time(11, 30), EXCHANGE_ZONE)
    for day, moment in ((days[-1], None), (days[1], None), (read_ticket_day(market, market.last, until), until)):
        busiest = np.argsort(-np.bincount(day.columns["name"][day.columns["roll"] >= 0]))[:3]
        for row in busiest.tolist():
            asked = asked_of(market, np.array([row]), day.session, moment)
            assert asked is not None
            tape = read_session_tape(market.store, asked)
            assert tape is not None
            mine = np.flatnonzero(day.columns["name"] == row)
            other = day.columns["roll"][mine]
            own = np.where(other < 0, -1, np.searchsorted(mine, other))
            assert (own >= 0).any()
            assert tape.rolls.other.tolist() == own.tolist()
            assert tape.paired.rolls.sum() == day.paired.rolls[row]
            np.testing.assert_allclose(tape.paired.rolls_by_chance.sum(), day.paired.rolls_by_chance[row])
