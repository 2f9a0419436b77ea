"""Any page as of any session: what came after it makes no difference, and what is not kept of it is said."""

from __future__ import annotations

import datetime as dt
import json
import re

import numpy as np
import pytest
from flask.testing import FlaskClient
from flask_openapi3 import OpenAPI
from sqlalchemy import Connection, Engine, insert, select, text, update
from tests.every_route import pages
from tests.kept_market import copied_database

from flinch.app import create_app
from flinch.core.volatility import constant_maturity_vol
from flinch.market import View
from flinch.settings import Settings
from flinch.store.engine import make_engine
from flinch.store.market.chain import CONTRACT
from flinch.store.market.interest import INTEREST
from flinch.store.market.minutes import MINUTE
from flinch.store.market.models import InterestDay, MarketBase, MinuteDay, NameChain, PrintDay, TapeDay
from flinch.store.market.prints import PRINT
from flinch.store.market.surfaces import read_expiries, read_surface
from flinch.store.market.tape import FILL
from flinch.store.packing import pack, unpack

MARCH, KEPT = "2026-03-02", "2026-09-03"
AFTER = f"{KEPT} 23:00"
ALTERED = (
    f"UPDATE daily_bar SET open = open * 1.5, high = high * 2, close = close * 1.7, volume = 1 WHERE session > '{KEPT}'",
    f"UPDATE volatility_day SET iv7 = 2, iv30 = 1.5, iv_nearest = 3, iv_week = 2, put_25d = 3 WHERE session > '{KEPT}'",
    f"UPDATE option_day SET call_volume = 1, put_open_interest = 7, atm_width = 99 WHERE session > '{KEPT}'",
    f"UPDATE flow_day SET call_ask_premium = 1e9, largest_put_premium = 1, net_shares = 5, repeats = 99 WHERE session > '{KEPT}'",
    f"UPDATE extended_day SET pre_high = 1, post_last = 1 WHERE session > '{KEPT}'",
    f"UPDATE position SET call_exposure = 1, put_exposure = -9, flip = 1, opened = 1 WHERE taken_at > '{AFTER}'",
    f"DELETE FROM surface_day WHERE session > '{KEPT}'",
    f"UPDATE expiry_volatility SET vol = 3, forward = 1 WHERE taken_at > '{AFTER}'",
    f"UPDATE snapshot_price SET price = 1 WHERE taken_at > '{AFTER}'",
    f"UPDATE earnings_report SET session = session + INTERVAL 3 DAY, timing = 'before_open' WHERE known_on > '{KEPT}'",
    f"UPDATE fundamental SET book = 1, eps_ttm = -1 WHERE known_on > '{KEPT}'",
    f"UPDATE estimate SET eps_next_year = 99 WHERE known_on > '{KEPT}'",
    f"UPDATE short_interest SET shares = 1 WHERE known_on > '{KEPT}'",
    f"UPDATE dividend SET amount = 99 WHERE declared_on > '{KEPT}'",
    # Told in the evening of that session it is of the next one.
    f"UPDATE news_item SET headline = 'otherwise', at = at + INTERVAL 1 MINUTE WHERE at > '{KEPT} 20:00'",
    f"INSERT INTO rate_day (session, days, rate) VALUES ('{KEPT}' + INTERVAL 1 DAY, 30, 0.3)",
)


def other_chains(connection: Connection) -> None:
    """Every contract quoted and traded otherwise."""
    c = NameChain
    for taken_at, name_id, quotes in connection.execute(
        select(c.taken_at, c.name_id, c.quotes).where(c.taken_at > AFTER)
    ).all():
        contracts = unpack(CONTRACT, quotes)
        contracts["bid"], contracts["ask"], contracts["volume"], contracts["open_interest"] = 10_000, 90_000, 1, 1
        mine = (c.taken_at == taken_at, c.name_id == name_id)
        connection.execute(update(c).where(*mine).values(quotes=pack(contracts)))


def other_minutes(connection: Connection) -> None:
    """Every minute at a price of one."""
    m = MinuteDay
    for session, name_id, minutes in connection.execute(
        select(m.session, m.name_id, m.minutes).where(m.session > KEPT)
    ).all():
        bars = unpack(MINUTE, minutes)
        for field in ("open", "high", "low", "close"):
            bars[field] = 10_000
        mine = (m.session == session, m.name_id == name_id)
        connection.execute(update(m).where(*mine).values(minutes=pack(bars)))


