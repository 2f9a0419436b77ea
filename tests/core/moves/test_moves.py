"""Expected moves."""

import math

import pytest

from flinch.core.moves import expected_move
from flinch.core.pricing import option_price


def test_one_standard_deviation():
    assert expected_move(200.0, 0.25, 30 / 365) == pytest.approx(200 * 0.25 * math.sqrt(30 / 365))


def test_the_straddle_costs_about_four_fifths_of_it():
    # Brenner & Subrahmanyam (1988): an at-the-money straddle is worth sqrt(2 / pi) of one standard deviation.
    straddle = option_price(100.0, 100.0, 30 / 365, 0.3, is_call=[True, False]).sum()
    assert straddle / expected_move(100.0, 0.3, 30 / 365) == pytest.approx(math.sqrt(2 / math.pi), rel=2e-3)
