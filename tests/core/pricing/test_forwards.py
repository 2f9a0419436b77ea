"""Forwards from parity, and which quotes may be used."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from flinch.core.pricing import forwards_from_parity, option_price, usable_quote


@pytest.mark.parametrize(
    ("bid", "ask", "usable"),
    [
        (1.00, 1.10, True),
        (0.05, 0.15, True),  # 0.10 wide is always allowed
        (0.05, 0.16, False),
        (4.00, 5.00, True),  # 22 % of mid
        (4.00, 5.20, False),  # 26 % of mid
        (0.00, 0.05, False),  # no bid
        (1.10, 1.00, False),  # crossed
        (np.nan, 1.00, False),
    ],
)
def test_usable_quotes(bid, ask, usable):
    assert bool(usable_quote(np.array(bid), np.array(ask))) is usable


@given(st.floats(0.0, 0.08), st.floats(0.0, 0.06), st.floats(5 / 365, 2), st.floats(0.1, 1))
def test_exact_prices_give_the_forward_back(rate, carry, years, vol):
    strikes = np.array([80.0, 90, 100, 110, 120])
    call, put = (
        option_price(100.0, strikes, years, vol, is_call=c, rate=rate, dividend_yield=carry) for c in (True, False)
    )
    found = forwards_from_parity(
        np.zeros(5, dtype=int), strikes, call, put, spot=np.array([100.0]), years=np.array([years]), rate=rate
    )
    assert found.forward[0] == pytest.approx(100 * np.exp((rate - carry) * years), rel=1e-10)
    assert found.from_parity[0]


def test_the_nearest_pair_decides_and_without_one_spot_and_rate_do():
    group = np.array([0, 0, 1])
    found = forwards_from_parity(
        group,
        np.array([95.0, 100.0, 100.0]),
        np.array([7.0, 3.0, np.nan]),
        np.array([1.0, 2.5, 2.0]),
        spot=np.array([100.0, 100.0]),
        years=np.array([0.0, 1.0]),
        rate=0.05,
    )
    assert found.forward == pytest.approx([100.5, 100 * np.exp(0.05)])
    assert found.from_parity.tolist() == [True, False]
