"""The rules of a stack as a table beside its results in a file."""

from __future__ import annotations

from flinch.feeds.export import Cell
from flinch.screening.run import Ran

RULE_HEADINGS = ("rule", "bars", "switched on", "group", "survivors", "lost, no data", "lone cut", "problem")


def rule_rows(ran: Ran) -> list[list[Cell]]:
    """A row for each rule, under `RULE_HEADINGS`."""
    return [
        [
            rule.body.text,
            "daily" if rule.body.bars == "day" else f"{rule.body.bars} minutes",
            rule.body.on,
            rule.body.group,
            count.survivors if rule.takes_part else None,
            count.missing if rule.takes_part else None,
            count.lone_cut if rule.takes_part else None,
            rule.error.message if rule.error else None,
        ]
        for rule, count in zip(ran.rules, ran.result.counts, strict=True)
    ]
