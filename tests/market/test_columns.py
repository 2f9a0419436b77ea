"""A version's arrays as files: mapped again as they were, renewed when they cannot be trusted, never shared by mistake."""

from pathlib import Path

import numpy as np
import pytest

from flinch.market import MarketFrame, load_frame
from flinch.market import frame as frames
from flinch.market.columns import ColumnWriter, columns_key, forget_others, map_columns
from flinch.store.market.state import read_state


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    return tmp_path / "columns"


EARLIER = "0123456789ab-3-ba9876543210"


def written(folder: Path, name: str = "one") -> Path:
    with ColumnWriter(folder / name) as writer:
        writer.write({"whole": np.arange(6.0).reshape(2, 3)})
        with writer.grow(2, 3) as growing:
            growing.add({"grown": np.array([[1.0, 2.0], [4.0, 5.0]])})
            growing.add({"grown": np.array([[3.0], [6.0]])})
    return folder / name


def test_arrays_come_back_whether_written_whole_or_session_after_session(folder: Path):
    columns = map_columns(written(folder))
    assert columns["whole"].tolist() == [[0.0, 1.0, 2.0], [3.0, 4.0, 5.0]]
    assert columns["grown"].tolist() == [[1.0, 2.0, 3.0], [4.0, 5.0, 6.0]]
    assert all(values.flags.f_contiguous for values in columns.values()), "a session's values lie together"


def test_what_one_version_changes_no_other_sees(folder: Path):
    place = written(folder)
    one, two = map_columns(place), map_columns(place)
    one["grown"][:, -1] = -1.0
    assert two["grown"][:, -1].tolist() == [3.0, 6.0]
    assert map_columns(place)["grown"][:, -1].tolist() == [3.0, 6.0]


def test_who_has_columns_mapped_keeps_them_when_they_are_removed(folder: Path):
    columns = map_columns(written(folder, EARLIER))
    (folder / f"{EARLIER}.77.making").mkdir()
    (folder / "letters").mkdir()
    forget_others(folder / "now")
    assert [path.name for path in folder.iterdir()] == ["letters"], "what is not Flinch's stays"
    assert columns["grown"].sum() == 21.0


def test_what_fails_half_way_leaves_nothing_behind(folder: Path):
    def fail_half_way() -> None:
        with ColumnWriter(folder / "one") as writer:
            writer.write({"whole": np.zeros((2, 2))})
            raise RuntimeError

    with pytest.raises(RuntimeError):
        fail_half_way()
    assert list(folder.iterdir()) == []
    with pytest.raises(FileNotFoundError):
        map_columns(folder / "one")


def test_a_second_start_maps_what_the_first_wrote_and_a_broken_file_is_made_again(
    engine, folder: Path, market, monkeypatch: pytest.MonkeyPatch
):
    first = load_frame(engine, folder)
    made = next(folder.iterdir())
    state = read_state(engine)
    assert state is not None
    assert made.name == columns_key(state)
    with monkeypatch.context() as patch:
        patch.setattr(frames._Reader, "_write", lambda *_: pytest.fail("the columns are there"))
        second = load_frame(engine, folder)
    for frame in (first, second):
        assert isinstance(frame, MarketFrame)
        np.testing.assert_array_equal(frame.close, market.frame.close)
        np.testing.assert_array_equal(frame.derived["forecast_vol"], market.frame.derived["forecast_vol"])
    with (made / "iv30.npy").open("r+b") as file:
        file.truncate(1000)
    third = load_frame(engine, folder)
    assert third is not None
    np.testing.assert_array_equal(third.implied[30], market.frame.implied[30])


def test_another_load_a_changed_past_or_other_code_want_columns_of_their_own(engine, monkeypatch: pytest.MonkeyPatch):
    state = read_state(engine)
    assert state is not None
    keys = {
        columns_key(other)
        for other in (
            state,
            state._replace(load_id="f" * 32),
            state._replace(past_version=state.past_version + 1),
        )
    }
    assert len(keys) == 3
    assert columns_key(state._replace(data_version=state.data_version + 1)) in keys, "a later moment shares them"
    monkeypatch.setattr("flinch.market.columns._sources", lambda: "other")
    assert columns_key(state) not in keys