def other_trades(connection: Connection) -> None:
    """Every option trade of other contracts at another price."""
    t = TapeDay
    for session, name_id, packed in connection.execute(
        select(t.session, t.name_id, t.fills).where(t.session > KEPT)
    ).all():
        fills = unpack(FILL, packed)
        fills["contracts"], fills["price"] = 1000, 50_000
        mine = (t.session == session, t.name_id == name_id)
        connection.execute(update(t).where(*mine).values(fills=pack(fills)))


def other_prints(connection: Connection) -> None:
    """Every print a hundred times as large and at another price."""
    p = PrintDay
    for session, name_id, packed in connection.execute(
        select(p.session, p.name_id, p.prints).where(p.session > KEPT)
    ).all():
        prints = unpack(PRINT, packed).copy()
        prints["shares"], prints["price"] = 900_000, prints["price"] * 2
        mine = (p.session == session, p.name_id == name_id)
        connection.execute(update(p).where(*mine).values(prints=pack(prints)))


def other_interest(connection: Connection) -> None:
    """Open interest beside the chains of the session after."""
    contract = np.zeros(1, INTEREST)
    contract["expiration"], contract["strike"], contract["open_interest"] = 20_900, 10_000, 77
    row = {
        "session": np.datetime64(KEPT).astype(object) + dt.timedelta(days=1),
        "name_id": 1,
        "contracts": pack(contract),
    }
    connection.execute(insert(InterestDay).values(row))


PACKED = {
    NameChain: other_chains,
    MinuteDay: other_minutes,
    TapeDay: other_trades,
    PrintDay: other_prints,
    InterestDay: other_interest,
}


@pytest.fixture(scope="module")
def other_future(tmp_path_factory: pytest.TempPathFactory):
    """The application on a market whose days after the third of September went otherwise."""
    server = copied_database(tmp_path_factory.mktemp("other") / "database")
    server.start()
    with make_engine(server.market_url).begin() as connection:
        for statement in ALTERED:
            assert connection.execute(text(statement)).rowcount > 0, statement
        for alter in PACKED.values():
            alter(connection)
    yield create_app(Settings(), server.databases).test_client()
    server.stop()
    server.erase()


@pytest.mark.parametrize("day", [MARCH, KEPT])
def test_what_came_after_a_session_changes_no_page_of_it(
    app: OpenAPI, client: FlaskClient, other_future: FlaskClient, day: str
):
    as_it_was, otherwise = pages(client, app, day), pages(other_future, app, day)
    assert len(as_it_was) > 80
    for name, page in as_it_was.items():
        assert json.dumps(page) == json.dumps(otherwise[name]), name
        if isinstance(page, dict) and "session" in page and "newest" in page:
            assert (page["session"], page["newest"]) == (day, False), name


def test_the_other_future_is_another_one(app: OpenAPI, client: FlaskClient, other_future: FlaskClient):
    as_it_is, otherwise = pages(client, app, None), pages(other_future, app, None)
    alike = {name.split(" ")[1] for name, page in as_it_is.items() if json.dumps(page) == json.dumps(otherwise[name])}
    # Nothing is reported of an index, nobody has a line or a plan, a file of a name without columns is its name, and when chains
    # were looked at is what it was.
    assert alike <= {
        "/api/played",
        "/api/dossier/facts/MUFEO",
        "/api/lines",
        "/api/structures/plans",
        "/api/screen/export",
    }


def test_every_table_that_has_days_is_altered():
    told = " ".join((*ALTERED, *(table.__tablename__ for table in PACKED)))
    timeless = {
        "market_state",
        "market_setting",
        "market_job",
        "name",
        "exchange_session",
        "venue",
        "fund_member",
        "contract_series",
        "fundamental_source",
        "data_import",
        "import_before",
        "other_row",
        "source_order",
        # How the exchange runs and where it is: no page reads anything of a session there.
        "market_run",
        "exchange_state",
        # What was told a share before a split is told a share of today, on every page alike.
        "split",
    }
    # When chains were looked at is read from the session's own moments.
    assert {table.name for table in MarketBase.metadata.sorted_tables} - timeless - {"chain_snapshot"} == {
        table.name for table in MarketBase.metadata.sorted_tables if re.search(rf"\b{table.name}\b", told)
    }


