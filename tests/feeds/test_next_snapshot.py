"""A snapshot that arrives while the session goes on: served only when it is whole, and what changed since the one before."""

import dataclasses
import datetime as dt
from pathlib import Path

import numpy as np
import polars as pl
from tests.waiting import until

from flinch.feeds.load_simulated import load_demo_market, next_snapshot
from flinch.feeds.simulated import SimulatedMarket
from flinch.market import MarketFrame, MarketHolder, load_frame
from flinch.store.engine import make_engine
from flinch.store.local_server import LocalServer
from flinch.store.migrate import migrate_market


def assert_alike(one: MarketFrame, two: MarketFrame) -> None:
    """Every array of two frames, to the last bit."""
    for field in ("open", "high", "low", "close", "volume", "sessions", "calendar", "listed_from"):
        np.testing.assert_array_equal(getattr(one, field), getattr(two, field), err_msg=field)
    for group in ("implied", "daily", "derived"):
        arrays, others = getattr(one, group), getattr(two, group)
        assert arrays.keys() == others.keys()
        for field, values in arrays.items():
            np.testing.assert_array_equal(values, others[field], err_msg=field)


def test_the_market_moves_on_with_a_snapshot(simulated: SimulatedMarket, tmp_path: Path):
    # Yesterday's close, ten o'clock and half past eleven.
    today = simulated.minute_bars.filter(pl.col("at") >= dt.datetime(2026, 9, 9, 13, 30))
    day = dataclasses.replace(simulated, snapshots=simulated.snapshots[5:8], minute_bars=today)
    server = LocalServer(tmp_path / "database")
    server.start()
    try:
        engine = make_engine(server.market_url)
        migrate_market(engine)
        load_demo_market(engine, lambda stage, share: None, market=day, snapshots=2)
        holder = MarketHolder(engine, tmp_path / "columns")
        early = holder.current()
        assert f"{early.as_of:%H:%M}" == "10:00"
        assert np.array_equal(early.frame.close[:, -1], day.snapshots[1].spot)
        assert np.nanmax(early.frame.high[:, -1] / simulated.high[:, -1]) <= 1, (
            "the day's high is that of its first half hour"
        )
        assert np.isnan(early.metric("net_exposure_change")).all(), "it is the first snapshot of the session"
        assert early.reason("net_exposure_change", 0) == "snapshots within a session are kept for the newest one only"
        net, opened = early.metric("net_exposure"), early.metric("opened")

        next_snapshot(engine, day, 2)
        holder._checked = -1e9  # as after two seconds
        assert holder.current() is early, "it is served until the new version is whole"
        until(lambda: holder.current() is not early)
        late = holder.current()
        assert f"{late.as_of:%H:%M}" == "11:30"
        assert late.frame.state.data_version == early.frame.state.data_version + 1
        assert np.array_equal(late.frame.close[:, -1], day.snapshots[2].spot)
        np.testing.assert_allclose(late.metric("net_exposure_before"), net)
        np.testing.assert_allclose(late.metric("net_exposure_change"), late.metric("net_exposure") - net)
        assert np.array_equal(late.metric("opened"), opened), "open interest is counted once a day"
        assert (late.metric("option_volume") >= early.metric("option_volume")).all()
        halted = late.row("FENSO")
        assert np.isfinite(net[halted]), "it was quoted at ten"
        assert np.isnan(late.metric("net_exposure")[halted]), "and is halted at half past eleven"
        assert early.metric("net_exposure")[0] == net[0], "what was read stays as it was"
        # Only the newest session was read again, into files that the version before made: as if all had been.
        afresh, again = load_frame(engine), load_frame(engine, tmp_path / "columns")
        for one in (late.frame, again):
            assert_alike(one, afresh)
        assert_alike(early.frame.until(early.last - 1), afresh.until(early.last - 1))
        assert len(list((tmp_path / "columns").iterdir())) == 1, "columns of earlier versions go"
    finally:
        server.stop()
