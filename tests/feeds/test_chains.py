"""The simulated chains at every moment: quotes that make sense, early exercise, adjusted contracts, lists of strikes."""

import numpy as np
import pytest

from flinch.core.pricing import option_price
from flinch.feeds.simulated import SimulatedMarket
from flinch.feeds.simulated.chains import _early_exercise
from flinch.feeds.simulated.interest import RATE


def test_quotes_make_sense_at_every_snapshot(simulated: SimulatedMarket):
    for snapshot in simulated.snapshots:
        chain = snapshot.chain
        quoted = np.isfinite(chain.bid)
        assert np.all(chain.bid[quoted] >= 0)
        assert np.all(chain.ask[quoted] > chain.bid[quoted])
        owner = snapshot.expiries.name[chain.expiry]
        intrinsic = np.where(chain.is_call, 1, -1) * (snapshot.spot[owner] - chain.strike)
        american = np.array([name.kind != "index" for name in simulated.names])[owner]
        assert np.all(chain.ask[quoted & american] >= intrinsic[quoted & american] - 1e-6), (
            "never offered below exercise"
        )
        assert np.all(np.diff(chain.strike.reshape(-1, 2), axis=1) == 0), "a call and a put a strike"


def test_a_halted_name_was_quoted_until_it_stopped(simulated: SimulatedMarket):
    row = next(i for i, name in enumerate(simulated.names) if name.symbol == "FENSO")
    for snapshot in simulated.snapshots:
        mine = snapshot.expiries.name[snapshot.chain.expiry] == row
        stopped = snapshot.taken_at > simulated.snapshots[6].taken_at
        assert np.isnan(snapshot.chain.bid[mine]).all() == stopped
    volumes = [s.chain.volume[s.expiries.name[s.chain.expiry] == row].sum() for s in simulated.snapshots[7:]]
    assert len(set(volumes)) == 1, "nothing trades any more"


@pytest.mark.parametrize("is_call", [True, False])
def test_early_exercise_between_the_volatilities_it_is_valued_at(is_call: bool):
    rng = np.random.default_rng(8)
    count = 400
    spot, years = rng.uniform(20, 200, count), rng.uniform(0.02, 2, count)
    atm, carry = rng.uniform(0.15, 0.8, count), rng.choice([0.0, 0.02, 0.04], count)
    vol = atm * rng.uniform(0.8, 1.4, count)
    out = np.exp(rng.uniform(0, 2, count) * atm * np.sqrt(years) * (1 if is_call else -1))
    strike = spot * out
    at = (spot, strike, years, vol)
    terms = {"is_call": is_call, "rate": RATE, "dividend_yield": carry}
    exact = option_price(*at, **terms, exercise="american") - option_price(*at, **terms)
    found = _early_exercise(spot, strike, years, atm, vol, carry, is_call=is_call)
    assert np.abs(100 * (found - exact) / spot).max() < 0.01, "out of the money, for a price of 100"


def test_strikes_stand_around_the_price_and_get_finer_where_it_fell(simulated: SimulatedMarket):
    snapshot = simulated.snapshots[-1]
    expiries, chain = snapshot.expiries, snapshot.chain
    first = np.searchsorted(chain.expiry, np.arange(expiries.name.size))
    last = np.searchsorted(chain.expiry, np.arange(expiries.name.size), side="right") - 1
    spot = snapshot.spot[expiries.name]
    assert np.all(chain.strike[first] < spot)
    assert np.all(chain.strike[last] > spot)
    step = (chain.strike[last] - chain.strike[first]) / ((last - first + 1) / 2 - 1)
    assert np.quantile(step / spot, 0.9) < 0.12
    large = np.array([name.size == "large" for name in simulated.names])[expiries.name]
    assert np.median((step / spot)[large]) < 0.03


def test_adjusted_contracts_are_worth_the_shares_and_the_cash(simulated: SimulatedMarket):
    newest = [rows for rows in simulated.adjusted if rows.taken_at == simulated.snapshots[-1].taken_at]
    assert len(newest) == 1
    rows = newest[0]
    assert simulated.names[rows.name].symbol == "TISVI"
    assert rows.open_interest.sum() == 1260
    together = simulated.close[rows.name, -1] + rows.cash / 100
    mid = 0.5 * (rows.bid + rows.ask)
    deep = rows.is_call & (rows.strike < 0.93 * together)
    assert deep.any()
    assert np.all(mid[deep] > 0.98 * (together - rows.strike[deep]))
