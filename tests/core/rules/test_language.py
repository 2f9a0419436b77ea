"""The rule language: what it takes, what it refuses and where, and that it computes what plain Python would."""

import builtins
import math
import string
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from tests.core.rules.plain import Plain

from flinch.core.rules import FUNCTIONS, METRICS, Panel, RuleError, Truth, Vocabulary, daily_vocabulary, evaluate
from flinch.core.rules.catalogue import intraday_vocabulary

EXAMPLES = [
    "15 <= price <= 250 and iv30 >= 45 and iv_rank >= 35",
    "price_to_book < 0.9 and share_of_sessions(price_to_book > 0.9, 504) > 0.85",
    "low < channel(close, 126, -1) and close > channel(close, 126, -1)",
    "close > sma(close, 50) and squeeze_on and rel_strength_21 > 0",
    "abs(premarket_change) >= 2 and premarket_volume > 0.1 * mean(volume, 50)",
    "days_to_earnings > 12 and dividend_yield > 2.5 and rsi(14) < 55",
]

# -- a market of small whole numbers, so that ties are frequent and sums exact ---------------------------------------------

SMALL = Vocabulary({"a": "number", "b": "number", "kind": "text"}, {"twice_a": "2 * a"})
levels = st.integers(-3, 3).map(float) | st.just(math.nan)


@st.composite
def markets(draw) -> Panel:
    names, sessions = draw(st.integers(1, 3)), draw(st.integers(1, 14))
    series = {key: draw(arrays(float, (names, sessions), elements=levels)) for key in "ab"}
    kinds = draw(st.lists(st.sampled_from(["stock", "fund"]), min_size=names, max_size=names))
    return Panel(names, sessions, series, {"kind": np.array(kinds)})


windows = st.integers(1, 6)
leaves = st.sampled_from(["a", "b"]) | st.integers(-2, 3).map(str)


def numbers(inner):
    number, condition = inner
    two = st.tuples(number, number)
    return st.one_of(
        st.tuples(two, st.sampled_from("+-*/")).map(lambda x: f"({x[0][0]} {x[1]} {x[0][1]})"),
        number.map(lambda x: f"(-{x})"),
        st.tuples(
            st.sampled_from(["lag", "change", "mean", "sum", "min", "max", "median", "sma"]), number, windows
        ).map(lambda x: f"{x[0]}({x[1]}, {x[2]})"),
        st.tuples(number, st.integers(2, 6)).map(lambda x: f"rank_pct({x[0]}, {x[1]})"),
        st.tuples(two, st.integers(2, 6)).map(lambda x: f"pct_among({x[0][0]}, {x[0][1]}, {x[1]})"),
        st.tuples(condition, windows).map(lambda x: f"share_of_sessions({x[0]}, {x[1]})"),
        condition.map(lambda x: f"sessions_since({x})"),
        number.map(lambda x: f"sessions_since_as_high({x})"),
        st.tuples(condition, number, number).map(lambda x: f"if_else({x[0]}, {x[1]}, {x[2]})"),
        two.map(lambda x: f"larger({x[0]}, {x[1]})"),
        number.map(lambda x: f"abs({x})"),
        number.map(lambda x: f"positive({x})"),
    )


def conditions(inner):
    number, condition = inner
    signs = st.sampled_from(["<", "<=", ">", ">=", "==", "!="])
    return st.one_of(
        st.tuples(number, signs, number).map(lambda x: f"({x[0]} {x[1]} {x[2]})"),
        st.tuples(number, number, number).map(lambda x: f"({x[0]} <= {x[1]} < {x[2]})"),
        st.tuples(condition, st.sampled_from(["and", "or"]), condition).map(lambda x: f"({x[0]} {x[1]} {x[2]})"),
        condition.map(lambda x: f"(not {x})"),
        st.tuples(st.sampled_from(["any_in", "all_in"]), condition, windows).map(lambda x: f"{x[0]}({x[1]}, {x[2]})"),
        st.tuples(number, number).map(lambda x: f"crossed_above({x[0]}, {x[1]})"),
        number.map(lambda x: f"is_known({x})"),
        st.just('(kind in ("fund", "index"))'),
    )


