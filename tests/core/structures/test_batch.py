"""A search's kernel against the functions of single structures, kind by kind, and against a reference library's options."""

import numpy as np
import pytest
import QuantLib as ql
from tests.core.structures.chain import (
    CARRY,
    DEVIATION,
    EXPIRATIONS,
    FORWARD,
    MARKET,
    PARAMETERS,
    RATE,
    SPOT,
    SURFACE,
    TERMS,
    YEARS,
    T,
    chain,
)

from flinch.core.structures import (
    OPINIONS,
    STRUCTURES,
    Block,
    Chains,
    Legs,
    Placement,
    breakevens,
    capital,
    count_and_make,
    evaluate_block,
    expiry_payoff,
    extremes,
    forecast_outcomes,
    past_outcomes,
    structure_greeks,
    value,
    variance_left,
    verdict,
    with_levels,
)
from flinch.core.volatility import smile_vol

QUOTES = chain()
PLACEMENT = Placement("delta", 0.1, 0.4, middle=0.4, most_width=15.0)
CLOSE = 100 * np.exp(np.cumsum(0.02 * np.random.default_rng(8).standard_t(5, 504)))
OUTCOMES = (
    MARKET,
    past_outcomes(CLOSE, np.array([11, 21, 41] * 2), FORWARD),
    forecast_outcomes(1.1 * DEVIATION, np.full(6, 6.0), FORWARD),
)
LEVELLED = with_levels(SURFACE, MARKET, np.arange(3))


def remaining(near, far):
    return variance_left(LEVELLED, near % 3, far % 3)


BLOCKS = {
    block.kind.key: block
    for block in count_and_make(Chains(QUOTES, EXPIRATIONS), list(STRUCTURES.values()), PLACEMENT, 100_000)[0]
}
SAME = [key for key, kind in STRUCTURES.items() if not any(leg.later for leg in kind.legs)]
LATER = [key for key in STRUCTURES if key not in SAME]


def some(key: str, most: int = 40) -> Block:
    """Some candidates of a kind, of every expiration and name."""
    block = BLOCKS[key]
    rows = np.unique(np.linspace(0, block.legs.shape[0] - 1, most).astype(int))
    return block._replace(legs=block.legs[rows])


def legs_of(block: Block, i: int) -> Legs:
    rows = block.legs[i]
    quantity = np.array([leg.quantity for leg in block.kind.legs], float)
    return Legs(quantity, QUOTES.is_call[rows], QUOTES.strike[rows], T[QUOTES.expiration[rows]])


def test_every_kind_is_there():
    assert set(BLOCKS) == set(STRUCTURES)


