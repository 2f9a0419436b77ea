"""The rule language once more, as plain Python for one name and one session at a time: slow, and easy to believe.

A number that is not known is None, and so is a condition.
"""

from __future__ import annotations

import ast
import math
import statistics
from typing import Any

Number = float | None


class Plain:
    """Evaluates a text for one name of a market given as lists: series[key][name][session]."""

    def __init__(self, series: dict[str, list[list[Number]]], texts: dict[str, list[str]]) -> None:
        self.series = series
        self.texts = texts

    def evaluate(self, text: str, name: int, session: int) -> Any:
        return self._at(ast.parse(text, mode="eval").body, name, session)

    def _at(self, node: ast.expr, i: int, t: int) -> Any:
        if t < 0:
            return None
        match node:
            case ast.Constant():
                return float(node.value)
            case ast.Name(id=key):
                return self.series[key][i][t]
            case ast.UnaryOp(op=ast.Not()):
                value = self._at(node.operand, i, t)
                return None if value is None else not value
            case ast.UnaryOp(op=ast.USub()):
                value = self._at(node.operand, i, t)
                return None if value is None else -value
            case ast.BoolOp():
                values = [self._at(part, i, t) for part in node.values]
                decisive = isinstance(node.op, ast.Or)
                return decisive if decisive in values else None if None in values else not decisive
            case ast.BinOp():
                return self._arithmetic(node, i, t)
            case ast.Compare():
                return self._compare(node, i, t)
            case ast.Call():
                return getattr(self, f"_{node.func.id}")(node.args, i, t)
        raise AssertionError(ast.dump(node))

    def _arithmetic(self, node: ast.BinOp, i: int, t: int) -> Number:
        a, b = self._at(node.left, i, t), self._at(node.right, i, t)
        if a is None or b is None:
            return None
        match node.op:
            case ast.Add():
                return a + b
            case ast.Sub():
                return a - b
            case ast.Mult():
                return a * b
            case ast.Div():
                return None if b == 0 else a / b
        raise AssertionError

    def _compare(self, node: ast.Compare, i: int, t: int) -> bool | None:
        if isinstance(node.ops[0], ast.In):
            return self.texts[node.left.id][i] in [value.value for value in node.comparators[0].elts]
        sides = [self._at(side, i, t) for side in (node.left, *node.comparators)]
        answers = []
        for a, op, b in zip(sides[:-1], node.ops, sides[1:], strict=True):
            if a is None or b is None:
                answers.append(None)
            else:
                name = type(op).__name__
                answers.append(
                    {"Lt": a < b, "LtE": a <= b, "Gt": a > b, "GtE": a >= b, "Eq": a == b, "NotEq": a != b}[name]
                )
        return False if False in answers else None if None in answers else True

    def _window(self, args: list[ast.expr], i: int, t: int) -> list[Any]:
        n = args[1].value
        return [self._at(args[0], i, s) for s in range(t - n + 1, t + 1)]

    def _whole(self, args: list[ast.expr], i: int, t: int) -> list[float] | None:
        values = self._window(args, i, t)
        return None if None in values else values

    def _lag(self, args, i, t):
        return self._at(args[0], i, t - args[1].value)

    def _change(self, args, i, t):
        now, then = self._at(args[0], i, t), self._lag(args, i, t)
        return None if now is None or then is None else now - then

    def _mean(self, args, i, t):
        values = self._whole(args, i, t)
        return None if values is None else math.fsum(values) / len(values)

    _sma = _mean

    def _sum(self, args, i, t):
        values = self._whole(args, i, t)
        return None if values is None else math.fsum(values)

    def _min(self, args, i, t):
        values = self._whole(args, i, t)
        return None if values is None else min(values)

    def _max(self, args, i, t):
        values = self._whole(args, i, t)
        return None if values is None else max(values)

    def _median(self, args, i, t):
        values = self._whole(args, i, t)
        return None if values is None else statistics.median(values)

    def _rank_pct(self, args, i, t):
        seen = [value for value in self._window(args, i, t) if value is not None]
        last = self._at(args[0], i, t)
        if last is None or len(seen) < min(60, args[1].value) or len(seen) < 2:
            return None
        return 100 * sum(value < last for value in seen[:-1]) / (len(seen) - 1)

    def _pct_among(self, args, i, t):
        value, n = self._at(args[0], i, t), args[2].value
        others = [self._at(args[1], i, s) for s in range(t - n + 1, t + 1)]
        seen = [other for other in others if other is not None]
        if value is None or len(seen) < min(60, n):
            return None
        return 100 * sum(other < value for other in seen) / len(seen)

    def _share_of_sessions(self, args, i, t):
        seen = [answer for answer in self._window(args, i, t) if answer is not None]
        return sum(seen) / len(seen) if len(seen) >= math.ceil(0.9 * args[1].value) else None

    def _any_in(self, args, i, t):
        answers = self._window(args, i, t)
        return True if True in answers else None if None in answers else False

    def _all_in(self, args, i, t):
        answers = self._window(args, i, t)
        return False if False in answers else None if None in answers else True

    def _sessions_since(self, args, i, t):
        for s in range(t, -1, -1):
            answer = self._at(args[0], i, s)
            if answer is None:
                return None
            if answer:
                return float(t - s)
        return None

    def _sessions_since_as_high(self, args, i, t):
        now = self._at(args[0], i, t)
        if now is None:
            return None
        earlier = [value for s in range(t - 1, -1, -1) if (value := self._at(args[0], i, s)) is not None]
        return float(next((count for count, value in enumerate(earlier, 1) if value >= now), len(earlier)))

    def _crossed_above(self, args, i, t):
        away = [[self._at(arg, i, s) for arg in args] for s in (t, t - 1)]
        now, before = [None if None in pair else pair[0] - pair[1] for pair in away]
        answers = [None if now is None else now > 0, None if before is None else before <= 0]
        return False if False in answers else None if None in answers else True

    def _abs(self, args, i, t):
        value = self._at(args[0], i, t)
        return None if value is None else abs(value)

    def _positive(self, args, i, t):
        value = self._at(args[0], i, t)
        return value if value is not None and value > 0 else None

    def _larger(self, args, i, t):
        values = [self._at(arg, i, t) for arg in args]
        return None if None in values else max(values)

    def _if_else(self, args, i, t):
        answer = self._at(args[0], i, t)
        return None if answer is None else self._at(args[1 if answer else 2], i, t)

    def _is_known(self, args, i, t):
        return self._at(args[0], i, t) is not None
