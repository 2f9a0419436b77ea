"""Running a stack of rules as of a session."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass
from typing import Protocol

from flinch.core.arrays import BoolArray
from flinch.core.rules import Expression, Node, RuleError, Rung, ScreenResult, Shape, Truth, run_screen
from flinch.market import BarLength, Column, Dictionary
from flinch.screening.body import RuleBody, StackBody


class Readable(Protocol):
    """A table of things, of which an expression can be read."""

    def column(self, node: Node, bars: BarLength = "day") -> Column:
        """An expression for every thing."""
        ...

    def between(self, subject: Node, shape: Shape, bars: BarLength = "day") -> Truth:
        """For which things the value of an expression lies between the edges of a range."""
        ...


@dataclass(frozen=True)
class RanRule:
    """A rule as it was read and answered; without an expression when `error` says why it could not be."""

    body: RuleBody
    expression: Expression | None
    error: RuleError | None
    truth: Truth | None
    table: Readable

    @property
    def subject(self) -> Column | None:
        """What the rule's range or choice is on; read when it is looked at, for what many things have is long."""
        shape = self.expression.shape if self.expression else None
        return None if shape is None or shape.node is None else self.table.column(shape.node, self.body.bars)

    @property
    def takes_part(self) -> bool:
        """It is switched on, was read, and has edges."""
        return self.truth is not None


@dataclass(frozen=True)
class Ran:
    """What became of a stack at one session."""

    universe: BoolArray
    rules: list[RanRule]
    rungs: list[Rung]
    result: ScreenResult


def rungs_of(stack: StackBody) -> list[Rung]:
    """The steps: a rule by itself, or the rules of a group where its first one stands."""
    rungs: list[Rung] = []
    placed: dict[int, int] = {}
    for index, rule in enumerate(stack.rules):
        if rule.group is None:
            rungs.append(Rung((index,)))
        elif rule.group in placed:
            place = placed[rule.group]
            rungs[place] = rungs[place]._replace(members=(*rungs[place].members, index))
        else:
            placed[rule.group] = len(rungs)
            rungs.append(Rung((index,), "any" if rule.group in stack.any_groups else "all"))
    return rungs


def stack_work(dictionary: Dictionary, stack: StackBody) -> int:
    """Units of work of a stack's rules, as far as they can be read: what costs least goes first."""
    total = 0
    for rule in stack.rules:
        with suppress(RuleError):
            total += dictionary.read(rule.text, rule.bars).node.work
    return total


def run_stack(table: Readable, dictionary: Dictionary, stack: StackBody, universe: BoolArray) -> Ran:
    """Read and answer every rule; one that cannot be read cuts nothing and carries its error."""
    rules = [_run_rule(table, dictionary, body) for body in stack.rules]
    rungs = rungs_of(stack)
    result = run_screen([rule.truth for rule in rules], rungs, universe)
    return Ran(universe, rules, rungs, result)


def _run_rule(table: Readable, dictionary: Dictionary, body: RuleBody) -> RanRule:
    try:
        expression = dictionary.read(body.text, body.bars)
    except RuleError as error:
        return RanRule(body, None, error, None, table)
    shape, truth = expression.shape, None
    if body.on and not shape.is_open:
        if shape.kind == "range" and shape.node is not None:
            # The number is kept, so that moving an edge compares and computes nothing.
            truth = table.between(shape.node, shape, body.bars)
        else:
            truth = table.column(expression.node, body.bars).truth
    return RanRule(body, expression, None, truth, table)
