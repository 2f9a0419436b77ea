"""Sides, tickets, packages, rolls and the parts of *unusual* of a day's fills. The reference is Polars sorting the columns."""

from __future__ import annotations

import numpy as np
import polars as pl

from flinch.core.flow import (
    Legs,
    ask_shares,
    find_packages,
    find_rolls,
    make_tickets,
    novelty,
    size_rank,
    trade_side,
    unusual,
    unusual_parts,
)
from measure import seconds, sized, table

FILLS, CONTRACTS, NAMES, SESSIONS = sized(5_000_000, 5_000), sized(400_000, 900), sized(6_000, 20), 60
HOURS = (0, 23_400_000 * 1_000_000)


def main() -> None:
    rng = np.random.default_rng(3)
    # As on a real tape: a hundredth of the contracts has more than half of the fills, and one decision in ten is several fills.
    busy = np.cumsum(np.exp(2.6 * rng.normal(size=CONTRACTS)))
    fills = np.where(rng.random(FILLS) < 0.1, rng.integers(2, 7, FILLS), 1)
    fills = fills[: int(np.searchsorted(np.cumsum(fills), FILLS)) + 1]
    contract = np.repeat(np.searchsorted(busy, rng.uniform(0, busy[-1], fills.size)), fills)[:FILLS]
    time = np.repeat(rng.integers(0, 23_400_000, fills.size), fills)[:FILLS] + rng.integers(0, 300, FILLS)
    order = np.argsort(time, kind="stable")
    time, contract = time[order] * 1_000_000, contract[order]
    bid = np.round(rng.gamma(2.0, 2.0, FILLS), 2)
    ask = np.round(bid + 0.05 + rng.gamma(1.0, 0.1, FILLS), 2)
    price = np.where(rng.random(FILLS) < 0.5, ask, bid)
    venue, size = rng.integers(0, 12, FILLS).astype(np.int16), rng.geometric(0.15, FILLS)
    name = np.sort(rng.integers(0, NAMES, CONTRACTS))
    is_call, expiration = rng.random(CONTRACTS) < 0.5, rng.integers(1, 500, CONTRACTS)
    strike, interest = rng.uniform(10, 200, CONTRACTS), rng.gamma(1.0, 500.0, CONTRACTS)
    largest = rng.gamma(1.0, 50_000.0, (2 * NAMES, SESSIONS))
    frame = pl.DataFrame(
        {"time": time, "contract": contract, "venue": venue, "price": price, "contracts": size, "bid": bid, "ask": ask}
    )

    def ours() -> int:
        side = trade_side(price, bid, ask)
        tickets, _ = make_tickets(time, contract, side, venue, price, size)
        key = tickets.contract
        legs = Legs(
            name[key], tickets.first, key, tickets.side, tickets.contracts, tickets.premium, is_call[key],
            strike[key], expiration[key], np.zeros(key.size, np.bool_),
        )  # fmt: skip
        packages = find_packages(legs, HOURS)
        find_rolls(legs, interest[key], packages.of_ticket, HOURS)
        owner = 2 * name[key] + is_call[key]
        volume = np.bincount(contract, size, CONTRACTS)
        parts = unusual_parts(
            size=size_rank(tickets.premium, owner, largest),
            volume=volume[key],
            open_interest=interest[key],
            ask_share=ask_shares(key, CONTRACTS, tickets.side, tickets.contracts)[key],
            seen=novelty(tickets.premium, owner, largest),
            kind=tickets.kind,
            out_of_the_money=is_call[key],
            days=expiration[key],
        )
        unusual(parts)
        return int(key.size)

    count = ours()
    took, sorting = seconds(ours, 3), seconds(lambda: frame.sort("contract", "time"), 3)
    table(
        f"The tape: {FILLS:,} fills of {CONTRACTS:,} contracts, {count:,} tickets",
        [
            ("Polars sorting the columns by contract and time", f"{sorting:.2f} s", "1", ""),
            ("sides, tickets, packages, rolls, parts of unusual", f"{took:.2f} s", f"{took / sorting:.2f} ×", "≤ 3 ×"),
        ],
    )


if __name__ == "__main__":
    main()
