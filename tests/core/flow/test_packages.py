"""Packages and rolls: each form by hand, every boundary, and what is no package."""

import numpy as np
import pytest

from flinch.core.flow import FORMS, Legs, find_packages, find_rolls

MS = 1_000_000


def legs(*rows, flagged=False):
    """Rows of (ms, side, contracts, right, strike, days), a contract for every right, strike and date."""
    ms, side, contracts, right, strike, days = zip(*rows, strict=True)
    keys = {key: i for i, key in enumerate(dict.fromkeys(zip(right, strike, days, strict=True)))}
    return Legs(
        name=np.zeros(len(rows), np.int64),
        first=np.array([int(t * MS) for t in ms]),
        contract=np.array([keys[key] for key in zip(right, strike, days, strict=True)]),
        side=np.array(side, np.int8),
        contracts=np.array(contracts),
        is_call=np.array([one == "C" for one in right]),
        strike=np.array(strike, float),
        expiration=np.array(days),
        flagged=np.full(len(rows), flagged),
    )


def form(*rows, flagged=False):
    found = find_packages(legs(*rows, flagged=flagged))
    if not found.form.size:
        return None
    assert found.form.size == 1
    assert (found.of_ticket == 0).all(), "every leg belongs to it"
    assert found.legs[0] == len(rows)
    assert found.units[0] == min(row[2] for row in rows)
    return FORMS[found.form[0]]


@pytest.mark.parametrize(
    ("name", "rows"),
    [
        ("vertical", [(1, "C", 100, 9), (-1, "C", 110, 9)]),
        ("calendar", [(-1, "P", 100, 9), (1, "P", 100, 40)]),
        ("diagonal", [(-1, "C", 105, 9), (1, "C", 100, 40)]),
        ("straddle", [(1, "C", 100, 9), (1, "P", 100, 9)]),
        ("strangle", [(-1, "C", 110, 9), (-1, "P", 90, 9)]),
        ("risk reversal", [(1, "C", 110, 9), (-1, "P", 90, 9)]),
        ("synthetic stock", [(1, "C", 100, 9), (-1, "P", 100, 9)]),
        ("condor", [(1, "C", 90, 9), (-1, "C", 95, 9), (-1, "C", 105, 9), (1, "C", 110, 9)]),
        ("iron condor", [(-1, "C", 105, 9), (1, "C", 110, 9), (1, "P", 90, 9), (-1, "P", 95, 9)]),
        ("iron butterfly", [(-1, "C", 100, 9), (1, "C", 110, 9), (1, "P", 90, 9), (-1, "P", 100, 9)]),
        # Nothing that has a name:
        ("package", [(1, "C", 100, 9), (1, "C", 110, 9)]),
        ("package", [(1, "C", 90, 9), (1, "P", 110, 9)]),
        ("package", [(1, "C", 100, 9), (1, "P", 100, 40)]),
        ("package", [(0, "C", 100, 9), (-1, "C", 110, 9)]),
        ("package", [(1, "C", 90, 9), (-1, "C", 95, 9), (1, "C", 105, 9), (-1, "C", 110, 9)]),
        ("package", [(-1, "C", 105, 9), (1, "C", 110, 40), (1, "P", 90, 9), (-1, "P", 95, 9)]),
    ],
)  # fmt: skip
def test_equal_sizes_make_the_known_forms(name, rows):
    made = [(0, side, 40, right, strike, days) for side, right, strike, days in rows]
    assert form(*made) == name
    assert form(*made[::-1]) == name, "in whichever order the legs were told"


def test_a_butterfly_and_a_ratio():
    wings = [(0, 1, 40, "C", 90, 9), (0, 1, 40, "C", 115, 9)]
    body = (0, -1, 80, "C", 100, 9)
    for order in ([wings[0], body, wings[1]], [body, *wings], [*wings, body]):
        assert form(*order) == "butterfly"
    outside = find_packages(legs(*wings, (0, -1, 80, "C", 120, 9)))
    assert [FORMS[f] for f in outside.form] == ["package"], (
        "the body lies between the wings, else the wings alone are equal"
    )
    assert form((0, 1, 40, "P", 100, 9), (0, -1, 80, "P", 90, 9)) == "ratio spread"
    assert form((0, -1, 80, "P", 100, 9), (0, 1, 40, "P", 90, 9)) == "ratio spread"
    assert form((0, 1, 40, "P", 100, 9), (0, 1, 80, "P", 90, 9)) is None, "of one side: no ratio"
    assert form((0, 1, 40, "P", 100, 9), (0, -1, 79, "P", 90, 9)) is None
    assert form((0, 1, 40, "P", 100, 9), (0, -1, 80, "P", 90, 40)) is None


