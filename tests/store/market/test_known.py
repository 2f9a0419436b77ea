"""What was known on each day, against looking through the events one by one; and bars made of minutes."""

import datetime as dt
import itertools

import numpy as np
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import Engine

from flinch.feeds.simulated import SimulatedMarket
from flinch.market import opened
from flinch.market.bars import load_bars, load_day_bars
from flinch.market.frame import MarketFrame, load_frame
from flinch.store.market.facts import Report, dividends_ahead, next_reactions, report_days
from flinch.store.market.known import Events

DAY0 = np.datetime64("2026-01-01")


@given(st.lists(st.tuples(st.integers(0, 3), st.integers(0, 30), st.floats(-5, 5)), max_size=25))
def test_last_and_next_agree_with_a_search(rows):
    row = np.array([r for r, _, _ in rows], dtype=np.int64)
    day = DAY0 + np.array([d for _, d, _ in rows], dtype=np.int64)
    values = np.array([v for _, _, v in rows])
    days = DAY0 + np.arange(-2, 33)
    events = Events(row, day, 4)
    last, following = (events.taken(values, place) for place in (events.last(days), events.next(days)))
    for name in range(4):
        mine = sorted(((d, n, v) for n, (r, d, v) in enumerate(rows) if r == name), key=lambda event: event[:2])
        for column, offset in enumerate(range(-2, 33)):
            before = [v for d, _, v in mine if d <= offset]
            after = [v for d, _, v in mine if d > offset]
            assert last[name, column] == before[-1] if before else np.isnan(last[name, column])
            assert following[name, column] == after[0] if after else np.isnan(following[name, column])


def test_a_report_is_ahead_until_the_price_can_react_and_then_its_move_is_known():
    sessions = np.array(["2026-03-02", "2026-03-03", "2026-03-04", "2026-03-05"], dtype="datetime64[D]")
    close = np.array([[100.0, 110.0, 99.0, 99.0], [50.0, 50.0, 55.0, 55.0]])
    early = {
        0: [Report(sessions[1].astype(object), "before_open", sessions[0].astype(object))],
        1: [Report(sessions[1].astype(object), "after_close", sessions[0].astype(object))],
    }
    found = report_days(early, 2, sessions, close)
    assert np.array_equal(
        found["days_to_earnings"], [[1, np.nan, np.nan, np.nan], [1, 0, np.nan, np.nan]], equal_nan=True
    )
    assert np.array_equal(found["days_since_earnings"], [[np.nan, 0, 1, 2], [np.nan, np.nan, 1, 2]], equal_nan=True)
    np.testing.assert_allclose(found["last_earnings_move"][:, 2], [10, 10])


def test_a_report_is_ahead_from_the_day_its_date_is_known():
    sessions = np.array(["2026-03-02", "2026-03-03", "2026-03-04", "2026-03-05"], dtype="datetime64[D]")
    day, known = dt.date(2026, 3, 5), dt.date(2026, 3, 4)
    found = report_days({0: [Report(day, "after_close", known)]}, 1, sessions, np.full((1, 4), 100.0))
    assert np.array_equal(found["days_to_earnings"], [[np.nan, np.nan, 1, 0]], equal_nan=True)
    none = report_days({0: [Report(day, "after_close", dt.date(2026, 3, 6))]}, 1, sessions, np.full((1, 4), 100.0))
    assert np.isnan(none["days_to_earnings"]).all()


def test_in_the_demo_market_the_next_date_comes_with_the_report_before(engine: Engine):
    frame = loaded(engine)
    several = [listed for listed in frame.reports.values() if len(listed) > 2]
    assert len(several) > 400
    for listed in several:
        for before, report in itertools.pairwise(listed):
            assert before.session <= report.known_on < report.session
    row = next(row for row, listed in frame.reports.items() if len(listed) > 2)
    before, report = frame.reports[row][:2]
    column = int(np.searchsorted(frame.sessions, np.datetime64(report.known_on)))
    days = frame.daily["days_to_earnings"][row]
    assert days[column] == (report.session - report.known_on).days
    evening_before = frame.sessions[column - 1].astype(object)
    assert not days[column - 1] > (before.session - evening_before).days, "then only the report at hand was known"
    # What publish reads for a past session is what was known then.
    early = next_reactions(engine, frame.ids, report.known_on - dt.timedelta(days=4))
    assert not early[row] > 5