def grown(depth: int):
    number, condition = leaves, leaves.map(lambda x: f"({x} > 0)")
    for _ in range(depth):
        inner = (number, condition)
        number, condition = leaves | numbers(inner), conditions(inner)
    return number, condition


NUMBERS, CONDITIONS = grown(3)


def three_valued(value, name, session):
    if isinstance(value, Truth):
        yes, no = bool(value.yes[name, session]), bool(value.no[name, session])
        assert not (yes and no)
        return True if yes else False if no else None
    number = float(value[name, session])
    return None if math.isnan(number) else number


@settings(max_examples=400)
@given(panel=markets(), text=CONDITIONS | NUMBERS)
def test_it_computes_what_plain_python_would_for_every_name_and_session(panel, text):
    node = SMALL.read(text).node
    (found,) = evaluate([node], panel, 0, panel.sessions)
    known = {k: [[None if math.isnan(x) else x for x in row] for row in v] for k, v in panel.series.items()}
    plain = Plain(known, {"kind": list(panel.texts["kind"])})
    for name, session in np.ndindex(panel.names, panel.sessions):
        expected = plain.evaluate(text, name, session)
        answer = three_valued(found, name, session)
        if isinstance(expected, float) and answer is not None:
            assert answer == pytest.approx(expected, rel=1e-12, abs=1e-12)
        else:
            assert answer == expected


@settings(max_examples=150)
@given(panel=markets(), text=CONDITIONS, session=st.integers(0, 13))
def test_one_session_by_itself_is_that_session_of_all_of_them(panel, text, session):
    """Nothing that comes later is looked at, and nothing depends on where the evaluation begins."""
    session = min(session, panel.sessions - 1)
    node = SMALL.read(text).node
    (every,) = evaluate([node], panel, 0, panel.sessions)
    past = Panel(panel.names, session + 1, {k: v[:, : session + 1] for k, v in panel.series.items()}, panel.texts)
    (alone,) = evaluate([node], past, session, session + 1)
    assert np.array_equal(alone.yes[:, 0], every.yes[:, session])
    assert np.array_equal(alone.no[:, 0], every.no[:, session])


# -- what it takes -----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("text", EXAMPLES + [function.example for function in FUNCTIONS.values()])
def test_the_examples_are_rules(text):
    assert daily_vocabulary().read(text).node.kind in ("condition", "number")


@pytest.mark.parametrize("metric", METRICS.values(), ids=lambda m: m.key)
def test_every_metric_is_read_as_what_it_says_it_is(metric):
    assert daily_vocabulary().read(metric.key).node.kind == metric.kind


def test_ways_to_say_the_same():
    read = daily_vocabulary().read
    same = ["rsi(14)", "rsi(close, 14)", "rsi(sessions=14)", "rsi(close, sessions=14)", "rsi", "  rsi( 14 )\n"]
    assert len({read(text).node.key for text in same}) == 1
    assert read("price > 3").node.key == read("close > 3").node.key
    assert read("sector == 'Household'").node.key == read("sector in ('Household',)").node.key


@pytest.mark.parametrize(
    ("text", "subject", "lower", "upper", "opened"),
    [
        ("15 <= price <= 250", "price", 15, 250, (False, False)),
        ("15 < price", "price", 15, None, (True, False)),
        ("rsi(14) < 55", "rsi(14)", None, 55, (False, True)),
        ("250 >= price > 15", "price", 15, 250, (True, False)),
        ("abs(premarket_change) >= 2", "abs(premarket_change)", 2, None, (False, False)),
        ("change_pct > -2.5", "change_pct", -2.5, None, (True, False)),
        ("  iv_rank ", "iv_rank", None, None, (False, False)),
    ],
)
def test_a_range_has_edges_to_move(text, subject, lower, upper, opened):
    shape = daily_vocabulary().read(text).shape
    assert (shape.kind, shape.subject, shape.lower, shape.upper) == ("range", subject, lower, upper)
    assert (shape.lower_open, shape.upper_open) == opened
    assert shape.is_open == (lower is None and upper is None)


