"""Cycles and their bands, across holidays, by hand and without a look ahead."""

import exchange_calendars
import numpy as np
import pytest

from flinch.core.moves import band_position, cycle_bands, cycle_ends, cycles, fan, running_ends


@pytest.fixture(scope="module")
def calendar():
    sessions = exchange_calendars.get_calendar("XNYS", start="2018-01-01", end="2027-12-31").sessions.values
    return sessions.astype("datetime64[D]")


def at(calendar, day):
    return int(np.searchsorted(calendar, np.datetime64(day)))


def test_weeks_end_on_friday_or_the_session_before_a_holiday(calendar):
    ends = calendar[cycle_ends(calendar, monthly=False)]
    assert np.datetime64("2026-09-11") in ends
    assert np.datetime64("2026-09-04") in ends, "the Friday before Labor Day"
    assert np.datetime64("2026-04-02") in ends, "the Thursday before Good Friday"
    assert np.datetime64("2026-04-03") not in ends


def test_months_end_on_the_third_friday_or_the_thursday_before(calendar):
    ends = calendar[cycle_ends(calendar, monthly=True)]
    year = [str(day) for day in ends if str(day).startswith("2026")]
    assert year == [
        "2026-01-16", "2026-02-20", "2026-03-20", "2026-04-17", "2026-05-15", "2026-06-18", "2026-07-17", "2026-08-21",
        "2026-09-18", "2026-10-16", "2026-11-20", "2026-12-18",
    ]  # fmt: skip
    assert np.datetime64("2019-04-18") in ends, "the third Friday was Good Friday"


def test_a_session_belongs_to_the_cycle_that_it_ends(calendar):
    cycle = cycles(cycle_ends(calendar, monthly=False))
    friday, monday_off = at(calendar, "2026-09-04"), at(calendar, "2026-09-08")
    assert calendar[cycle.anchor[friday]] == np.datetime64("2026-08-28")
    assert calendar[cycle.end[friday]] == np.datetime64("2026-09-04")
    assert calendar[cycle.anchor[monday_off]] == np.datetime64("2026-09-04")
    assert calendar[cycle.end[monday_off]] == np.datetime64("2026-09-11")
    assert cycle.anchor[0] == -1


def test_the_holiday_week_has_four_sessions_and_seven_days(calendar):
    first, last = at(calendar, "2026-08-24"), at(calendar, "2026-09-09")
    sessions = last - first + 1
    close = np.linspace(100, 110, sessions)[None]
    vol = np.full(close.shape, 0.25)
    band = cycle_bands(close, vol, calendar[first:], monthly=False)
    anchor = close[0, at(calendar, "2026-09-04") - first]
    assert band.anchor[0, -1] == anchor
    assert band.half_width[0, -1] == pytest.approx(anchor * 0.25 * np.sqrt(7 / 365))
    assert band.length[-1] == 4
    assert band.elapsed[-1] == 2, "Tuesday and Wednesday"
    assert np.isnan(band.anchor[0, 0]), "its week began before the first session held"
    month = cycle_bands(close, vol, calendar[first:], monthly=True)
    assert np.isnan(month.anchor).all(), "the August expiration lies before the first session held"


def test_a_band_is_known_at_its_start(calendar):
    first = at(calendar, "2025-01-02")
    rng = np.random.default_rng(5)
    close = 50 * np.exp(np.cumsum(0.02 * rng.normal(size=(3, 300)), axis=1))
    vol = rng.uniform(0.2, 0.6, close.shape)
    before = cycle_bands(close, vol, calendar[first:], monthly=True)
    start = 220
    close[:, start + 1 :] *= 3
    vol[:, start + 1 :] *= 3
    after = cycle_bands(close, vol, calendar[first:], monthly=True)
    anchors = cycles(cycle_ends(calendar[first:], monthly=True)).anchor[:300]
    same = anchors <= start
    assert np.array_equal(before.half_width[:, same], after.half_width[:, same], equal_nan=True)
    assert not np.array_equal(before.half_width[:, ~same], after.half_width[:, ~same], equal_nan=True)


def test_a_missing_anchor_leaves_the_whole_cycle_missing(calendar):
    first = at(calendar, "2026-08-24")
    close = np.full((1, 12), 100.0)
    close[0, at(calendar, "2026-09-04") - first] = np.nan
    band = cycle_bands(close, np.full((1, 12), 0.2), calendar[first:], monthly=False)
    assert np.isnan(band.half_width[0, -2:]).all()
    assert np.isfinite(band.half_width[0, 5:10]).all()


def test_positions_and_fans():
    assert band_position([105.0, 94.0, 100.0], 100.0, [4.0, 4.0, 0.0]) == pytest.approx(
        [1.25, -1.5, np.nan], nan_ok=True
    )
    assert fan(6.0, [0, 1, 4], 4) == pytest.approx([0, 3, 6])


def test_the_running_cycles_end_with_the_next_friday_and_the_next_third_friday():
    calendar = np.arange("2026-09-01", "2026-11-30", dtype="datetime64[D]")
    calendar = calendar[np.is_busday(calendar) & (calendar != np.datetime64("2026-09-07"))]

    def ends(day: str, over: bool = False) -> tuple[str, str]:
        week, month = running_ends(calendar, np.datetime64(day), over=over)
        return str(week), str(month)

    assert ends("2026-09-09") == ("2026-09-11", "2026-09-18")
    assert ends("2026-09-11") == ("2026-09-11", "2026-09-18"), "it still runs"
    assert ends("2026-09-11", over=True) == ("2026-09-18", "2026-09-18")
    assert ends("2026-09-18", over=True) == ("2026-09-25", "2026-10-16")
