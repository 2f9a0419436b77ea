"""Files that are brought by the interface: in parts, looked at, checked, loaded, handed back and undone."""

from __future__ import annotations

import csv
import datetime as dt
import io
import shutil
import threading
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import polars as pl
import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine
from tests.feeds.files.made import bars, chain, load
from tests.waiting import comes, slowly, until

from flinch.app import create_app
from flinch.features.data import imports
from flinch.feeds.files.importing import Asked
from flinch.inbox import MOST, CannotTake, Inbox, NoSuchUpload
from flinch.market import Markets
from flinch.settings import Settings
from flinch.store.local_server import LocalServer
from flinch.store.market import imports as kept
from flinch.store.market.imports import read_imports
from flinch.store.market.state import read_state


@pytest.fixture
def client(own: LocalServer, markets: Markets, tmp_path: Path) -> Iterator[FlaskClient]:
    app = create_app(Settings(inbox=tmp_path / "inbox"), own.databases)
    yield app.test_client()
    app.extensions["flinch"].jobs.close()


def bring(client: FlaskClient, name: str, data: bytes, part: int = 1 << 19) -> int:
    row = client.post("/api/imports?market=mine", json={"name": name, "size": len(data)}).json
    for at in range(0, len(data), part):
        told = client.put(f"/api/imports/{row['id']}/part?market=mine&at={at}", data=data[at : at + part])
        assert told.status_code == 200, told.text
    return int(row["id"])


def ask(client: FlaskClient, what: str, number: int, **how: Any) -> Any:
    return client.post(f"/api/imports/{number}/{what}?market=mine", json=how)


def ended(client: FlaskClient, job: Any) -> Any:
    """What came of work that was begun."""
    last = job

    def over() -> bool:
        nonlocal last
        if last.status_code == 200 and not last.json["over"]:
            last = client.get(f"/api/imports/jobs/{job.json['id']}?market=mine")
        return last.status_code != 200 or last.json["over"]

    until(over, "the end of the work")
    return last


def done(client: FlaskClient, what: str, number: int, **how: Any) -> Any:
    job = ended(client, ask(client, what, number, **how))
    assert job.status_code == 200, job.text
    return job.json["counts"]


def test_a_file_comes_in_parts_is_checked_loaded_and_undone(client: FlaskClient, store: Engine, files: Path):
    number = bring(client, "list.csv", (files / "list.csv").read_bytes(), part=10)
    look = ask(client, "look", number).json
    assert (look["kind"], look["question"], look["lacking"]) == ("names", None, [])
    assert [(one["theirs"], one["ours"], one["sample"][0]) for one in look["columns"]] == [
        ("Ticker", "symbol", "AVERA"), ("Security Name", "company", "Avera Works")
    ]  # fmt: skip
    counts = done(client, "check", number)
    assert (counts["rows"], counts["added"], counts["refused"], counts["loaded"]) == (3, 3, 0, False)
    assert read_imports(store) == [], "a check changes nothing"
    counts = done(client, "load", number)
    assert (counts["added"], counts["loaded"]) == (3, True)
    told = client.get("/api/imports?market=mine").json
    assert [(one["file"], one["undoable"]) for one in told["imports"]] == [("list.csv", True)]
    assert [(one["name"], one["loaded"], one["here"] == one["size"]) for one in told["uploads"]] == [
        ("list.csv", True, True)
    ]
    again = ask(client, "load", number)
    assert (again.status_code, "loaded already" in again.json["message"]) == (422, True)
    undone = ended(client, client.post(f"/api/imports/history/{told['imports'][0]['id']}/undo?market=mine"))
    assert (undone.status_code, undone.json["counts"]) == (200, None)
    assert [one.state for one in read_imports(store)] == ["undone"]
    twice = ended(client, client.post(f"/api/imports/history/{told['imports'][0]['id']}/undo?market=mine"))
    assert (twice.status_code, twice.json["type"]) == (409, "nothing_to_undo")
    assert client.delete(f"/api/imports/{number}?market=mine").status_code == 200
    assert client.get("/api/imports?market=mine").json["uploads"] == []


