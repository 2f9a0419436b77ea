"""The nearest of one's own lines, by hand and against a plain search."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.technicals import nearest_lines


def test_by_hand():
    close = np.array([[10.0, 11.0, np.nan, 12.0], [50.0, 50.0, 50.0, 50.0]])
    above, below = nearest_lines(close, np.array([0, 0, 0]), np.array([11.0, 13.0, 9.0]), np.array([0, 1, 3]))
    np.testing.assert_array_equal(above[0], [11, 11, np.nan, 13])
    np.testing.assert_array_equal(below[0], [np.nan, np.nan, np.nan, 11])
    assert np.isnan(above[1]).all()
    assert np.isnan(below[1]).all()


lines = st.lists(st.tuples(st.integers(0, 2), st.integers(5, 15), st.integers(0, 6)), max_size=8)


@given(lines, st.lists(st.integers(5, 15), min_size=18, max_size=18))
def test_it_is_the_nearest_that_was_known(lines, closes):
    close = np.array(closes, float).reshape(3, 6)
    name, price, since = (np.array([line[i] for line in lines], np.int64) for i in range(3))
    above, below = nearest_lines(close, name, price.astype(float), since)
    for row in range(3):
        for session in range(6):
            known = [p for n, p, s in lines if n == row and s <= session]
            over = [p for p in known if p >= close[row, session]]
            under = [p for p in known if p < close[row, session]]
            assert above[row, session] == min(over) if over else np.isnan(above[row, session])
            assert below[row, session] == max(under) if under else np.isnan(below[row, session])
