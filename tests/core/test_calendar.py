"""Which expirations are monthly, against holidays of the exchange by hand."""

import numpy as np
import pytest

from flinch.core.arrays import find
from flinch.core.calendar import is_monthly, third_friday


def days(*texts: str) -> np.ndarray:
    return np.array(texts, dtype="datetime64[D]")


# April 2025: the third Friday, the 18th, is Good Friday. June 2026: the 19th is a holiday too.
CALENDAR = np.arange("2025-01-01", "2026-12-31", dtype="datetime64[D]")
CALENDAR = CALENDAR[np.is_busday(CALENDAR, holidays=["2025-04-18", "2026-06-19", "2026-07-03"])]


def test_a_thursday_is_monthly_only_when_its_third_friday_is_no_session():
    asked = days("2025-04-17", "2026-06-18", "2026-09-17", "2026-09-18", "2026-07-02", "2026-09-11", "2026-09-25")
    assert is_monthly(asked, CALENDAR).tolist() == [True, True, False, True, False, False, False]


def test_of_fridays_beyond_the_calendar_there_is_taken_to_be_a_session():
    asked = days("2029-01-18", "2029-01-19", "2020-01-16", "2020-01-17")
    assert is_monthly(asked, CALENDAR).tolist() == [False, True, False, True]
    assert is_monthly(days("2026-09-18")[0], CALENDAR)


def test_third_fridays_are_one_a_month():
    year = np.arange("2026-01-01", "2027-01-01", dtype="datetime64[D]")
    found = year[third_friday(year)]
    assert found.size == 12
    assert {str(day)[8:] for day in found} <= {str(n) for n in range(15, 22)}
    assert str(found[8]) == "2026-09-18"


@pytest.mark.parametrize(("wanted", "place"), [(3, 0), (5, 1), (9, 2), (1, -1), (4, -1), (12, -1)])
def test_a_value_is_found_where_it_is_and_nowhere_else(wanted: int, place: int):
    assert find(np.array([3, 5, 9]), np.array([wanted])).tolist() == [place]
    assert find(np.array([], dtype=np.int64), np.array([wanted])).tolist() == [-1]
