"""Windows against a loop over each one, and against themselves on a shorter history."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from flinch.core import rolling

histories = arrays(
    float, st.tuples(st.integers(1, 3), st.integers(1, 30)), elements=st.floats(-1e3, 1e3) | st.just(np.nan)
)
BY_HAND = {
    rolling.rolling_mean: np.mean,
    rolling.rolling_sum: np.sum,
    rolling.rolling_min: np.min,
    rolling.rolling_max: np.max,
    rolling.rolling_median: np.median,
    rolling.rolling_mean_deviation: lambda part: np.abs(part - part.mean()).mean(),
    rolling.rolling_std: lambda part: np.std(part, ddof=1),
}


@pytest.mark.parametrize("function", BY_HAND, ids=lambda f: f.__name__)
@given(values=histories, window=st.integers(2, 12))
def test_agrees_with_a_loop(function, values, window):
    found = function(values, window)
    assert found.shape == values.shape
    for row, at in np.ndindex(values.shape):
        part = values[row, max(0, at - window + 1) : at + 1]
        if len(part) < window or np.isnan(part).any():
            assert np.isnan(found[row, at])
        else:
            assert found[row, at] == pytest.approx(BY_HAND[function](part), abs=1e-8)


@given(values=histories, window=st.integers(2, 12), least=st.integers(1, 8))
def test_standing_agrees_with_a_loop(values, window, least):
    percentile = rolling.rolling_percentile(values, window, least)
    rank = rolling.rolling_rank(values, window, least)
    for row, at in np.ndindex(values.shape):
        last = values[row, at]
        part = values[row, max(0, at - window + 1) : at + 1]
        seen = part[~np.isnan(part)]
        if np.isnan(last) or seen.size < least:
            assert np.isnan(percentile[row, at])
            assert np.isnan(rank[row, at])
            continue
        if seen.size > 1:
            assert percentile[row, at] == pytest.approx(100 * (seen[:-1] < last).sum() / (seen.size - 1))
        if seen.max() > seen.min():
            assert rank[row, at] == pytest.approx(100 * (last - seen.min()) / (seen.max() - seen.min()))


@given(values=histories, window=st.integers(2, 12))
def test_a_line_is_fitted_as_by_least_squares(values, window):
    slope, fit, residual = rolling.rolling_regression(values, window)
    for row, at in np.ndindex(values.shape):
        part = values[row, max(0, at - window + 1) : at + 1]
        if len(part) < window or np.isnan(part).any():
            assert np.isnan([slope[row, at], fit[row, at], residual[row, at]]).all()
            continue
        b, a = np.polyfit(np.arange(window), part, 1)
        assert slope[row, at] == pytest.approx(b, abs=1e-6)
        assert fit[row, at] == pytest.approx(a + b * (window - 1), abs=1e-6)
        away = part - (a + b * np.arange(window))
        assert residual[row, at] == pytest.approx(np.sqrt((away**2).mean()), abs=1e-6)


@given(values=histories, window=st.integers(2, 6), skipped=st.integers(0, 29))
def test_a_value_does_not_depend_on_where_the_history_begins(values, window, skipped):
    skipped = min(skipped, values.shape[1] - 1)
    for function in BY_HAND:
        whole, part = function(values, window), function(np.ascontiguousarray(values[:, skipped:]), window)
        assert np.array_equal(part[:, window - 1 :], whole[:, skipped + window - 1 :], equal_nan=True)


def test_sessions_since_knows_what_it_does_not_know():
    happened = np.array([[0, 0, 1, 0, 0, 1, -1, 0, 1, 0]])
    expected = [np.nan, np.nan, 0, 1, 2, 0, np.nan, np.nan, 0, 1]
    assert np.array_equal(rolling.sessions_since(happened)[0], expected, equal_nan=True)


@pytest.mark.parametrize(("function", "window"), [(rolling.rolling_mean, 0), (rolling.rolling_std, 1)])
def test_a_window_too_short_is_refused(function, window):
    with pytest.raises(ValueError, match=f"not {window}"):
        function(np.ones((1, 4)), window)
