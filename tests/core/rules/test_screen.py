"""Range rules, the funnel and distributions, against a count by hand."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from flinch.core.rules import RangeRule, distribution, run_screen, spread

values = st.integers(-5, 5).map(float) | st.just(np.nan)
edges = st.integers(-6, 6).map(float)


@st.composite
def screens(draw):
    shape = draw(st.sampled_from([(7,), (4, 3), (30,)]))
    metrics = {key: draw(arrays(float, shape, elements=values)) for key in "abc"}
    rules = []
    for key in draw(st.lists(st.sampled_from("abc"), max_size=4)):
        low, high = sorted((draw(edges), draw(edges)))
        rules.append(RangeRule(key, draw(st.sampled_from([low, -np.inf])), draw(st.sampled_from([high, np.inf]))))
    return metrics, rules, draw(arrays(bool, shape))


@given(screens())
def test_agrees_with_counting_name_by_name(screen):
    metrics, rules, universe = screen
    result = run_screen(metrics, rules, universe)
    alive = [i for i in np.ndindex(universe.shape) if universe[i]]

    def meets(rule, i):
        value = metrics[rule.metric][i]
        return rule.is_open or (value == value and rule.lower <= value <= rule.upper)

    for n, (rule, step) in enumerate(zip(rules, result.steps, strict=True)):
        others = [r for m, r in enumerate(rules) if m != n]
        assert step.reached == len(alive)
        assert step.missing == (0 if rule.is_open else sum(np.isnan(metrics[rule.metric][i]) for i in alive))
        alive = [i for i in alive if meets(rule, i)]
        assert step.survivors == len(alive)
        back = [
            i
            for i in np.ndindex(universe.shape)
            if universe[i] and all(meets(r, i) for r in others) and not meets(rule, i)
        ]
        assert step.lone_cut == len(back)
    assert [i for i in np.ndindex(universe.shape) if result.survivors[i]] == alive


def test_an_inverted_range_an_unknown_metric_and_too_many_rules_are_refused():
    metrics, universe = {"price": np.ones(3)}, np.ones(3, dtype=bool)
    with pytest.raises(ValueError, match="lower edge 5 is above the upper edge 2"):
        run_screen(metrics, [RangeRule("price", 5, 2)], universe)
    with pytest.raises(KeyError):
        run_screen(metrics, [RangeRule("prize")], universe)
    with pytest.raises(ValueError, match="250 at most"):
        run_screen(metrics, [RangeRule("price")] * 251, universe)


@given(
    arrays(float, st.integers(0, 200), elements=st.floats(1e-3, 1e9) | st.just(np.nan)),
    st.sampled_from(["linear", "log"]),
)
def test_every_known_value_is_in_the_histogram_once(column, scale):
    bounds = spread(column, scale)
    shape = distribution(column, bounds, scale)
    assert bounds[0] < bounds[1]
    assert np.all(np.diff(shape.edges) > 0)
    assert shape.counts.sum() == np.isfinite(column).sum()
