"""Migrations, bulk load, publish and the frame on a real MariaDB."""

import datetime as dt
import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import polars as pl
import pytest
from sqlalchemy import Engine, func, select
from tests.kept_market import copied_database
from tests.waiting import comes, until

from flinch.core.volatility import constant_maturity_vol
from flinch.feeds.load_simulated import write_market
from flinch.feeds.publish import publish
from flinch.feeds.simulated import SimulatedMarket
from flinch.feeds.simulated.calendar import AS_OF
from flinch.feeds.state import demo_market_loaded, half_made
from flinch.market import PLAIN, MarketHolder, MarketNotReady, View
from flinch.market import frame as frames
from flinch.market.frame import MarketFrame, load_frame
from flinch.store.bulk import replace_rows
from flinch.store.engine import make_engine, transaction
from flinch.store.market.models import (
    ChainSnapshot,
    DailyBar,
    ExpiryVolatility,
    MarketBase,
    MarketJob,
    Name,
    NameChain,
    OptionDay,
    Position,
    VolatilityDay,
)
from flinch.store.market.state import advance, begin_load, begin_moment, finish_load, read_state, say_coming
from flinch.store.reading import read_table


@pytest.fixture(scope="module")
def frame(engine: Engine) -> MarketFrame:
    found = load_frame(engine)
    assert found is not None
    return found


def rows_in(engine: Engine, table: type[MarketBase]) -> int:
    with transaction(engine) as session:
        return session.scalar(select(func.count()).select_from(table))


def test_the_frame_holds_what_the_simulator_made(frame: MarketFrame, simulated: SimulatedMarket):
    assert [name.symbol for name in frame.names] == [name.symbol for name in simulated.names]
    assert np.array_equal(frame.sessions, simulated.sessions)
    for field in ("open", "high", "low", "close", "volume"):
        made = np.where(simulated.traded, getattr(simulated, field), np.nan)
        assert np.array_equal(getattr(frame, field), made, equal_nan=True), field
    # Of sessions whose chains are kept volatility is read from those.
    first = simulated.snapshots[1].session
    history = np.where(simulated.traded, simulated.volatility["iv30"], np.nan)[:, :first]
    assert np.allclose(frame.implied[30][:, :first], history, atol=1e-6, equal_nan=True)
    assert np.nanmax(np.abs(frame.implied[30] - simulated.volatility["iv30"])[:, first:], axis=0).min() > 0


def test_todays_volatility_is_read_from_the_chain_and_near_the_truth(frame: MarketFrame, simulated: SimulatedMarket):
    today, truth = frame.implied[30][:, -1], simulated.volatility["iv30"][:, -1]
    assert np.nanmax(np.abs(today - truth)) > 0, "it is not copied"
    # Where quotes are too wide to be read the quality says so.
    read_well = frame.daily["fit_quality"][:, -1] >= 50
    assert read_well.mean() > 0.7
    for size, noise in (("large", 0.003), ("medium", 0.008), ("small", 0.02)):
        of_size = np.array([name.size == size for name in simulated.names]) & read_well
        assert np.sqrt(np.nanmean((today - truth)[of_size] ** 2)) < noise
        assert np.isnan(today[of_size]).mean() < 0.06
    # Against the surfaces that the quotes were drawn around.
    e = simulated.expiries
    place = np.arange(e.name.size) - np.searchsorted(e.name, e.name)
    table = np.full((2, len(simulated.names), place.max() + 1), np.nan)
    table[:, e.name, place] = e.years, e.vol
    off = 100 * np.abs(today - constant_maturity_vol(table[0], table[1], np.array([30 / 365]))[:, 0])[read_well]
    assert np.nanmedian(off) < 0.3
    assert np.nanpercentile(off, 95) < 1.0


