"""Prints as the market holds them: what counts, what is a burst, and the planted cases."""

import datetime as dt

import numpy as np
import polars as pl
import pytest
from sqlalchemy import Engine, delete
from tests.altered import altered

from flinch.core.shelves import NONE, NONE_LARGE, OUTCOMES, make_levels, print_position, stand
from flinch.feeds.simulated import SimulatedMarket
from flinch.feeds.simulated.storylines import Storyline, storylines
from flinch.market import View, opened
from flinch.market.prints import Prints, market_prints
from flinch.market.shelves import follow_name, shelves_of
from flinch.store.bulk import replace_rows
from flinch.store.market.models import PrintDay
from flinch.store.market.prints import AVERAGE, print_rows, read_print_sessions, read_prints

LEAST = 1_000_000
STORIES = {s.name: s for s in storylines() if s.prints or s.only_planted_prints}


@pytest.fixture(scope="module")
def prints(market: View) -> Prints:
    return market_prints(market)


def test_every_print_that_the_feed_made_is_there_once(market: View, prints: Prints, simulated: SimulatedMarket):
    made = simulated.prints.sort("name", "session", "at", maintain_order=True)
    np.testing.assert_array_equal(prints.name, made["name"])
    np.testing.assert_array_equal(prints.session, made["session"])
    np.testing.assert_array_equal(prints.at, made["at"])
    np.testing.assert_allclose(prints.price, made["price"])
    np.testing.assert_array_equal(prints.shares, made["shares"])
    assert sum(prints.doubts) == 0
    assert prints.sessions.tolist() == list(range(market.last - 59, market.last + 1))


def test_what_is_flagged_makes_no_level_and_the_rest_is_in_one_burst(prints: Prints):
    flagged = prints.conditions > 0
    assert (prints.burst[flagged] == -1).all()
    assert (prints.burst[~flagged] >= 0).all()
    notional = np.bincount(prints.burst[~flagged], (prints.price * prints.shares)[~flagged])
    np.testing.assert_allclose(notional, prints.bursts.notional)
    whose = np.full(prints.bursts.name.size, -1)
    whose[prints.burst[~flagged]] = prints.name[~flagged]
    np.testing.assert_array_equal(whose, prints.bursts.name)
    assert (prints.bursts.prints > 1).sum() > 5_000


def test_the_book_says_of_a_name_what_its_own_bursts_do(market: View, prints: Prints):
    price = np.ascontiguousarray(market.frame.close[:, market.last])
    first, last = market.last - 11, market.last
    found = stand(prints.book, price, first, last, least=LEAST)
    for row in range(0, 502, 23):
        mine = prints.bursts_of(row, first, last)
        assert (np.diff(prints.bursts.session[mine].astype(int)) >= 0).all()
        levels = make_levels(
            prints.bursts.price[mine], prints.bursts.notional[mine], prints.bursts.shares[mine], least=LEAST
        )
        assert found.levels[row] == levels.price.size
        expected = print_position(price[row], levels.price.round(2)) if levels.price.size else None
        assert found.position[row] == (expected if expected is not None else NONE_LARGE if mine.size else NONE)


def test_bad_prints_are_counted_and_left_out(market: View, engine: Engine, prints: Prints):
    """Of a session before the others: no size, no price, an unknown name, and one from the future."""
    day = market.date(int(prints.sessions[0]) - 1)
    tomorrow = market.calendar[market.last + 1].astype(object)
    rows = [
        (1, day, 50_000_000, 10.0, 0), (1, day, 50_000_001, 10.0, -5), (2, day, 50_000_000, 0.0, 100),
        (9_999, day, 50_000_000, 10.0, 100), (3, tomorrow, 50_000_000, 10.0, 100), (4, day, 50_000_000, 10.0, 100),
    ]  # fmt: skip
    frame = pl.DataFrame(rows, ["name_id", "session", "at", "price", "shares"], orient="row").with_columns(
        conditions=pl.lit(0)
    )
    replace_rows(engine, PrintDay, print_rows(frame))
    try:
        found = market_prints(opened(altered(market.frame), engine))
        assert found.doubts == (1, 2, 1, 1)
        assert found.doubts.words == [
            "1 of names that are not listed", "2 without a size above zero", "1 without a price", "1 from the future",
        ]  # fmt: skip
        assert found.name.size == prints.name.size + 1
    finally:
        with engine.begin() as connection:
            connection.execute(delete(PrintDay).where(PrintDay.session.in_([day, tomorrow])))


