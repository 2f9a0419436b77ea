"""The planted cases of the tape: each is found by the application, with the numbers that the manifest promises."""

import datetime as dt

import numpy as np
import pytest

from flinch.core.flow import REPEATED_PREMIUM
from flinch.core.rules import TICKETS
from flinch.feeds.simulated.calendar import EXCHANGE_ZONE
from flinch.feeds.simulated.storylines import Storyline, storylines
from flinch.market import PLAIN_TABLES, View
from flinch.market.tape import read_name_tape
from flinch.market.tickets import TicketTable, ticket_table

STORIES = {story.name: story for story in storylines() if story.trades}
SIDES = ("bid", "mid", "ask")


@pytest.fixture(scope="module")
def table(market: View) -> TicketTable:
    return ticket_table(market)


def tickets_of(market: View, table: TicketTable, story: Storyline) -> np.ndarray:
    """Places of the tickets that a story planted, by what they are and not by when they were told."""
    found = []
    for trade in story.trades:
        session = market.last + 1 + trade.session
        day = trade.expiration - market.date(session)
        alike = (
            (table.name == market.row(story.symbol))
            & (table.session == session)
            & (table.raw("is_call") == (trade.right == "call"))
            & (table.raw("dte") == day.days)
            & (table.raw("strike") == trade.strike)
            & (table.raw("contracts") == trade.contracts)
            & (table.raw("side") == SIDES.index(trade.side))
        )
        found.append(np.flatnonzero(alike))
    return np.concatenate(found)


def measure(market: View, table: TicketTable, story: Storyline) -> dict[str, np.ndarray]:
    """Every figure that a manifest entry may promise, of all of its tickets."""
    places, row = tickets_of(market, table, story), market.row(story.symbol)
    session = market.last + 1 + story.trades[0].session
    tape = read_name_tape(market, row, session)
    assert tape is not None
    read = PLAIN_TABLES["tickets"]
    found = {
        f"ticket_{key}": table.column(read.read(key).node).values[places]
        for key, metric in TICKETS.items()
        if metric.kind != "text"
    }
    premium = table.raw("premium")[places].astype(float)
    right = story.trades[0].right
    largest = market.frame.daily[f"largest_{right}_premium"][row]
    if session < market.last and places.size:
        contract, day = table.contract[places[-1]], [day.session for day in table.days].index(session)
        after, before = (table.contract_days(f"{which}open_interest")[day, contract] for which in ("next_", ""))
        found["opened"] = np.array([after - before])
    found["first_in"] = found["ticket_first_in"][:1]
    return found | {
        "planted_tickets": np.array([places.size]),
        "market_cap": market.metric("market_cap")[[row]],
        "spent": market.metric("spent")[[row]] / 100,
        "repeated_tickets": market.frame.daily["repeats"][[row], session],
        "cancelled_fills": np.array([tape.doubts.cancelled]),
        "largest_call_today": market.frame.daily["largest_call_premium"][[row], session],
        "planted_over_month": np.array([premium.sum() / np.nanmax(largest[session - 21 : session])]),
    }


@pytest.mark.parametrize("story", STORIES.values(), ids=lambda story: story.name)
def test_the_planted_numbers_are_found_on_the_tape(market: View, table: TicketTable, story: Storyline):
    found = measure(market, table, story)
    for key, (low, high) in story.expect.items():
        values = found[key]
        assert ((values >= low) & (values <= high)).all(), f"{story.symbol}: {key} is {values}"


def told(table: TicketTable, key: str, place: int) -> str:
    column = table.column(PLAIN_TABLES["tickets"].read(key).node).categories
    assert column is not None
    return column.labels[column.codes[place]]


