"""What a rule looks like to a hand that wants to move it: a range with edges, a choice of categories, or a condition."""

from __future__ import annotations

import ast
from collections.abc import Callable
from typing import Literal, NamedTuple

from flinch.core.rules.nodes import Kind, Node

_TURNED = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}
_SIGNS = {ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">="}


class Shape(NamedTuple):
    """A rule's shape.

    `range`: `subject` is the text of a number, `lower` and `upper` its edges, None where open; an edge is left out of the
    range itself when it is `lower_open` or `upper_open`. `choice`: `subject` is a category, `values` those kept, None when
    all are. `condition`: anything else; `parts` are the texts of the conditions that a top-level "and" joins.
    """

    kind: Literal["range", "choice", "condition"]
    subject: str = ""
    node: Node | None = None
    lower: float | None = None
    upper: float | None = None
    lower_open: bool = False
    upper_open: bool = False
    values: tuple[str, ...] | None = None
    parts: tuple[str, ...] = ()

    @property
    def is_open(self) -> bool:
        """It has no edge and no choice yet, and cuts nothing."""
        return self.kind != "condition" and self.lower is None and self.upper is None and self.values is None


def find_shape(tree: ast.expr, node: Node, segment: Callable[[ast.expr], str]) -> Shape:
    """The shape of a rule whose text was parsed to `tree` and checked to `node`."""
    if node.kind != "condition":
        kind: Kind = node.kind
        return Shape("range" if kind == "number" else "choice", segment(tree), node)
    if isinstance(tree, ast.Compare):
        return _of_comparison(tree, node, segment) or Shape("condition")
    if isinstance(tree, ast.BoolOp) and isinstance(tree.op, ast.And):
        return Shape("condition", parts=tuple(segment(part) for part in tree.values))
    return Shape("condition")


def _of_comparison(tree: ast.Compare, node: Node, segment: Callable[[ast.expr], str]) -> Shape | None:
    sides = [tree.left, *tree.comparators]
    if len(sides) == 2 and node.op == "is_one_of":
        subject = sides[1] if isinstance(sides[0], ast.Constant) else sides[0]
        return Shape("choice", segment(subject), node.children[0], values=tuple(str(v) for v in node.settings))
    signs = [_SIGNS.get(type(op)) for op in tree.ops]
    if any(sign is None for sign in signs):
        return None
    # One number in the middle with plain numbers around it.
    pairs = [node] if len(sides) == 2 else list(node.children)
    found: list[tuple[Node, str, float]] = []
    for pair, sign in zip(pairs, signs, strict=True):
        left, right = pair.children
        if left.op == "constant" and right.op != "constant":
            found.append((right, _TURNED[str(sign)], float(left.settings[0])))
        elif right.op == "constant" and left.op != "constant":
            found.append((left, str(sign), float(right.settings[0])))
        else:
            return None
    if len(found) > 2 or len({subject.key for subject, _, _ in found}) > 1:
        return None
    edges: dict[str, tuple[float, bool]] = {}
    for _, sign, value in found:
        edge = "upper" if sign[0] == "<" else "lower"
        if edge in edges:
            return None
        edges[edge] = (value, len(sign) == 1)
    place = 1 if len(sides) == 3 else (1 if pairs[0].children[0].op == "constant" else 0)
    lower, upper = edges.get("lower"), edges.get("upper")
    return Shape(
        "range",
        segment(sides[place]),
        found[0][0],
        lower[0] if lower else None,
        upper[0] if upper else None,
        lower[1] if lower else False,
        upper[1] if upper else False,
    )
