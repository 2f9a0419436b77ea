"""Why a value is missing: the part that is to blame, in words."""

import numpy as np
import pytest

from flinch.core.rules import Panel, daily_vocabulary, evaluate, explain

NAMES, SESSIONS = 5, 80
WHOLE, YOUNG, GAPPED, FUND, UNBORN = range(NAMES)
WHY = {"close": {"": "no trade in this session"}, "eps_ttm": {"fund": "only companies report", "": "nothing reported"}}


@pytest.fixture
def market() -> tuple[Panel, np.ndarray]:
    rng = np.random.default_rng(4)
    close = 50 + rng.normal(size=(NAMES, SESSIONS)).cumsum(axis=1)
    close[YOUNG, :60] = np.nan
    close[GAPPED, [70, 74]] = np.nan
    close[UNBORN] = np.nan
    eps = np.full((NAMES, SESSIONS), 2.0)
    eps[FUND] = np.nan
    eps[WHOLE] = 0.0
    series = {"close": close, "high": close + 1, "low": close - 1, "open": close, "eps_ttm": eps}
    kinds = np.array(["stock", "stock", "stock", "fund", "stock"])
    return Panel(NAMES, SESSIONS, series, {"kind": kinds}), np.array([0, 60, 0, 0, SESSIONS])


def reason(market: tuple[Panel, np.ndarray], text: str, name: int) -> str | None:
    panel, listed = market
    node = daily_vocabulary().read(text).node
    (value,) = evaluate([node], panel, SESSIONS - 1, SESSIONS)
    missing = np.isnan(value[:, 0]) if isinstance(value, np.ndarray) else ~(value.yes | value.no)[:, 0]
    return explain(node, panel, SESSIONS - 1, np.flatnonzero(missing), listed, WHY).get(name)


@pytest.mark.parametrize(
    ("text", "name", "says"),
    [
        ("close", WHOLE, None),
        ("close", UNBORN, "not listed yet"),
        ("mean(close, 10)", GAPPED, "2 of the last 10 sessions are missing"),
        ("mean(close, 7)", GAPPED, "one of the last 7 sessions is missing"),
        ("mean(close, 5)", GAPPED, None),
        ("mean(close, 30)", YOUNG, "20 sessions since the listing, 30 are needed"),
        ("mean(close, 100)", WHOLE, "the history begins 80 sessions ago, 100 are needed"),
        ("rank_pct(close, 70)", YOUNG, "20 sessions observed, 60 are needed"),
        ("rank_pct(close, 20)", YOUNG, None),
        ("eps_ttm * 2", FUND, "only companies report"),
        ("close / eps_ttm", WHOLE, "it would be divided by zero"),
        ("close / positive(eps_ttm)", WHOLE, "not above zero"),
        ("close / positive(eps_ttm)", FUND, "only companies report"),
        ("sqrt(-eps_ttm)", YOUNG, "the root of a number below zero"),
        ("log(eps_ttm)", WHOLE, "the logarithm of zero or less"),
        ("sessions_since(close > 1000)", WHOLE, "it has not happened within the history"),
        ("rsi(14) + eps_ttm", FUND, "only companies report"),
        ("ema(close, 40)", YOUNG, "the history since the listing, or since a missing session, is too short"),
        ("gap_above(3)", WHOLE, "no gap is open above"),
        ("mean(close, 10) > 3 and eps_ttm > 1", GAPPED, "2 of the last 10 sessions are missing"),
        ("if_else(close > 0, mean(close, 7), 1)", GAPPED, "one of the last 7 sessions is missing"),
    ],
)
def test_the_first_part_that_is_missing_is_named(market, text, name, says):
    assert reason(market, text, name) == says


def test_the_day_of_the_listing_is_one_of_its_days(market):
    panel, listed = market
    panel.series["close"][YOUNG, [60, 70]] = np.nan
    node = daily_vocabulary().read("close").node
    told = explain(node, panel, 60, np.array([YOUNG]), listed, WHY)
    assert told == {YOUNG: "no trade in this session"}
    assert explain(node, panel, 59, np.array([YOUNG]), listed, WHY) == {YOUNG: "not listed yet"}
    # As many sessions as are needed, of which one is missing.
    assert reason((panel, listed), "mean(close, 19)", YOUNG) == "one of the last 19 sessions is missing"
    assert reason((panel, listed), "mean(close, 20)", YOUNG) == "2 of the last 20 sessions are missing"
    assert reason((panel, listed), "mean(close, 21)", YOUNG) == "20 sessions since the listing, 21 are needed"


def test_a_standing_among_as_many_values_as_are_needed_has_no_other_reason(market):
    panel, listed = market
    panel.series["close"][WHOLE, :20] = np.nan
    panel.series["close"][WHOLE, 20:] = 7.0
    assert (
        reason((panel, listed), "rank_pct(close, 70)", WHOLE) == "all its values are equal"
        or reason((panel, listed), "range_pct(close, 70)", WHOLE) == "all its values are equal"
    )
    panel.series["close"][WHOLE, 20] = np.nan
    assert reason((panel, listed), "range_pct(close, 70)", WHOLE) == "59 sessions observed, 60 are needed"


def test_nothing_missing_needs_no_words(market):
    panel, listed = market
    node = daily_vocabulary().read("close").node
    assert explain(node, panel, SESSIONS - 1, np.array([], dtype=np.int64), listed, WHY) == {}
