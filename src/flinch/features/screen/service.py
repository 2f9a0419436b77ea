"""Running a screen of range rules over the market's newest session."""

from __future__ import annotations

import math
import re

import numpy as np

from flinch.core.rules import METRICS, RULE_METRICS, RangeRule, distribution, run_screen, spread
from flinch.features.screen.schemas import Histogram, RuleReport, ScreenReply
from flinch.market import Market
from flinch.web import Problem, UserError

_NUMBER = re.compile(r"[+-]?(\d{1,15}(\.\d{0,12})?|\.\d{1,12})([eE][+-]?\d{1,2})?")
_LONGEST = 80


def parse_rule(text: str) -> RangeRule:
    """Read `metric:lower..upper`; a UserError says which character is wrong and what to do."""

    def refuse(character: int, message: str) -> UserError:
        place = f"rule {text[:_LONGEST]!r}, character {character + 1}"
        return UserError(Problem(type="bad_rule", message=message, where=place))

    if len(text) > _LONGEST:
        raise refuse(_LONGEST, f"A rule has {_LONGEST} characters at most.")
    metric, colon, edges = text.partition(":")
    if metric not in RULE_METRICS:
        raise refuse(0, f"There is no rule on {metric!r}. Rules are on {', '.join(RULE_METRICS)}.")
    label, start = METRICS[metric].label, len(metric) + 1
    low_text, dots, high_text = edges.partition("..")
    if not colon or not dots:
        raise refuse(len(metric), f"{label}: write the range as lower..upper; an edge may be left out.")

    def edge(part: str, character: int, open_edge: float) -> float:
        if not part:
            return open_edge
        if not _NUMBER.fullmatch(part) or not math.isfinite(float(part)):
            raise refuse(
                character, f"{label}: {part!r} is not a number. Write it with digits, like 12.5, or leave it out."
            )
        return float(part)

    lower = edge(low_text, start, -math.inf)
    upper = edge(high_text, start + len(low_text) + 2, math.inf)
    if lower > upper:
        raise refuse(start, f"{label}: the lower edge {low_text} is above the upper edge {high_text}. Swap them.")
    return RangeRule(metric, lower, upper)


def run(market: Market, universe: str, texts: list[str]) -> ScreenReply:
    """The survivors of the rules in order, each rule's part, and the distribution each one cut into."""
    rules = [parse_rule(text) for text in texts]
    start = market.universe(universe)
    values = {key: column.values for key, column in market.columns.items()}
    result = run_screen(values, rules, start)
    reports = []
    alive = start
    for rule, step in zip(rules, result.steps, strict=True):
        column = values[rule.metric]
        scale = METRICS[rule.metric].scale
        shape = distribution(column[alive], spread(column, scale), scale)
        reports.append(
            RuleReport(
                metric=rule.metric,
                lower=rule.lower if math.isfinite(rule.lower) else None,
                upper=rule.upper if math.isfinite(rule.upper) else None,
                **step._asdict(),
                unknown=int(np.isnan(column[alive]).sum()),
                histogram=Histogram(edges=shape.edges.tolist(), counts=shape.counts.tolist()),
            )
        )
        if not rule.is_open:
            alive = alive & (column >= rule.lower) & (column <= rule.upper)
    rows = np.flatnonzero(result.survivors)
    names = market.frame.names
    kept = set(rows.tolist())
    return ScreenReply(
        version=market.frame.state.data_version,
        universe=int(start.sum()),
        symbols=[names[row].symbol for row in rows],
        companies=[names[row].company for row in rows],
        columns={key: column[rows].tolist() for key, column in values.items()},
        reasons={
            key: {names[row].symbol: text for row, text in column.reasons.items() if row in kept}
            for key, column in market.columns.items()
        },
        rules=reports,
    )
