"""Series that follow from others, on the demo market: by hand, against the core, and for names with little history."""

import numpy as np
import pytest
from tests.altered import altered

from flinch.core.rules import METRICS
from flinch.core.volatility import average_correlation, forecast_vol, session_variance
from flinch.market import PLAIN, Version, View


def at(market: View, key: str, symbol: str, session: int | None = None) -> float:
    return float(market.at(market.last if session is None else session).metric(key)[market.row(symbol)])


def test_a_weeks_position_by_hand(market: View):
    frame, row = market.frame, market.row("BULVI")
    days = {str(day): place for place, day in enumerate(frame.sessions)}
    friday, today = days["2026-09-04"], days["2026-09-09"]
    half = frame.close[row, friday] * frame.daily["iv_week"][row, friday] * np.sqrt(7 / 365)
    moved = frame.close[row, today] - frame.close[row, friday]
    assert at(market, "week_position", "BULVI") == pytest.approx(moved / half)
    assert at(market, "week_pace", "BULVI") == pytest.approx(moved / (half * np.sqrt(2 / 4)))
    august = days["2026-08-21"]
    half = frame.close[row, august] * frame.daily["iv_month"][row, august] * np.sqrt(28 / 365)
    room = 100 * (half - abs(frame.close[row, today] - frame.close[row, august])) / frame.close[row, today]
    assert at(market, "room_to_month_pct", "BULVI") == pytest.approx(room)
    assert at(market, "month_sessions_left", "BULVI") == 7


def test_on_the_day_a_cycle_ends_it_is_still_that_cycle(market: View):
    friday = int(np.searchsorted(market.frame.sessions, np.datetime64("2026-09-04")))
    assert at(market, "week_elapsed", "BULVI", friday) == at(market, "week_length", "BULVI", friday) == 5
    assert at(market, "week_elapsed", "BULVI", friday + 1) == 1
    assert at(market, "week_length", "BULVI", friday + 1) == 4, "Labor Day"


def test_the_volatility_at_the_weeks_end_is_that_of_its_expiration(market: View):
    for symbol in ("BULVI", "DEMEO", "KUTRO"):
        row = market.row(symbol)
        by_date = {str(e.expiration): e for e in market.frame.expiries[row]}
        assert at(market, "iv_week", symbol) == pytest.approx(100 * by_date["2026-09-11"].vol)
        assert at(market, "iv_month", symbol) == pytest.approx(100 * by_date["2026-09-18"].vol)


def test_quality_is_the_mean_of_the_expirations_a_week_to_a_quarter_ahead(market: View):
    for symbol in ("DEMEO", "THILO"):
        near = [
            e.quality
            for e in market.frame.expiries[market.row(symbol)]
            if 7 <= (e.expiration - market.today).days <= 92
        ]
        assert at(market, "fit_quality", symbol) == pytest.approx(np.nanmean(near))


def test_forecast_and_correlation_are_the_cores(market: View):
    frame = market.frame
    forecast = forecast_vol(session_variance(frame.open, frame.high, frame.low, frame.close))
    np.testing.assert_array_equal(market.metric("forecast_vol"), 100 * forecast[:, -1])
    fund = market.row("FELRO")
    rows, weights = (np.array(column) for column in zip(*frame.members[fund], strict=True))
    expected = average_correlation(frame.implied[30][fund], frame.implied[30][rows.astype(int)], weights)
    assert at(market, "implied_correlation", "FELRO") == pytest.approx(expected[-1])
    stocks = frame.kind == "stock"
    assert np.isnan(market.metric("implied_correlation")[stocks]).all()
    assert market.reason("implied_correlation", market.row("DEMEO")) == "only a fund has members"


def test_volatility_without_earnings_is_lower_where_the_report_fell_into_the_window(market: View):
    frame = market.frame
    recent = frame.daily["earnings_reaction"][:, -21:].sum(axis=1) > 0
    with_report, without = market.metric("hv21"), market.metric("hv21_ex_earnings")
    known = np.isfinite(with_report) & np.isfinite(without)
    quiet = known & (frame.daily["earnings_reaction"][:, -26:].sum(axis=1) == 0)
    np.testing.assert_allclose(with_report[quiet], without[quiet], rtol=1e-9)
    assert (without < with_report)[known & recent].mean() > 0.7


def test_a_report_ahead_is_in_implied_volatility_and_not_in_what_is_left_without_it(market: View):
    soon = (market.metric("days_to_earnings") >= 1) & (market.metric("days_to_earnings") <= 20)
    premium = market.metric("earnings_premium")
    assert np.nanmedian(premium[soon]) > 2
    none = market.frame.kind != "stock"
    np.testing.assert_allclose(premium[none & np.isfinite(premium)], 0, atol=1e-9)


def listed_for(market: View, symbol: str, sessions: int) -> View:
    """The market as it would be had a name been listed so many sessions ago."""
    frame, row = market.frame, market.row(symbol)

    def young(values: np.ndarray) -> np.ndarray:
        if values.ndim != 2 or values.shape[1] != frame.sessions.size:
            return values
        out = values.copy()
        out[row, :-sessions] = np.nan
        return out

    listed = frame.listed_from.copy()
    listed[row] = frame.sessions.size - sessions
    return View(
        Version(
            altered(
                frame,
                **{key: young(getattr(frame, key)) for key in ("open", "high", "low", "close", "volume")},
                implied={days: young(values) for days, values in frame.implied.items()},
                daily={key: young(values) for key, values in frame.daily.items()},
                listed_from=listed,
            )
        )
    )


def test_a_name_listed_twelve_sessions_ago_has_a_value_or_a_reason_for_everything(market: View):
    young = listed_for(market, "DEMEO", 12)
    row = young.row("DEMEO")
    missing = 0
    for key, metric in METRICS.items():
        if metric.kind == "text":
            continue
        value = young.metric(key)[row]
        if np.isnan(value):
            missing += 1
            assert young.reason(key, row), key
    assert missing > 80
    for key in ("iv30", "one_day_move_pct", "spent", "skew_25d", "implied_earnings_move", "week_position"):
        assert np.isfinite(young.metric(key)[row]), key
    for key in ("iv_rank", "hv21", "forecast_vol", "cone_percentile", "month_position"):
        assert np.isnan(young.metric(key)[row]), key
    others = np.arange(len(young.frame.names)) != row
    np.testing.assert_array_equal(young.metric("hv21")[others], market.metric("hv21")[others])


def test_every_new_metric_can_be_ruled_on_in_any_session(market: View):
    """As of a past session a rule on it finds somebody, and nobody without a value."""
    keys = [
        "week_position", "month_position", "room_to_month_pct", "iv30_ex_earnings", "implied_earnings_move", "skew_25d",
        "term_slope", "iv_minus_forecast", "fit_quality", "cone_percentile", "hv21_ex_earnings", "earnings_move_ratio",
    ]  # fmt: skip
    for key in keys:
        node = PLAIN.read(f"{key} > -1000").node
        for session in (320, 450, 503):
            truth = market.at(session).column(node).truth
            known = np.isfinite(market.at(session).metric(key))
            assert np.array_equal(truth.yes, known), key
            assert known.sum() > 100, key
