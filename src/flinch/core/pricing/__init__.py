"""Prices, implied volatility and greeks of European and American options, and forwards."""

from flinch.core.pricing.exercise import Exercise, exercised_early
from flinch.core.pricing.forwards import ParityForwards, forwards_from_parity, usable_quote
from flinch.core.pricing.greeks import Greeks, greeks
from flinch.core.pricing.implied import implied_vol
from flinch.core.pricing.price import early_exercise_value, option_price

__all__ = [
    "Exercise",
    "Greeks",
    "ParityForwards",
    "early_exercise_value",
    "exercised_early",
    "forwards_from_parity",
    "greeks",
    "implied_vol",
    "option_price",
    "usable_quote",
]
