"""Prices that the user marked on names."""

from __future__ import annotations

from functools import partial

from flinch.core.rules.catalogue.metric import Metric, computed, read

GROUP = "own lines"
_lines = partial(computed, GROUP)


def _side(side: str, words: str) -> tuple[Metric, ...]:
    price = f"line_{side}_price"
    return (
        read(GROUP, price, f"Nearest own line {side}", f"Line {side} $", "$", price, "own lines",
             f"Price of the nearest line {words} the close, of those that you put on the name by then.", f"no line of yours lies {side} the price"),
        _lines(f"line_{side}", f"To the own line {side}", f"Line {side}", "%", f"100 * ({price} / close - 1)",
               f"How far the nearest line {words} the close lies from it.", decimals=2),
        _lines(f"line_{side}_moves", f"To the own line {side} in expected moves", f"Line {side} σ", "σ",
               f"({price} - close) / next_day_move", "The same in moves priced for the next session."),
    )  # fmt: skip


ENTRIES = (*_side("above", "at or above"), *_side("below", "below"))
