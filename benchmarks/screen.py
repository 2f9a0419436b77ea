"""Twelve rules over 6,000 names x 504 sessions, six of them with history functions, against copying the arrays they touch."""

from __future__ import annotations

import numpy as np

from flinch.core.rules import (
    Panel,
    RuleError,
    Rung,
    Truth,
    Vocabulary,
    daily_vocabulary,
    evaluate,
    run_screen,
    series_keys,
)
from flinch.core.rules.evaluate import Value
from measure import seconds, sized, table

NAMES, SESSIONS = sized(6_000, 60), 504
RULES = [
    "15 <= price <= 250",
    "iv30 >= 30",
    "iv_hv_ratio >= 0.8",
    "atm_width <= 15",
    "days_to_earnings > 12",
    "dividend_yield < 6",
    "close > sma(close, 50)",
    "rsi(14) < 65",
    "rank_pct(iv30, 252) >= 20",
    "share_of_sessions(price_to_book > 0.9, 252) > 0.5",
    "low < channel(close, 126, 1)",
    "volume > 0.5 * mean(volume, 50)",
]
HOSTILE = [
    "9**9**9",
    "(" * 900,
    "-" * 900 + "1",
    "price" + "+price" * 160,
    "mean(" * 40 + "close" + ",504)" * 40 + " > 1",
]


def market() -> Panel:
    rng = np.random.default_rng(2)
    shape = (NAMES, SESSIONS)
    close = 60 * np.exp(np.cumsum(rng.normal(0, 0.02, shape), axis=1))
    series = {
        "open": close * np.exp(rng.normal(0, 0.005, shape)),
        "high": close * np.exp(np.abs(rng.normal(0, 0.012, shape))),
        "low": close * np.exp(-np.abs(rng.normal(0, 0.012, shape))),
        "close": close,
        "volume": rng.lognormal(12, 0.5, shape),
        "iv30": rng.lognormal(3.6, 0.3, shape),
        "atm_width": rng.lognormal(2.0, 0.5, shape),
        "days_to_earnings": rng.uniform(0, 90, shape),
        "dividend_ttm": rng.uniform(0, 2, shape),
        "book_per_share": rng.uniform(20, 60, shape),
    }
    for values in series.values():
        values[rng.random(shape) < 0.002] = np.nan
    return Panel(NAMES, SESSIONS, series, {})


def main() -> None:
    panel, words = market(), daily_vocabulary()
    nodes = [words.read(rule).node for rule in RULES]
    touched = sorted(set().union(*[series_keys(node) for node in nodes]))
    target = {key: np.empty_like(panel.series[key]) for key in touched}
    rungs = [Rung((place,)) for place in range(len(RULES))]

    def copy() -> None:
        for key in touched:
            np.copyto(target[key], panel.series[key])

    def answers(start: int) -> list[Truth]:
        def truth(value: Value) -> Truth:
            assert isinstance(value, Truth)
            return value

        return [truth(value) for value in evaluate(nodes, panel, start, SESSIONS)]

    def newest() -> np.ndarray:
        truths = [Truth(t.yes[:, 0], t.no[:, 0]) for t in answers(SESSIONS - 1)]
        return run_screen(truths, rungs, np.ones(NAMES, dtype=bool)).survivors

    def every() -> np.ndarray:
        return run_screen(answers(0), rungs, np.ones((NAMES, SESSIONS), dtype=bool)).survivors

    assert np.array_equal(newest(), every()[:, -1])
    copying, today, all_sessions = seconds(copy), seconds(newest, 5), seconds(every, 3)
    table(
        f"Twelve rules over {NAMES:,} names × {SESSIONS} sessions, six with history, funnel and lone cuts included",
        [
            (f"copying the {len(touched)} arrays they touch", f"{copying * 1e3:,.0f} ms", "1", ""),
            ("the newest session", f"{today * 1e3:,.0f} ms", f"{today / copying:,.1f} ×", "≤ 10 ×"),
            ("every session at once", f"{all_sessions * 1e3:,.0f} ms", f"{all_sessions / copying:,.1f} ×", "≤ 30 ×"),
        ],
    )

    def refuse(text: str) -> float:
        def attempt() -> None:
            fresh: Vocabulary = words.extended({})
            try:
                fresh.read(text)
            except RuleError:
                return
            raise AssertionError(text)

        return seconds(attempt, 5)

    slowest = max(refuse(text) for text in HOSTILE)
    table("Refusing a hostile rule", [("the slowest of five", f"{slowest * 1e3:,.1f} ms", "", "< 50 ms")])


if __name__ == "__main__":
    main()
