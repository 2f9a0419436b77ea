"""What tickets point at, by hand: opening, lean, shares, since, novelty and the five parts of unusual."""

import numpy as np
import pytest

from flinch.core.flow import (
    KINDS,
    OPENING,
    Novelty,
    Parts,
    ask_shares,
    novelty,
    opening,
    out_of_the_money,
    package_lean,
    share_equivalent,
    since,
    size_rank,
    ticket_lean,
    unusual,
    unusual_parts,
)

NAN = float("nan")


@pytest.mark.parametrize(
    ("contracts", "volume", "before", "after", "word"),
    [
        (100, 100, 500, 550, "confirmed"),
        (100, 100, 500, 549, "unknown"),
        (100, 700, 500, 300, "certain"),
        (100, 600, 500, NAN, "certain"),
        (100, 599, 500, NAN, "unknown"),
        (100, 100, 99, NAN, "likely"),
        (100, 100, 100, NAN, "unknown"),
        (100, 100, 0, NAN, "certain"),
        (100, 100, NAN, NAN, "unknown"),
        (0, 0, 0, 5, "unknown"),
    ],
)
def test_opening(contracts, volume, before, after, word):
    assert OPENING[int(opening(contracts, volume, before, after))] == word


def test_leans():
    side, is_call = np.array([1, -1, 1, -1, 0, 0], np.int8), np.array([True, True, False, False, True, False])
    assert ticket_lean(side, is_call).tolist() == [1, -1, -1, 1, 0, 0]


def test_a_package_leans_with_its_net_delta():
    # A call vertical bought, a straddle that is flat, one with a leg that nobody knows, one just large enough.
    package = np.array([0, 0, 1, 1, 2, 2, -1, 3, 3])
    side = np.array([1, -1, 1, 1, 1, 0, 1, 1, -1], np.int8)
    delta = np.array([0.5, 0.3, 0.52, -0.48, 0.5, 0.4, 0.9, 0.3, 0.36])
    contracts = np.array([40, 40, 10, 10, 5, 5, 99, 7, 7])
    assert package_lean(package, 4, np.array([40, 10, 5, 7]), side, delta, contracts).tolist() == [1, 0, 0, -1]
    delta[7] = 0.32
    assert package_lean(package, 4, np.array([40, 10, 5, 7]), side, delta, contracts)[3] == 0


def test_share_equivalent_is_signed():
    side = np.array([1, -1, 1, 0], np.int8)
    shares = share_equivalent(
        side, np.array([0.5, 0.5, -0.25, 0.5]), np.array([10, 10, 4, 4]), np.array([100, 100, 10, 100])
    )
    assert shares[:3].tolist() == [500.0, -500.0, -10.0]
    assert np.isnan(shares[3])


def test_out_of_the_money_is_positive_on_both_sides():
    away = out_of_the_money(np.array([110.0, 110.0, 90.0]), np.full(3, 100.0), np.array([True, False, False]))
    assert away == pytest.approx([0.1, -0.1, 0.1])


def test_since_is_signed_by_the_lean():
    now, then, move = (
        np.array([103.0, 103.0, 97.0, 103.0, 103.0]),
        np.full(5, 100.0),
        np.array([2.0, 2.0, 2.0, 2.0, 0.0]),
    )
    gone = since(now, then, move, np.array([1, -1, -1, 0, 1], np.int8))
    assert gone[:3].tolist() == [1.5, -1.5, 1.5]
    assert np.isnan(gone[3:]).all(), "without a lean or a move there is none"


def test_novelty_by_hand():
    largest = np.array([[500.0, 20.0, NAN, 100.0, 0.0], [NAN, NAN, NAN, 5.0, 5.0]])
    premium, owner = np.array([100.0, 101.0, 501.0, 90.0, 6.0]), np.array([0, 0, 0, 0, 1])
    seen = novelty(premium, owner, largest)
    # 100 was there two sessions ago; 101 four ago (one of them unknown); 501 never; 90 earlier today.
    assert seen.sessions.tolist() == [2, 4, 4, 0, 2]
    assert seen.first.tolist() == [False, False, True, False, True]


def test_the_second_ticket_of_a_size_in_one_session_is_nothing_new():
    seen = novelty(np.array([700.0, 700.0, 700.5]), np.zeros(3, np.int64), np.array([[500.0, 600.0]]))
    assert seen.sessions.tolist() == [2, 0, 2]
    assert seen.first.tolist() == [True, False, True]


def test_size_is_a_rank_among_sixty_sessions():
    largest = np.concatenate([[1e9] * 5, np.arange(1.0, 61.0)])[None, :]
    ranks = size_rank(np.array([1.0, 30.5, 61.0]), np.zeros(3, np.int64), largest)
    assert ranks == pytest.approx([0.0, 0.5, 1.0]), "strictly smaller ones; what is older than sixty does not count"
    some = np.array([[NAN, NAN, 10.0, 20.0]])
    assert size_rank(np.array([15.0]), np.zeros(1, np.int64), some)[0] == 0.5
    assert np.isnan(size_rank(np.array([15.0]), np.zeros(1, np.int64), np.full((1, 4), NAN))[0])


def test_the_five_parts_by_hand():
    kinds = np.array([KINDS.index(k) for k in ("sweep", "split", "split", "block", "single")], np.int8)
    parts = unusual_parts(
        size=np.full(5, 0.9),
        volume=np.array([300.0, 100.0, 50.0, 10.0, 0.0]),
        open_interest=np.array([100.0, 100.0, 0.0, NAN, 0.0]),
        ask_share=np.full(5, 0.7),
        seen=Novelty(np.array([60, 30, 0, 90, 1]), np.zeros(5, bool)),
        kind=kinds,
        out_of_the_money=np.array([True, True, False, True, True]),
        days=np.array([3, 14, 3, 15, 14]),
    )
    assert parts.over_interest[:3].tolist() == [1.0, 0.5, 1.0]
    assert np.isnan(parts.over_interest[3:]).all()
    assert parts.novelty.tolist() == [1.0, 0.5, 0.0, 1.0, 1 / 60]
    assert parts.urgency.tolist() == [1.0, 1.0, 0.5, 0.0, 0.5]
    total = unusual(parts)
    assert total[:3] == pytest.approx([4.6, 3.6, 3.1])
    assert np.isnan(total[3]), "a part that counts and is missing makes the sum missing"
    assert unusual(parts, (1, 0, 1, 2, 1))[3] == pytest.approx(0.9 + 0.7 + 2.0 + 0.0), (
        "one that does not count does not"
    )


@pytest.mark.parametrize("weights", [(1, 1, 1, 1), (1, 1, 1, 1, -1), (1, 1, 1, 1, NAN)])
def test_weights_are_five_numbers_from_zero_up(weights):
    with pytest.raises(ValueError, match="five weights"):
        unusual(Parts(*np.zeros((5, 1))), weights)


def test_ask_share_counts_known_sides_alone():
    group, side = np.array([0, 0, 0, 1, 3]), np.array([1, -1, 0, 0, 1], np.int8)
    share = ask_shares(group, 4, side, np.array([30, 10, 500, 7, 1]))
    assert share[[0, 3]].tolist() == [0.75, 1.0]
    assert np.isnan(share[[1, 2]]).all()
