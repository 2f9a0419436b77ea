"""Surfaces and greeks of 1,500,000 contracts against QuantLib's implied volatilities alone; American prices."""

from __future__ import annotations

import contextlib
import math
import time

import numpy as np
import QuantLib as ql

from flinch.core.pricing import greeks, option_price
from flinch.core.volatility import smile_vol
from flinch.core.volatility.chain import ChainQuotes, ExpirySummary, summarise_expiries
from measure import seconds, sized, table

NAMES, STRIKES = sized(1_450, 12), 40
DAYS = np.array([2, 9, 16, 23, 30, 37, 44, 72, 100, 128, 191, 281, 499])
RATE, SAMPLE, PRICED = 0.03, sized(4_000, 20), sized(2_000, 20)


def market(rng: np.random.Generator) -> tuple[ChainQuotes, dict[str, np.ndarray]]:
    """Noisy quotes of SSVI surfaces, American: by strike row, and name, spot and years by expiry."""
    expiries = NAMES * DAYS.size
    name = np.repeat(np.arange(NAMES), DAYS.size)
    years = np.tile(DAYS / 365, NAMES)
    spot = rng.uniform(10, 400, NAMES)[name]
    atm = rng.uniform(0.15, 0.9, NAMES)[name] * (1 + 0.2 * np.exp(-4 * years))
    theta, rho = atm**2 * years, rng.uniform(-0.6, -0.1, NAMES)[name]
    phi = rng.uniform(0.4, 0.9, NAMES)[name] / np.sqrt(theta)
    parameters = np.stack(
        [0.5 * theta * (1 - rho**2), 0.5 * theta * phi, rho, -rho / phi, np.sqrt(1 - rho**2) / phi], axis=-1
    )
    carry = rng.choice([0.0, 0.01, 0.03], NAMES)[name]
    group = np.repeat(np.arange(expiries), STRIKES)
    t = years[group]
    reach = np.tile(np.linspace(-2.5, 2.5, STRIKES), expiries)
    forward = (spot * np.exp((RATE - carry) * years))[group]
    strike = forward * np.exp(reach * np.sqrt(theta)[group])
    vol = smile_vol(parameters[group], t, np.log(strike / forward)) + 0.002 * rng.normal(size=group.size)
    sides = []
    for is_call in (True, False):
        kind = {"is_call": is_call, "rate": RATE, "dividend_yield": carry[group]}
        price = option_price(spot[group], strike, t, vol, **kind)
        # What early exercise adds, at the volatility of the money.
        at = (spot[group], strike, t, atm[group])
        price += option_price(*at, **kind, exercise="american") - option_price(*at, **kind)
        half = 0.01 + 0.01 * price
        sides += [np.maximum(price - half, 0.0), price + half]
    return ChainQuotes(group, strike, *sides), {"name": name, "spot": spot, "years": years, "atm": atm}


