"""A stack of rules on every session at once."""

from __future__ import annotations

from typing import NamedTuple

from sqlalchemy import Engine

from flinch.core.arrays import BoolArray
from flinch.core.rules import Node, RuleError, Truth, evaluate, run_screen
from flinch.errors import FlinchError
from flinch.market import Dictionary, View
from flinch.screening.body import StackBody
from flinch.screening.groups import members
from flinch.screening.run import rungs_of


class Fired(NamedTuple):
    """Where a stack held, and who could have been there: names x sessions."""

    met: BoolArray
    eligible: BoolArray


class NothingToStudy(FlinchError):
    """The stack has no rule that can be followed through the sessions; the message says what to do."""

    kind, where = "nothing_to_study", "rules"


def through_history(view: View, engine: Engine, owner: int, dictionary: Dictionary, stack: StackBody) -> Fired:
    """Run a stack on every session held, each with what was known then.

    Raises RuleError with the rule's number in its message, NoSuchGroup, or NothingToStudy. A tray, basket or fund stands for its
    members of today.
    """
    nodes: dict[int, Node] = {}
    for place, rule in enumerate(stack.rules):
        if not rule.on:
            continue
        if rule.bars != "day":
            raise NothingToStudy(
                f"Rule {place + 1} is on {rule.bars}-minute bars, which are held for ten sessions only. Switch it off to see the "
                "evidence for the others."
            )
        try:
            expression = dictionary.read(rule.text)
        except RuleError as error:
            message = f"Rule {place + 1} cannot be read: {error.message}"
            raise RuleError(message, error.start, error.end, error.nearest) from None
        if not expression.shape.is_open:
            nodes[place] = expression.node
    if not nodes:
        raise NothingToStudy("There is no rule with an edge to look for. Add one, or give one an edge.")
    truths: list[Truth | None] = [None] * len(stack.rules)
    answers = evaluate(list(nodes.values()), view.panel, 0, view.end)
    for place, answer in zip(nodes, answers, strict=True):
        truths[place] = answer if isinstance(answer, Truth) else None
    eligible = members(view, engine, owner, stack.universe)[:, None] & view.optionable_through
    return Fired(run_screen(truths, rungs_of(stack), eligible).survivors, eligible)
