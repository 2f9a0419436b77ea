"""Shelves session after session: only what was known, tested as on hand-drawn bars, and better than chance where something is."""

import dataclasses
import re
from pathlib import Path

import numpy as np
import pytest
from sqlalchemy import Engine

from flinch.core.shelves import BANDWIDTH_MOVES, BROKE, HELD, find_shelves, make_levels
from flinch.feeds.simulated import SimulatedMarket
from flinch.feeds.simulated.prints import holding_names
from flinch.feeds.simulated.storylines import storylines
from flinch.market import PLAIN, View, opened
from flinch.market.prints import market_prints
from flinch.market.shelves import SERIES, SIZES, WINDOW, follow_name, market_history, market_record, shelves_of

SYMBOLS = ("TARNO", "VUSVO", "LUSUO")

DEMO = Path(__file__).resolve().parents[2] / "docs" / "demo-market.md"


@pytest.mark.parametrize("symbol", SYMBOLS)
def test_shelves_are_those_of_the_prints_before_the_session(market: View, symbol: str):
    row, prints = market.row(symbol), market_prints(market)
    known = follow_name(market, row).known
    moves = market.history(PLAIN.read("one_day_move").node, row)
    assert set(known.session) == set(prints.sessions[1:].tolist())
    for session in (market.last, market.last - 20, int(prints.sessions[5])):
        mine = prints.bursts_of(row, session - WINDOW, session - 1)
        assert prints.bursts.session[mine].max() < session
        expected = find_shelves(
            prints.bursts.price[mine], prints.bursts.notional[mine], bandwidth=BANDWIDTH_MOVES * moves[session]
        )
        at = known.session == session
        np.testing.assert_allclose(known.price[at], expected.price)
        np.testing.assert_allclose(known.share[at], expected.share)
        assert (known.close[at] == market.frame.close[row, session - 1]).all()


@pytest.mark.parametrize("symbol", SYMBOLS)
def test_tests_begin_in_their_session_reach_their_shelf_and_do_not_overlap(market: View, symbol: str):
    found = follow_name(market, market.row(symbol))
    known, tests, bars = found.known, found.tests, found.bars
    assert tests.band.size > 5
    low, high = known.low[tests.band], known.high[tests.band]
    np.testing.assert_array_equal(bars.session[tests.begin], known.session[tests.band])
    assert (bars.bars.low[tests.begin] <= high).all()
    assert (bars.bars.high[tests.begin] >= low).all()
    close, above = bars.bars.close[tests.end], tests.came_from > 0
    broke, held = tests.outcome == BROKE, tests.outcome == HELD
    assert (np.where(above, close < low, close > high))[broke].all()
    away = 0.25 * known.move[tests.band]
    assert (np.where(above, close >= high + away, close <= low - away))[held].all()
    for i in range(tests.band.size):
        for j in range(i):
            at_once = tests.begin[i] <= tests.end[j] and tests.begin[j] <= tests.end[i]
            assert not (at_once and low[i] <= high[j] and low[j] <= high[i])


@pytest.mark.parametrize("symbol", SYMBOLS)
def test_a_later_print_changes_no_earlier_test(market: View, engine: Engine, symbol: str):
    """All bursts of the newest thirty sessions at other prices: what was known and tested before stays as it was."""
    row, now = market.row(symbol), market.last - 30
    prints = market_prints(market)
    later = prints.bursts.session > now
    bursts = prints.bursts._replace(
        price=np.where(later, prints.bursts.price * 1.03, prints.bursts.price),
        notional=np.where(later, prints.bursts.notional * 7, prints.bursts.notional),
    )
    other = opened(market.frame, engine)
    other.version.keep(("prints",), lambda: dataclasses.replace(prints, bursts=bursts), 1)
    one, two = follow_name(market, row), follow_name(other, row)
    for key in ("session", "price", "low", "high", "share"):
        before = [getattr(found.known, key)[found.known.session <= now + 1] for found in (one, two)]
        np.testing.assert_array_equal(*before)
    early = [found.known.session[found.tests.band] <= now + 1 for found in (one, two)]
    for key in ("begin", "end", "came_from", "outcome"):
        np.testing.assert_array_equal(*(getattr(f.tests, key)[e] for f, e in zip((one, two), early, strict=True)))
    assert early[0].sum() > 0
    assert not np.array_equal(one.known.price, two.known.price)


def test_a_view_of_an_earlier_session_knows_no_later_one(market: View):
    then = market.at(market.last - 15)
    one, two = follow_name(market, market.row("VUSVO")), follow_name(then, market.row("VUSVO"))
    early = one.known.session <= then.last
    np.testing.assert_array_equal(one.known.price[early], two.known.price)
    assert two.bars.session.max() == then.last
    assert two.bars.place.max() == -1, "fifteen sessions ago there were days alone"


