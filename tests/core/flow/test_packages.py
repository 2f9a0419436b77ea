"""Packages and rolls: each form by hand, every boundary, and what is no package."""

import numpy as np
import pytest

from flinch.core.flow import FORMS, LARGE_CONTRACTS, LARGE_PREMIUM, Legs, find_packages, find_rolls

MS = 1_000_000
HOURS = (0, 390 * 60_000 * MS)


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
        premium=np.full(len(rows), LARGE_PREMIUM),
        is_call=np.array([one == "C" for one in right]),
        strike=np.array(strike, float),
        expiration=np.array(days),
        flagged=np.full(len(rows), flagged),
    )


def form(*rows, flagged=False):
    found = find_packages(legs(*rows, flagged=flagged), HOURS)
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
    outside = find_packages(legs(*wings, (0, -1, 80, "C", 120, 9)), HOURS)
    assert [FORMS[f] for f in outside.form] == ["package"], (
        "the body lies between the wings, else the wings alone are equal"
    )
    assert form((0, 1, 40, "P", 100, 9), (0, -1, 80, "P", 90, 9)) == "ratio spread"
    assert form((0, -1, 80, "P", 100, 9), (0, 1, 40, "P", 90, 9)) == "ratio spread"
    assert form((0, 1, 40, "P", 100, 9), (0, 1, 80, "P", 90, 9)) is None, "of one side: no ratio"
    assert form((0, 1, 40, "P", 100, 9), (0, -1, 79, "P", 90, 9)) is None
    assert form((0, 1, 40, "P", 100, 9), (0, -1, 80, "P", 90, 40)) is None


def test_wings_and_body_of_a_butterfly_end_together():
    """One over two months is no butterfly: its equal wings alone belong together, if anything does."""
    wings = [(0, 1, 40, "C", 90, 9), (0, 1, 40, "C", 115, 40)]
    for body in ((0, -1, 80, "C", 100, 9), (0, -1, 80, "C", 100, 40)):
        found = find_packages(legs(*wings, body), HOURS)
        assert [FORMS[f] for f in found.form] == ["package"]
        assert found.of_ticket.tolist() == [0, 0, -1]
    other = (0, -1, 80, "C", 100, 16), (0, 1, 40, "C", 90, 9), (0, 1, 40, "C", 115, 9)
    assert "butterfly" not in [FORMS[f] for f in find_packages(legs(*other), HOURS).form]


def test_a_tenth_of_a_second_and_no_more():
    pair = (1, 40, "C", 100, 9), (-1, 40, "C", 110, 9)
    assert form((0, *pair[0]), (100, *pair[1])) == "vertical"
    assert form((0, *pair[0]), (100 + 1e-6, *pair[1])) is None
    three = find_packages(legs((0, *pair[0]), (90, *pair[1]), (150, 1, 40, "C", 120, 9)), HOURS)
    assert three.of_ticket.tolist() == [0, 0, -1], "counted from the first leg"


def test_different_names_contracts_and_sizes():
    two = legs((0, 1, 40, "C", 100, 9), (0, -1, 40, "C", 110, 9))
    assert find_packages(two._replace(name=np.array([0, 1])), HOURS).form.size == 0
    assert form((0, 1, 40, "C", 100, 9), (0, -1, 40, "C", 100, 9)) is None, "one contract is no package"
    assert form((0, 1, 40, "C", 100, 9), (0, -1, 41, "C", 110, 9)) is None
    assert form((0, 1, 40, "C", 100, 9), (0, -1, 41, "C", 110, 9), flagged=True) == "package", (
        "unless the source says so"
    )


def test_what_the_source_flags_stays_apart_from_what_it_does_not():
    mixed = legs((0, 1, 40, "C", 100, 9), (0, -1, 40, "C", 110, 9), (0, 1, 40, "P", 90, 9))
    found = find_packages(mixed._replace(flagged=np.array([True, False, True])), HOURS)
    assert found.of_ticket.tolist() == [0, -1, 0]


