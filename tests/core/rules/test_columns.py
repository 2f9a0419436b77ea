"""The catalogue: every metric has a value or a reason, and each value is what its definition says."""

import dataclasses

import numpy as np
import pytest

from flinch.core.rules import METRICS, RULE_METRICS, MetricInputs, compute_columns

NAMES, SESSIONS = 4, 260
STOCK, FUND, INDEX, BARE = range(NAMES)


@pytest.fixture
def inputs():
    """A company, a fund, an index, and a company about which little is known."""
    rng = np.random.default_rng(3)
    close = 50 * np.exp(np.cumsum(rng.normal(0, 0.02, (NAMES, SESSIONS)), axis=1))
    open_ = close * np.exp(rng.normal(0, 0.005, close.shape))
    high = np.maximum(open_, close) * 1.01
    low = np.minimum(open_, close) * 0.99
    volume = rng.uniform(1e5, 1e6, close.shape)
    volume[INDEX] = np.nan
    iv30 = rng.uniform(0.2, 0.4, close.shape)
    iv30[BARE] = np.nan
    return MetricInputs(
        kind=np.array(["stock", "fund", "index", "stock"]),
        shares_outstanding=np.array([2e6, np.nan, np.nan, 1e6]),
        open=open_,
        high=high,
        low=low,
        close=close,
        volume=volume,
        option_volume=rng.uniform(10, 1000, close.shape),
        iv30=iv30,
        nearest_vol=np.array([0.3, 0.2, 0.15, np.nan]),
        days_to_earnings=np.array([12.0, np.nan, np.nan, np.nan]),
        quoted=np.array([True, True, True, False]),
    )


def test_every_metric_has_a_value_or_a_reason_for_every_name(inputs):
    columns = compute_columns(inputs)
    assert set(columns) == set(METRICS)
    for column in columns.values():
        assert set(column.reasons) == set(np.flatnonzero(np.isnan(column.values)))


def test_values_are_in_the_catalogues_units(inputs):
    columns = compute_columns(inputs)
    price, previous = inputs.close[STOCK, -1], inputs.close[STOCK, -2]

    def value(key):
        return columns[key].values[STOCK]

    assert value("price") == price
    assert value("change_pct") == pytest.approx(100 * (price / previous - 1))
    assert value("market_cap") == pytest.approx(price * 2e6)
    assert value("avg_volume_50") == pytest.approx(inputs.volume[STOCK, -50:].mean())
    assert value("avg_option_volume_21") == pytest.approx(inputs.option_volume[STOCK, -21:].mean())
    assert value("iv30") == pytest.approx(100 * inputs.iv30[STOCK, -1])
    assert value("iv_hv_ratio") == pytest.approx(value("iv30") / value("hv21"))
    assert value("one_day_move_pct") == pytest.approx(100 * 0.3 / np.sqrt(252))
    assert value("spent") == pytest.approx(
        abs(value("change_pct")) * previous / price / value("one_day_move_pct") * 100
    )
    assert value("days_to_earnings") == 12


@pytest.mark.parametrize(
    ("metric", "name", "reason"),
    [
        ("market_cap", FUND, "only companies have it"),
        ("avg_volume_50", INDEX, "an index does not trade"),
        ("days_to_earnings", FUND, "does not report earnings"),
        ("days_to_earnings", BARE, "no report is scheduled"),
        ("iv30", BARE, "no usable option quotes in this session"),
        ("iv_rank", BARE, "no usable option quotes in this session"),
        ("spent", BARE, "no usable option quotes in this session"),
    ],
)
def test_reasons_say_what_is_missing(inputs, metric, name, reason):
    assert compute_columns(inputs)[metric].reasons[name] == reason


def test_a_missing_session_and_a_short_history_are_told_apart(inputs):
    close = inputs.close.copy()
    close[STOCK, -5] = np.nan
    iv30 = inputs.iv30.copy()
    iv30[FUND, :-45] = np.nan
    columns = compute_columns(dataclasses.replace(inputs, close=close, iv30=iv30))
    assert columns["hv21"].reasons[STOCK] == "one of the last 22 sessions is missing"
    assert columns["iv_percentile"].reasons[FUND] == "45 sessions observed, 60 are needed"
    assert FUND not in columns["iv30"].reasons


def test_the_catalogue_explains_itself():
    for metric in METRICS.values():
        assert metric.definition.endswith(".")
        assert metric.formula
        assert metric.source
        assert len(metric.short) <= 10
    assert RULE_METRICS == (
        "price",
        "avg_volume_50",
        "market_cap",
        "avg_option_volume_21",
        "iv30",
        "iv_hv_ratio",
        "iv_rank",
        "iv_percentile",
        "days_to_earnings",
    )
