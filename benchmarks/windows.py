"""Standing within the last 252 sessions against pandas, correlation of 500 names against NumPy; both agreeing."""

from __future__ import annotations

import numpy as np
import pandas as pd

from flinch.core.rolling import rolling_percentile, rolling_rank
from flinch.core.volatility import return_correlations
from measure import seconds, sized, table

NAMES, SESSIONS, WINDOW = sized(502, 12), 504, 252


def main() -> None:
    rng = np.random.default_rng(1)
    vol = rng.lognormal(3.5, 0.3, (NAMES, SESSIONS))
    frame = pd.DataFrame(vol.T)
    rolling = frame.rolling(WINDOW)

    def percentile() -> np.ndarray:
        return 100 * (rolling.rank(method="min").to_numpy().T - 1) / (WINDOW - 1)

    def rank() -> np.ndarray:
        low, high = rolling.min(), rolling.max()
        return (100 * (frame - low) / (high - low)).to_numpy().T

    close = 100 * np.exp(np.cumsum(0.02 * rng.normal(size=(500, 253)), axis=1))

    def correlation() -> np.ndarray:
        return np.corrcoef(np.diff(np.log(close), axis=1))

    rows = []
    for words, ours, theirs, by in (
        (f"percentile over {WINDOW} sessions", lambda: rolling_percentile(vol, WINDOW, WINDOW), percentile, "pandas"),
        (f"rank over {WINDOW} sessions", lambda: rolling_rank(vol, WINDOW, WINDOW), rank, "pandas"),
        ("correlation of 500 names, a year", lambda: return_correlations(close), correlation, "NumPy"),
    ):
        assert np.allclose(ours(), theirs(), equal_nan=True)
        own, other = seconds(ours), seconds(theirs)
        rows.append((f"{words}, {by}", f"{1e3 * other:,.1f} ms", "1", ""))
        rows.append((f"{words}, Flinch", f"{1e3 * own:,.1f} ms", f"{other / own:,.1f} ×", "≥ 1 ×"))
    table(f"Windows over {NAMES} names × {SESSIONS} sessions, one thread", rows)


if __name__ == "__main__":
    main()
