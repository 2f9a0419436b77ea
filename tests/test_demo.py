"""The start command: a killed start is repaired, a second start finds the market, a signal stops everything and nothing else."""

from __future__ import annotations

import io
import json
import os
import re
import shutil
import signal
import socket
from pathlib import Path

import pytest
from tests.demo_process import Demo, free_port, gone, processes_on
from tests.kept_market import kept_market
from tests.waiting import until

from flinch.cli import main
from flinch.demo import CannotStart, Interface
from flinch.store.local_server import LocalServer


@pytest.fixture
def kept() -> Path:
    return kept_market()


def test_a_killed_start_is_repaired_by_the_next(kept: Path):
    killed, first = ((kept / f"{name}.txt").read_text() for name in ("killed", "first"))
    assert "Flinch is at" not in killed
    assert "interrupted while it made the market; making it afresh" in first
    for stage in ("names", "prices", "options", "chains", "facts", "store", "publish"):
        assert re.search(rf"demo market: {stage} +done in \d+\.\d s", first)


def test_the_first_page_comes_before_the_rest_of_the_market(kept: Path):
    first = (kept / "first.txt").read_text()
    page, rest = first.index("Flinch is at"), first.index("demo market: the rest is there too")
    assert page < first.index("demo market: exposure ") < first.index("demo market: minutes ") < rest
    meanwhile = json.loads((kept / "meanwhile.json").read_text())
    assert (meanwhile["names"], meanwhile["version"]) == (502, 1)
    assert "minute bars" in meanwhile["coming"]["what"], "the page says what is not there yet"
    assert 0 <= meanwhile["coming"]["percent"] < 100


def test_a_second_start_finds_the_market_and_its_end_takes_everything_along(
    kept: Path, tmp_path: Path, server: LocalServer
):
    folder, port = tmp_path / "flinch", free_port()
    shutil.copytree(kept / "database", folder / "database")
    first = Demo(folder, port)
    first.wait_for(f"Flinch is at http://127.0.0.1:{port}/")
    assert "demo market:" not in first.said, "the market is made once"
    assert first.get("/api/market")["names"] == 502, "pages answer when the address is printed"
    assert len(first.get("/api/screens")["starters"]) >= 11

    second = Demo(folder, free_port())
    assert second.ended() == 1
    assert second.said.strip() == (
        "Flinch cannot start: Flinch is already running from this folder. Stop it there (Ctrl-C) first."
    )

    database = next(pid for pid in processes_on(folder) if b"mariadbd" in Path(f"/proc/{pid}/cmdline").read_bytes())
    os.kill(database, signal.SIGKILL)
    first.wait_for("the database server had ended; it was started again")
    until(lambda: first.get("/api/tray")["items"] == [])
    assert first.end(signal.SIGTERM) == 0
    assert gone(folder)
    assert server._process is not None
    assert server._process.poll() is None, "the tests' own database server is another one and goes on"


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM])
def test_a_first_start_that_is_stopped_is_gone_on_with(tmp_path: Path, how: signal.Signals):
    """Stopped as soon as the database runs, while tables are made, and while the market is: the next start goes on each time."""
    folder = tmp_path / "flinch"
    for moment in ("database/server.pid", "database/data/flinch_market_demo/market_state.frm", None):
        demo = Demo(folder, free_port())
        if moment:
            until((folder / moment).exists, moment)
        else:
            demo.wait_for("demo market: names")
        assert demo.end(how) == 0, demo.said
        assert "Traceback" not in demo.said
        assert gone(folder)
    assert demo.said.count("making it afresh") <= 1


def test_a_data_folder_that_was_never_finished_is_made_again(tmp_path: Path):
    folder = tmp_path / "database"
    (folder / "data" / "mysql").mkdir(parents=True)
    (folder / "data" / "ibdata1").write_text("half")
    (folder / "server.pid").write_text(str(os.getpid()))
    running = LocalServer(folder)
    running.start()
    running.stop()
    assert gone(folder)


def test_a_port_in_use_is_one_clear_line(tmp_path: Path):
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        demo = Demo(tmp_path / "flinch", port)
        assert demo.ended() == 1
    assert demo.said.strip() == (
        f"Flinch cannot start: Port {port} is in use. Choose another: scripts/demo --port {port + 1}"
    )


@pytest.mark.parametrize("port", ["0", "99999", "web", "-1"])
def test_a_port_that_is_none_is_refused(tmp_path: Path, port: str):
    demo = Demo(tmp_path / "flinch", 1, "--port", port)
    assert demo.ended() == 2
    assert "give a number from 1 to 65535" in demo.said or "expected one argument" in demo.said


@pytest.mark.parametrize("told", ["built\n", ""])
def test_serving_waits_for_the_interface_and_says_when_it_cannot_be_built(told: str):
    reading, writing = os.pipe()
    pages = Interface(reading)
    pages.require(0)  # still being built: no reason to stop
    os.write(writing, told.encode())
    os.close(writing)
    if told:
        pages.require()
    else:
        with pytest.raises(CannotStart, match="the interface could not be built"):
            pages.require()


def test_an_interface_that_is_there_is_not_waited_for():
    Interface(None).require()


@pytest.mark.parametrize(
    ("reset", "goes"), [(["--reset"], "lines and plans stay"), (["--reset", "everything"], "go for good")]
)
def test_a_reset_asks_and_does_nothing_where_nobody_is_asked(
    tmp_path: Path, reset: list[str], goes: str, capsys, monkeypatch
):
    monkeypatch.setattr("sys.stdin", io.StringIO())
    assert main(["demo", "--folder", str(tmp_path / "flinch"), *reset]) == 1
    said = capsys.readouterr().err
    assert goes in said
    assert "say so with --yes" in said
    assert not (tmp_path / "flinch").exists()
