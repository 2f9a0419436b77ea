"""Which opinion came nearest, and that chance names hardly ever one."""

import numpy as np

from flinch.core.structures import lead_of


def drawn_record(rng, skill: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Chances of three opinions, what came, and when: the first one's chances are true, the others are off by `skill`."""
    sessions = np.repeat(np.arange(45), 12)
    truth = np.clip(0.5 + 0.25 * rng.normal(size=(sessions.size, 3)), 0.05, 0.95)
    came = rng.random(truth.shape) < truth
    off = [
        np.clip(truth + size * rng.normal(size=truth.shape), 0.01, 0.99) for size in (0.05, 0.05 + skill, 0.05 + skill)
    ]
    return np.array(off), came, sessions


def test_an_opinion_that_is_better_is_named_and_of_equals_hardly_ever_one():
    named = [lead_of(*drawn_record(np.random.default_rng(seed), 0.0)).nearest is not None for seed in range(120)]
    assert sum(named) <= 8
    found = lead_of(*drawn_record(np.random.default_rng(3), 0.3))
    assert found.nearest == 0
    assert 0 < found.low < found.lead < found.high
    # The same, with the true one in another place.
    said, came, session = drawn_record(np.random.default_rng(3), 0.3)
    assert lead_of(said[[1, 0, 2]], came, session).nearest == 1


def test_few_cases_name_nobody():
    said, came, session = drawn_record(np.random.default_rng(3), 0.3)
    few = lead_of(said[:, :29], came[:29], session[:29])
    assert few.nearest is None
    assert np.isnan(few.lead)
    said[2, 40:] = np.nan
    some = lead_of(said, came, session)
    assert some.nearest is None, "four sessions are too few to draw from"
    assert np.isnan(some.low)
