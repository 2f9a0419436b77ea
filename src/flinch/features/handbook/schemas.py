from __future__ import annotations

from typing import Literal

from pydantic import BaseModel


class MetricEntry(BaseModel):
    """What a number means."""

    key: str
    label: str
    short: str
    unit: str
    definition: str
    formula: str
    source: str
    scale: Literal["linear", "log"]
    decimals: int
    is_rule: bool


class MetricList(BaseModel):
    metrics: list[MetricEntry]
