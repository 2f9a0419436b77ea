"""The manifest of planted cases: each is found by the application, with the numbers it promises."""

import numpy as np
import pytest

from flinch.core.rules import METRICS
from flinch.features.dossier.positioning import positioning
from flinch.features.dossier.positioning_schemas import PositioningQuery
from flinch.feeds.simulated.storylines import Storyline, storylines
from flinch.market import PLAIN, View

STORIES = [s for s in storylines() if not (s.trades or s.prints or s.only_planted_prints)]
"""What is planted on the tape and in prints is looked for in tests/market."""


def measure(market: View, story: Storyline) -> dict[str, float]:
    """Every figure that a manifest entry may promise, as the application computes it."""
    frame, row = market.frame, market.row(story.symbol)
    iv7, iv30 = frame.implied[7][row], frame.implied[30][row]
    close = frame.close[row]
    days = {str(day): column for column, day in enumerate(frame.sessions)}
    found = {key: market.metric(key)[row] for key, metric in METRICS.items() if metric.kind != "text"}
    found["spent"] /= 100

    def rule(text: str) -> float:
        return market.column(PLAIN.read(text).node).values[row]

    found["share_above_book"] = rule("share_of_sessions(price_to_book > 0.9, 504)")
    found["low_under_channel"] = rule("low < channel(close, 126, -1) and close > channel(close, 126, -1)")
    found["breakout"] = rule("close > lag(max(high, 63), 1)")
    found["iv7_over_iv30"] = iv7[-1] / iv30[-1]
    if len(story.dates) > 1:
        found["iv7_before_over_after"] = iv7[days[str(story.dates[0])]] / iv7[days[str(story.dates[1])]]
    largest = np.nanmax(np.abs(close[21:] / close[:-21] - 1))
    found["expected_move_30_over_largest_move"] = iv30[-1] * np.sqrt(30 / 365) / largest
    found["quoted_contracts"] = len(market.readable_expirations(row))
    found["listed_expirations"] = len(market.expirations(row))
    found["days_to_nearest_expiration"] = (market.expirations(row)[0].expiration - market.today).days
    found["missing_sessions"] = np.isnan(close).sum()
    found["observed_sessions"] = np.isfinite(iv30[-252:]).sum()
    if story.interest or story.adjusted or story.multiplier:
        found |= positions(market, story)
    return found


def positions(market: View, story: Storyline) -> dict[str, float]:
    """What the Dossier says of the contracts that were planted."""
    view = positioning(market, story.symbol, PositioningQuery())
    found = {"multiplier": view.multiplier, "adjusted_interest": sum(a.open_interest for a in view.adjusted)}
    found["likely_spread"] = view.spreads[0].contracts if view.spreads else 0
    if story.interest:
        plant = story.interest[-1]
        wanted = (plant.expiration, plant.strike, plant.right == "call")
        build = next(b for b in view.builds if (b.expiration, b.strike, b.is_call) == wanted)
        found |= {"planted_change": build.change, "planted_base": build.before, "planted_small_base": build.small_base}
        found["planted_percent"] = build.percent if build.percent is not None else np.nan
    return found


def test_every_story_has_a_name_of_its_own_and_dates_the_market_knows(market: View):
    every = storylines()
    assert len({story.symbol for story in every}) == len({story.name for story in every}) == len(every)
    known = {str(day) for day in market.frame.sessions} | {"2026-09-10", "2026-09-16", "2026-09-22"}
    assert all(str(day) in known for story in every for day in story.dates)


@pytest.mark.parametrize("story", STORIES, ids=lambda story: story.name)
def test_the_planted_numbers_are_found(market: View, story: Storyline):
    found = measure(market, story)
    for key, (low, high) in story.expect.items():
        assert low <= found[key] <= high, f"{story.symbol}: {key} is {found[key]}"


def test_a_low_rank_and_a_high_percentile_are_not_the_same(market: View, stories: dict[str, Storyline]):
    row = market.row(stories["low rank, high percentile"].symbol)
    assert market.metric("iv_percentile")[row] - market.metric("iv_rank")[row] > 40


def test_the_halted_name_says_why_it_has_no_volatility(market: View, stories: dict[str, Storyline]):
    row = market.row(stories["halted"].symbol)
    assert market.reason("iv30", row) == "no usable option quotes around thirty days ahead"
    assert np.isfinite(market.metric("price")[row])
    assert np.isfinite(market.frame.implied[30][row, -2]), "it was quoted yesterday"


def test_the_newly_listed_name_says_how_much_is_missing(market: View, stories: dict[str, Storyline]):
    row = market.row(stories["newly listed"].symbol)
    assert market.reason("iv_rank", row) == "45 sessions observed, 60 are needed"
    listed = market.frame.names[row].listed_on
    assert str(listed) == str(stories["newly listed"].dates[0])
    assert all(report.session >= listed for report in market.frame.reports[row])


def test_the_name_with_missing_days_has_no_historical_volatility_until_they_have_passed(
    market: View, stories: dict[str, Storyline]
):
    row = market.row(stories["missing days"].symbol)
    assert market.reason("hv21", row) == "3 of the last 22 sessions are missing"
    assert market.reason("iv_hv_ratio", row) == "3 of the last 22 sessions are missing"
    gone = market.frame.sessions[np.isnan(market.frame.close[row])]
    assert [str(gone[0]), str(gone[-1])] == [str(day) for day in stories["missing days"].dates]