def test_a_tenth_of_a_second_and_no_more():
    pair = (1, 40, "C", 100, 9), (-1, 40, "C", 110, 9)
    assert form((0, *pair[0]), (100, *pair[1])) == "vertical"
    assert form((0, *pair[0]), (100 + 1e-6, *pair[1])) is None
    three = find_packages(legs((0, *pair[0]), (90, *pair[1]), (150, 1, 40, "C", 120, 9)))
    assert three.of_ticket.tolist() == [0, 0, -1], "counted from the first leg"


def test_different_names_contracts_and_sizes():
    two = legs((0, 1, 40, "C", 100, 9), (0, -1, 40, "C", 110, 9))
    assert find_packages(two._replace(name=np.array([0, 1]))).form.size == 0
    assert form((0, 1, 40, "C", 100, 9), (0, -1, 40, "C", 100, 9)) is None, "one contract is no package"
    assert form((0, 1, 40, "C", 100, 9), (0, -1, 41, "C", 110, 9)) is None
    assert form((0, 1, 40, "C", 100, 9), (0, -1, 41, "C", 110, 9), flagged=True) == "package", (
        "unless the source says so"
    )


def test_what_the_source_flags_stays_apart_from_what_it_does_not():
    mixed = legs((0, 1, 40, "C", 100, 9), (0, -1, 40, "C", 110, 9), (0, 1, 40, "P", 90, 9))
    found = find_packages(mixed._replace(flagged=np.array([True, False, True])))
    assert found.of_ticket.tolist() == [0, -1, 0]


def test_packages_are_numbered_in_order_of_time_whichever_name():
    four = legs((0, 1, 40, "C", 100, 9), (10, 1, 9, "P", 90, 9), (20, 1, 9, "P", 80, 9), (30, -1, 40, "C", 110, 9))
    found = find_packages(four._replace(name=np.array([5, 2, 2, 5])))
    assert found.of_ticket.tolist() == [0, 1, 1, 0]
    assert [FORMS[f] for f in found.form] == ["vertical", "package"]
    assert found.units.tolist() == [40, 9]


def test_tickets_out_of_order_are_refused():
    late = legs((5, 1, 40, "C", 100, 9), (0, -1, 40, "C", 110, 9))
    with pytest.raises(ValueError, match="order of time"):
        find_packages(late)
    with pytest.raises(ValueError, match="order of time"):
        find_rolls(late, np.ones(2), np.full(2, -1))


def rolls(*rows, interest=1000.0, package=None):
    made = legs(*rows)
    held = np.full(len(rows), interest)
    return find_rolls(made, held, np.full(len(rows), -1) if package is None else np.array(package)).tolist()


def test_a_roll_sells_one_contract_and_buys_another():
    sold, bought = (0, -1, 300, "P", 100, 9), (3000, 1, 500, "P", 90, 40)
    assert rolls(sold, bought) == [1, 0]
    assert rolls((0, *bought[1:]), (3000, *sold[1:])) == [1, 0], "in either order"
    assert rolls(sold, (5000, *bought[1:])) == [1, 0]
    assert rolls(sold, (5000 + 1e-6, *bought[1:])) == [-1, -1]
    assert rolls(sold, (1000, 1, 600, "P", 90, 40)) == [1, 0], "up to twice as many"
    assert rolls(sold, (1000, 1, 601, "P", 90, 40)) == [-1, -1]
    assert rolls(sold, (1000, 1, 500, "C", 90, 40)) == [-1, -1], "a call is no put"
    assert rolls(sold, (1000, 1, 500, "P", 100, 9)) == [-1, -1], "nor is the same contract another"
    assert rolls(sold, (1000, -1, 500, "P", 90, 40)) == [-1, -1]
    assert rolls(sold, (1000, 0, 500, "P", 90, 40)) == [-1, -1]
    assert rolls(sold, bought, interest=300) == [1, 0]
    assert rolls(sold, bought, interest=299) == [-1, -1], "more than was open cannot have been held"
    assert rolls(sold, bought, interest=float("nan")) == [-1, -1]
    assert rolls(sold, bought, package=[0, -1]) == [-1, -1], "legs of packages are judged with those"
    assert rolls(sold, bought, package=[-1, 0]) == [-1, -1]
    other_name = legs(sold, bought)._replace(name=np.array([0, 1]))
    assert find_rolls(other_name, np.full(2, 1000.0), np.full(2, -1)).tolist() == [-1, -1]


def test_each_ticket_takes_the_nearest_before_it_that_is_free():
    first, second = (0, -1, 300, "P", 100, 9), (1000, -1, 300, "P", 95, 9)
    assert rolls(first, second, (2000, 1, 300, "P", 90, 40)) == [-1, 2, 1]
    assert rolls(first, second, (2000, 1, 300, "P", 90, 40), (2500, 1, 300, "P", 85, 40)) == [3, 2, 1, 0]
    far = (100, -1, 300, "P", 98, 9), (200, 1, 900, "P", 92, 9)
    assert rolls(first, *far, (300, 1, 300, "P", 91, 9)) == [-1, 3, -1, 1]