def test_loading_and_publishing_twice_changes_nothing(tmp_path: Path, small: SimulatedMarket, frame: MarketFrame):
    tables = (Name, DailyBar, VolatilityDay, OptionDay, NameChain, ExpiryVolatility, Position, ChainSnapshot)
    server = copied_database(tmp_path / "database")
    server.start()
    try:
        engine = make_engine(server.market_url)
        state = read_state(engine)
        assert state is not None
        assert state.past_version == state.data_version == 2, "what was made behind the first page changed the past"
        before = [rows_in(engine, table) for table in tables]
        write_market(engine, small, lambda stage, share: None)
        publish(engine)
        assert [rows_in(engine, table) for table in tables] == before
        again = load_frame(engine)
    finally:
        server.stop()
    assert again is not None
    assert repr(again.expiries) == repr(frame.expiries)
    # Sessions whose chains are not in this load were written anew as the simulator summed them up.
    from_chains = sorted({snapshot.session for snapshot in small.snapshots})
    told = np.r_[: from_chains[0] - 5, from_chains]
    assert np.array_equal(again.implied[30][:, told], frame.implied[30][:, told], equal_nan=True)
    for key in ("call_exposure", "flip", "opened", "largest_build", "call_volume", "atm_width"):
        assert np.array_equal(again.daily[key][:, told], frame.daily[key][:, told], equal_nan=True), key


def test_text_and_missing_values_survive_the_bulk_load(engine: Engine):
    odd = 'Tab\there, "quotes", back\\slash, ünïcode ⟦▮⟧, \\N and, comma'
    row = {
        "id": [9001, 9002],
        "symbol": ["ODDAA", "ODDEE"],
        "company": [odd, "\\N"],
        "kind": ["stock", "stock"],
        "sector": ["", "x"],
        "listed_on": [dt.date(2026, 1, 5)] * 2,
        "shares_outstanding": [None, float("nan")],
    }
    try:
        replace_rows(engine, Name, pl.DataFrame(row, schema_overrides={"shares_outstanding": pl.Float64}))
        found = read_table(
            engine, select(Name.company, Name.sector, Name.shares_outstanding).where(Name.id > 9000).order_by(Name.id)
        )
        assert found["company"].to_list() == [odd, "\\N"]
        assert found["sector"].to_list() == ["", "x"]
        assert found["shares_outstanding"].to_list() == [None, None]
    finally:
        with transaction(engine) as session:
            for key in row["id"]:
                session.delete(session.get_one(Name, key))


def test_a_half_made_market_is_recognised_and_never_shown(engine: Engine):
    assert demo_market_loaded(engine)
    state = read_state(engine)
    assert state is not None
    holder = MarketHolder(engine)
    begin_load(engine, source=state.source, source_version=state.source_version, as_of=AS_OF, rate=state.rate)
    try:
        assert half_made(engine)
        assert not demo_market_loaded(engine)
        assert load_frame(engine) is None
        with pytest.raises(MarketNotReady):
            holder.current()
    finally:
        version = finish_load(engine)
    assert version == state.data_version + 1
    assert holder.current().frame.state.data_version == version


def test_what_is_still_coming_is_told_and_a_start_that_finds_it_so_makes_the_market_afresh(engine: Engine):
    holder = MarketHolder(engine)
    assert holder.current()
    assert holder.coming() is None
    say_coming(engine, "minute bars", 40)
    try:
        holder._refresh()
        assert holder.coming() == ("minute bars", 40)
        assert load_frame(engine) is not None, "what is there is served"
        assert half_made(engine)
        assert not demo_market_loaded(engine)
    finally:
        advance(engine, AS_OF)
    holder._refresh()
    assert holder.coming() is None
    assert demo_market_loaded(engine)
    finish_load(engine, coming="minute bars")
    assert not demo_market_loaded(engine)
    finish_load(engine)
    assert demo_market_loaded(engine)