def loaded(engine: Engine) -> MarketFrame:
    frame = load_frame(engine)
    assert frame is not None
    return frame


def test_longer_bars_are_made_of_the_minutes_and_add_up_to_the_day(engine: Engine, simulated: SimulatedMarket):
    frame = loaded(engine)
    bars = load_bars(engine, frame.ids, frame.sessions, frame.hours)
    assert [bars[length].close.shape[1] for length in (5, 15, 60)] == [10 * 78 - 3, 10 * 26 - 1, 70]
    for length, held in bars.items():
        for session in np.unique(held.session):
            part = held.session == session
            traded = np.isfinite(frame.close[:, session])
            known = np.isfinite(held.high[:, part])
            high = np.where(known, held.high[:, part], -np.inf).max(axis=1)
            low = np.where(known, held.low[:, part], np.inf).min(axis=1)
            assert np.array_equal(high[traded], frame.high[traded, session]), length
            assert np.array_equal(low[traded], frame.low[traded, session]), length
            assert np.array_equal(held.open[:, part][traded, 0], frame.open[traded, session]), length
            shares = np.nansum(held.volume[:, part], axis=1)
            whole = np.nan_to_num(frame.volume[:, session])
            assert np.array_equal(shares[traded], whole[traded]), length


def test_bars_of_one_name_and_day_are_those_of_all(engine: Engine):
    frame = loaded(engine)
    every = load_bars(engine, frame.ids, frame.sessions, frame.hours)
    for symbol in ("TARNO", "FENSO", "GLUDO"):
        row = frame.index[symbol]
        one = load_day_bars(engine, int(frame.ids[row]), frame.sessions[-1], frame.hours)
        for length in (5, 15, 60):
            today = every[length].session == frame.sessions.size - 1
            for field in ("open", "high", "low", "close", "volume"):
                mine, theirs = getattr(one[length], field)[0], getattr(every[length], field)[row, today]
                # The name's own day ends with its last trade.
                np.testing.assert_array_equal(mine, theirs[: mine.size])
                assert np.isnan(theirs[mine.size :]).all()


def test_figures_are_used_only_from_the_session_they_became_known(engine: Engine, simulated: SimulatedMarket):
    frame = loaded(engine)
    rows = simulated.fundamentals.filter(simulated.fundamentals["source"] == 1)
    for name in (3, 77, 200):
        mine = rows.filter(rows["name"] == name)
        known = mine["known_on"].to_numpy().astype("datetime64[D]")
        book = mine["book"].to_numpy()
        for session in (10, 250, 503):
            upto = known <= frame.sessions[session]
            assert frame.daily["book"][name, session] == book[upto][-1]
            assert not np.isclose(book[~upto], frame.daily["book"][name, session]).any()


def test_dividends_of_a_year_add_up(engine: Engine, simulated: SimulatedMarket):
    frame = loaded(engine)
    paid = simulated.dividends
    for name in np.unique(paid["name"].to_numpy())[:20]:
        mine = paid.filter(paid["name"] == int(name))
        ex = mine["ex_date"].to_numpy().astype("datetime64[D]")
        for session in (300, 503):
            day = frame.sessions[session]
            total = mine["amount"].to_numpy()[(ex <= day) & (ex > day - 365)].sum()
            assert abs(frame.daily["dividend_ttm"][name, session] - total) < 1e-6


