"""Every combination that a placement allows, and no other: against plain loops over the chain."""

import itertools

import numpy as np
import pytest
from tests.core.structures.chain import DAYS, EXPIRATIONS, SPOT, chain

from flinch.core.structures import STRUCTURES, Chains, Placement, count_and_make

QUOTES = chain()
CHAINS = Chains(QUOTES, EXPIRATIONS)
BY_DELTA = Placement("delta", 0.1, 0.35, middle=0.3, least_width=5.0, most_width=15.0)
BY_PERCENT = Placement("percent", 2.0, 8.0, middle=0.2, most_width=4.0, width_percent=True, balanced=False)
BY_MOVES = Placement("moves", 0.5, 1.4, least_width=5.0, most_width=10.0, later_low=20, later_high=30)


def rows_of(expiration: int, is_call: bool) -> list[int]:
    return np.flatnonzero((QUOTES.expiration == expiration) & (QUOTES.is_call == is_call)).tolist()


def brute(key: str, placement: Placement, expirations=EXPIRATIONS) -> set[tuple[int, ...]]:
    kind, out = STRUCTURES[key], set()
    strike = QUOTES.strike

    def fits(row: int, e: int) -> bool:
        if placement.measure == "delta":
            return placement.low <= abs(QUOTES.delta[row]) <= placement.high
        sign = 1 if QUOTES.is_call[row] else -1
        away = (strike[row] - expirations.center[e]) * sign
        away /= SPOT[e] / 100 if placement.measure == "percent" else expirations.move[e]
        return placement.low - 1e-9 <= away <= placement.high + 1e-9

    def central(row: int, e: int) -> bool:
        return abs(strike[row] - expirations.center[e]) <= placement.middle * expirations.move[e] + 1e-9

    def wide(a: int, b: int, e: int) -> bool:
        width = abs(strike[a] - strike[b])
        unit = SPOT[e] / 100 if placement.width_percent else 1.0
        return max(placement.least_width * unit, 0.005) - 1e-6 <= width <= placement.most_width * unit + 1e-6

    for e in np.flatnonzero(expirations.near):
        sides = [
            [
                row
                for late in (range(6) if leg.later else [e])
                if EXPIRATIONS.name[late] == EXPIRATIONS.name[e]
                and (
                    not leg.later
                    or placement.later_low <= EXPIRATIONS.days[late] - EXPIRATIONS.days[e] <= placement.later_high
                )
                for row in rows_of(late, leg.is_call)
            ]
            for leg in kind.legs
        ]
        for legs in itertools.product(*sides):
            k = [strike[row] for row in legs]
            match kind.shape:
                case "single":
                    good = fits(legs[0], e)
                case "pair":
                    good = k[0] < k[1] and fits(legs[kind.placed], e) and wide(*legs, e)
                case "same":
                    good = k[0] == k[1] and central(legs[0], e)
                case "two":
                    good = k[0] < k[1] and fits(legs[0], e) and fits(legs[1], e)
                case "condor" | "body":
                    even = abs((k[1] - k[0]) - (k[3] - k[2])) < 1e-6 or not placement.balanced
                    good = (
                        k[0] < k[1] and k[2] < k[3] and even and wide(legs[0], legs[1], e) and wide(legs[2], legs[3], e)
                    )
                    if kind.shape == "condor":
                        good = good and k[1] < k[2] and fits(legs[1], e) and fits(legs[2], e)
                    else:
                        good = good and k[1] == k[2] and central(legs[1], e)
                case "fly" | "wide fly":
                    even = abs((k[1] - k[0]) - (k[2] - k[1])) < 1e-6
                    good = (
                        k[0] < k[1] < k[2]
                        and central(legs[1], e)
                        and wide(legs[0], legs[1], e)
                        and wide(legs[1], legs[2], e)
                    )
                    good = good and even == (kind.shape == "fly")
                case "calendar":
                    good = k[0] == k[1] and central(legs[0], e)
                case "diagonal":
                    good = k[0] < k[1] and fits(legs[kind.placed], e) and wide(*legs, e)
            if good:
                out.add(tuple(legs))
    return out


SMALL = [key for key in STRUCTURES if STRUCTURES[key].shape not in ("condor", "body")]


@pytest.mark.parametrize("placement", [BY_DELTA, BY_PERCENT, BY_MOVES], ids=["delta", "percent", "moves"])
@pytest.mark.parametrize("key", SMALL)
def test_every_combination_is_made_and_no_other(key, placement):
    blocks, counts = count_and_make(CHAINS, [STRUCTURES[key]], placement, 1_000_000)
    wanted = brute(key, placement)
    found = [tuple(row) for block in blocks for row in block.legs.tolist()]
    assert len(found) == len(set(found)) == counts[key]
    assert set(found) == wanted


@pytest.mark.parametrize("placement", [BY_DELTA, BY_PERCENT], ids=["delta", "percent"])
@pytest.mark.parametrize("key", ["iron_condor", "iron_butterfly"])
def test_condors_and_iron_butterflies_are_all_there(key, placement):
    one = EXPIRATIONS._replace(near=np.array([True, False, False, False, False, False]))
    narrow = placement._replace(low=placement.low + (0.1 if placement.measure == "delta" else 2.0))
    blocks, counts = count_and_make(Chains(QUOTES, one), [STRUCTURES[key]], narrow, 1_000_000)
    found = [tuple(row) for block in blocks for row in block.legs.tolist()]
    assert len(found) == len(set(found)) == counts[key] > 0
    assert set(found) == brute(key, narrow, one)


def test_at_a_target_strikes_are_counted_from_it_either_way():
    target = SPOT * 1.06
    aimed = EXPIRATIONS._replace(center=target)
    placement = Placement("percent", 0.0, 2.0, at_target=True, most_width=10.0)
    blocks, _ = count_and_make(Chains(QUOTES, aimed), [STRUCTURES["call_debit"]], placement, 100_000)
    sold = blocks[0].legs[:, 1]
    away = np.abs(QUOTES.strike[sold] - target[QUOTES.expiration[sold]]) / SPOT[QUOTES.expiration[sold]]
    assert away.max() <= 0.02 + 1e-9
    assert (QUOTES.strike[sold] > target[QUOTES.expiration[sold]]).any()
    assert (QUOTES.strike[sold] < target[QUOTES.expiration[sold]]).any()
    nowhere = EXPIRATIONS._replace(center=np.full(6, np.nan))
    assert count_and_make(Chains(QUOTES, nowhere), [STRUCTURES["call_debit"]], placement, 100)[0] == []


def test_more_than_may_be_are_counted_and_not_made():
    kinds = [STRUCTURES["iron_condor"], STRUCTURES["put_credit"]]
    every, counts = count_and_make(CHAINS, kinds, BY_DELTA, 100_000)
    total = sum(counts.values())
    assert total == sum(block.legs.shape[0] for block in every)
    none, still = count_and_make(CHAINS, kinds, BY_DELTA, total - 1)
    assert none == []
    assert still == counts
    assert count_and_make(CHAINS, kinds, BY_DELTA, total)[0] != []


def test_a_later_leg_is_of_the_same_name_and_within_its_days():
    blocks, _ = count_and_make(CHAINS, [STRUCTURES["call_calendar"]], BY_MOVES, 1_000)
    for near, far in blocks[0].legs.tolist():
        one, other = QUOTES.expiration[near], QUOTES.expiration[far]
        assert EXPIRATIONS.name[one] == EXPIRATIONS.name[other]
        assert 20 <= DAYS[other % 3] - DAYS[one % 3] <= 30
