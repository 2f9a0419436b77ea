"""Every name's positions in one pass, against the plain sums; strikes that were listed or expired in between."""

import numpy as np
import pytest

from flinch.core.gamma import StrikeRows, bucket_of, contract_gamma, gamma_exposure, summarise_positions

WEEK, MONTH = np.datetime64("2026-09-11"), np.datetime64("2026-09-18")
DAYS = {"2026-09-11": 2 / 365, "2026-09-18": 9 / 365, "2026-12-18": 100 / 365}


def rows(**changed) -> StrikeRows:
    """Two names: the first has three expirations of two strikes, the second one strike without a volatility."""
    days = np.repeat(list(DAYS), 2)
    given = {
        "name": np.array([0] * 6 + [1]),
        "expiration": np.append(days, "2026-09-18").astype("datetime64[D]"),
        "strike": np.array([95.0, 105, 95, 105, 95, 105, 20]),
        "years": np.array([DAYS[day] for day in days] + [9 / 365]),
        "vol": np.array([0.3, 0.3, 0.28, 0.28, 0.25, 0.25, np.nan]),
        "carry": np.zeros(7),
        "multiplier": np.array([100.0] * 6 + [10]),
        "call_interest": np.array([10.0, 400, 30, 800, 50, 60, 5]),
        "put_interest": np.array([700.0, 20, 500, 10, 90, 0, 7]),
        "call_before": np.array([10.0, 380, np.nan, 200, 70, 60, 5]),
        "put_before": np.array([650.0, 20, np.nan, 12, 90, 0, 7]),
    } | changed
    return StrikeRows(**given)


def summary(given: StrikeRows):
    return summarise_positions(given, spot=np.array([100.0, 20.0]), rate=0.03, week_end=WEEK, month_end=MONTH)


def _rows(count: int) -> StrikeRows:
    """One name's strikes of one expiration, ten contracts open on either side and none the day before."""
    ten, none = np.full(count, 10.0), np.zeros(count)
    return StrikeRows(
        name=np.zeros(count, np.int64), expiration=np.full(count, MONTH), strike=95.0 + 10 * np.arange(count),
        years=np.full(count, 9 / 365), vol=np.full(count, 0.3), carry=none, multiplier=np.full(count, 100.0),
        call_interest=ten, put_interest=ten, call_before=none, put_before=none,
    )  # fmt: skip


def _summed(given: StrikeRows, spot: float):
    return summarise_positions(given, spot=np.array([spot]), rate=0.03, week_end=WEEK, month_end=MONTH)


def test_sums_are_the_plain_ones():
    given, found = rows(), summary(rows())
    six = slice(0, 6)
    gamma = contract_gamma(100.0, given.strike[six], given.years[six], given.vol[six], rate=0.03)
    plain = gamma_exposure(
        np.tile(gamma, 2), np.concatenate([given.call_interest[six], given.put_interest[six]]), spot=100.0,
        is_call=np.repeat([True, False], 6), group=np.tile(np.repeat(np.arange(3), 2), 2), groups=3,
    )  # fmt: skip
    assert found.call_exposure[0] == pytest.approx(plain.call.sum())
    assert found.put_exposure[0] == pytest.approx(plain.put.sum())
    assert found.near_exposure[0] == found.week_exposure[0] == pytest.approx(plain.gross[0])
    assert found.month_exposure[0] == pytest.approx(plain.gross[1])
    assert found.peak_interest_strike[0] == 95
    assert found.interest_above[0] == 400 + 20 + 800 + 10 + 60
    assert found.top_strikes[0] == 1


def test_what_was_opened_counts_new_strikes_and_not_what_expired():
    found = summary(rows())
    # The 95 of 18 September was not listed before: all 530 of it are new.
    assert found.opened[0] == (0 + 50) + (20 + 0) + (30 + 500) + (600 - 2) + (-20 + 0) + 0
    assert found.opened_above[0] == 20 + 598
    assert found.opened_below[0] == 50 + 530 - 20
    assert found.largest_build[0] == 600
    assert found.largest_build_base[0] == 200
    expired = rows(
        call_before=np.array([np.nan] * 2 + [1, 1, 1, 1, 5.0]), put_before=np.array([np.nan] * 2 + [1, 1, 1, 1, 7.0])
    )
    assert summary(expired).largest_build[0] == 799