def test_estimates_short_interest_and_dividends_count_from_the_day_they_were_known(
    engine: Engine, simulated: SimulatedMarket
):
    """Against looking through the events one by one, at sessions around the day each became known."""
    frame = loaded(engine)
    days = [day.astype(object) for day in frame.sessions]
    short = simulated.short_interest.sort("name", "settled_on")
    estimates = simulated.estimates.sort("name", "known_on")
    dividends = simulated.dividends.sort("name", "ex_date")
    seen = 0
    for row in range(0, 480, 37):
        for table, field, column, order in (
            (short, "short_shares", "shares", "settled_on"),
            (estimates, "eps_next_year", "eps_next_year", "known_on"),
        ):
            mine = table.filter(pl.col("name") == row).sort("known_on", order)
            for known_on in mine["known_on"].to_list():
                for place in np.searchsorted(frame.sessions, np.datetime64(known_on)) + np.array([-1, 0]):
                    if not 0 <= place < len(days) or np.isnan(frame.close[row, place]):
                        continue
                    past = mine.filter(pl.col("known_on") <= days[place])
                    expected = past[column][-1] if past.height else None
                    found = frame.daily[field][row, place]
                    assert np.isnan(found) if expected is None else found == expected, (row, field, days[place])
                    seen += 1
        mine = dividends.filter(pl.col("name") == row)
        for declared in mine["declared_on"].to_list():
            for place in np.searchsorted(frame.sessions, np.datetime64(declared)) + np.array([-1, 0]):
                if not 0 <= place < len(days):
                    continue
                upcoming = mine.filter(pl.col("ex_date") > days[place])
                known = upcoming.height and upcoming["declared_on"][0] <= days[place]
                found = frame.daily["days_to_ex_dividend"][row, place]
                expected = (upcoming["ex_date"][0] - days[place]).days if known else np.nan
                assert found == expected or (np.isnan(found) and not known), (row, days[place])
                seen += 1
    assert seen > 300


def test_on_its_ex_date_a_dividend_is_paid_and_no_longer_ahead(engine: Engine, simulated: SimulatedMarket):
    frame = loaded(engine)
    seen = 0
    for row in range(0, 480, 23):
        mine = simulated.dividends.filter(pl.col("name") == row).sort("ex_date")
        for ex_date, amount, declared in mine.select("ex_date", "amount", "declared_on").iter_rows():
            place = int(np.searchsorted(frame.sessions, np.datetime64(ex_date)))
            if not 0 < place < frame.sessions.size or frame.sessions[place] != np.datetime64(ex_date):
                continue
            before = frame.sessions[place - 1].astype(object)
            days, paid = frame.daily["days_to_ex_dividend"][row], frame.daily["dividend_ttm"][row]
            assert declared <= before
            assert days[place - 1] == (ex_date - before).days
            assert days[place] != 0
            year_ago = pl.col("ex_date") + dt.timedelta(days=365)
            gone = mine.filter((year_ago > before) & (year_ago <= ex_date))["amount"].sum()
            assert paid[place] - paid[place - 1] == pytest.approx(amount - gone, abs=1e-5)
            # An option is worth less by what goes ex after today, up to and with its last day.
            expiries = pl.DataFrame(
                {"name_id": [int(frame.ids[row])] * 2, "expiration": [ex_date - dt.timedelta(days=1), ex_date]}
            )
            ahead = dividends_ahead(engine, before, expiries, 0.0)
            assert ahead[1] - ahead[0] == pytest.approx(amount)
            assert dividends_ahead(engine, ex_date, expiries, 0.0).tolist() == [0, 0]
            seen += 1
            break
    assert seen > 8


def test_a_name_may_be_chosen_from_the_session_it_was_listed(engine: Engine):
    market = opened(loaded(engine), engine)
    row = market.row("PELDU")
    first = int(market.frame.listed_from[row])
    assert first > 0
    assert market.at(first).optionable()[row]
    assert not market.at(first - 1).optionable()[row]
