"""Where off-exchange prints piled up, where price stands against that, and whether it held."""

from __future__ import annotations

from functools import partial

from flinch.core.rules.catalogue.metric import Metric, Scale, computed, read

GROUP = "off-exchange prints"
_PRINTS = "off-exchange prints"
_UNKNOWN = "no prints of this session are kept, or it does not trade"
_NO_LEVEL = "no level that large in twenty sessions"
_WINDOW = "over the last twenty sessions"
_NOBODY = "Nobody says whether a print was bought or sold."

_prints = partial(computed, GROUP)


def _read(
    key: str, label: str, short: str, unit: str, definition: str, missing: str = _UNKNOWN, *, scale: Scale = "log",
    decimals: int = 0,
) -> Metric:  # fmt: skip
    return read(GROUP, key, label, short, unit, key, _PRINTS, definition, missing, decimals=decimals, scale=scale)


def _position(key: str, size: str) -> Metric:
    return _read(
        f"print_position_{key}", f"Position against levels of {size}", f"Pos {size}", "",
        f"+1 when the close is above every price at which {size} or more was printed {_WINDOW}, -1 when it is below every one, 0 "
        f"within. Prints of one price are added up, those within a second are one. {_NOBODY}", _NO_LEVEL, scale="linear",
    )  # fmt: skip


def _shelf(side: str) -> tuple[Metric, ...]:
    key, none = f"shelf_{side}", f"no shelf lies {side} the close"
    return (
        _read(key, f"Nearest shelf {side}", f"Shelf {side}", "$",
              f"Price of the nearest shelf {side} the close: a price where notional piled up {_WINDOW}, smoothed by 0.15 expected moves, "
              "with 3 % of it or more.", none, decimals=2),
        _read(f"{key}_notional", f"Notional of the shelf {side}", f"{side.capitalize()} $", "$",
              f"What was printed at the nearest shelf {side} {_WINDOW}.", none),
        _prints(f"{key}_pct", f"To the shelf {side}", f"{side.capitalize()} by", "%", f"100 * ({key} / close - 1)",
                f"How far the nearest shelf {side} lies from the close.", decimals=2),
        _prints(f"{key}_moves", f"To the shelf {side} in expected moves", f"To {side}", "σ", f"({key} - close) / next_day_move",
                "The same in moves priced for the next session."),
        _prints(f"{key}_days", f"Shelf {side} in days' value", f"{side.capitalize()} is", "×", f"{key}_notional / avg_dollar_volume_21",
                f"Notional of the nearest shelf {side} for each dollar that is traded in a day (21 sessions)."),
    )  # fmt: skip


ENTRIES = (
    _read("print_shares", "Shares printed", "Prints shs", "shares", "Shares of all off-exchange prints of the session."),
    _read("print_notional", "Notional printed", "Prints $", "$", "Price times shares of all off-exchange prints of the session."),
    _read("print_bursts", "Bursts", "Bursts", "",
          "Prints of the session, those of one price within a second counted once; what is at an average or derived price, or told late, "
          "is left out."),
    _read("largest_burst", "Largest burst", "Max burst", "$", f"Notional of the session's largest burst. {_NOBODY}"),
    _prints("print_share", "Prints over volume", "Prints %", "%", "100 * print_shares / positive(volume)",
            "Shares of the session's prints in percent of its volume."),
    _prints("print_ratio", "Notional printed over its own mean", "Prints ×", "×", "print_notional / mean(print_notional, 20)",
            "The session's printed notional over its mean of twenty sessions, its own among them."),
    _prints("largest_burst_days", "Largest burst in days' value", "Max burst ×", "×", "largest_burst / avg_dollar_volume_21",
            "The session's largest burst for each dollar that is traded in a day (21 sessions).", decimals=3),
    *[_position(key, size) for key, size in (("1m", "$1M"), ("5m", "$5M"), ("20m", "$20M"))],
    *_shelf("above"),
    *_shelf("below"),
    _read("shelf_held", "Tests of shelves that held", "Held", "",
          "Tests decided in the session in which price turned back from a shelf by a quarter of an expected move.", scale="linear"),
    _read("shelf_broke", "Tests of shelves that broke", "Broke", "",
          "Tests decided in the session in which price closed twice in a row beyond a shelf.", scale="linear"),
    _prints("shelf_held_share", "Share of tests that held, 20 sessions", "Held %", "%",
            "100 * sum(shelf_held, 20) / positive(sum(shelf_held, 20) + sum(shelf_broke, 20))",
            "Of the tests decided in twenty sessions those that held. About two thirds hold at any price: compare with the record.",
            decimals=0),
)  # fmt: skip
