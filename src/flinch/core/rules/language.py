"""Reading a rule: Python's expression grammar, a white list of it, never evaluated as code.

The text is parsed with `ast`, checked part by part and turned into `Node`s, which `evaluate` runs over arrays. Everything is
bounded: the text's length, its depth, the windows, and the work that a value takes.
"""

from __future__ import annotations

import ast
import re
import warnings
from collections.abc import Iterable, Mapping
from typing import NamedTuple

from rapidfuzz import fuzz, process

from flinch.core.parsing import parsed
from flinch.core.rules.errors import RuleError
from flinch.core.rules.functions import FUNCTIONS, OPERATION, Function, Parameter, cost_of
from flinch.core.rules.nodes import Kind, Node, make_node, series_keys
from flinch.core.rules.shape import Shape, find_shape

MAX_TEXT = 1_000
MAX_DEPTH = 40
MAX_PARTS = 400
MAX_SIZE = 3_000
MAX_WINDOW = 504
MAX_WORK = 10_000
_LARGEST = 1e15
_KEPT_PARTS = 60_000
"""Parts and characters of texts that are kept read; with its key a part may take a kilobyte."""

# Python warns of odd literals on the server's output; whoever typed them is told by us.
warnings.filterwarnings("ignore", category=SyntaxWarning, module="<unknown>")
warnings.filterwarnings("ignore", category=DeprecationWarning, module="<unknown>")

