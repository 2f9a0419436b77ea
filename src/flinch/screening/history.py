"""A stack of rules on every session at once."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from sqlalchemy import Engine

from flinch.core.arrays import BoolArray
from flinch.core.rules import RuleError, Truth, evaluate, run_screen
from flinch.market import Dictionary, Market
from flinch.screening.body import StackBody
from flinch.screening.groups import members
from flinch.screening.run import rungs_of


class Fired(NamedTuple):
    """Where a stack held, and who could have been there: names x sessions."""

    held: BoolArray
    eligible: BoolArray


class NothingToStudy(Exception):
    """The stack has no rule that can be followed through the sessions; the message says what to do."""


def through_history(market: Market, engine: Engine, owner: int, dictionary: Dictionary, stack: StackBody) -> Fired:
    """Run a stack on every session held, each with what was known then.

    Raises RuleError with the rule's number in its message, NoSuchGroup, or NothingToStudy. A tray, basket or fund stands for its
    members of today.
    """
    truths: list[Truth | None] = []
    for place, rule in enumerate(stack.rules, start=1):
        if not rule.on:
            truths.append(None)
            continue
        if rule.bars != "day":
            raise NothingToStudy(
                f"Rule {place} is on {rule.bars}-minute bars, which are held for ten sessions only. Switch it off to see the "
                "evidence for the others."
            )
        try:
            expression = dictionary.read(rule.text, rule.bars)
        except RuleError as error:
            message = f"Rule {place} cannot be read: {error.message}"
            raise RuleError(message, error.start, error.end, error.nearest) from None
        if expression.shape.is_open:
            truths.append(None)
            continue
        found = evaluate([expression.node], market.panel, 0, market.panel.sessions)[0]
        truths.append(found if isinstance(found, Truth) else None)
    if not any(truth is not None for truth in truths):
        raise NothingToStudy("There is no rule with an edge to look for. Add one, or give one an edge.")
    who = members(market, engine, owner, stack.universe)
    ever = np.isfinite(market.frame.daily["expirations"]).any(axis=1)
    listed = market.frame.listed_from[:, None] <= np.arange(market.panel.sessions)
    eligible = (who & ever)[:, None] & listed
    return Fired(run_screen(truths, rungs_of(stack), eligible).survivors, eligible)