def test_packages_are_numbered_in_order_of_time_whichever_name():
    four = legs((0, 1, 40, "C", 100, 9), (10, 1, 9, "P", 90, 9), (20, 1, 9, "P", 80, 9), (30, -1, 40, "C", 110, 9))
    found = find_packages(four._replace(name=np.array([5, 2, 2, 5])), HOURS)
    assert found.of_ticket.tolist() == [0, 1, 1, 0]
    assert [FORMS[f] for f in found.form] == ["vertical", "package"]
    assert found.units.tolist() == [40, 9]


def test_tickets_out_of_order_are_refused():
    late = legs((5, 1, 40, "C", 100, 9), (0, -1, 40, "C", 110, 9))
    with pytest.raises(ValueError, match="order of time"):
        find_packages(late, HOURS)
    with pytest.raises(ValueError, match="order of time"):
        find_rolls(late, np.ones(2), np.full(2, -1), HOURS)


def rolls(*rows, interest=1000.0, package=None):
    made = legs(*rows)
    held = np.full(len(rows), interest)
    return find_rolls(
        made, held, np.full(len(rows), -1) if package is None else np.array(package), HOURS
    ).other.tolist()


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
    assert find_rolls(other_name, np.full(2, 1000.0), np.full(2, -1), HOURS).other.tolist() == [-1, -1]


def test_each_ticket_takes_the_nearest_before_it_that_is_free():
    first, second = (0, -1, 300, "P", 100, 9), (1000, -1, 300, "P", 95, 9)
    assert rolls(first, second, (2000, 1, 300, "P", 90, 40)) == [-1, 2, 1]
    # Of one size there would be two for each, which says nothing; of two sizes each finds its own.
    assert rolls(first, second, (2000, 1, 300, "P", 90, 40), (2500, 1, 300, "P", 85, 40)) == [-1] * 4
    smaller = (1000, -1, 250, "P", 95, 9), (2000, 1, 250, "P", 90, 40)
    assert rolls(first, *smaller, (2500, 1, 300, "P", 85, 40)) == [3, 2, 1, 0]


HALF_HOUR = 1_800_000


def crowd(count: int, begin: float, end: float, side: int = 1, contracts: int = 300, right: str = "P"):
    """Tickets one after the other, each in a contract of its own."""
    return [
        (t, side, contracts, right, 60 + i / 64, 40)
        for i, t in enumerate(np.linspace(begin, end, count, endpoint=False))
    ]


def test_a_roll_that_chance_makes_is_none():
    """Within 10 s of 1,800 one of half a ticket each half hour is 0.0028 partners, above 0.002; seen from each side."""
    mid = 3.6e6
    sold, bought = (mid, -1, 300, "P", 100, 9), (mid + 3000, 1, 300, "P", 90, 40)

    def is_roll(*others):
        rows = sorted([sold, bought, *others])
        found = find_rolls(legs(*rows), np.full(len(rows), 1e4), np.full(len(rows), -1), HOURS).other
        return found[rows.index(sold)] == rows.index(bought)

    beside, behind = crowd(1, mid + 60_000, mid + 61_000), crowd(1, mid - 60_000, mid, side=-1)
    assert is_roll()
    assert is_roll(*beside), "seen from the side bought there is one seller"
    assert is_roll(*behind)
    assert not is_roll(*beside, *behind), "several on each side: any two of them stand together sooner or later"
    others = (*beside, *behind)
    for change in (
        {"contracts": 299},
        {"contracts": 301},
        {"right": "C"},
        {"side": 0},
    ):
        alike = [*crowd(1, mid + 60_000, mid + 61_000, **change), *behind]
        assert is_roll(*alike), f"what fits less is no other partner: {change}"
    # What fits elsewhere in the day counts by the share of the half hour in it.
    far = [*crowd(1, 9e6, 9.1e6), *crowd(1, 9.2e6, 9.3e6, side=-1)]
    busy = crowd(40, 8e6, 1.2e7, contracts=20)
    assert is_roll(*far, *busy), "a day of which little lies here"
    assert not is_roll(*far), "a day of two half hours"
    assert not is_roll(*others, *busy[:3])
    assert is_roll(*others, *busy[:10]), "of fourteen tickets four lie here: a quarter of a partner in the half hour"


