"""The rolling mean that averages and estimators stand on, against a loop."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from flinch.core.volatility.estimators import rolling_mean


@given(
    arrays(float, st.tuples(st.integers(1, 3), st.integers(1, 30)), elements=st.floats(-1e3, 1e3) | st.just(np.nan)),
    st.integers(1, 12),
)
def test_agrees_with_a_loop(values, window):
    found = rolling_mean(values, window)
    assert found.shape == values.shape
    for row in range(values.shape[0]):
        for at in range(values.shape[1]):
            part = values[row, max(0, at - window + 1) : at + 1]
            if len(part) < window or np.isnan(part).any():
                assert np.isnan(found[row, at])
            else:
                assert abs(found[row, at] - part.mean()) < 1e-8
