"""The rule language, the metric catalogue, and what rules do to a universe."""

from flinch.core.rules.ages import Aged, aged
from flinch.core.rules.catalogue import (
    GROUPS,
    METRICS,
    STRUCTURE_GROUPS,
    STRUCTURE_METRICS,
    TICKET_GROUPS,
    TICKETS,
    Metric,
    daily_vocabulary,
    intraday_vocabulary,
    percent,
    structure_vocabulary,
    ticket_vocabulary,
)
from flinch.core.rules.distribution import BINS, Binned, binned, spread
from flinch.core.rules.errors import RuleError
from flinch.core.rules.evaluate import Categories, Panel, evaluate
from flinch.core.rules.explain import explain
from flinch.core.rules.functions import FUNCTIONS, Function, Truth
from flinch.core.rules.language import Expression, Vocabulary, nearest
from flinch.core.rules.nodes import Node, name_parts, series_keys
from flinch.core.rules.screen import MAX_RULES, Edge, RuleCount, Rung, ScreenResult, aim, aim_among, between, run_screen
from flinch.core.rules.shape import Shape

__all__ = [
    "BINS",
    "FUNCTIONS",
    "GROUPS",
    "MAX_RULES",
    "METRICS",
    "STRUCTURE_GROUPS",
    "STRUCTURE_METRICS",
    "TICKETS",
    "TICKET_GROUPS",
    "Aged",
    "Binned",
    "Categories",
    "Edge",
    "Expression",
    "Function",
    "Metric",
    "Node",
    "Panel",
    "RuleCount",
    "RuleError",
    "Rung",
    "ScreenResult",
    "Shape",
    "Truth",
    "Vocabulary",
    "aged",
    "aim",
    "aim_among",
    "between",
    "binned",
    "daily_vocabulary",
    "evaluate",
    "explain",
    "intraday_vocabulary",
    "name_parts",
    "nearest",
    "percent",
    "run_screen",
    "series_keys",
    "spread",
    "structure_vocabulary",
    "ticket_vocabulary",
]
