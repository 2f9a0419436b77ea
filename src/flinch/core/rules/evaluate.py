"""Running checked expressions over the market, every session at once or the newest by itself."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, cast

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.interrupt import checkpoint, in_threads, spend
from flinch.core.rules.functions import FUNCTIONS, SECONDS_A_UNIT, Truth
from flinch.core.rules.nodes import WHOLE_HISTORY, Node

TextArray = NDArray[np.str_]


@dataclass(frozen=True)
class Categories:
    """Texts of many rows of which there are few: places in `labels`, -1 where missing, shape (rows,)."""

    codes: NDArray[np.signedinteger[Any]]
    labels: tuple[str, ...]

    def __getitem__(self, rows: slice | IntArray | BoolArray) -> Categories:
        return Categories(self.codes[rows], self.labels)

    def counts(self) -> dict[str, int]:
        """How many rows have each label, those that none has left out."""
        counted = np.bincount(self.codes[self.codes >= 0], minlength=len(self.labels)).tolist()
        return {label: count for label, count in zip(self.labels, counted, strict=True) if count}


Value = FloatArray | Truth | TextArray | Categories

# Rows handled together, so that what the rules of a block read stays in the processor's cache; and what a block may hold of
# parts that are computed once for several rules, so that many long rules do not take more memory than few short ones.
_BLOCK_VALUES = 131_072
_BLOCK_PARTS = 4_000_000


@dataclass(frozen=True)
class Panel:
    """The market as arrays.

    `series` have shape (names, sessions), (names, 1) for what never changes or (1, sessions) for what all names share, NaN where
    missing.
    `factors` turn the values of some of them into the catalogue's units when they are read, so that they need not be
    there twice. `texts` have shape (names,), empty where missing, or are
    `Categories`.
    """

    names: int
    sessions: int
    series: Mapping[str, FloatArray]
    texts: Mapping[str, Any]
    factors: Mapping[str, float] = field(default_factory=dict)

    def only(self, rows: IntArray) -> Panel:
        """Some names of the market; of each series only those rows are taken, when it is read."""
        texts = {key: values[rows] for key, values in self.texts.items()}
        return Panel(rows.size, self.sessions, _Rows(self.series, rows), texts, self.factors)


class _Rows(Mapping[str, FloatArray]):
    def __init__(self, series: Mapping[str, FloatArray], rows: IntArray) -> None:
        self._series = series
        self._rows = rows

    def __getitem__(self, key: str) -> FloatArray:
        values = self._series[key]
        return values[self._rows] if values.shape[0] > 1 else values

    def __iter__(self) -> Iterator[str]:
        return iter(self._series)

    def __len__(self) -> int:
        return len(self._series)


def evaluate(nodes: Sequence[Node], panel: Panel, start: int, end: int) -> list[Value]:
    """Values of expressions for all names in the sessions from `start` up to but without `end`.

    Parameters
    ----------
    nodes
        Checked expressions; what they have in common is computed once.
    panel
        The market. Sessions after `end` are never read.
    start, end
        0 <= start < end <= panel.sessions.

    Returns
    -------
    Per expression an array of shape (names, end - start), a `Truth` of two such arrays, or texts of shape (names,). A value
    does not depend on `start`.
    """
    spend(estimated_seconds(nodes, panel.names, start, end))
    width = end - min((max(0, start - node.reach) for node in nodes), default=start)
    parts_held = max(1, len({key for node in nodes for key in _parts(node)}))
    block = max(1, min(_BLOCK_VALUES, _BLOCK_PARTS // parts_held) // max(1, width))
    blocks = [slice(first, min(first + block, panel.names)) for first in range(0, panel.names, block)]

    def run(rows: slice) -> list[Value]:
        part = _Run(panel, rows)
        with np.errstate(all="ignore"):
            return [part.whole(node, start, end) for node in nodes]

    if len(blocks) == 1:
        return run(blocks[0])
    parts = in_threads(run, blocks, len(blocks))
    return [_joined([part[place] for part in parts]) for place in range(len(nodes))]


def estimated_seconds(nodes: Sequence[Node], names: int, start: int, end: int) -> float:
    """About how long expressions take on two cores, what they have in common counted once."""
    counted: set[str] = set()
    total = 0.0

    def add(node: Node, sessions: int) -> None:
        nonlocal total
        if node.key in counted:
            return
        counted.add(node.key)
        own = node.work - sum(child.work for child in node.children)
        total += own * sessions
        for child in node.children:
            add(child, sessions)

    for node in nodes:
        add(node, end - max(0, start - node.reach))
    return total * names * SECONDS_A_UNIT


def _parts(node: Node) -> Iterator[str]:
    """Keys of everything that is computed for an expression."""
    yield node.key
    for child in node.children:
        yield from _parts(child)


def _joined(parts: list[Value]) -> Value:
    if isinstance(parts[0], Truth):
        truths = cast(list[Truth], parts)
        return Truth(np.concatenate([t.yes for t in truths]), np.concatenate([t.no for t in truths]))
    if isinstance(parts[0], Categories):
        return Categories(np.concatenate([part.codes for part in cast(list[Categories], parts)]), parts[0].labels)
    return np.concatenate(cast(list[FloatArray], parts))


class _Run:
    """A block of names, with what was computed for it so far."""

    def __init__(self, panel: Panel, rows: slice) -> None:
        self.panel = panel
        self.rows = rows
        self.height = rows.stop - rows.start
        self.done: dict[tuple[str, int, int], Any] = {}

    def whole(self, node: Node, start: int, end: int) -> Value:
        value = self.value(node, start, end)
        if node.kind == "text":
            return cast(TextArray, value)
        shape = (self.height, end - start)
        if isinstance(value, Truth):
            return Truth(np.broadcast_to(value.yes, shape), np.broadcast_to(value.no, shape))
        return cast(FloatArray, np.broadcast_to(value, shape))

    def value(self, node: Node, start: int, end: int) -> Any:
        """A value that broadcasts to (rows, sessions)."""
        place = (node.key, start, end)
        if place not in self.done:
            self.done[place] = self._compute(node, start, end)
        return self.done[place]

    def _compute(self, node: Node, start: int, end: int) -> Any:
        checkpoint()
        op = node.op
        if op == "constant":
            return float(node.settings[0])
        if op == "series":
            values = self._series(cast(str, node.settings[0]), start, end)
            return Truth(values > 0, values == 0) if node.kind == "condition" else values
        if op == "text":
            return self.panel.texts[str(node.settings[0])][self.rows]
        if op in FUNCTIONS:
            return self._call(node, start, end)
        parts = [self.value(child, start, end) for child in node.children]
        if op in ("and", "or"):
            both = zip(*parts, strict=True)
            yes, no = both if op == "and" else reversed(list(both))
            met, failed = _every(list(yes)), _some(list(no))
            return Truth(met, failed) if op == "and" else Truth(failed, met)
        if op == "not":
            return Truth(parts[0].no, parts[0].yes)
        if op == "is_one_of" and isinstance(parts[0], Categories):
            wanted = np.append(np.isin(parts[0].labels, [str(value) for value in node.settings]), False)
            yes = wanted[parts[0].codes][:, None]
            return Truth(yes, ~yes & (parts[0].codes >= 0)[:, None])
        if op == "is_one_of":
            yes = np.isin(parts[0], [str(value) for value in node.settings])[:, None]
            return Truth(yes, ~yes & (parts[0] != "")[:, None])
        if op in _COMPARE:
            return _COMPARE[op](*parts)
        return _CALCULATE[op](*parts, *[float(value) for value in node.settings])

    def _series(self, key: str, start: int, end: int) -> FloatArray:
        values = self.panel.series[key]
        values = values[self.rows] if values.shape[0] > 1 else values
        values = values[:, start:end] if values.shape[1] > 1 else values
        if values.strides[-1] != values.itemsize:
            # Kept session after session: rules read a name's sessions side by side.
            values = np.ascontiguousarray(values)
        factor = self.panel.factors.get(key, 1.0)
        return values if factor == 1.0 else factor * values

    def _call(self, node: Node, start: int, end: int) -> Any:
        function = FUNCTIONS[node.op]
        reach = function.reach(*node.settings)
        first = 0 if reach >= WHOLE_HISTORY else max(0, start - reach)
        shape = (self.height, end - first)
        arguments: list[Any] = []
        for child in node.children:
            value = self.value(child, first, end)
            if isinstance(value, Truth):
                arguments.append(Truth(np.broadcast_to(value.yes, shape), np.broadcast_to(value.no, shape)))
            else:
                arguments.append(np.broadcast_to(value, shape))
        skip = [start - first] if function.skips else []
        result = function.run(*arguments, *node.settings, *skip)
        wanted = slice(start - first, None)
        if isinstance(result, Truth):
            return Truth(result.yes[:, wanted], result.no[:, wanted])
        return result[:, wanted]


def _every(parts: list[Any]) -> Any:
    out = parts[0]
    for part in parts[1:]:
        out = out & part
    return out


def _some(parts: list[Any]) -> Any:
    out = parts[0]
    for part in parts[1:]:
        out = out | part
    return out


def _finite(values: Any) -> Any:
    """Infinities become missing: a division by zero has no value."""
    bad = ~np.isfinite(values)
    return np.where(bad, np.nan, values) if np.any(bad) else values


def _equal(a: Any, b: Any) -> Truth:
    return Truth(np.equal(a, b), np.less(a, b) | np.greater(a, b))


def _different(a: Any, b: Any) -> Truth:
    yes, no = _equal(a, b)
    return Truth(no, yes)


# A comparison with a missing value is false both ways, which makes it unknown.
_COMPARE: dict[str, Callable[[Any, Any], Truth]] = {
    "<": lambda a, b: Truth(np.less(a, b), np.greater_equal(a, b)),
    "<=": lambda a, b: Truth(np.less_equal(a, b), np.greater(a, b)),
    ">": lambda a, b: Truth(np.greater(a, b), np.less_equal(a, b)),
    ">=": lambda a, b: Truth(np.greater_equal(a, b), np.less(a, b)),
    "==": _equal,
    "!=": _different,
}
_CALCULATE: dict[str, Callable[..., Any]] = {
    "+": lambda a, b: _finite(np.add(a, b)),
    "-": lambda a, b: _finite(np.subtract(a, b)),
    "*": lambda a, b: _finite(np.multiply(a, b)),
    "/": lambda a, b: _finite(np.divide(a, b)),
    "power": lambda a, k: _finite(np.power(a, k)),
    "negative": np.negative,
}