def test_what_was_printed_after_the_moment_of_the_data_is_not_known_yet(market: View, engine: Engine, prints: Prints):
    """The same market an hour earlier: of its last session as many prints as had come by then, to the millisecond."""
    state = market.frame.state
    earlier = state._replace(as_of=state.as_of - dt.timedelta(hours=1))
    found = market_prints(opened(altered(market.frame, state=earlier), engine))
    midnight = dt.datetime.combine(market.today, dt.time(), dt.UTC)
    until = int((earlier.as_of.astimezone(dt.UTC) - midnight).total_seconds() * 1000)
    today = prints.session == market.last
    assert today.sum() > (today & (prints.at <= until)).sum() > 0
    assert (found.session == market.last).sum() == (today & (prints.at <= until)).sum()
    assert found.at[found.session == market.last].max() <= until
    assert found.doubts.words[-1].endswith("from the future")
    before = (prints.session < market.last).sum()
    assert (found.session < market.last).sum() == before, "other sessions are whole"


def test_a_print_survives_the_store_as_it_was_told(engine: Engine, market: View):
    day = dt.date(2026, 1, 5)
    frame = pl.DataFrame(
        {"name_id": [7, 7, 8], "session": [day] * 3, "at": [3, 1, 2], "price": [10.0, 0.0001, 99.99], "shares": [1, -2, 3],
         "conditions": [0, 5, 7]}
    )  # fmt: skip
    replace_rows(engine, PrintDay, print_rows(frame))
    try:
        back = read_prints(engine, (7, 7), (day, day))
        assert back.select("at", "price", "shares", "conditions").rows() == [(3, 10.0, 1, 0), (1, 0.0001, -2, 5)]
        assert read_print_sessions(engine)[0] == day
    finally:
        with engine.begin() as connection:
            connection.execute(delete(PrintDay).where(PrintDay.session == day))


def measure(market: View, prints: Prints, story: Storyline) -> dict[str, float]:
    """Figures that a manifest entry may promise, over the last twenty sessions."""
    row, first = market.row(story.symbol), market.last - 19
    price = np.ascontiguousarray(market.frame.close[:, market.last])
    found = stand(prints.book, price, first, market.last, least=LEAST)
    mine = prints.bursts_of(row, first, market.last)
    out = {
        "position": found.position[row],
        "levels": found.levels[row],
        "levels_alone": (prints.bursts.notional[mine] >= LEAST).sum(),
        "above_pct": 100 * (found.above[row] / price[row] - 1),
        "below_pct": 100 * (found.below[row] / price[row] - 1),
    }
    if story.prints:
        planted = story.prints[-1]
        told = prints.of(row, first, market.last)
        out["average_prints"] = ((prints.conditions[told] & AVERAGE) > 0).sum()
        out["level_at_it"] = (np.abs(prints.bursts.price[mine] - planted.price) < 0.005).sum()
        largest = mine[prints.bursts.prints[mine] >= planted.times]
        nearest = largest[np.abs(prints.bursts.price[largest] - planted.price) < 0.005]
        if nearest.size:
            out["burst_prints"] = prints.bursts.prints[nearest[0]]
            out["burst_shares"] = prints.bursts.shares[nearest[0]]
    if "shelf_price" in story.expect:
        move = float(market.metric("next_day_move")[row])
        shelves = shelves_of(prints, row, first, market.last, move)
        tests = follow_name(market, row).tests
        out |= {"shelf_price": shelves.price[0], "shelf_share": shelves.share[0]}
        out |= {key: (tests.outcome == OUTCOMES.index(key)).sum() for key in ("held", "broke")}
    return out


@pytest.mark.parametrize("story", STORIES.values(), ids=lambda story: story.name)
def test_the_planted_numbers_are_found_in_the_prints(market: View, prints: Prints, story: Storyline):
    found = measure(market, prints, story)
    for key, (low, high) in story.expect.items():
        assert low <= found[key] <= high, f"{story.symbol}: {key} is {found[key]}"