def test_what_was_loaded_is_served_once_it_is_said_to_be(client: FlaskClient, store: Engine, files: Path):
    load(store, files / "list.csv")
    for day in ("2026-09-03", "2026-09-04", "2026-09-08"):
        text = f"Symbol,Date,Open,High,Low,Close\nAVERA,{day},10,11,9,10\n"
        done(client, "load", bring(client, f"prices {day}.csv", text.encode()), kind="daily_bars")
        assert client.get("/api/market?market=mine").json["sessions"][-1] == day
    newest = client.get("/api/imports?market=mine").json["imports"][0]
    ended(client, client.post(f"/api/imports/history/{newest['id']}/undo?market=mine"))
    assert client.get("/api/market?market=mine").json["sessions"][-1] == "2026-09-04"


def test_refused_rows_are_shown_come_back_as_a_file_and_are_mended(client: FlaskClient, store: Engine, files: Path):
    load(store, files / "list.csv")
    text = (
        "Symbol,Date,Open,High,Low,Close\nAVERA,2026-09-08,10,11,9,10\nNOBODY,2026-09-08,10,11,9,10\n"
        "BONTI,2026-09-08,10,9,11,=10+1\nCELDA,2026-09-08,10,9,11,<b>\n"
    )
    number = bring(client, "prices.csv", text.encode())
    counts = done(client, "load", number)
    assert (counts["added"], counts["refused"]) == (1, 3)
    assert [(row["line"], row["reason"]) for row in counts["first"]] == [
        (3, "no name is called NOBODY"), (4, "Close is no number that can be: =10+1"), (5, "Close is no number that can be: <b>"),
    ]  # fmt: skip
    assert counts["columns"] == ["Symbol", "Date", "Open", "High", "Low", "Close"]
    assert counts["first"][1]["cells"] == ["BONTI", "2026-09-08", "10", "9", "11", "=10+1"], "as it was"
    back = client.get(f"/api/imports/{number}/refused?market=mine")
    assert "prices.refused.csv" in back.headers["Content-Disposition"]
    rows = list(csv.DictReader(io.StringIO(back.text)))
    assert [row["line"] for row in rows] == ["3", "4", "5"]
    mended = back.text.replace("10,9,11,=10+1", "10,11,9,10").replace("10,9,11,<b>", "10,11,9,10")
    counts = done(
        client, "load", bring(client, "prices.refused.csv", mended.encode()), kind="daily_bars", make_names=True
    )
    assert (counts["added"], counts["refused"]) == (3, 0)
    assert client.get(f"/api/imports/{number + 1}/refused?market=mine").status_code == 404