def test_without_an_earlier_chain_nothing_is_known_of_what_was_opened():
    nothing = np.full(7, np.nan)
    found = summary(rows(call_before=nothing, put_before=nothing))
    assert np.isnan([found.opened[0], found.opened_above[0], found.largest_build[0], found.largest_build_base[0]]).all()
    assert np.isfinite(found.call_exposure[0])


def test_a_name_that_cannot_be_read_has_no_exposure_and_still_its_interest():
    found = summary(rows())
    assert np.isnan([found.call_exposure[1], found.put_exposure[1], found.near_exposure[1], found.flip[1]]).all()
    assert found.peak_interest_strike[1] == 20
    assert found.opened[1] == 0
    closed = summary(rows(call_interest=np.zeros(7), put_interest=np.zeros(7)))
    assert closed.call_exposure.tolist() == closed.near_exposure.tolist() == [0, 0], (
        "nothing open is nothing, not unknown"
    )


def test_an_expiration_that_cannot_be_read_is_missing_and_not_zero():
    found = summary(rows(vol=np.array([np.nan, np.nan, 0.28, 0.28, 0.25, 0.25, np.nan])))
    assert np.isnan([found.near_exposure[0], found.week_exposure[0]]).all()
    assert found.month_exposure[0] > 0
    assert found.call_exposure[0] > 0


def test_a_tenth_of_the_multiplier_is_a_tenth_of_the_exposure():
    whole, tenth = summary(rows()), summary(rows(multiplier=np.full(7, 10.0)))
    assert tenth.call_exposure[0] == pytest.approx(0.1 * whole.call_exposure[0])
    assert tenth.flip[0] == pytest.approx(whole.flip[0])


def test_a_strike_at_the_price_is_neither_above_nor_below_it():
    rows = _rows(3)._replace(
        name=np.zeros(3, np.int64), strike=np.array([90.0, 100.0, 110.0]),
        call_interest=np.array([1.0, 2.0, 4.0]), put_interest=np.zeros(3),
        call_before=np.zeros(3), put_before=np.zeros(3),
    )  # fmt: skip
    found = _summed(rows, 100.0)
    assert (found.interest_above[0], found.opened_above[0], found.opened_below[0]) == (4, 4, 1)


def test_of_a_call_and_a_put_that_grew_alike_the_call_is_told_and_none_that_did_not_grow():
    one = _rows(1)._replace(
        call_interest=np.array([30.0]), put_interest=np.array([50.0]), call_before=np.array([10.0]), put_before=np.array([30.0])
    )  # fmt: skip
    found = _summed(one, 100.0)
    assert (found.largest_build[0], found.largest_build_base[0]) == (20, 10)
    still = one._replace(call_before=one.call_interest, put_before=one.put_interest)
    assert np.isnan(_summed(still, 100.0).largest_build[0])


def test_exposure_is_known_where_some_contract_is_read_and_where_none_is_open():
    rows = _rows(2)._replace(name=np.zeros(2, np.int64), vol=np.array([0.3, np.nan]))
    assert np.isfinite(_summed(rows, 100.0).call_exposure[0]), "one of two is read"
    unread = rows._replace(vol=np.full(2, np.nan))
    assert np.isnan(_summed(unread, 100.0).call_exposure[0])
    empty = unread._replace(call_interest=np.zeros(2), put_interest=np.zeros(2))
    assert _summed(empty, 100.0).call_exposure[0] == 0


def test_an_expiration_that_is_over_is_not_the_next_one():
    days = np.array(["2026-09-09", "2026-09-18"], "datetime64[D]")
    rows = _rows(2)._replace(name=np.zeros(2, np.int64), expiration=days, years=np.array([0.0, 0.03]))
    found = _summed(rows, 100.0)
    whole = _summed(rows._replace(years=np.array([np.nan, 0.03])), 100.0)
    assert found.near_exposure[0] > 0
    np.testing.assert_allclose(found.near_exposure[0], whole.near_exposure[0], rtol=1e-9)


def test_buckets_end_with_the_cycles():
    days = np.array(["2026-09-10", "2026-09-11", "2026-09-18", "2026-09-25"], dtype="datetime64[D]")
    assert bucket_of(days, WEEK, MONTH).tolist() == [0, 0, 1, 2]
    assert bucket_of(days, MONTH, MONTH).tolist() == [0, 0, 0, 2], "a month that ends with this week"
