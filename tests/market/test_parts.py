"""What a moment shares with the one before it: made of parts it is what it would be made at once."""

from __future__ import annotations

import dataclasses
import datetime as dt
from pathlib import Path

import numpy as np
import pytest
from sqlalchemy import Engine

from flinch.market import View, load_frame, opened
from flinch.market.bars import load_bars
from flinch.market.prints import _packed, _read_days, market_prints
from flinch.market.shelves import market_history, print_series
from flinch.market.tickets import ticket_table
from flinch.store.engine import as_known
from flinch.store.market.prints import read_print_sessions


@pytest.fixture(scope="module")
def moments(engine: Engine, tmp_path_factory: pytest.TempPathFactory) -> tuple[View, View]:
    """Three o'clock, and a quarter to four, of a market whose arrays are kept as files."""
    frame = load_frame(engine, tmp_path_factory.mktemp("parts"))
    assert frame is not None
    three = dt.datetime(2026, 9, 9, 19, 0, tzinfo=dt.UTC)
    state = frame.state._replace(as_of=three, data_version=frame.state.data_version - 1)
    looks = [look for look in frame.snapshots if look.taken_at <= three]
    return opened(dataclasses.replace(frame, state=state, snapshots=looks), as_known(engine, three)), opened(
        frame, engine
    )


def same(one: dict[str, np.ndarray], other: dict[str, np.ndarray]) -> None:
    assert one.keys() == other.keys()
    for key, values in one.items():
        assert np.array_equal(values, other[key], equal_nan=values.dtype.kind == "f"), key


def test_prints_of_a_later_moment_are_those_of_all_sessions_read_at_once(moments: tuple[View, View]):
    for view in moments:
        days = [day for day in read_print_sessions(view.store) if day <= view.today]
        same(_packed(market_prints(view)), _packed(_read_days(view, days)))
    before, after = (market_prints(view) for view in moments)
    assert before.price.size < after.price.size
    assert before.bursts.price.size < after.bursts.price.size


def test_bars_of_a_later_moment_are_those_of_all_sessions_read_at_once(moments: tuple[View, View]):
    for view, ends in zip(moments, (66, 75), strict=True):
        frame = view.frame
        for length, told in load_bars(view.store, frame.ids, frame.sessions, frame.hours).items():
            same(vars(view.version.bars(length, view.last)), vars(told))
        assert (view.version.bars(5, view.last).session == view.last).sum() == ends


def test_a_session_in_which_nothing_traded_yet_ends_with_the_one_before(engine: Engine, moments: tuple[View, View]):
    opens = dt.datetime(2026, 9, 9, 13, 30, tzinfo=dt.UTC)
    frame = dataclasses.replace(moments[1].frame, place=None)
    bars = opened(frame, as_known(engine, opens)).version.bars(60, frame.sessions.size - 1)
    assert bars.session[-1] == frame.sessions.size - 2
    assert bars.close.shape[1] == 9 * 7


def test_what_prints_and_trades_come_to_is_the_same_without_files(engine: Engine, moments: tuple[View, View]):
    for view in moments:
        alone = opened(dataclasses.replace(view.frame, place=None), view.store)
        same(print_series(view), print_series(alone))
        for part in ("known", "tests", "placebo"):
            same(getattr(market_history(view), part)._asdict(), getattr(market_history(alone), part)._asdict())
        one, other = ticket_table(view), ticket_table(alone)
        assert [day.session for day in one.days] == [day.session for day in other.days]
        for day, again in zip(one.days, other.days, strict=True):
            same(day.columns, again.columns)
            same(day.contracts, again.contracts)
    assert ticket_table(moments[0]).size < ticket_table(moments[1]).size


def test_files_of_one_moment_are_not_those_of_another_or_of_a_session_that_is_played(moments: tuple[View, View]):
    place = moments[1].frame.place
    assert place is not None
    for view in moments:
        market_prints(view)
    names = sorted(path.name for path in Path(place).glob("prints*"))
    last, version = moments[1].last, moments[1].data_version
    count = len(read_print_sessions(moments[1].store)) - 1
    assert names == [f"prints-before.{last}-{count}", f"prints.{version}"]