def test_what_was_said_of_a_source_is_remembered(client: FlaskClient, store: Engine, files: Path):
    load(store, files / "list.csv")
    text = "Sym;Tag;Last Px;H;L;O\nAVERA;03/04/2026;10,5;11;9;10\nBONTI;04/04/2026;10,5;11;9;10\n"
    number = bring(client, "Export 1.csv", text.encode())
    look = ask(client, "look", number, source="North").json
    assert look["kind"] is None
    assert "say one of" in look["question"]
    look = ask(client, "look", number, source="North", kind="daily_bars").json
    assert look["lacking"] == ["session", "close"]
    how = {"source": "North", "kind": "daily_bars", "columns": {"Tag": "session", "Last Px": "close"}}
    look = ask(client, "look", number, **how).json
    assert (look["where"], "month/day/year or day/month/year" in look["question"]) == ("Tag", True), look["question"]
    refused = ask(client, "check", number, **how)
    assert ended(client, refused).json["type"] == "cannot_match"
    how["days"] = {"session": "%d/%m/%Y"}
    look = ask(client, "look", number, **how).json
    assert (look["question"], look["columns"][1]["way"]) == (None, "day/month/year")
    assert done(client, "load", number, **how)["added"] == 2
    # The next one of that source is understood by itself, whatever it is called; of another source it is asked again.
    later = bring(client, "x.csv", text.replace("10,5", "10,75").encode())
    look = ask(client, "look", later, source="North").json
    assert (look["kind"], look["question"]) == ("daily_bars", None)
    assert look["how"]["columns"] == {
        "Sym": "symbol",
        "Tag": "session",
        "Last Px": "close",
        "H": "high",
        "L": "low",
        "O": "open",
    }
    assert ask(client, "look", later, source="South").json["kind"] is None
    counts = done(client, "load", later, source="North")
    assert (counts["added"], counts["changed"]) == (0, 2)
    assert [one.source for one in read_imports(store)] == ["North", "North", "files"]
    # What is said now wins over what was said before.
    left_out = ask(client, "look", later + 1, source="North")
    assert left_out.status_code == 404
    third = bring(client, "y.csv", text.encode())
    look = ask(client, "look", third, source="North", columns={"H": "", "L": "high"}).json
    assert look["lacking"] == ["low"]


def test_what_cannot_be_taken_is_refused_with_words(client: FlaskClient, store: Engine):
    empty = client.post("/api/imports?market=mine", json={"name": "a.csv", "size": 0})
    assert (empty.status_code, empty.json["message"]) == (422, "a.csv is empty.")
    huge = client.post("/api/imports?market=mine", json={"name": "a.csv", "size": 1 << 50})
    assert (huge.status_code, "larger" in huge.json["message"]) == (422, True)
    demo = client.post("/api/imports?market=demo", json={"name": "a.csv", "size": 5})
    assert (demo.status_code, demo.json["type"]) == (409, "made")
    number = bring(client, "../../etc/<i>.parquet", b"PAR1 and nothing")
    broken = ask(client, "look", number)
    assert (broken.status_code, broken.json["type"]) == (422, "bad_file")
    assert "Parquet" in broken.json["message"]
    row = client.post("/api/imports?market=mine", json={"name": "b.csv", "size": 10}).json
    place = f"/api/imports/{row['id']}/part?market=mine&at="
    assert client.put(f"{place}0", data=b"abcde").json["here"] == 5
    assert client.put(f"{place}0", data=b"abcde").json["here"] == 5, "sent again because its answer got lost"
    assert client.put(f"{place}7", data=b"h").status_code == 422
    assert client.put(f"{place}5", data=b"fghijk").status_code == 422, "more than was said"
    half = ask(client, "look", row["id"])
    assert (half.status_code, "not all here: 5 of 10" in half.json["message"]) == (422, True)
    assert client.put(f"{place}5", data=bytes(2 << 20)).status_code == 413
    kind = ask(client, "look", number, kind="gossip")
    assert (kind.status_code, kind.json["where"]) == (422, "kind")
    zone = ask(client, "look", number, zone="Mars/Olympus")
    assert (zone.status_code, zone.json["where"]) == (422, "zone")
    assert client.get("/api/imports/jobs/999?market=mine").status_code == 404


