"""What each function of the rule language takes, against one addition, beside what it is charged."""

from __future__ import annotations

import time

import numpy as np

from flinch.core.rules import METRICS, Panel, daily_vocabulary, evaluate
from flinch.core.rules.functions import FUNCTIONS, OPERATION, SECONDS_A_UNIT
from measure import sized, table

NAMES, SESSIONS = sized(502, 12), 504


def panel() -> Panel:
    rng = np.random.default_rng(0)
    close = 100 * np.exp(np.cumsum(0.02 * rng.normal(size=(NAMES, SESSIONS)), axis=1))
    known = {
        "close": close,
        "open": close * 1.001,
        "high": close * 1.02,
        "low": close * 0.98,
        "volume": np.abs(rng.normal(1e6, 1e5, close.shape)),
        "earnings_reaction": (rng.random(close.shape) < 0.016) * 1.0,
        "index_close": close[:1],
    }
    series = {m.key: known.get(m.key, close) for m in METRICS.values() if m.read and m.kind == "number"}
    return Panel(NAMES, SESSIONS, series, {key: np.array(["x"] * NAMES) for key in ("symbol", "sector", "kind")})


def main() -> None:
    market, vocabulary = panel(), daily_vocabulary()

    def taken(text: str) -> tuple[float, int]:
        node = vocabulary.read(text).node
        evaluate([node], market, 0, SESSIONS)
        best = float("inf")
        for _ in range(3):
            began = time.perf_counter()
            evaluate([node], market, 0, SESSIONS)
            best = min(best, time.perf_counter() - began)
        return best, node.work

    unit, _ = taken("close + open")
    rows = [
        ("one addition", f"{1e3 * unit:.1f} ms", "1", f"{1e3 * OPERATION * SECONDS_A_UNIT * NAMES * SESSIONS:.1f} ms")
    ]
    for function in FUNCTIONS.values():
        for window in (5, 50, 252) if any(p.kind == "window" for p in function.parameters) else (0,):
            told = {"series": "close", "condition": "close > open", "window": str(window), "factor": "2"}
            arguments = [told.get(p.kind) or f'"{p.choices[0]}"' for p in function.parameters]
            call = f"{function.name}({', '.join(arguments)})"
            seconds, work = taken(call)
            charged = work * SECONDS_A_UNIT * NAMES * SESSIONS
            rows.append((call, f"{1e3 * seconds:.1f} ms", f"{seconds / unit:.1f} ×", f"{1e3 * charged:.1f} ms"))
    table(f"A call over {NAMES} names × {SESSIONS} sessions, and what it is charged", rows)


if __name__ == "__main__":
    main()
