"""Histograms against numpy's."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.rules.distribution import BINS, distribution, spread


@given(st.lists(st.integers(-4, 40).map(float) | st.just(np.nan), min_size=1, max_size=60))
def test_a_bin_holds_its_lower_edge_and_the_outer_ones_what_lies_beyond(values):
    found = distribution(np.array(values), (0.0, 36.0), "linear")
    known = np.array([v for v in values if v == v])
    assert np.array_equal(found.edges, np.arange(BINS + 1))
    assert np.array_equal(found.counts, np.histogram(np.clip(known, 0, 36), found.edges)[0])


def test_on_a_logarithmic_scale_the_bins_are_even_in_ratio():
    found = distribution(np.array([0.5, 1.0, 1.9, 2.0**36, 1e20]), (1.0, 2.0**36), "log")
    assert found.edges[1:] / found.edges[:-1] == pytest.approx(2)
    assert (found.counts[0], found.counts[-1], found.counts.sum()) == (3, 2, 5)


def test_a_histogram_spans_all_but_half_a_percent_on_each_side():
    values = np.append(np.arange(1.0, 1002.0), np.nan)
    assert spread(values, "linear") == (6.0, 996.0)
    assert spread(np.append(values, [-5.0, 0.0]), "log") == (6.0, 996.0)


@pytest.mark.parametrize(
    ("values", "expected"), [([], (0, 1)), ([np.nan], (0, 1)), ([0.0, 0.0], (-0.5, 0.5)), ([20.0], (19, 21))]
)
def test_where_all_are_alike_or_nothing_is_there_it_still_has_a_width(values, expected):
    assert spread(np.array(values), "linear") == pytest.approx(expected)
