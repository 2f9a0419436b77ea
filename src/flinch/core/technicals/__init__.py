"""Averages, oscillators, bands, channels, candles and swings, on bars of any length."""

from flinch.core.technicals.averages import ema, rsi, wilder, wma
from flinch.core.technicals.candles import flat_bottom_run, flat_top_run, heikin_ashi, unfilled_gap
from flinch.core.technicals.ranges import adx, atr, bollinger, cci, keltner, mfi, squeeze_on, stochastic, true_range
from flinch.core.technicals.swings import fib_extension, swing

__all__ = [
    "adx",
    "atr",
    "bollinger",
    "cci",
    "ema",
    "fib_extension",
    "flat_bottom_run",
    "flat_top_run",
    "heikin_ashi",
    "keltner",
    "mfi",
    "rsi",
    "squeeze_on",
    "stochastic",
    "swing",
    "true_range",
    "unfilled_gap",
    "wilder",
    "wma",
]
