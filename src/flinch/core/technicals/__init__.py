"""Averages, oscillators, bands, channels, candles and swings, on bars of any length."""

from flinch.core.technicals.averages import ema, rsi, wilder, wma
from flinch.core.technicals.candles import Gaps, flat_bottom_run, flat_top_run, heikin_ashi, open_gaps, unfilled_gap
from flinch.core.technicals.lines import nearest_lines
from flinch.core.technicals.ranges import adx, atr, bollinger, cci, keltner, mfi, squeeze_on, stochastic, true_range
from flinch.core.technicals.swings import fib_extension, swing, turning_points

__all__ = [
    "Gaps",
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
    "nearest_lines",
    "open_gaps",
    "rsi",
    "squeeze_on",
    "stochastic",
    "swing",
    "true_range",
    "turning_points",
    "unfilled_gap",
    "wilder",
    "wma",
]