def test_it_finds_something_where_something_is_and_nothing_elsewhere(market: View, simulated: SimulatedMarket):
    holding = holding_names(simulated.names, {story.symbol: story for story in storylines()})
    assert 100 < holding.sum() < 170
    record = market_record(market)
    something, nothing = record.of(np.flatnonzero(holding)), record.of(np.flatnonzero(~holding))
    assert something.verdict == "above"
    told = re.search(r"by ([\d.]+) points \(([\d.]+) to ([\d.]+) at 95 %\)", DEMO.read_text())
    assert told, "how much is told where the market is described"
    said = [float(part) for part in told.groups()]
    assert said == [round(100 * part, 1) for part in (something.difference, something.low, something.high)]
    assert nothing.verdict == "none"
    assert something.sessions > 50
    assert record.of().tests == something.tests + nothing.tests > 10_000


def test_the_record_counts_the_tests_of_each_name(market: View):
    record = market_record(market)
    for symbol in SYMBOLS:
        row = market.row(symbol)
        tests = follow_name(market, row).tests
        assert record.held[row].sum() == (tests.outcome == HELD).sum()
        assert record.decided[row].sum() == (tests.outcome > 0).sum()
    assert (record.placebo_held <= record.placebo_decided).all()
    # As many bands, at the same distances.
    assert 0.8 < record.placebo_decided.sum() / record.decided.sum() < 1.25


def test_series_of_prints_are_a_plain_count_of_each_session(market: View):
    prints, frame = market_prints(market), market.frame
    series = {key: market.series(key) for key in SERIES}
    rng = np.random.default_rng(3)
    for row in (*rng.integers(0, 480, 12), market.row("HELUO")):
        for session in (market.last, market.last - 7, market.last - 33):
            told, mine = prints.of(row, session, session), prints.bursts_of(row, session, session)
            assert series["print_shares"][row, session] == prints.shares[told].sum()
            assert series["print_notional"][row, session] == pytest.approx((prints.shares * prints.price)[told].sum())
            assert series["print_bursts"][row, session] == mine.size
            assert series["largest_burst"][row, session] == pytest.approx(prints.bursts.notional[mine].max(initial=0.0))
            window = prints.bursts_of(row, session - WINDOW + 1, session)
            close = frame.close[row, session]
            for size, least in SIZES.items():
                bursts = prints.bursts
                levels = make_levels(
                    bursts.price[window], bursts.notional[window], bursts.shares[window], least=least
                ).price.round(2)
                found = series[f"print_position_{size}"][row, session]
                if not levels.size:
                    assert np.isnan(found)
                else:
                    assert found == (1 if close > levels.max() else -1 if close < levels.min() else 0)
    for key in SERIES:
        assert np.isnan(series[key][:, : market.last - 59]).all()


def test_the_nearest_shelves_are_those_that_the_dossier_shows(market: View):
    prints, close = market_prints(market), market.frame.close[:, market.last]
    moves = market.metric("next_day_move")
    above, below, paid = (market.series(key)[:, -1] for key in ("shelf_above", "shelf_below", "shelf_below_notional"))
    for row in range(3, 480, 31):
        found = shelves_of(prints, row, market.last - WINDOW + 1, market.last, float(moves[row]))
        over, under = found.price[found.price >= close[row]], found.price[found.price < close[row]]
        assert above[row] == pytest.approx(over.min()) if over.size else np.isnan(above[row])
        assert below[row] == pytest.approx(under.max()) if under.size else np.isnan(below[row])
        if under.size:
            assert paid[row] == pytest.approx(found.notional[found.price < close[row]][-1])
    known = market_history(market)
    evening = (known.known.session == market.last) & (known.name == market.row("VUSVO"))
    before = market.series("shelf_above")[market.row("VUSVO"), -2]
    prices = known.known.price[evening]
    assert before == pytest.approx(prices[prices >= market.frame.close[market.row("VUSVO"), -2]].min())


def test_decided_tests_are_counted_in_the_session_that_decides_them(market: View):
    held, broke = market.series("shelf_held"), market.series("shelf_broke")
    for symbol in SYMBOLS:
        row = market.row(symbol)
        found = follow_name(market, row)
        session = found.bars.session[found.tests.end]
        for outcome, series in ((HELD, held), (BROKE, broke)):
            counted = np.bincount(session[found.tests.outcome == outcome], minlength=market.last + 1)
            np.testing.assert_array_equal(np.nan_to_num(series[row]), counted)


def test_the_record_as_of_a_session_is_of_what_was_decided_by_then(market: View):
    then = market.at(market.last - 20)
    record, later = market_record(then), market_record(market)
    assert record.decided[:, then.last + 1 :].sum() == 0
    assert 0 < record.decided.sum() < later.decided.sum()
    for symbol in SYMBOLS:
        tests = follow_name(then, market.row(symbol)).tests
        assert record.held[market.row(symbol)].sum() == (tests.outcome == HELD).sum()


def test_who_asks_first_may_ask_about_the_past(market: View, engine: Engine):
    """What is made once of a version is made of all of it, whichever session it is first asked about."""
    first = opened(market.version.frame, engine).at(market.last - 10)
    early, late = market_record(first), market_record(market.at(market.last - 10))
    assert early.held.tolist() == late.held.tolist()
    assert market_record(View(first.version)).held.sum() > early.held.sum()
