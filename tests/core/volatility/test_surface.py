"""Fitted surfaces on markets that hold no arbitrage, quoted with noise and without; and chains with something wrong."""

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from flinch.core.pricing import option_price
from flinch.core.volatility import smile_vol
from flinch.core.volatility.chain import FLAWS, ChainQuotes, summarise_expiries

RATE, SPOT = 0.03, 100.0
YEARS = np.array([9, 37, 100, 191, 380]) / 365


def slices(theta, rho, eta):
    """An SSVI surface with phi = eta / sqrt(theta) as raw SVI, which holds no arbitrage while eta (1 + |rho|) < 2."""
    phi = eta / np.sqrt(theta)
    return np.stack(
        [0.5 * theta * (1 - rho**2), 0.5 * theta * phi, np.full(theta.size, rho), -rho / phi, np.sqrt(1 - rho**2) / phi],
        axis=-1,
    )  # fmt: skip


def market(parameters, *, years=YEARS, half=1e-4, noise=0.0, strikes=15, seed=0, exercise="european", carry=0.0):
    """Quotes of one name, both sides, out to two and a half deviations."""
    rng = np.random.default_rng(seed)
    atm = smile_vol(parameters, years, np.zeros(years.size))
    reach = np.linspace(-2.5, 2.5, strikes)
    rows = [SPOT * np.exp((RATE - carry) * t + v * np.sqrt(t) * reach) for t, v in zip(years, atm, strict=True)]
    group = np.repeat(np.arange(years.size), [row.size for row in rows])
    strike, t = np.concatenate(rows), years[group]
    vol = smile_vol(parameters[group], t, np.log(strike / (SPOT * np.exp((RATE - carry) * t))))
    vol = vol + noise * rng.normal(size=vol.size)
    quotes = []
    for side in (True, False):
        price = option_price(SPOT, strike, t, vol, is_call=side, rate=RATE, dividend_yield=carry, exercise=exercise)
        quotes += [np.maximum(price - half, 0), price + half]
    return ChainQuotes(group, strike, *quotes)


def fitted(quotes, years=YEARS, **more):
    return summarise_expiries(
        quotes, name=np.zeros(years.size, dtype=int), spot=np.full(years.size, SPOT), years=years, rate=RATE, **more
    )


SURFACES = st.tuples(st.floats(0.12, 0.9), st.floats(-0.75, 0.5), st.floats(0.3, 1.1))


def theta_of(level):
    return level**2 * YEARS * (1 + 0.3 * np.exp(-3 * YEARS))


@settings(max_examples=25)
@given(SURFACES)
def test_clean_quotes_give_the_surface_back_at_the_money_and_in_the_wings(drawn):
    level, rho, eta = drawn
    truth = slices(theta_of(level), rho, eta)
    found = fitted(market(truth, half=1e-5))
    for z in (-1.5, -0.5, 0.0, 0.5, 1.5):
        k = z * np.sqrt(theta_of(level))
        expected = smile_vol(truth, YEARS, k)
        assert smile_vol(found.fit.parameters, YEARS, k) == pytest.approx(expected, abs=0.003 * max(1, level))


@settings(max_examples=25)
@given(SURFACES, st.integers(0, 10_000), st.sampled_from([5, 8, 15, 30]))
def test_no_butterfly_and_no_calendar_spread_has_a_negative_price(drawn, seed, strikes):
    level, rho, eta = drawn
    quotes = market(slices(theta_of(level), rho, eta), half=0.03, noise=0.02 * level, seed=seed, strikes=strikes)
    found = fitted(quotes)
    inside = {}
    for e, years in enumerate(YEARS):
        k = np.log(quotes.strike[quotes.group == e] / found.forward[e])
        k = k[(k >= found.fit.low[e] - 1e-12) & (k <= found.fit.high[e] + 1e-12)]
        inside[e] = k
        vol = smile_vol(np.tile(found.fit.parameters[e], (k.size, 1)), np.full(k.size, years), k)
        price = option_price(1.0, np.exp(k), years, vol, is_call=True)
        assert (np.diff(np.diff(price) / np.diff(np.exp(k))) > -1e-9).all()
    for e in range(YEARS.size - 1):
        k = np.concatenate([inside[e], inside[e + 1]])
        both = (k >= max(found.fit.low[e], found.fit.low[e + 1])) & (k <= min(found.fit.high[e], found.fit.high[e + 1]))
        k = k[both]
        total = [
            smile_vol(np.tile(found.fit.parameters[i], (k.size, 1)), np.full(k.size, YEARS[i]), k) ** 2 * YEARS[i]
            for i in (e, e + 1)
        ]
        assert (total[1] >= total[0] - 1e-12).all()


def durrleman(parameters, k):
    """Gatheral & Jacquier (2014), lemma 2.2, written down once more."""
    a, b, rho, m, sigma = parameters
    away = k - m
    root = np.sqrt(away**2 + sigma**2)
    w, first, second = a + b * (rho * away + root), b * (rho + away / root), b * sigma**2 / root**3
    return (1 - k * first / (2 * w)) ** 2 - first**2 / 4 * (1 / w + 0.25) + second / 2


