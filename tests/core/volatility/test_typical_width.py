"""How wide options are quoted at the money, by hand; and which expirations are the monthly ones."""

import datetime as dt
import itertools

import exchange_calendars
import numpy as np
import pytest

from flinch.core.calendar import is_monthly
from flinch.core.volatility.chain import ChainQuotes, typical_width

NAN = float("nan")


def width(rows: list[tuple], names: list[int], spot: list[float], days: list[int], count: int) -> np.ndarray:
    columns = [np.array(column, dtype=float) for column in zip(*rows, strict=True)]
    quotes = ChainQuotes(columns[0].astype(np.int64), *columns[1:])
    return typical_width(quotes, np.array(names), spot=np.array(spot), years=np.array(days) / 365, count=count)


def test_call_and_put_at_the_nearest_quoted_strike():
    rows = [
        # expiry, strike, call bid and ask, put bid and ask
        (0, 95.0, 6.0, 6.6, 1.0, 1.2),
        (0, 100.0, 2.9, 3.1, 1.8, 2.2),
        (0, 105.0, 1.0, 1.4, 5.0, 5.4),
    ]
    (found,) = width(rows, [0], [99.0], [30], 1)
    assert found == pytest.approx(0.5 * (100 * 0.2 / 3.0 + 100 * 0.4 / 2.0))


def test_a_strike_quoted_on_one_side_only_is_passed_over():
    rows = [(0, 95.0, 6.0, 6.6, 1.0, 1.2), (0, 100.0, 2.9, 3.1, NAN, NAN), (0, 105.0, 0.0, 1.4, 5.0, 5.4)]
    (found,) = width(rows, [0], [100.0], [30], 1)
    assert found == pytest.approx(0.5 * (100 * 0.6 / 6.3 + 100 * 0.2 / 1.1))


def test_the_middle_of_the_expirations_a_week_to_two_months_ahead():
    def at(expiry: int, relative: float) -> tuple:
        return (expiry, 100.0, 2 - relative, 2 + relative, 2 - relative, 2 + relative)

    rows = [at(0, 0.9), at(1, 0.1), at(2, 0.2), at(3, 0.5), at(4, 0.8)]
    found = width(rows, [0, 0, 0, 0, 0], [100.0] * 5, [2, 9, 30, 58, 200], 1)
    assert found == pytest.approx([20.0])
    far = width([at(0, 0.5), at(1, 0.8)], [0, 0], [100.0] * 2, [120, 200], 1)
    assert far == pytest.approx([65.0]), "with none of them near, all there are"


def test_a_name_without_quotes_has_none():
    rows = [(0, 100.0, 1.9, 2.1, 1.9, 2.1), (1, 100.0, NAN, NAN, NAN, NAN)]
    found = width(rows, [0, 1], [100.0, 100.0], [30, 30], 3)
    assert found[0] == pytest.approx(10)
    assert np.isnan(found[1:]).all()


def test_monthly_expirations_are_third_fridays_or_the_session_before_a_holiday():
    sessions = exchange_calendars.get_calendar("XNYS", start="2023-06-01", end="2028-01-01").sessions
    days = sessions.values.astype("datetime64[D]")
    expected = set()
    for year in range(2024, 2028):
        for month in range(1, 13):
            first = dt.date(year, month, 1)
            third = first + dt.timedelta(days=(4 - first.weekday()) % 7 + 14)
            expected.add(days[np.searchsorted(days, np.datetime64(third), side="right") - 1])
    one_day = np.timedelta64(1, "D")
    last_of_weeks = [day for day, after in itertools.pairwise(days) if after - day > one_day]
    inside = np.array([day for day in last_of_weeks if str(day)[:4] in ("2024", "2025", "2026", "2027")])
    ends = inside[np.array([day.astype(object).weekday() >= 3 for day in inside])]
    assert expected <= set(ends[is_monthly(ends, days)])
    for day in ends[is_monthly(ends, days)]:
        assert 14 <= day.astype(object).day <= 21
