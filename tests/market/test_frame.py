"""Rows of the store as arrays of names and sessions: each where it belongs, and none where it does not."""

import numpy as np
import polars as pl
import pytest

from flinch.market.frame import _Reader


@pytest.mark.parametrize("stranger", [1, 5, 9])
def test_a_row_of_an_unknown_name_is_written_nowhere(stranger: int):
    """Keys below, between and above those of the names: none may come into another name's or another session's place."""
    reader = _Reader.__new__(_Reader)
    reader.ids = np.array([3, 7])
    rows = pl.DataFrame({"name_id": [3, stranger, stranger, 7, 7], "x": [1.0, 20.0, 30.0, 4.0, 50.0]})
    out = reader._scattered(rows, ["x"], np.array([0, 0, 1, 1, -1]), 2)["x"]
    assert out == pytest.approx(np.array([[1.0, np.nan], [np.nan, 4.0]]), nan_ok=True)
