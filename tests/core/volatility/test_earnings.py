"""The move priced for a report, on term structures that hold a known one."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from flinch.core.volatility import ex_earnings, reports_before

DAYS = np.array([2, 9, 16, 23, 37, 72, 100, 191])
YEARS = DAYS / 365


def term(base, long, move, reports, speed=8.0):
    """Volatility that returns from `base` to `long`, with the variance of reports on top."""
    pull = speed * YEARS
    fade = -np.expm1(-pull) / pull
    return np.sqrt(long**2 + (base**2 - long**2) * fade + move**2 * reports / YEARS)


@settings(max_examples=60)
@given(st.floats(0.15, 0.8), st.floats(0.15, 0.8), st.floats(0.02, 0.2), st.integers(0, 60))
def test_a_known_move_is_found_and_taken_out(base, long, move, day):
    reports = reports_before(DAYS, np.array([float(day)]))
    vols = term(base, long, move, reports[0])
    found = ex_earnings(YEARS[None], vols[None], reports)
    assert found.move[0] == pytest.approx(move, rel=0.12, abs=0.004)
    assert found.vols[0] == pytest.approx(term(base, long, 0.0, reports[0]), rel=0.05, abs=0.01)


@given(st.floats(0.15, 0.8), st.floats(0.15, 0.8))
def test_without_a_report_nothing_is_taken_out(base, long):
    vols = term(base, long, 0.0, np.zeros(DAYS.size))
    found = ex_earnings(YEARS[None], vols[None], np.zeros((1, DAYS.size), dtype=int))
    assert np.isnan(found.move[0])
    assert np.array_equal(found.vols[0], vols)


def test_a_report_that_nobody_prices_is_worth_nothing():
    reports = reports_before(DAYS, np.array([12.0]))
    found = ex_earnings(YEARS[None], term(0.4, 0.4, 0.0, reports[0])[None], reports)
    assert found.move[0] == pytest.approx(0, abs=0.002)


def test_two_expiries_do_not_tell_a_report_from_the_rest():
    years, vols = YEARS[None, :2], np.array([[0.3, 0.6]])
    found = ex_earnings(years, vols, np.array([[0, 1]]))
    assert np.isnan(found.move[0])
    assert np.array_equal(found.vols, vols)


def test_reports_come_quarterly_after_the_next_one():
    found = reports_before(np.array([9, 10, 101, 102, 192]), np.array([10.0, np.nan]))
    assert found.tolist() == [[0, 0, 1, 2, 2], [0, 0, 0, 0, 0]]
