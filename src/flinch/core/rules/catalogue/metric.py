"""One entry of the catalogue, and the shorthand in which the entries are written."""

from __future__ import annotations

from typing import Any, Literal, NamedTuple

from flinch.core.rules.nodes import Kind

Scale = Literal["linear", "log"]
PERCENT = 100.0


class Metric(NamedTuple):
    """What a number means. Values are in the unit shown: percent points, not decimals.

    A `read` metric comes from the market's data, `field` names where and `factor` turns what is stored into the unit; of any
    other the `formula` is the expression, in the rule language, that computes it. `missing` says why a read one may lack a
    value, by kind of name ("" for all others).
    """

    key: str
    label: str
    short: str
    unit: str
    group: str
    definition: str
    formula: str
    source: str = ""
    kind: Kind = "number"
    scale: Scale = "linear"
    decimals: int = 2
    read: bool = False
    field: str = ""
    factor: float = 1.0
    missing: tuple[tuple[str, str], ...] = ()


# Decimals and scale that a unit usually has.
_BY_UNIT: dict[str, tuple[int, Scale]] = {
    "$": (2, "log"),
    "$ a %": (0, "linear"),
    "%": (1, "linear"),
    "points": (1, "linear"),
    "×": (2, "log"),
    "shares": (0, "log"),
    "contracts": (0, "log"),
    "0–100": (0, "linear"),
    "days": (0, "linear"),
    "sessions": (0, "linear"),
    "σ": (2, "linear"),
    "years": (1, "log"),
    "": (0, "linear"),
}


def computed(
    group: str,
    key: str,
    label: str,
    short: str,
    unit: str,
    formula: str,
    definition: str,
    *,
    decimals: int | None = None,
    scale: Scale | None = None,
    kind: Kind = "number",
    source: str = "",
) -> Metric:
    """A metric that is computed from others by its formula."""
    usual = _BY_UNIT[unit]
    return Metric(
        key, label, short, unit, group, definition, formula, source, kind,
        scale or usual[1], usual[0] if decimals is None else decimals,
    )  # fmt: skip


def percent(share: Any) -> Any:
    """A decimal, or an array of them, in the catalogue's unit for shares and volatilities: the only place that converts."""
    return PERCENT * share


def read(
    group: str,
    key: str,
    label: str,
    short: str,
    unit: str,
    field: str,
    source: str,
    definition: str,
    missing: str | dict[str, str],
    *,
    factor: float = 1.0,
    decimals: int | None = None,
    scale: Scale | None = None,
    kind: Kind = "number",
) -> Metric:
    """A metric that is read from the market's data."""
    usual = _BY_UNIT[unit]
    reasons = tuple(missing.items()) if isinstance(missing, dict) else (("", missing),)
    return Metric(
        key, label, short, unit, group, definition, f"as read from {source}", source, kind,
        scale or usual[1], usual[0] if decimals is None else decimals, True, field, factor, reasons,
    )  # fmt: skip