def test_other_shapes():
    read = daily_vocabulary().read
    choice = read('sector in ("Household", "Metals & Salt")').shape
    assert (choice.kind, choice.subject, choice.values) == ("choice", "sector", ("Household", "Metals & Salt"))
    assert read("sector").shape.is_open
    assert read("price > 3 and iv30 > 4 and uptrend").shape.parts == ("price > 3", "iv30 > 4", "uptrend")
    for text in ("price > sma(close, 50)", "3 < 4", "price > 3 > iv30", "5 < price > 3", "price == 3", "squeeze_on"):
        assert read(text).shape.kind == "condition", text


def test_shorter_bars_know_bars_only():
    read = intraday_vocabulary().read
    assert read("close > sma(close, 20) and rsi_14 < 40 and relative_volume > 2").node.kind == "condition"
    for name in ("iv30", "hv21", "days_to_earnings"):
        with pytest.raises(RuleError, match=f"{name} is a daily value"):
            read(f"{name} > 3")
    with pytest.raises(RuleError, match="hv is annualised"):
        read("hv(21) > 3")


# -- what it refuses, and where ------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "character", "says"),
    [
        ("pric > 5", 0, "There is no “pric”. Did you mean price"),
        ("close > 3 and iv_rnk > 4", 14, "Did you mean iv_rank"),
        ("émue > 3", 0, "There is no “émue”"),
        ("price > 3 and étape > 4", 14, "There is no “étape”"),
        ("smaa(close, 3) > 1", 0, "There is no function “smaa”. Did you mean sma"),
        ("price(3) > 1", 0, "price is a metric and takes no brackets"),
        ("price = 3", 6, "Compare with =="),
        ("price > 3 && iv30 > 2", 10, "Write “and”"),
        ("iv30 > 45%", 9, "Leave the percent sign out"),
        ("iv30 % 5 > 1", 0, "Percentages are written as points"),
        ("price ≥ 3", 6, "Write >= for ≥"),
        ("price > ", 6, "ends too early"),
        ("(price > 3", 9, "bracket is not closed"),
        ("price > 3)", 9, "closing bracket too many"),
        ("price and iv30 > 3", 0, "“price” is a number, and here a condition is needed. Compare it"),
        ("uptrend + 1 > 2", 0, "A condition cannot be calculated with"),
        ("sector > 'a'", 0, "A text can be equal"),
        ("sector == 3", 0, "“sector” is a text, and here a number is needed"),
        ("price in (1, 2)", 9, "List the texts"),
        ("rsi(0) > 3", 4, "whole number from 1 to 504"),
        ("rsi(2.5) > 3", 4, "whole number from 1 to 504"),
        ("mean(close, 505) > 3", 12, "whole number from 1 to 504"),
        ("mean(close, volume) > 3", 12, "must be a plain number"),
        ("mean(close) > 3", 0, "mean needs sessions: mean(series, sessions)"),
        ("mean(close, 3, 4) > 3", 15, "mean takes 2 arguments at most"),
        ("mean(close, n=3) > 3", 0, "mean needs sessions"),
        ('hv(21, "best") > 3', 7, "one of"),
        ("price if uptrend else 3", 0, "if_else"),
        ("price ** iv30 > 3", 9, "A power must be a plain number"),
        ("9**9**9 > 1", 3, "A power must be a plain number"),
        ("price > 1e999", 8, "Numbers go up to 1e15"),
        ("True", 0, "is not a number"),
        ("price.real > 3", 0, "not part of the rule language"),
        ("[price for price in volume]", 0, "not part of the rule language"),
        ("(lambda: 3)() > 1", 1, "is not a function"),
        ("__import__('os').system('true')", 0, "is not a function"),
        ("close[0] > 3", 0, "not part of the rule language"),
        ("f'{price}' > 3", 0, "not part of the rule language"),
        ("(price := 3) > 1", 1, "not part of the rule language"),
        ("", 0, "Write a rule"),
    ],
)
def test_an_error_names_the_character_and_what_to_do(text, character, says):
    with pytest.raises(RuleError) as caught:
        daily_vocabulary().read(text)
    assert says in caught.value.message
    assert caught.value.start == character


