"""A checked expression: a tree whose every part knows its kind and how much history it needs."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

Kind = Literal["number", "condition", "text"]

WHOLE_HISTORY = 10_000
"""Sessions needed by what remembers everything: an exponential average, sessions since something happened."""


@dataclass(frozen=True, eq=False, slots=True)
class Node:
    """One operation on its children.

    `op` is "constant", "series", "text", an operator or the name of a function; `settings` what is fixed when the text is
    read: a constant, a key, window lengths. `reach` is how many sessions before the one asked for are needed, `work` the
    values looked at a session, `size` the parts of the tree written out in full. Equal parts have equal keys.
    """

    op: str
    kind: Kind
    children: tuple[Node, ...] = ()
    settings: tuple[float | str, ...] = ()
    reach: int = 0
    work: int = 1
    size: int = 1
    key: str = field(default="")


def make_node(
    op: str,
    kind: Kind,
    children: tuple[Node, ...] = (),
    settings: tuple[float | str, ...] = (),
    *,
    reach: int = 0,
    work: int = 1,
) -> Node:
    """A node whose own `reach` and `work` are added to its children's."""
    parts = [child.key for child in children] + [repr(value) for value in settings]
    return Node(
        op,
        kind,
        children,
        settings,
        reach=min(WHOLE_HISTORY, reach + max((child.reach for child in children), default=0)),
        work=work + sum(child.work for child in children),
        size=1 + sum(child.size for child in children),
        key=f"{op}({','.join(parts)})",
    )


def series_keys(node: Node) -> set[str]:
    """Keys of all series that an expression reads."""
    if node.op in ("series", "text"):
        return {str(node.settings[0])}
    return set().union(*[series_keys(child) for child in node.children]) if node.children else set()


def name_parts(node: Node, own: frozenset[str]) -> tuple[Node, dict[str, Node]]:
    """An expression over a table of things, and what it asks of the names that they belong to.

    Returns the expression with each part that reads no series of `own` (and any at all) replaced by a series of that part's key,
    and those parts by key: they are computed once a name, and taken to the things.
    """
    parts: dict[str, Node] = {}

    def visit(part: Node) -> Node:
        keys = series_keys(part)
        if not keys or (not part.children and keys & own):
            return part
        if not keys & own:
            parts[part.key] = part
            return make_node("text" if part.kind == "text" else "series", part.kind, settings=(part.key,))
        own_work = part.work - sum(child.work for child in part.children)
        return make_node(
            part.op, part.kind, tuple(visit(child) for child in part.children), part.settings, work=own_work
        )

    return visit(node), parts
