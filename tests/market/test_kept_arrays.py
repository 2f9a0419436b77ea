"""Large arrays that follow from a version: made once, mapped from then on, and made again when they cannot be trusted."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from flinch.market import columns, load_frame, opened
from flinch.market.columns import Arrays, ColumnWriter, kept_arrays
from flinch.market.prints import market_prints
from flinch.market.tickets import ticket_table
from flinch.market.view import View


@pytest.fixture
def place(tmp_path: Path) -> Path:
    folder = tmp_path / "columns"
    folder.mkdir()
    return folder


def making(value: float, made: list[float]) -> Callable[[], Arrays]:
    def make() -> Arrays:
        made.append(value)
        return {"told": np.array([value, np.nan]), "none": np.empty(0, np.int32), "yes": np.array([True, False])}

    return make


def test_they_are_made_once_and_of_a_name_the_newest_version_is_kept(place: Path):
    made: list[float] = []
    for version, value in (("1", 1.0), ("1", 2.0), ("2", 3.0), ("1", 4.0)):
        found = kept_arrays(place, "tickets", version, making(value, made))
        assert found["told"][0] == made[-1]
        assert np.isnan(found["told"][1])
        assert found["none"].size == 0
        assert found["yes"].tolist() == [True, False]
        assert [path.name for path in place.iterdir()] == [f"tickets.{version}"]
    assert made == [1.0, 3.0, 4.0]
    kept_arrays(place, "tickets-more", "1", making(5.0, made))
    assert sorted(path.name for path in place.iterdir()) == ["tickets-more.1", "tickets.1"], (
        "another name is another thing"
    )


def test_a_broken_file_is_made_again(place: Path):
    made: list[float] = []
    kept_arrays(place, "tickets", "1", making(1.0, made))
    broken = place / "tickets.1/told.npy"
    broken.write_bytes(broken.read_bytes()[:-4])
    assert kept_arrays(place, "tickets", "1", making(2.0, made))["told"][0] == 2.0
    assert kept_arrays(place, "tickets", "1", making(3.0, made))["told"][0] == 2.0


def test_without_a_place_or_room_they_are_had_all_the_same(place: Path, monkeypatch: pytest.MonkeyPatch):
    made: list[float] = []
    assert kept_arrays(None, "tickets", "1", making(1.0, made))["told"][0] == 1.0
    gone = place / "removed"
    assert kept_arrays(gone, "tickets", "1", making(2.0, made))["told"][0] == 2.0
    assert not gone.exists(), "a folder of an earlier version does not come back"

    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(ColumnWriter, "write", full)
    assert kept_arrays(place, "tickets", "1", making(3.0, made))["told"][0] == 3.0
    assert list(place.iterdir()) == []


def told(view: View) -> dict[str, np.ndarray]:
    """Everything that is held of tickets and prints."""
    table, prints = ticket_table(view), market_prints(view)
    out = {
        f"{day.session} {key}": values for day in table.days for key, values in (day.columns | day.contracts).items()
    }
    out |= {f"{day.session} paired {n}": values for day in table.days for n, values in enumerate(day.paired)}
    out |= {f"bursts {key}": values for key, values in prints.bursts._asdict().items()}
    out |= {f"book {key}": values for key, values in prints.book._asdict().items()}
    out |= {key: getattr(prints, key) for key in ("begin", "name", "session", "at", "price", "shares", "burst")}
    return out | {"doubts": np.array([*prints.doubts, *[day.doubts.left_out for day in table.days]])}


def mapped(values: np.ndarray) -> bool:
    while isinstance(values.base, np.ndarray) and not isinstance(values, np.memmap):
        values = values.base
    return isinstance(values, np.memmap)


def test_tickets_and_prints_of_a_market_are_mapped_and_are_what_they_were(
    engine, market, place: Path, monkeypatch: pytest.MonkeyPatch
):
    frame = load_frame(engine, place)
    assert frame is not None
    held = told(opened(replace(frame, place=None), engine))
    first = told(opened(frame, engine))
    monkeypatch.setattr("flinch.market.tickets.read_ticket_day", lambda *_: pytest.fail("they are there"))
    monkeypatch.setattr("flinch.market.prints._read", lambda *_: pytest.fail("they are there"))
    second = told(opened(frame, engine))
    for key, values in held.items():
        assert np.array_equal(values, first[key], equal_nan=True), key
        assert np.array_equal(values, second[key], equal_nan=True), key
        assert values.dtype == second[key].dtype, key
    assert all(mapped(values) for key, values in second.items() if values.size and key != "doubts")


def test_a_later_moment_makes_what_it_changes_again_and_nothing_else(engine, market, place: Path):
    frame = load_frame(engine, place)
    assert frame is not None
    told(opened(frame, engine))
    before = {path.name: path.stat().st_mtime_ns for path in frame.place.iterdir() if path.is_dir()}
    told(opened(replace(frame, state=frame.state._replace(data_version=frame.state.data_version + 1)), engine))
    after = {path.name: path.stat().st_mtime_ns for path in frame.place.iterdir() if path.is_dir()}
    kept = set(before.items()) & set(after.items())
    past, newest = {name for name, _ in kept if name.endswith(".past")}, frame.sessions.size - 1
    assert len(past) == 3, "the tickets of the sessions before yesterday"
    # Yesterday's tickets with this morning's open interest, and the prints until then.
    assert sorted(name.partition(f".{newest}")[0] for name, _ in kept if name not in past) == [
        "prints-before",
        f"tickets-{newest - 1}-later",
    ]
    assert len(after) == len(before), "nothing of the moment before is left"
    assert columns._sources() in frame.place.name