def test_a_metric_that_needs_itself_is_refused():
    words = daily_vocabulary().extended({"one": "two + 1", "two": "one * 2"})
    with pytest.raises(RuleError, match="one is defined by itself"):
        words.read("one > 3")


def test_metrics_that_blow_up_when_written_out_are_refused():
    doubling = {f"m{n}": f"m{n - 1} + m{n - 1} * m{n - 1}" for n in range(1, 30)} | {"m0": "price + 1"}
    with pytest.raises(RuleError, match=r"more than 3,000 parts|too much work"):
        daily_vocabulary().extended(doubling).read("m29 > 1")


HOSTILE = [
    "9**9**9",
    "9" * 999,
    "(" * 500 + ")" * 500,
    "-" * 900 + "1",
    "not " * 200 + "uptrend",
    "price" + "+price" * 160,
    "a" * 5_000,
    "mean(" * 40 + "close" + ",504)" * 40 + " > 1",
    " and ".join(["gap_below(504) > 1"] * 30),
    "hv(504) > " + " + ".join(["hv(504)"] * 30),
    "[" * 100 + "]" * 100,
    "'" + "x" * 900 + "'" + " == sector" * 2,
    "\x00",
    "price >" + "\n" * 800,
]


@pytest.mark.parametrize("text", HOSTILE, ids=lambda text: text[:12])
def test_hostile_texts_are_refused(text):
    with pytest.raises(RuleError):
        daily_vocabulary().read(text)


fragments = st.sampled_from(
    [*"()[]{}.,:<>=!+-*/%&|^~@#'\"\\`?;$ \n\t\x00", "and", "or", "not", "in", "is", "lambda", "if", "else", "for", "await",
     "**", "//", "<=", ":=", "price", "iv30", "sector", "mean", "rsi", "channel", "squeeze_on", "504", "1e308", "0x1f", "1_0",
     "9" * 40, "'a'", '"""', "f'{x}'", "b'x'", "é", "価格", "\ud800", "...", "None", "True", "__class__", "print", "1j"]
)  # fmt: skip


@settings(max_examples=600)
@given(
    st.lists(fragments | st.text(string.printable, max_size=4) | st.text(max_size=3), max_size=40).map(" ".join)
    | st.text(max_size=60)
    | st.lists(fragments, max_size=30).map("".join)
)
def test_whatever_is_typed_it_is_read_or_refused_and_never_run(text):
    def forbidden(*_args, **_kwargs):
        raise AssertionError("Python's evaluator was reached")

    kept = builtins.eval, builtins.exec
    builtins.eval = builtins.exec = forbidden
    refused = None
    try:
        kind = daily_vocabulary().read(text).node.kind
    except RuleError as error:
        refused, kind = error, None
    finally:
        builtins.eval, builtins.exec = kept
    if refused is None:
        assert kind in ("number", "condition", "text")
    else:
        assert refused.message
        assert 0 <= refused.start <= refused.end
        assert refused.start <= max(len(text), 1_000)


def test_the_documentation_has_every_function():
    page = (Path(__file__).parents[3] / "docs/rules.md").read_text(encoding="utf-8")
    for function in FUNCTIONS.values():
        assert f"| `{function.signature}` | {function.definition} | `{function.example}` |" in page
    for example in EXAMPLES:
        assert example in page
