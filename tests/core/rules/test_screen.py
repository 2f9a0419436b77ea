"""The funnel, lone cuts, aim and distributions, against a count name by name."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from flinch.core.rules import BINS, Rung, Truth, aim, aim_among, binned, run_screen, spread

YES, NO, UNKNOWN = 1, 0, -1


@st.composite
def stacks(draw):
    shape = draw(st.sampled_from([(7,), (4, 3), (30,)]))
    count = draw(st.integers(0, 5))
    answers = [
        draw(st.none() | arrays(np.int8, shape, elements=st.sampled_from([YES, NO, UNKNOWN]))) for _ in range(count)
    ]
    cuts = sorted(draw(st.sets(st.integers(1, max(1, count - 1)), max_size=count)))
    edges = [0, *[cut for cut in cuts if cut < count], count] if count else [0]
    modes = draw(st.lists(st.sampled_from(["any", "all"]), min_size=len(edges), max_size=len(edges)))
    rungs = [Rung(tuple(range(a, b)), m) for a, b, m in zip(edges[:-1], edges[1:], modes, strict=False)]
    return answers, rungs, draw(arrays(bool, shape))


def holds(answers, rungs, place, without=None):
    for rung in rungs:
        real = [answers[m][place] for m in rung.members if answers[m] is not None and m != without]
        if real and not (all if rung.mode == "all" else any)(answer == YES for answer in real):
            return False
    return True


@settings(max_examples=400)
@given(stacks())
def test_agrees_with_counting_name_by_name(stack):
    answers, rungs, universe = stack
    truths = [None if a is None else Truth(a == YES, a == NO) for a in answers]
    result = run_screen(truths, rungs, universe)
    places = [place for place in np.ndindex(universe.shape) if universe[place]]
    expected = {place for place in places if holds(answers, rungs, place)}
    assert {place for place in np.ndindex(universe.shape) if result.survivors[place]} == expected
    for rule, (answer, count) in enumerate(zip(answers, result.counts, strict=True)):
        if answer is None:
            assert (count.missing, count.lone_cut) == (0, 0)
            assert count.survivors == count.reached
            continue
        without = {place for place in places if holds(answers, rungs, place, without=rule)}
        rung = next(r for r in rungs if rule in r.members)
        alone = [m for m in rung.members if answers[m] is not None] == [rule]
        if alone or rung.mode == "all":
            assert count.lone_cut == len(without - expected)
        else:
            assert count.lone_cut == -len(expected - without)
        flat = [r for r in rungs if max(r.members) < min(rung.members)]
        first = {place for place in places if holds(answers, flat, place)}
        if rung.mode == "all":
            before = [m for m in rung.members if m < rule and answers[m] is not None]
            first = {place for place in first if all(answers[m][place] == YES for m in before)}
        assert count.reached == len(first)
        assert count.met == sum(answer[place] == YES for place in first)
        assert count.missing == sum(answer[place] == UNKNOWN for place in first)


values = st.integers(-6, 6).map(float) | st.just(np.nan)


@given(
    arrays(float, 25, elements=values),
    arrays(bool, 25),
    st.none() | st.integers(-4, 0),
    st.none() | st.integers(1, 5),
    st.integers(1, 30),
)
def test_aim_says_where_an_edge_would_leave_as_many_as_wanted(column, eligible, lower, upper, wanted):
    edges = aim(column, eligible, lower, upper, wanted)
    if lower is not None and upper is None:
        assert {edge.edge for edge in edges} <= {"lower"}
    for edge in edges:
        low, high = (edge.value, upper) if edge.edge == "lower" else (lower, edge.value)
        # A rule without edges cuts nobody, whether its number is known or not.
        inside = eligible.copy() if (low, high) == (None, None) else eligible & ~np.isnan(column)
        inside &= True if low is None else column >= low
        inside &= True if high is None else column <= high
        assert edge.names == inside.sum()
        other = upper if edge.edge == "lower" else lower
        known = eligible & ~np.isnan(column)
        if other is not None:
            known &= column <= other if edge.edge == "lower" else column >= other
        if wanted < known.sum():
            # As many as wanted, or a few more where equal values stand together.
            assert edge.names >= wanted
            at_the_edge = column[inside].min() if edge.edge == "lower" else column[inside].max()
            assert (column[inside] != at_the_edge).sum() < wanted
        else:
            # All there are, or the rule opened when that comes nearer.
            opened = eligible.sum() if other is None else known.sum()
            assert abs(edge.names - wanted) == min(abs(opened - wanted), wanted - known.sum())


def test_aim_proposes_plain_numbers():
    column = np.array([12.3456, 47.9183, 48.2071, 48.9, 63.5])
    everyone = np.ones(5, dtype=bool)
    (edge,) = aim(column, everyone, 50.0, None, 3)
    assert (edge.value, edge.names) == (48, 3)
    (edge,) = aim(column, everyone, None, 20.0, 2)
    assert (edge.value, edge.names) == (48, 2)
    assert aim(column, everyone, 50.0, None, 9)[0].value is None


def test_an_opened_rule_lets_in_those_without_a_number_too():
    column = np.array([1.0, 2.0, 3.0, np.nan, np.nan, np.nan, np.nan, np.nan])
    everyone = np.ones(8, dtype=bool)
    for wanted, value, names in ((8, None, 8), (6, None, 8), (5, 0.0, 3), (4, 0.0, 3), (3, 0.0, 3), (2, 2.0, 2)):
        (edge,) = aim(column, everyone, 2.5, None, wanted)
        assert (edge.value, edge.names) == (value, names), wanted
    # Where others of its group decide once it is open, opening it leaves nobody.
    (edge,) = aim(column, everyone, 2.5, None, 8, without=0)
    assert (edge.value, edge.names) == (0.0, 3)
    # The other edge stays: who has no number stays out.
    lower, upper = aim(column, everyone, 2.0, 2.5, 8)
    assert (lower.value, lower.names, upper.value, upper.names) == (None, 2, None, 2)


def test_one_session_and_every_session_are_one_call():
    rng = np.random.default_rng(3)
    answers = [rng.random((40, 12)) < 0.6 for _ in range(3)]
    rungs = [Rung((0,)), Rung((1, 2), "any")]
    every = run_screen([Truth(a, ~a) for a in answers], rungs, np.ones((40, 12), dtype=bool))
    for session in range(12):
        one = run_screen([Truth(a[:, session], ~a[:, session]) for a in answers], rungs, np.ones(40, dtype=bool))
        assert np.array_equal(one.survivors, every.survivors[:, session])


@given(
    arrays(float, st.integers(0, 200), elements=st.floats(1e-3, 1e9) | st.just(np.nan)),
    st.sampled_from(["linear", "log"]),
)
def test_every_known_value_is_in_the_histogram_once(column, scale):
    bounds = spread(column, scale)
    shape = binned(column, bounds, scale)
    assert bounds[0] < bounds[1]
    assert np.all(np.diff(shape.edges) > 0)
    assert shape.counts(np.ones(column.size, bool))[:BINS].sum() == np.isfinite(column).sum()


@pytest.mark.parametrize("scale", ["linear", "log"])
def test_a_histogram_of_nothing_is_empty(scale):
    shape = binned(np.array([np.nan]), spread(np.array([np.nan]), scale), scale)
    assert shape.counts(np.ones(1, bool))[:BINS].sum() == 0


@given(st.integers(0, 10_000), st.integers(1, 30))
def test_an_edge_of_a_rule_within_a_stack_leaves_as_many_as_it_says(seed: int, wanted: int):
    """Of any stack: alone, among rules that must all hold, and among rules of which any one is enough."""
    rng = np.random.default_rng(seed)
    names, rules = 40, 5
    values = np.where(rng.random(names) < 0.1, np.nan, np.round(rng.normal(size=names), 1))
    lower = float(np.round(rng.normal(), 1))
    place = int(rng.integers(rules))
    truths: list[Truth | None] = []
    for _ in range(rules):
        yes, no = rng.random(names) < 0.6, rng.random(names) < 0.5
        truths.append(Truth(yes, no & ~yes))
    order = rng.permutation(rules).tolist()
    cut = int(rng.integers(1, rules))
    modes = rng.choice(["any", "all"], 2)
    rungs = [Rung(tuple(order[:cut]), modes[0]), Rung(tuple(order[cut:]), modes[1])]
    universe = rng.random(names) < 0.9

    def survivors(edge: float | None) -> int:
        answered = list(truths)
        # Without an edge it cuts nothing and decides nothing.
        answered[place] = None if edge is None else Truth(values >= edge, values < edge)
        return int(run_screen(answered, rungs, universe).survivors.sum())

    found = aim_among(values, place, truths, rungs, universe, lower, None, wanted)
    assert len(found) <= 1
    for edge in found:
        assert edge.edge == "lower"
        assert survivors(edge.value) == edge.names
    if not found:
        # As many as wanted come through whatever the edge is, or nobody's number is known.
        known = np.isfinite(values)
        assert survivors(np.inf) >= wanted or not (known & universe).any() or survivors(-np.inf) == survivors(np.inf)
