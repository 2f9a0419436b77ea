"""A stack of rules on every session held."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from sqlalchemy import Engine

from flinch.core.arrays import BoolArray, FloatArray
from flinch.core.interrupt import checkpoint
from flinch.core.rules import Expression, Node, RuleError, Truth, evaluate, run_screen
from flinch.errors import FlinchError
from flinch.market import Dictionary, View
from flinch.market.tickets import TicketTable, ticket_sessions
from flinch.screening.body import StackBody
from flinch.screening.groups import members, universe
from flinch.screening.run import run_stack, rungs_of
from flinch.store.owned.owners import Whose


class Fired(NamedTuple):
    """Where a stack held, and who could have been there: names x sessions. `looked` are the sessions that were looked at. For
    tickets `lean` is the premium that leans up less what leans down, of those that were left."""

    met: BoolArray
    eligible: BoolArray
    looked: slice
    lean: FloatArray | None = None


class NothingToStudy(FlinchError):
    """The stack has no rule that can be followed through the sessions; the message says what to do."""

    kind, where = "nothing_to_study", "rules"


def through_history(view: View, engine: Engine, whose: Whose, dictionary: Dictionary, stack: StackBody) -> Fired:
    """Run a stack on every session held, each with what was known then.

    Raises RuleError with the rule's number in its message, NoSuchGroup, or NothingToStudy. A tray, basket or fund stands for its
    members of today.
    """
    nodes: dict[int, Node] = {}
    for place, rule in enumerate(stack.rules):
        if rule.on and rule.bars != "day":
            raise NothingToStudy(
                f"Rule {place + 1} is on {rule.bars}-minute bars, which are held for ten sessions only. Switch it off to see the "
                "evidence for the others."
            )
    for place, expression in _asked(dictionary, stack).items():
        if not expression.shape.is_open:
            nodes[place] = expression.node
    if not nodes:
        raise NothingToStudy(_NOTHING)
    truths: list[Truth | None] = [None] * len(stack.rules)
    answers = evaluate(list(nodes.values()), view.panel, 0, view.end)
    for place, answer in zip(nodes, answers, strict=True):
        truths[place] = answer if isinstance(answer, Truth) else None
    eligible = members(view, engine, whose, stack.universe)[:, None] & view.optionable_through
    met = run_screen(truths, rungs_of(stack), eligible).survivors
    return Fired(met, eligible, slice(0, met.shape[1]))


def through_tape(
    view: View,
    engine: Engine,
    whose: Whose,
    dictionary: Dictionary,
    stack: StackBody,
    tell: Callable[[float], None] = lambda share: None,
) -> Fired:
    """Run a stack of rules on tickets on every session whose tickets are held, each as it was known when it ended.

    A name meets it in a session in which a ticket of it is left; it could have when it had any. Raises as `through_history`.
    """
    expressions = _asked(dictionary, stack)
    if all(expression.shape.is_open for expression in expressions.values()):
        raise NothingToStudy(_NOTHING)
    shape = (len(view.frame.names), view.end)
    met, eligible, lean = np.zeros(shape, np.bool_), np.zeros(shape, np.bool_), np.zeros(shape)
    sessions = ticket_sessions(view)
    for done, session in enumerate(sessions):
        checkpoint()
        then = view.at(session)
        table = TicketTable(then, alone=True)
        start = table.among(universe(then, engine, whose, stack.universe), 1)
        left = np.flatnonzero(run_stack(table, dictionary, stack, start).result.survivors)
        eligible[table.name[start], session] = True
        met[table.name[left], session] = True
        leaning = table.values("premium")[left] * table.values("lean")[left]
        lean[:, session] = np.bincount(table.name[left], leaning, shape[0])
        tell((done + 1) / len(sessions))
    return Fired(met, eligible, slice(sessions[0], view.end) if sessions else slice(0, 0), lean)


_NOTHING = "There is no rule with an edge to look for. Add one, or give one an edge."


def _asked(dictionary: Dictionary, stack: StackBody) -> dict[int, Expression]:
    """Rules that are switched on, by their place; raises RuleError with the rule's number in its message."""
    out: dict[int, Expression] = {}
    for place, rule in enumerate(stack.rules):
        if rule.on:
            try:
                out[place] = dictionary.read(rule.text, rule.bars)
            except RuleError as error:
                message = f"Rule {place + 1} cannot be read: {error.message}"
                raise RuleError(message, error.start, error.end, error.nearest) from None
    return out
