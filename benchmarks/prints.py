"""Bursts, levels and positions of a market's off-exchange prints. The reference is one pass that sums notional by name."""

from __future__ import annotations

import numpy as np

from flinch.core.shelves import make_book, make_bursts, stand
from measure import seconds, sized, table

PRINTS, NAMES, SESSIONS = sized(4_000_000, 4_000), sized(6_000, 20), 60


def main() -> None:
    rng = np.random.default_rng(5)
    busy = np.cumsum(np.exp(1.6 * rng.normal(size=NAMES)))
    name = np.sort(np.searchsorted(busy, rng.uniform(0, busy[-1], PRINTS))).astype(np.int64)
    session = np.sort(rng.integers(0, SESSIONS, PRINTS))
    order = np.lexsort((session, name))
    name, session = name[order], session[order]
    time = session * 86_400_000_000_000 + rng.integers(0, 23_400_000, PRINTS) * 1_000_000
    time = time[np.lexsort((time, name))]
    level = rng.uniform(10, 300, NAMES)[name]
    price = np.round(level * np.exp(0.05 * rng.normal(size=PRINTS)), 2)
    shares = np.floor(1_000 * (1 - rng.random(PRINTS)) ** (-1 / 1.25)).astype(np.int64)
    bursts, of_print = make_bursts(time, price, shares, name=name)
    took = seconds(lambda: make_bursts(time, price, shares, name=name), 3)
    whose = np.empty(bursts.first.size, np.int64)
    whose[of_print] = name
    when = (bursts.first // 86_400_000_000_000).astype(np.int64)
    book = make_book(whose, bursts.price, when, bursts.notional, bursts.shares, NAMES)
    now = rng.uniform(10, 300, NAMES)
    sizes = iter(np.tile(np.geomspace(1e5, 1e8, 40), 100).tolist())
    asked = seconds(lambda: stand(book, now, SESSIONS - 20, SESSIONS - 1, least=next(sizes)), 20)
    owner = np.repeat(np.arange(NAMES), np.diff(book.begin))
    summed = seconds(lambda: np.bincount(owner, book.notional, NAMES), 20)
    table(
        f"Off-exchange prints: {PRINTS:,} of {NAMES:,} names over {SESSIONS} sessions, {bursts.first.size:,} bursts",
        [
            ("summing notional by name", f"{summed * 1e3:,.1f} ms", "1", ""),
            (
                "levels and positions for a new size and window",
                f"{asked * 1e3:,.1f} ms",
                f"{asked / summed:,.1f} ×",
                "≤ 3 ×",
            ),
            ("bursts, once a version", f"{took * 1e3:,.0f} ms", f"{took / summed:,.0f} ×", ""),
        ],
    )


if __name__ == "__main__":
    main()