def sound_on_the_whole_line(found, years):
    """Free of butterflies to six deviations either way, and wings within the moments of the price (Lee 2004)."""
    for e, parameters in enumerate(found.fit.parameters):
        if np.isfinite(parameters).all():
            deviation = found.vol[e] * np.sqrt(years[e])
            vertex = parameters[3] + parameters[4] * np.linspace(-12, 12, 401)
            k = np.concatenate([np.linspace(-6, 6, 481) * deviation, vertex[np.abs(vertex) < 6 * deviation]])
            assert durrleman(parameters, k).min() > -1e-9
            assert parameters[1] * (1 + abs(parameters[2])) <= 2 + 1e-9
            assert smile_vol(np.tile(parameters, (k.size, 1)), np.full(k.size, years[e]), k).max() < 8 * found.vol[e]


# A vertex so narrow that a butterfly hides between the places that used to be looked at.
@example((1.42, -0.52, 0.93), 9755, 15, (-9, 0.4), 0.142)
@settings(max_examples=60)
@given(
    SURFACES,
    st.integers(0, 10_000),
    st.sampled_from([6, 8, 15]),
    st.sampled_from([(-9, 9), (-9, 0.4), (-0.4, 9), (-0.6, 0.6), (-1.2, 0.2)]),
    st.floats(0.0, 0.15),
)
def test_wings_that_nobody_quotes_stay_within_bounds(drawn, seed, strikes, seen, noise):
    """Noisy quotes on one side or about the money only: what lies beyond is a guess, but never an absurd one."""
    level, rho, eta = drawn
    truth = slices(theta_of(level), rho, eta)
    quotes = market(truth, half=0.02, noise=noise * level, seed=seed, strikes=strikes)
    z = np.log(quotes.strike / SPOT) / (level * np.sqrt(YEARS[quotes.group]))
    inside = (z > seen[0]) & (z < seen[1])
    quotes = ChainQuotes(*(part[inside] for part in quotes))
    sound_on_the_whole_line(fitted(quotes), YEARS)


def test_one_lone_rise_at_the_end_does_not_make_the_wing_explode():
    """Six strikes, the outermost call's mid too high: the fit used to run up to many times the volatility at the money."""
    years = np.array([37 / 365])
    quotes = market(slices(theta_of(0.5)[1:2], -0.3, 0.6), years=years, half=0.05, strikes=31)
    z = np.log(quotes.strike / SPOT) / (0.5 * np.sqrt(years[0]))
    chosen = np.abs(z)[:, None] - np.array([0.0, 0.3, 0.6, 0.9])
    kept = (np.abs(chosen).min(axis=1) < 0.09) & (z < 1.0)
    quotes = ChainQuotes(*(part[kept] for part in quotes))
    last = quotes.strike == quotes.strike.max()
    quotes = quotes._replace(
        call_bid=np.where(last, quotes.call_bid * 1.25, quotes.call_bid),
        call_ask=np.where(last, quotes.call_ask * 1.25, quotes.call_ask),
    )
    found = fitted(quotes, years)
    sound_on_the_whole_line(found, years)
    far = smile_vol(found.fit.parameters, years, np.array([3 * 0.5 * np.sqrt(years[0])]))
    assert far[0] < 2 * found.vol[0]
    assert FLAWS[found.flaw[0]] in (
        "above the quoted strikes the curve is a guess",
        "the fitted curve misses the quotes",
    )


def test_a_wing_without_quotes_is_said_to_be_a_guess_and_from_which_strike_on():
    quotes = market(slices(theta_of(0.3), -0.4, 0.8), half=0.02, strikes=31)
    z = np.log(quotes.strike / SPOT) / (0.3 * np.sqrt(YEARS[quotes.group]))
    for kept, said in (
        (z > -9, ""),
        (z < 0.7, "above the quoted strikes the curve is a guess"),
        (z > -0.7, "below the quoted strikes the curve is a guess"),
        (np.abs(z) < 0.7, "beyond the quoted strikes the curve is a guess"),
    ):
        part = ChainQuotes(*(column[kept & (quotes.group == 3)] for column in quotes))
        part = part._replace(group=np.zeros(part.group.size, dtype=int))
        found = fitted(part, YEARS[3:4])
        assert FLAWS[found.flaw[0]] == said
        assert found.quality[0] == 100
        assert found.lowest_strike[0] >= part.strike[0] * (1 - 1e-9)
        assert found.highest_strike[0] <= part.strike[-1] * (1 + 1e-9)


def test_early_exercise_is_taken_off_before_anything_is_read():
    truth = slices(theta_of(0.3), -0.4, 0.8)
    years = YEARS
    quotes = market(truth, exercise="american", carry=0.05)
    plain, right = fitted(quotes), fitted(quotes, american=np.ones(years.size, dtype=bool))
    forward = SPOT * np.exp((RATE - 0.05) * years)
    atm = smile_vol(truth, years, np.zeros(years.size))
    assert np.abs(right.forward / forward - 1).max() < 5e-4
    assert np.abs(right.vol - atm).max() < 0.0015
    assert np.abs(right.forward / forward - 1)[-1] < 0.2 * np.abs(plain.forward / forward - 1)[-1]
    assert right.carry == pytest.approx(np.full(years.size, 0.05), abs=0.004)