_ARITHMETIC = {ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/"}
_COMPARISON = {ast.Lt: "<", ast.LtE: "<=", ast.Gt: ">", ast.GtE: ">=", ast.Eq: "==", ast.NotEq: "!="}
_SAID = {"number": "a number", "condition": "a condition", "text": "a text"}
_HINTS = (
    (r"&&|&", "Write “and” for both."),
    (r"\|\|?", "Write “or” for either."),
    (r"!(?!=)", "Write “not” before the condition."),
    (r"<>|=<|=>", "Compare with <, <=, >, >=, == or !=."),
    (r"(?<![<>=!])=(?!=)", "Compare with == ; a single = does not compare."),
    (r"%", "Leave the percent sign out: percentages are written as points, 45 for 45 %."),
    (r"[×·]", "Multiply with *."),
    (r"[≥≤≠]", "Write >= for ≥, <= for ≤ and != for ≠."),
    (r"\d,\d{3}", "Write numbers without commas: 1000000."),
)


class Expression(NamedTuple):
    """A text that was read: its tree, and what shape of rule it is."""

    text: str
    node: Node
    shape: Shape


class Vocabulary:
    """The names that a text may use.

    `kinds` gives the kind of every series that is read from the market, `formulas` the text of every metric that is computed
    from others, `elsewhere` why a known name cannot be used here, `momentary` the series that have one value and no history,
    `series` the user's own series that stand in the place of some.
    """

    def __init__(
        self,
        kinds: Mapping[str, Kind],
        formulas: Mapping[str, str],
        elsewhere: Mapping[str, str] | None = None,
        momentary: frozenset[str] = frozenset(),
        series: Mapping[str, str] | None = None,
    ) -> None:
        self.momentary = momentary
        self._series = dict(series or {})
        self._kinds = dict(kinds)
        self._formulas = dict(formulas)
        self._elsewhere = dict(elsewhere or {})
        self._compiled: dict[str, Expression] = {}
        self._compiled_parts = 0
        self._metrics: dict[str, Node] = {}

    def names(self) -> list[str]:
        """All names of series, metrics and functions, in no order that matters."""
        return list(dict.fromkeys([*self._kinds, *self._formulas, *FUNCTIONS]))

    def extended(self, formulas: Mapping[str, str], series: Mapping[str, str] | None = None) -> Vocabulary:
        """This vocabulary and the user's own metrics and series."""
        mine = {name: text for name, text in formulas.items() if name not in self._kinds}
        found = Vocabulary(self._kinds, self._formulas | mine, self._elsewhere, self.momentary, series)
        # What uses nothing of the user's is the same tree in both.
        found._metrics = {
            name: node
            for name, node in self._metrics.items()
            if name not in formulas and not (series and series_keys(node) & set(series))
        }
        return found

    def read(self, text: str) -> Expression:
        """Read a text; raises RuleError, which names the character and proposes known names, and nothing else."""
        found = self._compiled.get(text)
        if found is None:
            found = _Reader(self, text, ()).expression()
            self._compiled_parts += found.node.size + len(text)
            if self._compiled_parts > _KEPT_PARTS:
                self._compiled.clear()
                self._compiled_parts = found.node.size + len(text)
            self._compiled[text] = found
        return found

    def metric(self, name: str, asking: tuple[str, ...] = ()) -> Node | None:
        """The tree of a series or metric; None when there is no such name."""
        found = self._metrics.get(name)
        if found is None and name in self._formulas:
            if name in asking:
                raise RuleError(f"{name} is defined by itself, by way of {', '.join(asking)}.")
            found = _Reader(self, self._formulas[name], (*asking, name)).expression().node
        elif found is None and name in self._kinds:
            kind = self._kinds[name]
            found = make_node("text" if kind == "text" else "series", kind, settings=(self._series.get(name, name),))
        if found is not None:
            self._metrics[name] = found
        return found

    def elsewhere(self, name: str) -> str | None:
        """Why a name that exists cannot be used here."""
        return self._elsewhere.get(name)

    def nearest(self, name: str) -> list[str]:
        """Known names most like `name`."""
        return nearest(name, self.names())


def nearest(name: str, known: Iterable[str], count: int = 3) -> list[str]:
    """The known names most like `name`, best first; none when nothing is alike."""
    alike = process.extract(name[:40].lower(), list(known), scorer=fuzz.ratio, limit=count, score_cutoff=55)
    return [found for found, _, _ in alike]


class _Reader:
    """Reads one text."""

    def __init__(self, vocabulary: Vocabulary, text: str, asking: tuple[str, ...]) -> None:
        self.vocabulary = vocabulary
        self.asking = asking
        self.source = text
        # Line breaks inside a rule are spaces, so that a place is one number.
        self.text = re.sub(r"\s", " ", text)
        self.skipped = len(self.text) - len(self.text.lstrip())
        self.body = self.text[self.skipped :]
        self.bytes = self.body.encode("utf-8", "replace")
        self.ascii = self.body.isascii()
        self.parts = 0

    def expression(self) -> Expression:
        tree = self._tree()
        node = self._visit(tree, 0)
        return Expression(self.source, node, find_shape(tree, node, self._segment))

    # -- places --------------------------------------------------------------------------------------------------------

    def _character(self, column: int) -> int:
        return self.skipped + (column if self.ascii else len(self.bytes[:column].decode("utf-8", "replace")))

    def _place(self, node: ast.expr) -> tuple[int, int]:
        return self._character(node.col_offset), self._character(node.end_col_offset or node.col_offset)

    def _segment(self, node: ast.expr) -> str:
        start, end = self._place(node)
        return self.text[start:end]

    def _error(self, node: ast.expr, message: str, near: list[str] | None = None) -> RuleError:
        return RuleError(message, *self._place(node), near)

    # -- the grammar ---------------------------------------------------------------------------------------------------

    def _tree(self) -> ast.expr:
        if not self.body:
            raise RuleError("Write a rule, like iv_rank >= 50, or pick a metric.")
        if len(self.source) > MAX_TEXT:
            raise RuleError(f"A rule has {MAX_TEXT:,} characters at most. Split it into several rules.", MAX_TEXT, None)
        depth = 0
        for place, character in enumerate(self.body):
            depth += (character in "([{") - (character in ")]}")
            if depth > MAX_DEPTH:
                raise RuleError(f"Brackets are nested more than {MAX_DEPTH} deep.", self.skipped + place)
        try:
            return parsed(lambda: ast.parse(self.body, mode="eval")).body
        except SyntaxError as error:
            raise self._unreadable(error) from None
        except (ValueError, MemoryError, RecursionError, OverflowError):
            raise RuleError("This is too long or too deep to be read. Split it into several rules.") from None

    def _unreadable(self, error: SyntaxError) -> RuleError:
        quiet = re.sub(r"\"[^\"]*\"|'[^']*'", lambda match: " " * len(match.group()), self.body)
        for pattern, hint in _HINTS:
            if match := re.search(pattern, quiet):
                return RuleError(hint, self.skipped + match.start(), self.skipped + match.end())
        place = min(max((error.offset or 1) - 1, 0), len(self.body))
        open_brackets = quiet.count("(") - quiet.count(")")
        if open_brackets > 0:
            end = len(self.text.rstrip())
            return RuleError("A bracket is not closed.", max(0, end - 1), end)
        if open_brackets < 0:
            return RuleError("There is one closing bracket too many.", self.skipped + quiet.rfind(")"))
        rest = self.body[place : place + 12].strip()
        if not rest or re.search(r"([-+*/<>=,]|\b(and|or|not|in))\s*$", quiet):
            end = len(self.text.rstrip())
            return RuleError("The rule ends too early: something is missing after this.", max(0, end - 1), end)
        return RuleError(
            f"This cannot be read from “{rest}” on.", self.skipped + place, self.skipped + place + len(rest)
        )

    def _make(self, at: ast.expr, op: str, kind: Kind, children: Iterable[Node] = (), settings: Iterable[float | str] = (),
              *, reach: int = 0, work: int = OPERATION) -> Node:  # fmt: skip
        node = make_node(op, kind, tuple(children), tuple(settings), reach=reach, work=work)
        if node.size > MAX_SIZE:
            raise self._error(at, f"Written out with all its metrics this has more than {MAX_SIZE:,} parts.")
        if node.work > MAX_WORK:
            raise self._error(at, "This takes too much work: use shorter windows, or fewer of them.")
        return node

    def _visit(self, node: ast.expr, depth: int) -> Node:
        self.parts += 1
        if depth > MAX_DEPTH or self.parts > MAX_PARTS:
            raise self._error(node, "This is too deep or has too many parts. Split it into several rules.")
        match node:
            case ast.Constant():
                return self._constant(node)
            case ast.Name():
                return self._name(node)
            case ast.UnaryOp(op=ast.Not()):
                return self._make(node, "not", "condition", [self._wanted(node.operand, "condition", depth)])
            case ast.UnaryOp(op=ast.USub() | ast.UAdd()):
                inner = self._wanted(node.operand, "number", depth)
                if isinstance(node.op, ast.UAdd):
                    return inner
                if inner.op == "constant":
                    return self._make(node, "constant", "number", settings=[-float(inner.settings[0])])
                return self._make(node, "negative", "number", [inner])
            case ast.BinOp():
                return self._arithmetic(node, depth)
            case ast.BoolOp():
                op = "and" if isinstance(node.op, ast.And) else "or"
                parts = [self._wanted(part, "condition", depth) for part in node.values]
                return self._make(node, op, "condition", parts)
            case ast.Compare():
                return self._compare(node, depth)
            case ast.Call():
                return self._call(node, depth)
            case ast.IfExp():
                raise self._error(node, "Write if_else(condition, first, second) instead.")
        raise self._error(node, f"“{self._segment(node)[:24]}” is not part of the rule language.")

    def _wanted(self, node: ast.expr, kind: Kind, depth: int) -> Node:
        """Visit a part that must be of one kind."""
        found = self._visit(node, depth + 1)
        if found.kind != kind:
            segment = self._segment(node)[:40]
            advice = {
                ("number", "condition"): f"Compare it, like {segment} > 0.",
                ("text", "condition"): f"Compare it, like {segment} == \"Household\".",
                ("condition", "number"): "A condition cannot be calculated with; if_else(condition, 1, 0) makes it a number.",
            }.get((found.kind, kind), "")  # fmt: skip
            raise self._error(
                node, f"“{segment}” is {_SAID[found.kind]}, and here {_SAID[kind]} is needed. {advice}".strip()
            )
        return found

    def _require_whole(self, node: ast.Constant) -> str:
        """The text of a constant that can be written down."""
        text = str(node.value)
        if any("\ud800" <= letter <= "\udfff" for letter in text):
            raise self._error(node, "This text holds half a character (a lone surrogate). Write it anew.")
        return text

    def _constant(self, node: ast.Constant) -> Node:
        value = node.value
        if isinstance(value, str):
            raise self._error(node, "A text can only be compared, like sector == \"Household\".")  # fmt: skip
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise self._error(node, f"“{self._segment(node)[:24]}” is not a number. Use digits, like 12.5.")
        if not abs(value) <= _LARGEST:
            raise self._error(node, "Numbers go up to 1e15.")
        return self._make(node, "constant", "number", settings=[float(value)])

    def _name(self, node: ast.Name) -> Node:
        name = node.id
        try:
            found = self.vocabulary.metric(name, self.asking)
        except RuleError as error:
            # What is wrong inside a metric is shown where it is used.
            raise self._error(node, error.message, error.nearest) from None
        if found is not None:
            self.parts += 1
            return self._make(node, found.op, found.kind, found.children, found.settings, **_own(found))
        if name in FUNCTIONS:
            return self._apply(node, FUNCTIONS[name], [], {}, 0)
        if reason := self.vocabulary.elsewhere(name):
            raise self._error(node, reason)
        raise self._unknown(node, name)

    def _unknown(self, node: ast.expr, name: str) -> RuleError:
        near = self.vocabulary.nearest(name)
        hint = f"Did you mean {' or '.join(near)}?" if near else "The Handbook lists all names."
        return self._error(node, f"There is no “{name[:40]}”. {hint}", near)

    def _arithmetic(self, node: ast.BinOp, depth: int) -> Node:
        op = _ARITHMETIC.get(type(node.op))
        if op is not None:
            sides = [self._wanted(side, "number", depth) for side in (node.left, node.right)]
            return self._make(node, op, "number", sides)
        if isinstance(node.op, ast.Pow):
            base = self._wanted(node.left, "number", depth)
            power = self._wanted(node.right, "number", depth)
            if power.op != "constant" or not abs(float(power.settings[0])) <= 10:
                raise self._error(node.right, "A power must be a plain number between -10 and 10.")
            return self._make(node, "power", "number", [base], power.settings)
        hint = (
            "Percentages are written as points: 45 for 45 %." if isinstance(node.op, ast.Mod) else "Use + - * / or **."
        )
        raise self._error(node, f"This operator is not part of the rule language. {hint}")

    # -- comparisons ---------------------------------------------------------------------------------------------------

    def _compare(self, node: ast.Compare, depth: int) -> Node:
        sides = [node.left, *node.comparators]
        parts = [
            self._pair(node, left, op, right, depth)
            for left, op, right in zip(sides[:-1], node.ops, sides[1:], strict=True)
        ]
        return parts[0] if len(parts) == 1 else self._make(node, "and", "condition", parts)

    def _pair(self, node: ast.Compare, left: ast.expr, op: ast.cmpop, right: ast.expr, depth: int) -> Node:
        if isinstance(op, ast.In | ast.NotIn):
            return self._membership(node, left, right, depth, isinstance(op, ast.NotIn))
        sign = _COMPARISON.get(type(op))
        if sign is None:
            raise self._error(node, "Compare with <, <=, >, >=, == or !=.")
        text_sides = [isinstance(side, ast.Constant) and isinstance(side.value, str) for side in (left, right)]
        if any(text_sides):
            name, value = (right, left) if text_sides[0] else (left, right)
            if all(text_sides) or sign not in ("==", "!="):
                raise self._error(node, "A text can be equal to a category or not: use == or !=.")
            inner = self._wanted(name, "text", depth)
            assert isinstance(value, ast.Constant)
            equal = self._make(node, "is_one_of", "condition", [inner], [self._require_whole(value)])
            return equal if sign == "==" else self._make(node, "not", "condition", [equal])
        return self._make(node, sign, "condition", [self._wanted(side, "number", depth) for side in (left, right)])

    def _membership(self, node: ast.Compare, left: ast.expr, right: ast.expr, depth: int, negated: bool) -> Node:
        values = right.elts if isinstance(right, ast.Tuple | ast.List | ast.Set) else []
        texts = [
            self._require_whole(value)
            for value in values
            if isinstance(value, ast.Constant) and isinstance(value.value, str)
        ]
        if not values or len(texts) != len(values):
            raise self._error(right, 'List the texts, like sector in ("Household", "Metals & Salt").')
        if len(texts) > MAX_PARTS:
            raise self._error(right, f"A list has {MAX_PARTS} texts at most.")
        found = self._make(node, "is_one_of", "condition", [self._wanted(left, "text", depth)], sorted(set(texts)))
        return self._make(node, "not", "condition", [found]) if negated else found

    # -- calls ---------------------------------------------------------------------------------------------------------

    def _call(self, node: ast.Call, depth: int) -> Node:
        if not isinstance(node.func, ast.Name):
            raise self._error(node.func, f"“{self._segment(node.func)[:24]}” is not a function.")
        name = node.func.id
        function = FUNCTIONS.get(name)
        if reason := self.vocabulary.elsewhere(name):
            raise self._error(node.func, reason)
        if function is None:
            if self.vocabulary.metric(name, self.asking) is not None:
                raise self._error(node.func, f"{name} is a metric and takes no brackets.")
            near = nearest(name, FUNCTIONS)
            hint = f"Did you mean {' or '.join(near)}?" if near else "The Handbook lists all functions."
            raise self._error(node.func, f"There is no function “{name[:40]}”. {hint}", near)
        for argument in node.args:
            if isinstance(argument, ast.Starred):
                raise self._error(argument, "Write the arguments out.")
        named: dict[str, ast.expr] = {}
        for keyword in node.keywords:
            if keyword.arg is None or keyword.arg in named:
                raise self._error(keyword.value, "Write every argument once, by its name.")
            named[keyword.arg] = keyword.value
        return self._apply(node, function, list(node.args), named, depth)

    def _apply(
        self, node: ast.expr, function: Function, given: list[ast.expr], named: dict[str, ast.expr], depth: int
    ) -> Node:
        parameters = list(function.parameters)
        # rsi(14) is rsi(close, 14): a series that has a default may be left out in front of a number.
        if parameters and parameters[0].kind == "series" and parameters[0].default is not None and (
            parameters[0].name not in named
            and len(given) + len(named) < len(parameters)
            and (not given or _is_number(given[0]))
        ):  # fmt: skip
            given = [
                ast.Name(str(parameters[0].default), col_offset=node.col_offset, end_col_offset=node.end_col_offset),
                *given,
            ]
        if len(given) > len(parameters):
            raise self._error(
                given[len(parameters)], f"{function.name} takes {_count(parameters)}: {function.signature}."
            )
        children = [self.vocabulary.metric(key) for key in function.hidden]
        for key, child in zip(function.hidden, children, strict=True):
            if child is None:
                raise self._error(node, self.vocabulary.elsewhere(key) or f"{function.name} needs {key}.")
        settings: list[float | str] = []
        found: list[Node] = [child for child in children if child is not None]
        for place, parameter in enumerate(parameters):
            argument = given[place] if place < len(given) else named.pop(parameter.name, None)
            if argument is None and parameter.default is None:
                raise self._error(node, f"{function.name} needs {parameter.name}: {function.signature}.")
            if parameter.kind in ("series", "condition"):
                assert argument is not None
                wanted: Kind = "number" if parameter.kind == "series" else "condition"
                found.append(self._wanted(argument, wanted, depth))
            else:
                settings.append(self._setting(function, parameter, argument))
        if named:
            extra = next(iter(named))
            raise self._error(named[extra], f"{function.name} has no argument {extra[:30]!r}: {function.signature}.")
        reach, work = function.reach(*settings), cost_of(function.name, settings)
        if reach and self.vocabulary.momentary and any(series_keys(part) & self.vocabulary.momentary for part in found):
            raise self._error(
                node,
                f"{function.name} looks at earlier sessions, which only a name has. Use it on what the name has.",
            )
        return self._make(node, function.name, function.result, found, settings, reach=reach, work=work)

    def _setting(self, function: Function, parameter: Parameter, argument: ast.expr | None) -> float | str:
        if argument is None:
            assert parameter.default is not None
            return parameter.default
        if parameter.kind == "choice":
            value = argument.value if isinstance(argument, ast.Constant) else None
            if not isinstance(value, str) or value not in parameter.choices:
                near = nearest(value, parameter.choices) if isinstance(value, str) else []
                choices = ", ".join(f'"{choice}"' for choice in parameter.choices)
                raise self._error(argument, f"The {parameter.name} of {function.name} is one of {choices}.", near)
            return value
        if not _is_number(argument):
            raise self._error(argument, f"The {parameter.name} of {function.name} must be a plain number.")
        number = (
            float(parsed(lambda: ast.literal_eval(argument))) if len(self._segment(argument)) <= 24 else float("inf")
        )
        if parameter.kind == "factor":
            if not abs(number) <= -parameter.least:
                raise self._error(argument, f"The {parameter.name} of {function.name} is too large.")
            return number
        if not parameter.least <= number <= MAX_WINDOW or number != int(number):
            where = f"The {parameter.name} of {function.name}"
            message = f"{where} must be a whole number from {parameter.least:g} to {MAX_WINDOW}."
            raise self._error(argument, message)
        return int(number)


def _own(node: Node) -> dict[str, int]:
    """The reach and work of a node without its children's."""
    return {
        "reach": node.reach - max((child.reach for child in node.children), default=0),
        "work": node.work - sum(child.work for child in node.children),
    }


def _is_number(node: ast.expr) -> bool:
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub | ast.UAdd):
        node = node.operand
    return isinstance(node, ast.Constant) and isinstance(node.value, int | float) and not isinstance(node.value, bool)


def _count(parameters: list[Parameter]) -> str:
    return f"{len(parameters)} argument{'' if len(parameters) == 1 else 's'} at most" if parameters else "no arguments"
