"""A nine-rule screen over 6,000 names x 504 sessions, against copying the arrays it touches."""

from __future__ import annotations

import numpy as np

from flinch.core.rules import RULE_METRICS, RangeRule, run_screen
from measure import seconds, table

NAMES, SESSIONS = 6_000, 504


def main() -> None:
    rng = np.random.default_rng(2)
    metrics = {}
    for key in RULE_METRICS:
        values = rng.normal(size=(NAMES, SESSIONS))
        values[rng.random(values.shape) < 0.02] = np.nan
        metrics[key] = values
    rules = [RangeRule(key, -1.2, 1.5) for key in RULE_METRICS]
    universe = np.ones((NAMES, SESSIONS), dtype=bool)
    target = {key: np.empty_like(values) for key, values in metrics.items()}

    def copy() -> None:
        for key, values in metrics.items():
            np.copyto(target[key], values)

    result = run_screen(metrics, rules, universe)
    expected = np.ones((NAMES, SESSIONS), dtype=bool)
    for rule in rules:
        expected &= (metrics[rule.metric] >= rule.lower) & (metrics[rule.metric] <= rule.upper)
    assert np.array_equal(result.survivors, expected)

    copying = seconds(copy)
    every = seconds(lambda: run_screen(metrics, rules, universe))
    newest = {key: np.ascontiguousarray(values[:, -1]) for key, values in metrics.items()}
    today = seconds(lambda: run_screen(newest, rules, universe[:, -1]))
    table(
        f"Nine rules over {NAMES:,} names × {SESSIONS} sessions, funnel and lone cuts included",
        [
            ("copying the nine arrays", f"{copying * 1e3:,.1f} ms", "1", ""),
            ("screening every session", f"{every * 1e3:,.1f} ms", f"{every / copying:,.1f} ×", "≤ 5 ×"),
            ("screening the newest session", f"{today * 1e3:,.2f} ms", f"{today / copying:,.3f} ×", ""),
        ],
    )


if __name__ == "__main__":
    main()