def test_quarter_delta_volatilities_are_those_of_the_surface():
    truth = slices(theta_of(0.3), -0.5, 0.8)
    found = fitted(market(truth, strikes=31))
    for vol, sign in ((found.put_25d, -1), (found.call_25d, 1)):
        root = vol * np.sqrt(YEARS)
        k = 0.5 * root**2 + sign * 0.6744897501960817 * root
        assert vol == pytest.approx(smile_vol(truth, YEARS, k), abs=1e-3)
    assert (found.put_25d > found.call_25d).all(), "the slope is negative"


def test_where_the_strikes_do_not_reach_a_quarter_delta_nothing_is_said():
    quotes = market(slices(theta_of(0.3), -0.4, 0.8), strikes=31)
    money = np.abs(np.log(quotes.strike / SPOT)) < 0.05
    narrow = ChainQuotes(*(part[money] for part in quotes))
    found = fitted(narrow)
    assert np.isfinite(found.vol).all()
    assert np.isnan(found.put_25d[2:]).all()


def only(quotes, e):
    return ChainQuotes(*(part[quotes.group == e] for part in quotes))._replace(
        group=np.zeros((quotes.group == e).sum(), dtype=int)
    )


ONE = slice(1, 2)


def flaw(quotes, years=YEARS[ONE]):
    found = fitted(quotes, years)
    return FLAWS[found.flaw[0]], found


@pytest.fixture
def chain():
    return only(market(slices(theta_of(0.3), -0.4, 0.8), half=0.02), 1)


def test_a_good_chain_has_full_quality_and_no_flaw(chain):
    said, found = flaw(chain)
    assert said == ""
    assert found.quality[0] == 100


def test_a_single_strike_is_read_and_says_that_it_is_few(chain):
    one = ChainQuotes(*(part[7:8] for part in chain))
    said, found = flaw(one)
    assert said == "too few strikes are quoted"
    assert found.vol[0] == pytest.approx(0.3, abs=0.05)
    assert found.quality[0] == pytest.approx(100 / 6)


def test_without_puts_the_forward_comes_from_spot_and_dividends(chain):
    none = np.full(chain.strike.size, np.nan)
    found = fitted(chain._replace(put_bid=none, put_ask=none), YEARS[ONE], dividends=np.array([2.0]))
    assert not found.forward_from_parity[0]
    assert found.forward[0] == pytest.approx((SPOT - 2) * np.exp(RATE * YEARS[1]))
    assert np.isnan(found.straddle[0])


def test_zero_bids_everywhere_leave_nothing(chain):
    zero = np.zeros(chain.strike.size)
    said, found = flaw(chain._replace(call_bid=zero, put_bid=zero))
    assert said == "nothing is quoted"
    assert np.isnan([found.vol[0], found.quality[0], found.straddle[0], found.put_25d[0]]).all()


def test_wide_crossed_and_stale_quotes_are_told_apart(chain):
    wide = chain._replace(call_ask=chain.call_bid * 1.6 + 0.2, put_ask=chain.put_bid * 1.6 + 0.2)
    assert flaw(wide)[0] == "most quotes are too wide to use"
    crossed = chain._replace(call_ask=chain.call_bid - 0.05, put_ask=chain.put_bid - 0.05)
    assert flaw(crossed)[0] == "quotes are crossed"
    stale = chain._replace(put_bid=chain.put_bid * 1.3, put_ask=chain.put_ask * 1.3)
    assert flaw(stale)[0] == "calls and puts disagree: quotes look stale"


@pytest.mark.parametrize("years", [0.0, -3 / 365])
def test_an_expiry_whose_time_is_over_is_not_read(chain, years):
    said, found = flaw(chain, np.array([years]))
    assert said == "the last session of this expiration is over"
    assert np.isnan([found.vol[0], found.forward[0], found.straddle[0]]).all()


def test_the_last_quarter_hour_of_an_expiry_is_still_read():
    years = np.array([15 / 525_600])
    quotes = market(slices(0.3**2 * years, -0.3, 0.8), years=years, half=1e-4)
    assert fitted(quotes, years).vol[0] == pytest.approx(0.3, abs=0.01)


def test_prices_below_intrinsic_value_take_no_part(chain):
    below = np.maximum(SPOT - chain.strike, chain.strike - SPOT) - 1.0
    deep = chain.strike < 95
    low = chain._replace(
        call_bid=np.where(deep, below, chain.call_bid), call_ask=np.where(deep, below + 0.05, chain.call_ask)
    )
    assert fitted(low, YEARS[ONE]).vol[0] == pytest.approx(fitted(chain, YEARS[ONE]).vol[0], abs=1e-3)