def test_an_import_by_the_interface_can_be_cancelled(
    client: FlaskClient, store: Engine, files: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    for name in ("list.csv", "prices.csv"):
        load(store, files / name)

    def without_end(engine: Engine, asked: Asked, tell: Callable[[str, float], None]) -> None:
        while True:
            tell("reading, 7 rows", 0.5)
            slowly(0.01)

    bars().tail(5).with_columns(close=pl.col("high")).write_csv(tmp_path / "daily_bars.csv")
    number = bring(client, "daily_bars.csv", (tmp_path / "daily_bars.csv").read_bytes())
    with monkeypatch.context() as patch:
        patch.setattr(imports, "import_file", without_end)
        job = ask(client, "load", number).json
    assert (job["percent"], job["stage"], job["over"]) == (50, "reading, 7 rows", False)
    assert client.delete(f"/api/jobs/{job['id']}?market=mine").status_code == 200
    over = ended(client, client.get(f"/api/imports/jobs/{job['id']}?market=mine"))
    assert (over.status_code, over.json["type"]) == (409, "cancelled")
    assert len(read_imports(store)) == 2
    chain().write_parquet(tmp_path / "chains.parquet")
    assert done(client, "load", bring(client, "chains.parquet", (tmp_path / "chains.parquet").read_bytes()))["added"]


def test_all_of_a_market_is_taken_out_as_one_file_that_can_be_loaded_again(
    client: FlaskClient, store: Engine, files: Path, tmp_path: Path
):
    for name in ("list.csv", "prices.csv", "chains-2026-09-09.parquet"):
        load(store, files / name)
    for form in ("csv", "parquet"):
        answer = client.get(f"/api/data/export?market=mine&form={form}")
        while answer.status_code == 202:
            answer = client.get(f"/api/files/{answer.json['id']}?market=mine")
        assert (answer.status_code, answer.mimetype) == (200, "application/zip")
        assert "mine all.zip" in unquote(answer.headers["Content-Disposition"])
        zipfile.ZipFile(io.BytesIO(answer.data)).extractall(tmp_path / form)
        names = sorted(path.name for path in (tmp_path / form).iterdir())
        moment = "chains-2026-09-09T194500"
        assert names == sorted([f"{moment}.{form}", f"daily_bars.{form}", "index.json", f"names.{form}"])
        for name in names[:2]:
            outcome = load(store, tmp_path / form / name)
            assert (outcome.added, outcome.changed, outcome.refused) == (0, 0, 0), name
    one = client.get("/api/data/export?market=mine&of=names")
    while one.status_code == 202:
        one = client.get(f"/api/files/{one.json['id']}?market=mine")
    assert zipfile.ZipFile(io.BytesIO(one.data)).namelist() == ["index.json", "names.parquet"]
    odd = client.get("/api/data/export?market=mine&of=gossip")
    assert (odd.status_code, odd.json["where"]) == (422, "of")


def test_what_is_found_wrong_holes_and_sources_are_told_and_changed(
    client: FlaskClient, store: Engine, files: Path, tmp_path: Path
):
    load(store, files / "list.csv")
    saturday = bars().tail(1).with_columns(session=pl.lit(dt.date(2026, 8, 15)))
    pl.concat([bars(), saturday]).write_parquet(tmp_path / "daily_bars.parquet")
    load(store, tmp_path / "daily_bars.parquet", source="North")
    bars().tail(4).with_columns(pl.col("close") * 1.1, pl.col("high") * 1.2).write_parquet(
        tmp_path / "daily_bars.parquet"
    )
    load(store, tmp_path / "daily_bars.parquet", source="South")
    told = client.get("/api/data/sources?market=mine").json
    assert told["kinds"] == [
        {"kind": "daily_bars", "sources": [{"source": "North", "beside": 0}, {"source": "South", "beside": 4}]}
    ]
    assert {one["column"]: (one["served_by"], one["times"]) for one in told["disagreements"]} == {
        "close": ("North", 4), "high": ("North", 4)
    }  # fmt: skip
    done = ended(client, client.put("/api/data/sources/daily_bars?market=mine", json={"order": ["South", "North"]}))
    assert done.status_code == 200
    assert client.get("/api/data/sources?market=mine").json["kinds"][0]["sources"][0] == {
        "source": "South",
        "beside": 0,
    }
    refused = client.put("/api/data/sources/prints?market=mine", json={"order": ["South"]})
    assert (refused.status_code, refused.json["where"]) == (422, "kind")
    assert client.put("/api/data/sources/daily_bars?market=demo", json={"order": ["South"]}).status_code == 409
    assert client.get("/api/data/coverage?market=mine").json["whole"] == 3
    assert client.get("/api/data/coverage?market=mine&of=names").json["where"] == "kind"
    [finding] = client.get("/api/data/checks?market=mine").json["findings"]
    assert (finding["check"], finding["times"], finding["mend"], finding["each"]) == (
        "off_calendar",
        1,
        "remove these bars",
        False,
    )
    place = {"symbol": "CELDA", "day": "2026-08-15"}
    mended = ended(client, client.post("/api/data/checks/off_calendar/mend?market=mine", json=place))
    assert mended.status_code == 200
    assert client.get("/api/data/checks?market=mine").json["findings"] == []
    again = ended(client, client.post("/api/data/checks/off_calendar/mend?market=mine", json={}))
    assert (again.status_code, again.json["type"]) == (409, "nothing_to_mend")
    assert client.get("/api/imports?market=mine").json["imports"][0]["source"] == "mend"


def test_the_inbox_keeps_what_was_brought_from_one_start_to_the_next(tmp_path: Path):
    inbox = Inbox(tmp_path)
    one = inbox.begin("mine", "a b.csv", 3)
    inbox.take("mine", one.id, 0, b"a\nb")
    inbox.say("mine", one.id, job=7)
    inbox = Inbox(tmp_path)
    [same] = inbox.all("mine")
    assert (same.name, same.whole, same.job, inbox.file("mine", same).name) == ("a b.csv", True, 7, "a_b.csv")
    assert inbox.file("mine", same).read_bytes() == b"a\nb"
    assert inbox.all("other") == []
    for _ in range(MOST - 1):
        inbox.begin("mine", "more.csv", 1)
    with pytest.raises(CannotTake, match="files are here already"):
        inbox.begin("mine", "more.csv", 1)
    inbox.put_away("mine", one.id)
    with pytest.raises(NoSuchUpload):
        inbox.one("mine", one.id)
    inbox.forget("mine")
    assert inbox.all("mine") == []
    loose = Inbox(None)
    place = loose.file("mine", loose.begin("mine", "x.csv", 1))
    loose.close()
    assert not place.exists()


def test_an_import_whose_database_is_killed_brings_back_what_was_there_once_it_is_up(
    own: LocalServer, client: FlaskClient, store: Engine, files: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
):
    for name in ("list.csv", "prices.csv"):
        load(store, files / name)
    before = len(read_imports(store))
    chain().write_parquet(tmp_path / "chains.parquet")
    number = bring(client, "chains.parquet", (tmp_path / "chains.parquet").read_bytes())
    replace, failed = kept.replace_rows, threading.Event()

    def killing(*arguments: object) -> None:
        assert own._process is not None
        own._process.kill()
        own._process.wait()
        monkeypatch.setattr(kept, "replace_rows", replace)
        try:
            replace(*arguments)
        finally:
            failed.set()

    monkeypatch.setattr(kept, "replace_rows", killing)
    job = ask(client, "load", number)
    assert comes(failed)
    assert own.restart_if_down()
    over = ended(client, job)
    assert (over.status_code, over.json["type"]) == (503, "database_away")
    state = read_state(store)
    assert state is not None
    assert state.whole, "it was brought back without anybody doing anything"
    assert [one.state for one in read_imports(store)] == ["undone", *["loaded"] * before]
    assert done(client, "load", number)["added"] == chain().height


def test_a_file_that_would_fill_the_disk_is_not_taken(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    free = 5 << 30
    monkeypatch.setattr(shutil, "disk_usage", lambda place: shutil._ntuple_diskusage(10 << 30, 5 << 30, free))
    inbox = Inbox(tmp_path)
    with pytest.raises(CannotTake, match="no room on the disk"):
        inbox.begin("mine", "large.csv", (4 << 30) + 1)
    assert inbox.all("mine") == []
    # A gigabyte is left to everybody else.
    assert inbox.begin("mine", "large.csv", 4 << 30).size == 4 << 30