def test_a_new_version_is_swapped_in_whole_and_the_old_one_stays_as_it_was(engine: Engine):
    holder = MarketHolder(engine)
    first = holder.current()
    assert holder.current() is first
    first.column(PLAIN.read("print_notional").node)
    finish_load(engine)
    holder._checked = -1e9  # as after two seconds
    assert holder.current() is first, "what is held is served while the new version is read"
    until(lambda: holder.current() is not first)
    second = holder.current()
    assert second.frame.state.data_version == first.frame.state.data_version + 1
    assert isinstance(first, View)
    # What had been made of the old one is made again before it is asked for.
    until(lambda: second.version.has("print series"))
    assert not second.version.has("tickets"), "what nobody asked for is not"


def test_a_version_is_read_whole_or_not_at_all(engine: Engine, monkeypatch: pytest.MonkeyPatch):
    holder = MarketHolder(engine)
    first = holder.current()
    begin_moment(engine)
    try:
        assert load_frame(engine) is None, "rows of a later moment are coming"
        assert half_made(engine), "a start that finds it so makes the market afresh"
        with pytest.raises(MarketNotReady):
            MarketHolder(engine).current()
        assert holder.current() is first
    finally:
        advance(engine, AS_OF)
    assert load_frame(engine) is not None
    read = frames.read_expiries

    def meanwhile(*asked):
        finish_load(engine)
        return read(*asked)

    monkeypatch.setattr(frames, "read_expiries", meanwhile)
    assert load_frame(engine) is None, "a version was published while it was read"


def test_a_later_moment_leaves_the_past_as_it_is_and_a_load_does_not(engine: Engine):
    def versions() -> tuple[int, int, str]:
        state = read_state(engine)
        assert state is not None
        return state.data_version, state.past_version, state.load_id

    data, past, load = versions()
    assert advance(engine, AS_OF) == data + 1
    assert versions() == (data + 1, past, load)
    advance(engine, AS_OF, past_changed=True)
    assert versions() == (data + 2, data + 2, load)
    finish_load(engine)
    assert versions() == (data + 3, data + 3, load)
    state = read_state(engine)
    assert state is not None
    begin_load(engine, source=state.source, source_version=state.source_version, as_of=AS_OF, rate=state.rate)
    finish_load(engine)
    assert versions()[2] != load


def test_a_new_load_ends_what_was_under_way(engine: Engine):
    state = read_state(engine)
    assert state is not None
    say_coming(engine, "minute bars", 40)
    begin_load(engine, source=state.source, source_version=state.source_version, as_of=AS_OF, rate=state.rate)
    try:
        with transaction(engine) as session:
            job = session.query(MarketJob).order_by(MarketJob.id.desc()).first()
            assert (job.kind, job.state, job.percent) == ("fill", "interrupted", 40)
    finally:
        finish_load(engine)
    now = read_state(engine)
    assert now is not None
    assert now.coming is None


def test_while_the_first_version_is_read_others_are_told_so_at_once(engine: Engine, monkeypatch: pytest.MonkeyPatch):
    holder, reading, go_on = MarketHolder(engine), threading.Event(), threading.Event()
    read = frames.read_expiries

    def slowly(*asked):
        reading.set()
        assert comes(go_on)
        return read(*asked)

    monkeypatch.setattr(frames, "read_expiries", slowly)
    with ThreadPoolExecutor(1) as others:
        first = others.submit(holder.current)
        assert comes(reading)
        with pytest.raises(MarketNotReady):
            holder.current()
        go_on.set()
        newest = first.result(60)
    assert holder.current() is newest


def test_an_older_simulators_market_is_made_afresh(engine: Engine):
    state = read_state(engine)
    assert state is not None
    begin_load(engine, source=state.source, source_version=state.source_version - 1, as_of=AS_OF, rate=state.rate)
    finish_load(engine)
    assert not demo_market_loaded(engine)
    begin_load(engine, source=state.source, source_version=state.source_version, as_of=AS_OF, rate=state.rate)
    finish_load(engine)
    assert demo_market_loaded(engine)