def test_the_surface_of_a_past_session_is_what_its_history_says(market: View):
    """Thirty days ahead between its expirations, against the constant maturity that is kept of the session."""
    off = []
    for day in ("2025-01-15", MARCH, "2026-08-20"):
        view = market.at(market.session_on(np.datetime64(day).astype(object)))
        for symbol in ("TARNO", "BELUA", "KESEO", "MUFEO", "GLUDO", "KOSVI"):
            listed = view.expirations(view.row(symbol))
            assert len(listed) >= 4, (symbol, day)
            years, vols = np.array([e.years for e in listed]), np.array([e.vol for e in listed])
            assert (np.diff(years) > 0).all()
            read = constant_maturity_vol(years, vols, np.array([30 / 365]))[0]
            off.append(read / view.implied(30, view.row(symbol))[view.last] - 1)
            first = next(e for e in listed if e.years > 0)
            assert first.forward == pytest.approx(view.price(view.row(symbol)), rel=0.02)
            assert first.lowest_strike < first.forward < first.highest_strike
    # Both were read with a noise of a few thousandths.
    assert np.abs(off).max() < 0.02


def test_what_publish_keeps_of_a_session_is_what_it_read(market: View, engine: Engine):
    """To single precision, from the session's last snapshot."""
    moment = [s for s in market.snapshots if str(s.session) == "2026-09-04"][-1]
    row = market.row("KESEO")
    surface = read_surface(engine, market.id(row), moment.session)
    assert surface is not None
    assert surface.taken_at == moment.taken_at
    listed = read_expiries(engine, moment.taken_at, market.frame.ids, market.id(row))[row]
    assert len(surface.expirations) == len(listed) > 5
    for packed, expiry in zip(surface.expirations, listed, strict=True):
        assert (expiry.expiration - moment.session).days == packed["days"]
        np.testing.assert_allclose(packed["svi"], expiry.svi, rtol=1e-6)
        np.testing.assert_allclose(packed["forward"], expiry.forward, rtol=1e-6)
        assert packed["strikes"] == expiry.strikes


def test_what_is_not_kept_of_a_session_is_said_and_the_rest_is_there(client: FlaskClient):
    dossier = client.get(f"/api/dossier/TARNO?as_of={MARCH}").json
    assert (dossier["chain_kept"], dossier["newest"]) == (False, False)
    assert all(row["vol"] > 0 and row["move"] > 0 for row in dossier["expiries"] if row["days"] > 0)
    chain = client.get(f"/api/dossier/chain/TARNO?as_of={MARCH}").json
    assert chain["rows"] == []
    assert chain["reason"] == "the chain of this session was not kept"
    smiles = client.get(f"/api/dossier/volatility/TARNO?as_of={MARCH}").json["smiles"]
    assert all(smile["quotes"] == [] and min(smile["vols"]) > 0 for smile in smiles if smile["days"] > 0)
    positioning = client.get(f"/api/dossier/positioning/TARNO?as_of={MARCH}").json
    assert not positioning["chain_kept"]
    assert positioning["now"]["net"] == pytest.approx(positioning["history"]["net"][-1])
    assert sum(part["share"] for part in positioning["buckets"]) == pytest.approx(100)
    both = client.get(f"/api/dossier/positioning/TARNO?as_of={MARCH}&rule=both_sold").json["now"]
    assert both["net"] == pytest.approx(positioning["now"]["gross"])


def test_of_a_kept_chain_a_past_session_shows_the_contracts(client: FlaskClient):
    positioning = client.get(f"/api/dossier/positioning/KESEO?as_of={KEPT}").json
    assert positioning["chain_kept"]
    assert positioning["strikes"]
    assert positioning["now"]["net"] == pytest.approx(positioning["history"]["net"][-1], rel=1e-6)
    assert client.get(f"/api/dossier/chain/KESEO?as_of={KEPT}").json["rows"]
    first = client.get("/api/dossier/positioning/KESEO?as_of=2024-01-01").json
    assert len(first["history"]["sessions"]) == 1, "the first session of all has none before it"
    assert first["changes"] == {"snapshot": None, "yesterday": None, "week": None}