def test_a_roll_is_told_with_its_other_side(market: View, table: TicketTable):
    story = STORIES["rolled down and added to"]
    sold, bought = tickets_of(market, table, story)
    day = next(day for day in table.days if day.session == table.session[sold])
    begin = table.begin[table.days.index(day)]
    assert day.columns["roll"][[sold - begin, bought - begin]].tolist() == [bought - begin, sold - begin]
    assert table.raw("premium")[bought] > 3 * table.raw("premium")[sold]
    assert [table.raw("lean")[place] for place in (sold, bought)] == [-1, 1]


def test_two_prints_of_one_size_are_a_vertical_that_leans_up(market: View, table: TicketTable):
    first, second = tickets_of(market, table, STORIES["a vertical in two prints"])
    assert [told(table, "package_form", place) for place in (first, second)] == ["vertical", "vertical"]
    day = next(day for day in table.days if day.session == table.session[first])
    begin = table.begin[table.days.index(day)]
    assert sorted(day.legs(int(day.columns["package"][first - begin])) + begin) == sorted([first, second])
    # By itself the sold call would point down.
    assert table.raw("side")[second] == SIDES.index("bid")


def test_legs_that_point_to_both_sides_lean_nowhere_together(market: View, table: TicketTable):
    places = tickets_of(market, table, STORIES["legs that cancel"])
    assert {told(table, "package_form", place) for place in places} == {"straddle"}
    shares = table.raw("share_equivalent")[places]
    assert abs(shares.sum()) < 0.05 * 610 * 100 < np.abs(shares).min(), "each leg alone is a view"
    assert np.isnan(table.since(places)).all()


def test_what_only_closed_is_not_said_to_open(market: View, table: TicketTable):
    (closed,) = tickets_of(market, table, STORIES["large, and only closed what was open"])
    first, *_, last = tickets_of(market, table, STORIES["swept as not in two months"])
    bought, _ = tickets_of(market, table, STORIES["a vertical in two prints"])
    assert told(table, "opening", closed) == "unknown"
    assert told(table, "opening", first) == "likely", "larger than all that was open"
    assert told(table, "opening", last) == "certain", "more traded than was open, and the morning after is not known"
    assert told(table, "opening", bought) == "confirmed"


def test_a_block_at_mid_has_no_side_and_no_shares(market: View, table: TicketTable):
    (block,) = tickets_of(market, table, STORIES["a block whose side nobody knows"])
    assert told(table, "ticket_kind", block) == "block"
    assert told(table, "side", block) == "mid"
    assert np.isnan(table.raw("share_equivalent")[block])
    assert np.isnan(table.since(np.array([block]))).all()


def test_sweeps_go_over_several_venues_within_milliseconds(market: View, table: TicketTable):
    places = tickets_of(market, table, STORIES["swept as not in two months"])
    assert {told(table, "ticket_kind", place) for place in places} == {"sweep"}
    assert (np.diff(table.raw("first")[places]) == 290_000).all()


def test_twenty_small_orders_stay_twenty(market: View, table: TicketTable):
    places = tickets_of(market, table, STORIES["twenty small tickets that are one large"])
    assert {told(table, "ticket_kind", place) for place in places} == {"single"}
    assert (table.raw("premium")[places] < REPEATED_PREMIUM).all(), "each would pass unseen"


def test_what_was_taken_back_is_in_no_volume(market: View, table: TicketTable):
    story = STORIES["taken back"]
    (trade,) = story.trades
    row = market.row(story.symbol)
    mine = (table.contracts["name"] == row) & (table.contracts["strike"] == trade.strike) & table.contracts["is_call"]
    assert np.nanmax(table.contract_days("volume")[-1, mine]) < trade.contracts


def test_before_its_moment_a_planted_ticket_is_not_there(market: View):
    story = STORIES["swept as not in two months"]
    (trade,) = story.trades
    moment = dt.datetime.combine(market.today, trade.at, EXCHANGE_ZONE)
    later = moment + dt.timedelta(seconds=2.5 * trade.every)
    for until, expected in ((moment, 0), (later, 3)):
        assert tickets_of(market, ticket_table(market, until), story).size == expected