def test_a_side_of_a_roll_is_large():
    sold, bought = (0, -1, 40, "P", 100, 9), (3000, 1, 40, "P", 90, 40)

    def is_roll(contracts, premium):
        two = legs((*sold[:2], contracts, *sold[3:]), (*bought[:2], contracts, *bought[3:]))
        two = two._replace(premium=np.array([premium, 1e6]))
        return find_rolls(two, np.full(2, 1e3), np.full(2, -1), HOURS).other.tolist() == [1, 0]

    assert is_roll(50, 10.0)
    assert not is_roll(49, LARGE_PREMIUM - 0.01)
    assert is_roll(49, LARGE_PREMIUM)
    assert is_roll(LARGE_CONTRACTS, 0.0)


def test_a_package_that_chance_makes_is_none():
    """Within 200 ms of the half hour 18 tickets as fitting are 0.002 partners: that many make it chance, fewer do not."""
    mid = 3.6e6
    pair = [(mid, 1, 300, "C", 100, 9), (mid + 50, -1, 300, "C", 110, 9)]

    def is_package(sellers, buyers, **change):
        rows = [*pair, *crowd(sellers, mid - 8e5, mid - 1e5, side=-1, **change)]
        rows = sorted([*rows, *crowd(buyers, mid + 1e5, mid + 8e5, side=1, **change)])
        of = find_packages(legs(*rows), HOURS).of_ticket
        return of[rows.index(pair[0])] == of[rows.index(pair[1])] >= 0

    assert is_package(0, 0)
    assert is_package(17, 17)
    assert not is_package(18, 18)
    assert is_package(18, 0), "seen from the seller there is one buyer"
    assert is_package(0, 18)
    assert is_package(60, 60, contracts=299), "other sizes are no partners"
    flagged = legs(*sorted([*pair, *crowd(30, mid - 8e5, mid - 1e5, -1), *crowd(30, mid + 1e5, mid + 8e5)]))
    assert find_packages(flagged._replace(flagged=flagged.contracts > 0), HOURS).flagged.all(), "a source is believed"


def test_small_tickets_are_packages_only_when_the_source_says_so():
    two = legs((0, 1, 40, "C", 100, 9), (0, -1, 40, "C", 110, 9))
    small = two._replace(premium=np.full(2, LARGE_PREMIUM - 1))
    assert find_packages(small, HOURS).form.size == 0
    found = find_packages(small._replace(flagged=np.ones(2, bool)), HOURS)
    assert found.flagged.tolist() == [True]
    assert find_packages(two, HOURS).flagged.tolist() == [False]
    one = two._replace(premium=np.array([LARGE_PREMIUM, LARGE_PREMIUM - 1]))
    assert find_packages(one, HOURS).form.size == 0, "each leg is large"


@pytest.mark.parametrize("seed", range(3))
def test_what_chance_makes_is_what_tickets_that_know_nothing_of_each_other_make(seed):
    """Poisson arrivals in many names: as many rolls and packages are found as are told of, within three deviations."""
    rng = np.random.default_rng(seed)
    size, names = 24_000, 1_500
    name = rng.integers(0, names, size)
    drawn = legs((0, 1, 60, "C", 100, 9), (0, 1, 60, "C", 100, 9))
    calls = rng.random(size) < 0.5
    drawn = drawn._replace(
        name=name,
        first=np.sort(rng.integers(0, HOURS[1], size)),
        contract=64 * name + rng.integers(0, 32, size) * 2 + calls,
        side=rng.choice(np.array([-1, 1], np.int8), size),
        contracts=rng.choice([50, 60, 75, 100], size),
        premium=np.full(size, LARGE_PREMIUM),
        is_call=calls,
        strike=np.full(size, 100.0),
        expiration=np.full(size, 9),
        flagged=np.zeros(size, bool),
    )
    packages = find_packages(drawn, (0, HOURS[1]))
    rolled = find_rolls(drawn, np.full(size, 1e4), np.full(size, -1), (0, HOURS[1]))
    found, told = (rolled.other >= 0).sum() / 2, rolled.by_chance.sum()
    assert told > 8
    assert abs(found - told) < 3 * np.sqrt(told)
    assert abs(packages.form.size - packages.by_chance.sum()) < 3 * np.sqrt(packages.by_chance.sum()) + 2
