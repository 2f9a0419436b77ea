"""Histograms against numpy's."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.rules.distribution import BINS, binned, spread


@given(st.lists(st.integers(-4, 40).map(float) | st.just(np.nan), min_size=1, max_size=60))
def test_a_bin_holds_its_lower_edge_and_the_outer_ones_what_lies_beyond(values):
    found = binned(np.array(values), (0.0, 36.0), "linear")
    counts = found.counts(np.ones(len(values), bool))
    known = np.array([v for v in values if v == v])
    assert np.array_equal(found.edges, np.arange(BINS + 1))
    assert np.array_equal(counts[:BINS], np.histogram(np.clip(known, 0, 36), found.edges)[0])
    assert counts[BINS] == len(values) - known.size


@pytest.mark.parametrize("scale", ["linear", "log"])
def test_many_things_lie_in_the_bins_of_few(scale):
    """Edges and what lies beyond them among them."""
    values = np.append(np.arange(-3.0, 45.0, 0.5), [np.nan, np.inf, -np.inf, 2.0**36])
    few = binned(values, (1.0, 37.0), scale)
    values = np.concatenate([few.edges, values])
    many = binned(np.tile(values, 600), (1.0, 37.0), scale)
    assert np.array_equal(many.bins, np.tile(binned(values, (1.0, 37.0), scale).bins, 600))


def test_on_a_logarithmic_scale_the_bins_are_even_in_ratio():
    found = binned(np.array([0.5, 1.0, 1.9, 2.0**36, 1e20]), (1.0, 2.0**36), "log")
    counts = found.counts(np.ones(5, bool))
    assert found.edges[1:] / found.edges[:-1] == pytest.approx(2)
    assert (counts[0], counts[BINS - 1], counts.sum()) == (3, 2, 5)


@pytest.mark.parametrize("count", [400, 60_000])
def test_some_of_few_and_of_many_things_are_counted(count: int):
    rng = np.random.default_rng(3)
    values, among = rng.normal(size=count), rng.random(count) < 0.3
    values[::7] = np.nan
    found = binned(values, (-2.0, 2.0), "linear")
    counts = found.counts(among)
    expected = np.histogram(np.clip(values[among & np.isfinite(values)], -2, 2), found.edges)[0]
    assert np.array_equal(counts[:BINS], expected)
    assert counts[BINS] == np.isnan(values[among]).sum()


def test_a_histogram_spans_all_but_half_a_percent_on_each_side():
    values = np.append(np.arange(1.0, 1002.0), np.nan)
    assert spread(values, "linear") == (6.0, 996.0)
    assert spread(np.append(values, [-5.0, 0.0]), "log") == (6.0, 996.0)


@pytest.mark.parametrize(
    ("values", "expected"), [([], (0, 1)), ([np.nan], (0, 1)), ([0.0, 0.0], (-0.5, 0.5)), ([20.0], (19, 21))]
)
def test_where_all_are_alike_or_nothing_is_there_it_still_has_a_width(values, expected):
    assert spread(np.array(values), "linear") == pytest.approx(expected)