def main() -> None:
    rng = np.random.default_rng(3)
    quotes, by = market(rng)
    contracts = 2 * quotes.strike.size
    american = np.ones(by["name"].size, dtype=bool)

    def surfaces() -> ExpirySummary:
        return summarise_expiries(
            quotes, name=by["name"], spot=by["spot"], years=by["years"], rate=RATE, american=american
        )

    def all_greeks(found: ExpirySummary) -> None:
        g = quotes.group
        vol = smile_vol(found.fit.parameters[g], by["years"][g], np.log(quotes.strike / found.forward[g]))
        for is_call in (True, False):
            greeks(
                by["spot"][g],
                quotes.strike,
                by["years"][g],
                vol,
                is_call=is_call,
                rate=RATE,
                dividend_yield=found.carry[g],
            )

    found = surfaces()
    error = 100 * np.abs(found.vol - by["atm"])
    fitted = seconds(surfaces, 3) / contracts
    whole = fitted + seconds(lambda: all_greeks(found), 3) / contracts

    today = ql.Date(9, 9, 2026)
    ql.Settings.instance().evaluationDate = today
    count = ql.Actual365Fixed()

    def process(spot: float, vol: float, carry: float, rate: float = RATE) -> ql.BlackScholesMertonProcess:
        return ql.BlackScholesMertonProcess(
            ql.QuoteHandle(ql.SimpleQuote(spot)),
            ql.YieldTermStructureHandle(ql.FlatForward(today, carry, count)),
            ql.YieldTermStructureHandle(ql.FlatForward(today, rate, count)),
            ql.BlackVolTermStructureHandle(ql.BlackConstantVol(today, ql.NullCalendar(), vol, count)),
        )

    # European, though the quotes are American: the faster of the two for QuantLib.
    rows = rng.choice(quotes.strike.size, SAMPLE, replace=False)
    ours = {name: process(float(by["spot"][quotes.group[name]]), 0.3, 0.0) for name in rows}
    reference = math.inf
    for _ in range(3):
        began = time.perf_counter()
        for row in rows:
            g = quotes.group[row]
            is_call = quotes.strike[row] >= found.forward[g]
            price = 0.5 * (
                quotes.call_bid[row] + quotes.call_ask[row] if is_call else quotes.put_bid[row] + quotes.put_ask[row]
            )
            option = ql.VanillaOption(
                ql.PlainVanillaPayoff(ql.Option.Call if is_call else ql.Option.Put, float(quotes.strike[row])),
                ql.EuropeanExercise(today + round(365 * by["years"][g])),
            )
            with contextlib.suppress(RuntimeError):  # no volatility gives this price
                option.impliedVolatility(float(price), ours[row], 1e-8, 200, 1e-4, 5.0)
        reference = min(reference, (time.perf_counter() - began) / SAMPLE)
    table(
        f"Surfaces and greeks of {contracts:,} contracts, a contract (fitted at the money within {np.median(error):.2f} points "
        f"at the median, {np.percentile(error, 95):.2f} at the 95th percentile)",
        [
            ("QuantLib through Python, implied volatility alone", f"{reference * 1e6:.2f} µs", "1", ""),
            ("forwards, early exercise, fit, quality", f"{fitted * 1e6:.2f} µs", f"{reference / fitted:,.0f} ×", ""),
            ("and the greeks from the fit", f"{whole * 1e6:.2f} µs", f"{reference / whole:,.0f} ×", "≥ 20 ×"),
        ],
    )
    _american(rng, today, process)


def _american(rng: np.random.Generator, today: ql.Date, process) -> None:
    strike = 100 * np.exp(rng.uniform(-1.5, 1.5, PRICED))
    days = rng.integers(1, 1_096, PRICED)
    vol = np.exp(rng.uniform(np.log(0.03), np.log(4.0), PRICED))
    is_call = rng.random(PRICED) < 0.5
    rate, carry = rng.choice([0.01, 0.03, 0.05, 0.1], PRICED), rng.choice([0.0, 0.02, 0.06, 0.1], PRICED)

    def priced() -> np.ndarray:
        return option_price(
            100.0, strike, days / 365, vol, is_call=is_call, rate=rate, dividend_yield=carry, exercise="american"
        )

    def by_quantlib(scheme) -> tuple[np.ndarray, float]:
        options = []
        for i in range(PRICED):
            option = ql.VanillaOption(
                ql.PlainVanillaPayoff(ql.Option.Call if is_call[i] else ql.Option.Put, float(strike[i])),
                ql.AmericanExercise(today, today + int(days[i])),
            )
            made = process(100.0, float(vol[i]), float(carry[i]), float(rate[i]))
            option.setPricingEngine(ql.QdFpAmericanEngine(made, scheme))
            options.append(option)
        began = time.perf_counter()
        values = np.array([option.NPV() for option in options])
        return values, (time.perf_counter() - began) / PRICED

    exact, slow = by_quantlib(ql.QdFpAmericanEngine.highPrecisionScheme())
    fast, quick = by_quantlib(ql.QdFpAmericanEngine.fastScheme())
    flinch = seconds(priced, 3) / PRICED
    worst = np.abs(priced() - exact).max()
    table(
        f"American options, {PRICED:,} with nothing in common, spot 100: time and worst error against the high-precision engine",
        [
            ("QuantLib, fast engine", f"{quick * 1e6:.0f} µs", f"1 ({np.abs(fast - exact).max():.4f})", ""),
            ("QuantLib, high precision", f"{slow * 1e6:.0f} µs", f"{quick / slow:.2f} ×", ""),
            (
                "Flinch",
                f"{flinch * 1e6:.0f} µs",
                f"{quick / flinch:.1f} × ({worst:.4f})",
                "≥ 1 × (0.002)",
            ),
        ],
    )


if __name__ == "__main__":
    main()
