"""Where a rule of exposure or open interest turns from one side to the other."""

import numpy as np
import pytest

from flinch.core.gamma import StrikeRows, interest_change, summarise_positions

FRIDAY, NEXT = np.datetime64("2026-09-11"), np.datetime64("2026-09-18")


def rows(strike, call=0.0, put=0.0, *, call_before=0.0, put_before=0.0, years=0.02, vol=0.3, day=FRIDAY):
    size = np.size(strike)

    def each(value, kind=np.float64):
        return np.array(np.broadcast_to(np.asarray(value, dtype=kind), size))

    return StrikeRows(
        np.zeros(size, dtype=np.int64), each(day, "datetime64[D]"), each(strike), each(years), each(vol), each(0.0),
        each(100.0), each(call), each(put), each(call_before), each(put_before),
    )  # fmt: skip


def summary(given, spot=100.0):
    found = summarise_positions(given, spot=np.array([spot]), rate=0.0, week_end=FRIDAY, month_end=NEXT)
    return {key: float(value[0]) for key, value in found._asdict().items()}


@pytest.mark.parametrize(("before", "small"), [(99, True), (100, False), (0, True), (np.nan, True)])
def test_a_base_is_small_below_a_hundred_contracts_and_not_at_it(before, small):
    assert interest_change(np.array([250.0]), np.array([float(before)])).small_base[0] == small


def test_a_strike_at_the_price_is_neither_above_nor_below_it():
    found = summary(rows([99.0, 100.0, 101.0], call=[10, 20, 40], call_before=0.0))
    assert found["interest_above"] == 40
    assert found["opened_above"] == 40
    assert found["opened_below"] == 10
    assert found["opened"] == 70


def test_an_expiration_that_is_over_is_not_the_next_one():
    over_and_next = rows(
        [100.0, 100.0], call=[500, 7], years=[0.0, 0.02], day=np.array([FRIDAY, NEXT], dtype="datetime64[D]")
    )
    alone = rows([100.0], call=7, day=NEXT)
    assert summary(over_and_next)["near_exposure"] == pytest.approx(summary(alone)["near_exposure"])
    assert summary(over_and_next)["left_out"] == 500, "and its open contracts are counted as left out"


def test_what_was_closed_is_no_build():
    found = summary(rows([95.0, 105.0], call=[10, 30], call_before=[50, 30]))
    assert np.isnan(found["largest_build"])
    assert found["opened"] == -40


def test_contracts_without_a_volatility_are_counted_where_they_are_left_out():
    found = summary(rows([95.0, 105.0], call=[10, 30], put=[1, 2], vol=[np.nan, 0.3]))
    assert found["left_out"] == 11
    assert found["call_exposure"] > 0
    none = summary(rows([95.0], call=10, vol=np.nan))
    assert none["left_out"] == 10
    assert np.isnan(none["call_exposure"])


def test_this_month_is_without_this_week():
    both = rows([100.0, 100.0], call=[10, 10], day=np.array([FRIDAY, NEXT], dtype="datetime64[D]"), years=[0.01, 0.03])
    found = summary(both)
    week = summary(rows([100.0], call=10, years=0.01))["week_exposure"]
    month = summary(rows([100.0], call=10, day=NEXT, years=0.03))["month_exposure"]
    assert (found["week_exposure"], found["month_exposure"]) == (pytest.approx(week), pytest.approx(month))
