"""The catalogue on the demo market: complete, explained, and computed as it says."""

import numpy as np
import pytest

from flinch.core.rules import FUNCTIONS, GROUPS, METRICS, daily_vocabulary, series_keys
from flinch.core.volatility import historical_vol, vol_percentile, vol_rank
from flinch.market import PLAIN, View


def value(market: View, text: str, symbol: str) -> float:
    return float(market.column(PLAIN.read(text).node).values[market.row(symbol)])


def test_it_is_large_and_every_entry_explains_itself():
    assert len(METRICS) >= 120
    assert {metric.group for metric in METRICS.values()} == set(GROUPS)
    assert not set(METRICS) & (set(FUNCTIONS) - {key for key, m in METRICS.items() if m.formula == key})
    for metric in METRICS.values():
        assert metric.definition.endswith(".")
        assert metric.formula
        assert len(metric.short) <= 12
        assert metric.source or series_keys(daily_vocabulary().read(metric.key).node)


def test_every_metric_has_a_value_for_most_names_it_applies_to(market: View):
    rare = {"after_hours_last", "after_hours_volume", "days_to_ex_dividend", "next_dividend", "next_dividend_pct",
            "gap_above_pct", "gap_below_pct", "dividend_growth", "iv_week", "earnings_reaction", "flip", "flip_distance",
            "flip_distance_moves", "print_position_1m", "print_position_5m", "print_position_20m"}  # fmt: skip
    stocks = market.frame.kind == "stock"
    for metric in METRICS.values():
        if metric.kind == "text" or metric.key in rare or "week" in metric.key or "correlation" in metric.key:
            continue
        if metric.key in ("members_iv30", "month_elapsed", "month_length", "month_sessions_left"):
            continue
        if metric.group == "own lines":
            assert np.isnan(market.metric(metric.key)).all(), "without an owner there are none"
            continue
        found = market.metric(metric.key)[stocks]
        assert np.isfinite(found).mean() > 0.7, metric.key
        # Short interest is settled on one day for all.
        if metric.kind == "number" and metric.key not in ("index_close", "short_interest_age"):
            assert np.unique(found[np.isfinite(found)]).size > 2, metric.key


def test_rank_percentile_and_volatility_are_the_cores(market: View):
    iv30 = market.frame.implied[30]
    np.testing.assert_allclose(market.metric("iv_rank"), vol_rank(iv30), rtol=1e-12, atol=1e-12)
    np.testing.assert_allclose(market.metric("iv_percentile"), vol_percentile(iv30), rtol=1e-12)
    frame = market.frame
    hv = historical_vol(frame.open, frame.high, frame.low, frame.close, 21, estimator="yang_zhang")[:, -1]
    np.testing.assert_allclose(market.metric("hv21"), 100 * hv, rtol=1e-12)
    np.testing.assert_allclose(market.metric("iv_hv_ratio"), iv30[:, -1] / hv, rtol=1e-12)


def test_money_per_share_and_sizes_by_hand(market: View):
    row, frame = market.row("FOLVO"), market.frame
    price = frame.close[row, -1]
    assert value(market, "market_cap", "FOLVO") == pytest.approx(price * frame.shares_outstanding[row])
    assert value(market, "price_to_earnings", "FOLVO") == pytest.approx(price / frame.daily["eps_ttm"][row, -1])
    assert value(market, "dividend_yield", "FOLVO") == pytest.approx(100 * frame.daily["dividend_ttm"][row, -1] / price)
    assert value(market, "avg_volume_50", "FOLVO") == pytest.approx(frame.volume[row, -50:].mean())
    for key, session in (("one_day_move_pct", -2), ("next_day_move_pct", -1)):
        assert value(market, key, "FOLVO") == pytest.approx(
            100 * frame.daily["iv_nearest"][row, session] / np.sqrt(252)
        )


@pytest.mark.parametrize(
    ("metric", "symbol", "reason"),
    [
        ("iv30", "FENSO", "no usable option quotes around thirty days ahead"),
        ("next_day_move", "FENSO", "no usable option quotes in this session"),
        ("iv_rank", "PELDU", "45 sessions observed, 60 are needed"),
        ("above_sma_200", "PELDU", "45 sessions since the listing, 200 are needed"),
        ("hv21", "VRISO", "3 of the last 22 sessions are missing"),
        ("hv63", "VRISO", "3 of the last 64 sessions are missing"),
        ("market_cap", "FELRO", "only companies have it"),
        ("days_to_earnings", "FELRO", "does not report earnings"),
        ("short_percent_float", "FELRO", "published for companies only"),
        ("avg_volume_50", "GLUDO", "an index does not trade"),
        ("after_hours_last", "TARNO", "nothing traded after that close, or it is still ahead"),
    ],
)
def test_a_missing_value_has_its_reason(market: View, metric, symbol, reason):
    assert market.reason(metric, market.row(symbol)) == reason


def test_every_missing_value_of_every_metric_has_a_reason(market: View):
    for metric in METRICS.values():
        node = PLAIN.read(metric.key).node
        column = market.column(node)
        missing = column.texts == "" if column.texts is not None else np.isnan(column.values)
        assert set(market.reasons(node)) == set(np.flatnonzero(missing).tolist()), metric.key


def test_the_past_is_seen_as_it_was_then(market: View):
    """A session in the past gives what the whole history gives there, and what comes later is not looked at."""
    session = market.last - 37
    for key in ("iv_rank", "price_to_book", "rsi_14", "squeeze_length", "short_change", "days_to_earnings"):
        node = PLAIN.read(key).node
        for symbol in ("TARNO", "HOSMU", "FELRO", "PELDU"):
            row = market.row(symbol)
            np.testing.assert_equal(market.at(session).column(node).values[row], market.history(node, row)[session])


def test_rules_on_shorter_bars(market: View):
    day = market.column(PLAIN.read("close").node)
    for bars in ("60", "15", "5"):
        last = market.column(PLAIN.read("close", bars).node, bars)
        same = np.isfinite(day.values) & np.isfinite(last.values)
        assert same.sum() > 495
        np.testing.assert_allclose(last.values[same], day.values[same])
        yesterday = market.at(market.last - 1).column(PLAIN.read("close", bars).node, bars)
        np.testing.assert_allclose(yesterday.values[same], market.frame.close[same, -2])
    long_ago = market.at(market.last - 30).column(PLAIN.read("close > 1", "15").node, "15")
    assert long_ago.truth is not None
    assert not (long_ago.truth.yes | long_ago.truth.no).any(), "there are minute bars of ten sessions only"