@pytest.mark.parametrize("key", SAME)
def test_a_structure_of_one_expiration_is_what_the_single_functions_say(key):
    block = some(key)
    told = evaluate_block(block, QUOTES, TERMS, OUTCOMES, entry=0.4)
    shares = 100.0 * block.kind.shares
    for i in range(block.legs.shape[0]):
        made, rows = legs_of(block, i), block.legs[i]
        e = int(QUOTES.expiration[rows[0]])
        mid = 100 * (made.quantity * 0.5 * (QUOTES.bid[rows] + QUOTES.ask[rows])).sum() + shares * SPOT[e]
        worst_side = np.where(made.quantity > 0, QUOTES.ask[rows], QUOTES.bid[rows])
        natural = 100 * (made.quantity * worst_side).sum() + shares * SPOT[e]
        cost = mid + 0.4 * (natural - mid)
        row = {column: float(values[i]) for column, values in told.items()}
        # Six digits are kept of a number; a position of shares has five before the point.
        near = {"rel": 2e-5, "abs": 2e-3}
        assert (row["mid"], row["natural"], row["cost"]) == pytest.approx((mid, natural, cost), **near)
        assert natural > mid
        most, least = extremes(made, shares, cost)
        assert (row["max_profit"], row["max_loss"]) == pytest.approx((most, least), **near)
        needs = capital(made.quantity, made.is_call, made.strike, shares, cost, SPOT[e], least)
        assert row["capital"] == pytest.approx(needs, **near)
        edges = breakevens(made, shares, cost)
        below, above = edges[edges <= SPOT[e]], edges[edges > SPOT[e]]
        assert row["breakevens"] == edges.size
        wanted = (below[-1] if below.size else np.nan, above[0] if above.size else np.nan)
        assert (row["breakeven_below"], row["breakeven_above"]) == pytest.approx(wanted, nan_ok=True, rel=1e-5)
        x = np.unique(made.strike)
        y = expiry_payoff(made, shares, x)
        right = shares + 100 * made.quantity[made.is_call].sum()
        left = shares - 100 * made.quantity[~made.is_call].sum()
        discount = np.exp(-RATE * T[e])
        for opinion, outcomes in zip(OPINIONS, OUTCOMES, strict=True):
            said = verdict(outcomes, e, x, y, left=left, right=right, cost=cost, worst=least)
            expected = discount * said.expected + shares * (SPOT[e] - discount * FORWARD[e])
            assert row[f"chance_of_profit_{opinion}"] == pytest.approx(said.chance_of_profit, abs=1e-6)
            assert row[f"chance_of_max_loss_{opinion}"] == pytest.approx(said.chance_of_max_loss, abs=1e-6, nan_ok=True)
            assert row[f"expected_{opinion}"] == pytest.approx(expected, **near)
            assert row[f"shortfall_{opinion}"] == pytest.approx(said.shortfall, rel=2e-5, abs=2e-2)
        local = Legs(made.quantity, made.is_call, made.strike, YEARS[QUOTES.expiration[rows] % 3])
        slopes = structure_greeks(local, shares, SPOT[e], SURFACE)
        greeks = ("delta", "gamma", "theta", "vega")
        assert [row[greek] for greek in greeks] == pytest.approx(
            [float(getattr(slopes, greek)) for greek in greeks], rel=1e-4, abs=1e-3
        )
        assert row["min_leg_open_interest"] == QUOTES.open_interest[rows].min()
        assert row["min_leg_volume"] == QUOTES.volume[rows].min()
        assert row["width"] == pytest.approx(100 * np.ptp(made.strike))
        sold = made.quantity < 0
        assert row["short_put"] == pytest.approx(
            made.strike[sold & ~made.is_call].max(initial=-1) if (sold & ~made.is_call).any() else np.nan, nan_ok=True
        )
        assert row["short_call"] == pytest.approx(
            made.strike[sold & made.is_call].min() if (sold & made.is_call).any() else np.nan, nan_ok=True
        )
        assert row["short_delta"] == pytest.approx(
            np.abs(QUOTES.delta[rows[sold]]).max() if sold.any() else np.nan, nan_ok=True, rel=1e-5
        )


@pytest.mark.parametrize("key", LATER)
def test_a_structure_with_a_later_leg_is_valued_on_the_surface_when_the_nearer_one_ends(key):
    block = some(key, 12)
    told = evaluate_block(block, QUOTES, TERMS, OUTCOMES, entry=0.0, remaining=remaining)
    for i in range(block.legs.shape[0]):
        made, rows = legs_of(block, i), block.legs[i]
        later = np.array([leg.later for leg in block.kind.legs])
        e = int(QUOTES.expiration[rows[~later][0]])
        local = made._replace(expiry=YEARS[QUOTES.expiration[rows] % 3])
        cost = float(told["cost"][i])
        # A grid of a tenth of a percent.
        grid = np.unique(np.concatenate([SPOT[e] * np.exp(np.arange(-700, 701) * 0.001), made.strike]))
        profit = value(local, 0.0, grid, float(YEARS[e % 3]), LEVELLED) - cost
        assert told["max_profit"][i] == pytest.approx(profit.max(), rel=0.01, abs=0.5)
        turns = np.flatnonzero(np.diff(np.sign(profit)) != 0)
        edges = 0.5 * (grid[turns] + grid[turns + 1])
        below, above = edges[edges <= SPOT[e]], edges[edges > SPOT[e]]
        wanted = (below[-1] if below.size else np.nan, above[0] if above.size else np.nan)
        assert (told["breakeven_below"][i], told["breakeven_above"][i]) == pytest.approx(wanted, nan_ok=True, rel=2e-3)
        for opinion, outcomes in zip(OPINIONS, OUTCOMES, strict=True):
            cells = np.diff(
                np.interp(np.log(grid), outcomes.low[e] + outcomes.step[e] * np.arange(2049), outcomes.chance[e])
            )
            middle = 0.5 * (profit[1:] + profit[:-1])
            assert told[f"chance_of_profit_{opinion}"][i] == pytest.approx(cells[middle > 0].sum(), abs=0.01)
            expected = np.exp(-RATE * T[e]) * (cells * (middle + cost)).sum()
            assert told[f"expected_{opinion}"][i] == pytest.approx(expected, rel=0.01, abs=0.5)
            # What a loss only comes near to counts from a hundredth before it on.
            nearly = cells[middle <= 0.99 * profit.min()].sum()
            assert told[f"chance_of_max_loss_{opinion}"][i] == pytest.approx(nearly, abs=0.06)
            worst = np.argsort(middle)
            mass = np.cumsum(cells[worst])
            tail = worst[: int(np.searchsorted(mass, 0.05)) + 1]
            assert told[f"shortfall_{opinion}"][i] == pytest.approx(
                (cells[tail] * middle[tail]).sum() / cells[tail].sum(), rel=0.02, abs=2
            )


