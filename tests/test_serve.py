"""`flinch serve`, from the project and from the built package: what is there is served, and nothing is made."""

from __future__ import annotations

import shutil
import signal
import subprocess
import sys
import urllib.request
from pathlib import Path

import pytest
from tests.demo_process import PROJECT, Demo, free_port, gone
from tests.feeds.files.made import SYMBOLS, bars, chain

from flinch.cli import main


def loaded(folder: Path, files: Path) -> None:
    """A market of three names in a folder."""
    files.mkdir()
    (files / "names.csv").write_text("symbol,company\n" + "".join(f"{one},{one.title()}\n" for one in SYMBOLS))
    bars().write_parquet(files / "daily_bars.parquet")
    chain().write_parquet(files / "chains.parquet")
    assert main(["market", "new", "mine", "--folder", str(folder)]) == 0
    assert main(["import", str(files), "--market", "mine", "--folder", str(folder)]) == 0


def test_a_market_of_ones_own_is_served_and_commands_work_beside(tmp_path: Path, capsys: pytest.CaptureFixture[str]):
    folder, port = tmp_path / "flinch", free_port()
    loaded(folder, tmp_path / "files")
    assert main(["serve", "--market", "nobody", "--folder", str(folder), "--port", str(port)]) == 1
    assert "flinch market new nobody" in capsys.readouterr().err
    served = Demo(folder, port, "--market", "mine", do="serve")
    try:
        served.wait_for("Flinch is at")
        assert served.get("/api/market")["market"] == "mine", "who names none gets the one that was asked for"
        assert [one["name"] for one in served.get("/api/markets")["markets"]] == ["demo", "mine"]
        assert main(["serve", "--folder", str(folder), "--port", str(free_port())]) == 1
        assert main(["check", "--market", "mine", "--folder", str(folder)]) == 0
        assert "Nothing of what is loaded looks wrong" in capsys.readouterr().out
        assert main(["backup", str(tmp_path / "kept.flinch"), "--folder", str(folder)]) == 0
        before = served.get("/api/market")["version"]
        (tmp_path / "files" / "names.csv").write_text("symbol,company\nAVERA,Another\n")
        assert (
            main(
                ["import", "names", str(tmp_path / "files" / "names.csv"), "--market", "mine", "--folder", str(folder)]
            )
            == 0
        )
        assert served.get("/api/imports")["imports"][0]["changed"] == 1
        assert before >= 3
    finally:
        assert served.end(signal.SIGTERM) == 0
    assert gone(folder)
    assert "demo market" not in served.said, "nothing is made"


def test_the_built_package_serves_its_own_interface(tmp_path: Path):
    place, built = tmp_path / "installed", tmp_path / "dist"
    subprocess.run([str(PROJECT / "scripts" / "wheel"), str(built)], check=True, capture_output=True)
    [wheel] = built.glob("flinch-*.whl")
    install = [
        sys.executable,
        "-m",
        "pip",
        "install",
        "-q",
        "--no-index",
        "--no-deps",
        "--target",
        str(place),
        str(wheel),
    ]
    subprocess.run(install, check=True, capture_output=True)
    assert (place / "bin" / "flinch").exists()
    folder, port = tmp_path / "flinch", free_port()
    served = Demo(folder, port, do="serve", code=place)
    try:
        served.wait_for("Flinch is at")
        with urllib.request.urlopen(f"http://127.0.0.1:{port}/data", timeout=20) as answer:
            page = answer.read().decode()
        assert page == (place / "flinch" / "interface" / "index.html").read_text()
        script = next(part for part in page.split('"') if part.startswith("/assets/") and part.endswith(".js"))
        with urllib.request.urlopen(f"http://127.0.0.1:{port}{script}", timeout=20) as answer:
            assert answer.status == 200
        assert served.get("/api/markets")["markets"][0]["usable"] is False
    finally:
        assert served.end(signal.SIGINT) == 0
    shutil.rmtree(place)
