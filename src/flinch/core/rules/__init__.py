"""The metric catalogue, rules on it, and what each rule does to a universe."""

from flinch.core.rules.catalogue import METRICS, RULE_METRICS, Metric
from flinch.core.rules.columns import Column, MetricInputs, compute_columns
from flinch.core.rules.distribution import Distribution, distribution, spread
from flinch.core.rules.screen import FunnelStep, RangeRule, ScreenResult, run_screen

__all__ = [
    "METRICS",
    "RULE_METRICS",
    "Column",
    "Distribution",
    "FunnelStep",
    "Metric",
    "MetricInputs",
    "RangeRule",
    "ScreenResult",
    "compute_columns",
    "distribution",
    "run_screen",
    "spread",
]
