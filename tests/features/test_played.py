"""A session that is over, played again: what came after the minute makes no difference to any page of it."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Callable, Iterator

import numpy as np
import pytest
from flask.testing import FlaskClient
from flask_openapi3 import OpenAPI
from sqlalchemy import Connection, select, text, update
from tests.every_route import pages
from tests.kept_market import copied_database

from flinch.app import create_app
from flinch.market import View, view_at
from flinch.settings import Settings
from flinch.store.engine import make_engine
from flinch.store.market.chain import CONTRACT
from flinch.store.market.minutes import MINUTE
from flinch.store.market.models import MarketBase, MinuteDay, NameChain, PrintDay, TapeDay
from flinch.store.market.prints import PRINT
from flinch.store.market.tape import FILL
from flinch.store.packing import Records, pack, unpack

DAY = "2026-09-08"
AT = f"{DAY}T11:00"
"""Of a session whose minutes, trades, prints and closing chains are kept."""
IN_UTC = f"{DAY} 15:00"
MINUTES = 15 * 60
ALTERED = (
    f"UPDATE daily_bar SET open = open * 1.5, high = high * 2, close = close * 1.7, volume = 1 WHERE session >= '{DAY}'",
    f"UPDATE volatility_day SET iv7 = 2, iv30 = 1.5, iv_nearest = 3, iv_week = 2, put_25d = 3 WHERE session >= '{DAY}'",
    f"UPDATE option_day SET call_volume = 1, put_volume = 7, atm_width = 99 WHERE session >= '{DAY}'",
    f"UPDATE flow_day SET call_ask_premium = 1e9, largest_put_premium = 1, net_shares = 5, repeats = 99 WHERE session >= '{DAY}'",
    f"UPDATE extended_day SET post_last = 1, post_volume = 3 WHERE session >= '{DAY}'",
    f"UPDATE position SET call_exposure = 1, put_exposure = -9, flip = 1, opened = 1 WHERE taken_at > '{IN_UTC}'",
    f"DELETE FROM surface_day WHERE session >= '{DAY}'",
    f"UPDATE expiry_volatility SET vol = 3, forward = 1 WHERE taken_at > '{IN_UTC}'",
    f"UPDATE snapshot_price SET price = 1 WHERE taken_at > '{IN_UTC}'",
    f"UPDATE news_item SET headline = 'otherwise' WHERE at > '{IN_UTC}'",
)


def _each(
    connection: Connection,
    table: type[MarketBase],
    column: str,
    kind: np.dtype,
    alter: Callable[[Records, bool], Records],
) -> None:
    """Alter packed rows of the session and of those after it; `alter` is told whether it is the session itself."""
    t = table.__table__.c
    for session, name_id, packed in connection.execute(
        select(t.session, t.name_id, t[column]).where(t.session >= DAY)
    ).all():
        changed = alter(unpack(kind, packed).copy(), session.isoformat() == DAY)
        mine = (t.session == session, t.name_id == name_id)
        connection.execute(update(table).where(*mine).values({column: pack(changed)}))


def _minutes(rows: Records, same: bool) -> Records:
    later = rows["minute"] >= MINUTES if same else np.ones(rows.size, bool)
    for field in ("open", "high", "low", "close"):
        rows[field][later] = 10_000
    return rows


def _fills(rows: Records, same: bool) -> Records:
    later = rows["at"] >= MINUTES * 60_000 if same else np.ones(rows.size, bool)
    rows["contracts"][later], rows["price"][later] = 1000, 50_000
    return rows


def _prints(rows: Records, same: bool) -> Records:
    later = rows["at"] >= MINUTES * 60_000 if same else np.ones(rows.size, bool)
    rows["shares"][later], rows["price"][later] = 900_000, rows["price"][later] * 2
    return rows


def _chains(connection: Connection) -> None:
    """All that was quoted and traded later: what is listed and its open interest were known in the morning."""
    c = NameChain
    for taken_at, name_id, quotes in connection.execute(
        select(c.taken_at, c.name_id, c.quotes).where(c.taken_at > IN_UTC)
    ).all():
        contracts = unpack(CONTRACT, quotes)
        contracts["bid"], contracts["ask"], contracts["volume"] = 10_000, 90_000, 1
        if taken_at.date().isoformat() > DAY:
            contracts["open_interest"] = 1
        connection.execute(update(c).where(c.taken_at == taken_at, c.name_id == name_id).values(quotes=pack(contracts)))


@pytest.fixture(scope="module")
def otherwise(tmp_path_factory: pytest.TempPathFactory) -> Iterator[FlaskClient]:
    """The application on a market that went otherwise from eleven o'clock on."""
    server = copied_database(tmp_path_factory.mktemp("otherwise") / "database")
    server.start()
    with make_engine(server.market_url).begin() as connection:
        for statement in ALTERED:
            assert connection.execute(text(statement)).rowcount > 0, statement
        _each(connection, MinuteDay, "minutes", MINUTE, _minutes)
        _each(connection, TapeDay, "fills", FILL, _fills)
        _each(connection, PrintDay, "prints", PRINT, _prints)
        _chains(connection)
    yield create_app(Settings(), server.databases).test_client()
    server.stop()
    server.erase()


def test_what_came_after_a_minute_changes_no_page_as_of_it(app: OpenAPI, client: FlaskClient, otherwise: FlaskClient):
    as_it_was, other = pages(client, app, AT), pages(otherwise, app, AT)
    assert len(as_it_was) > 80
    for name, page in as_it_was.items():
        assert json.dumps(page) == json.dumps(other[name]), name
        if isinstance(page, dict) and "past" in page:
            assert (page["session"], page["newest"], page["past"]) == (DAY, False, AT), name


def test_at_its_end_a_played_session_is_the_sessions_own_view(market: View):
    view = market.at(market.session_on(dt.date.fromisoformat(DAY)))
    close = view_at(market, dt.datetime.fromisoformat(f"{DAY}T16:00"))
    assert (close.last, close.version, close.past) == (view.last, market.version, DAY)
    # Every minute of it makes the bars that are kept of the day, but for those of the closing auction.
    last = view_at(market, dt.datetime.fromisoformat(f"{DAY}T15:59"))
    frame, whole = last.frame, view.frame
    traded = np.isfinite(frame.close[:, -1])
    assert traded.sum() > 450
    np.testing.assert_array_equal(frame.open[traded, -1], whole.open[traded, -1])
    assert (frame.high[traded, -1] <= whole.high[traded, -1]).all()
    assert (frame.low[traded, -1] >= whole.low[traded, -1]).all()