def test_the_markets_own_opinion_of_a_calendar_is_what_it_costs_at_mid():
    for key in ("call_calendar", "put_calendar"):
        told = evaluate_block(BLOCKS[key], QUOTES, TERMS, OUTCOMES, remaining=remaining)
        assert told["expected_market"] == pytest.approx(told["mid"], rel=0.04)


def test_condors_agree_with_option_objects_of_a_reference_library():
    block = some("iron_condor", 60)
    told = evaluate_block(block, QUOTES, TERMS, OUTCOMES)
    today = ql.Date(9, 9, 2026)
    ql.Settings.instance().evaluationDate = today
    count = ql.Actual365Fixed()
    rate = ql.YieldTermStructureHandle(ql.FlatForward(today, RATE, count))
    carry = ql.YieldTermStructureHandle(ql.FlatForward(today, CARRY, count))
    for i in range(block.legs.shape[0]):
        made, rows = legs_of(block, i), block.legs[i]
        e = int(QUOTES.expiration[rows[0]])
        end = ql.EuropeanExercise(today + round(float(T[e]) * 365))
        total = 0.0
        for quantity, is_call, strike in zip(made.quantity, made.is_call, made.strike, strict=True):
            vol = float(smile_vol(PARAMETERS[e], T[e], np.log(strike / FORWARD[e])))
            surface = ql.BlackVolTermStructureHandle(ql.BlackConstantVol(today, ql.NullCalendar(), vol, count))
            spot = ql.QuoteHandle(ql.SimpleQuote(float(SPOT[e])))
            right = ql.Option.Call if is_call else ql.Option.Put
            option = ql.VanillaOption(ql.PlainVanillaPayoff(right, float(strike)), end)
            option.setPricingEngine(ql.AnalyticEuropeanEngine(ql.BlackScholesMertonProcess(spot, carry, rate, surface)))
            total += 100 * quantity * option.NPV()
        assert told["expected_market"][i] == pytest.approx(total, rel=1e-4, abs=1e-4 * SPOT[e])


def test_the_profit_at_a_target_is_that_of_the_payoff_there():
    for key in ("call_debit", "iron_butterfly", "covered_call", "call_diagonal"):
        block = some(key, 10)
        aimed = TERMS._replace(target=SPOT * 1.07)
        told = evaluate_block(block, QUOTES, aimed, OUTCOMES, remaining=remaining)
        for i in range(block.legs.shape[0]):
            made, rows = legs_of(block, i), block.legs[i]
            e = int(QUOTES.expiration[rows[-1]])
            local = made._replace(expiry=YEARS[QUOTES.expiration[rows] % 3])
            wanted = value(local, 100.0 * block.kind.shares, SPOT[e] * 1.07, float(local.expiry.min()), LEVELLED)
            assert told["at_target"][i] + told["cost"][i] == pytest.approx(float(wanted), rel=5e-3, abs=0.5)
    assert np.isnan(evaluate_block(some("call_debit", 5), QUOTES, TERMS, OUTCOMES)["at_target"]).all()


def test_an_opinion_that_says_nothing_leaves_its_own_columns_empty_alone():
    silent = past_outcomes(CLOSE[:30], np.array([11, 21, 41] * 2), FORWARD)
    told = evaluate_block(some("put_credit", 5), QUOTES, TERMS, (MARKET, silent, OUTCOMES[2]))
    for column, values in told.items():
        if column.endswith("_past"):
            assert np.isnan(values).all()
        elif column.endswith(("_market", "_forecast")):
            assert np.isfinite(values).all()
