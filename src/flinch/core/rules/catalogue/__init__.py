"""The metric catalogue: every number a rule, a column or a chart may show, with what it means and how it is computed."""

from __future__ import annotations

from functools import cache

from flinch.core.rules.catalogue import company, flow, lines, moves, options, positioning, prices, prints, technical
from flinch.core.rules.catalogue.metric import Metric, Scale, percent
from flinch.core.rules.catalogue.structures import STRUCTURE_GROUPS, STRUCTURE_METRICS
from flinch.core.rules.catalogue.tickets import TICKET_GROUPS, TICKETS
from flinch.core.rules.functions import FUNCTIONS
from flinch.core.rules.language import Vocabulary
from flinch.core.rules.nodes import Kind, series_keys

GROUPS = (
    "price and volume",
    "extended hours",
    "implied volatility",
    "historical volatility",
    "implied against historical",
    "expected move",
    "option activity and liquidity",
    "option flow",
    "off-exchange prints",
    "gamma exposure",
    "open interest",
    "valuation and fundamentals",
    "dividends",
    "earnings",
    "short interest",
    "news",
    "averages and trend",
    "oscillators",
    "channels and compression",
    "candles",
    "relative strength",
    "facts",
    "own lines",
)

_ENTRIES = (
    *prices.ENTRIES,
    *options.ENTRIES,
    *moves.ENTRIES,
    *flow.ENTRIES,
    *prints.ENTRIES,
    *positioning.ENTRIES,
    *company.ENTRIES,
    *technical.ENTRIES,
    *lines.ENTRIES,
)
METRICS: dict[str, Metric] = {
    metric.key: metric for metric in sorted(_ENTRIES, key=lambda metric: GROUPS.index(metric.group))
}

SIGNED = frozenset({"put_exposure", "net_exposure_before", "flip"})
"""Read metrics that hold only under the assumption of who sold and who bought."""

PRINTS = prints.GROUP
"""The group of what follows from prints, which is made when it is first read."""
BAR_KEYS = ("open", "high", "low", "close", "volume")
"""What a bar of any length has."""


@cache
def daily_vocabulary() -> Vocabulary:
    """The names that a rule on daily bars may use."""
    return Vocabulary(_kinds(), _formulas())


@cache
def intraday_vocabulary() -> Vocabulary:
    """The names that a rule on minute bars may use: bars, what is computed from them alone, and what a name is."""
    kinds = {key: kind for key, kind in _kinds().items() if key in BAR_KEYS or kind == "text"}
    daily = daily_vocabulary()
    usable = {}
    for key, text in _formulas().items():
        node = daily.metric(key)
        annual = METRICS[key].group == "historical volatility"
        if node is not None and series_keys(node) <= set(kinds) and not annual:
            usable[key] = text
    elsewhere = {
        key: f"{key} is a daily value, and this rule is on shorter bars. Put it in a rule on daily bars."
        for key in METRICS
        if key not in kinds and key not in usable and key not in FUNCTIONS
    }
    elsewhere["hv"] = (
        "hv is annualised from sessions and means nothing on shorter bars. Put it in a rule on daily bars."
    )
    return Vocabulary(kinds, usable, elsewhere)


@cache
def ticket_vocabulary() -> Vocabulary:
    """The names that a rule on tickets may use: the ticket's own, and all that a rule on daily bars may use of its name."""
    return _thing_vocabulary(TICKETS)


@cache
def structure_vocabulary() -> Vocabulary:
    """The names that a rule on structures may use: the structure's and its legs', and all of its name."""
    return _thing_vocabulary(STRUCTURE_METRICS)


def _thing_vocabulary(metrics: dict[str, Metric]) -> Vocabulary:
    kinds: dict[str, Kind] = {key: metric.kind for key, metric in metrics.items() if metric.read}
    formulas = {key: metric.formula for key, metric in metrics.items() if not metric.read}
    return Vocabulary(_kinds() | kinds, _formulas() | formulas, momentary=frozenset(kinds))


def _kinds() -> dict[str, Kind]:
    return {metric.key: metric.kind for metric in METRICS.values() if metric.read}


def _formulas() -> dict[str, str]:
    return {m.key: m.formula for m in METRICS.values() if not m.read and m.key not in FUNCTIONS}


__all__ = [
    "BAR_KEYS",
    "GROUPS",
    "METRICS",
    "SIGNED",
    "STRUCTURE_GROUPS",
    "STRUCTURE_METRICS",
    "TICKETS",
    "TICKET_GROUPS",
    "Metric",
    "Scale",
    "daily_vocabulary",
    "intraday_vocabulary",
    "percent",
    "structure_vocabulary",
    "ticket_vocabulary",
]
