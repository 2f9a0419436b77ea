"""European implied volatility for 1,000,000 contracts against vollib's scalar function and QuantLib through Python."""

from __future__ import annotations

import math
import time

import numpy as np
import QuantLib as ql
from vollib.black_scholes.implied_volatility import implied_volatility as vollib_implied

from flinch.core.pricing import implied_vol, option_price
from measure import seconds, sized, table

CONTRACTS = sized(1_000_000, 2_000)
SAMPLE = sized(4_000, 20)
SPOT, RATE = 100.0, 0.03


def main() -> None:
    rng = np.random.default_rng(1)
    days = rng.integers(5, 730, CONTRACTS)
    years = days / 365
    vol = rng.uniform(0.12, 0.9, CONTRACTS)
    # Within two and a half standard deviations of the forward, so that every price has enough time value for all three.
    strike = SPOT * np.exp(RATE * years + vol * np.sqrt(years) * rng.uniform(-2.5, 2.5, CONTRACTS))
    is_call = strike >= SPOT
    price = option_price(SPOT, strike, years, vol, is_call=is_call, rate=RATE)

    found = implied_vol(price, SPOT, strike, years, is_call=is_call, rate=RATE)
    ours = seconds(lambda: implied_vol(price, SPOT, strike, years, is_call=is_call, rate=RATE)) / CONTRACTS
    pick = rng.choice(CONTRACTS, SAMPLE, replace=False)

    vollib, by_vollib = math.inf, []
    for _ in range(3):
        began = time.perf_counter()
        by_vollib = [
            vollib_implied(price[i], SPOT, strike[i], years[i], RATE, "c" if is_call[i] else "p") for i in pick
        ]
        vollib = min(vollib, (time.perf_counter() - began) / SAMPLE)

    today = ql.Date(9, 9, 2026)
    ql.Settings.instance().evaluationDate = today
    count = ql.Actual365Fixed()
    process = ql.BlackScholesMertonProcess(
        ql.QuoteHandle(ql.SimpleQuote(SPOT)),
        ql.YieldTermStructureHandle(ql.FlatForward(today, 0.0, count)),
        ql.YieldTermStructureHandle(ql.FlatForward(today, RATE, count)),
        ql.BlackVolTermStructureHandle(ql.BlackConstantVol(today, ql.NullCalendar(), 0.3, count)),
    )

    def quantlib_implied(i: int) -> float:
        kind = ql.Option.Call if is_call[i] else ql.Option.Put
        exercise = ql.EuropeanExercise(today + int(days[i]))
        option = ql.VanillaOption(ql.PlainVanillaPayoff(kind, float(strike[i])), exercise)
        return option.impliedVolatility(float(price[i]), process, 1e-8, 200, 1e-4, 5.0)

    quantlib, by_quantlib = math.inf, []
    for _ in range(3):
        began = time.perf_counter()
        by_quantlib = [quantlib_implied(i) for i in pick]
        quantlib = min(quantlib, (time.perf_counter() - began) / SAMPLE)

    for name, reference in (("vollib", by_vollib), ("QuantLib", by_quantlib)):
        difference = np.abs(np.array(reference) - found[pick]).max()
        assert difference < 1e-6, f"{name} differs by {difference}"
    assert np.abs(found - vol).max() < 1e-8

    table(
        f"European implied volatility, per contract ({CONTRACTS:,} contracts, references on {SAMPLE:,}, agreeing to 1e-6)",
        [
            ("Flinch, arrays", f"{ours * 1e9:,.0f} ns", "1", ""),
            ("vollib, scalar function in a loop", f"{vollib * 1e9:,.0f} ns", f"{vollib / ours:,.0f} ×", "≥ 150 ×"),
            ("QuantLib through Python", f"{quantlib * 1e9:,.0f} ns", f"{quantlib / ours:,.0f} ×", "≥ 100 ×"),
        ],
    )


if __name__ == "__main__":
    main()
