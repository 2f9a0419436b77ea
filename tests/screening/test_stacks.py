"""A stack of rules against the one expression that says the same, and lists of names from any source."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import Engine
from tests.somebody import somebody

from flinch.market import PLAIN, View
from flinch.screening.body import RuleBody, StackBody
from flinch.screening.groups import read_symbols, sectors, universe
from flinch.screening.history import NothingToStudy, through_history
from flinch.screening.run import run_stack, rungs_of

TEXTS = [
    "price >= 30",
    "iv_rank >= 50",
    "squeeze_on",
    "days_to_earnings > 20",
    "iv_hv_ratio < 1.1",
    'sector == "Household"',
]


@st.composite
def stacks(draw) -> StackBody:
    rules = []
    group, size = 0, 0
    for text in draw(st.lists(st.sampled_from(TEXTS), min_size=1, max_size=6, unique=True)):
        if size == 0:
            size = draw(st.integers(1, 3))
            group += 1
        size -= 1
        rules.append(
            RuleBody(text=text, on=draw(st.booleans() | st.just(True)), group=draw(st.sampled_from([group, None])))
        )
    used = sorted({rule.group for rule in rules if rule.group is not None})
    return StackBody(rules=rules, any_groups=draw(st.lists(st.sampled_from(used), unique=True)) if used else [])


def as_expression(stack: StackBody) -> str | None:
    parts = []
    for rung in rungs_of(stack):
        texts = [f"({stack.rules[m].text})" for m in rung.members if stack.rules[m].on]
        if texts:
            parts.append("(" + (" or " if rung.mode == "any" else " and ").join(texts) + ")")
    return " and ".join(parts) or None


@settings(max_examples=20)
@given(stack=stacks(), session=st.integers(260, 503))
def test_every_session_at_once_finds_who_survives_in_each(owned: Engine, market: View, stack: StackBody, session: int):
    whose = somebody(owned)
    try:
        fired = through_history(market, owned, whose, PLAIN, stack)
    except NothingToStudy:
        assert not any(rule.on for rule in stack.rules)
        return
    start = universe(market.at(session), owned, whose, stack.universe)
    found = run_stack(market.at(session), PLAIN, stack, start).result.survivors
    assert np.array_equal(fired.met[:, session], found)
    assert np.array_equal(fired.eligible[:, session], start)


@settings(max_examples=60)
@given(stack=stacks())
def test_a_stack_is_the_one_expression_that_says_the_same(market: View, stack: StackBody):
    everyone = market.optionable()
    ran = run_stack(market, PLAIN, stack, everyone)
    text = as_expression(stack)
    expected = everyone if text is None else everyone & (market.column(PLAIN.read(text).node).values == 1)
    assert np.array_equal(ran.result.survivors, expected)
    assert sorted(m for rung in ran.rungs for m in rung.members) == list(range(len(stack.rules)))


@given(st.lists(st.sampled_from([1, 2, None]), max_size=8))
def test_a_group_stands_where_its_first_rule_does(groups: list[int | None]):
    stack = StackBody(
        rules=[RuleBody(text=f"price > {n}", group=group) for n, group in enumerate(groups)], any_groups=[1]
    )
    rungs = rungs_of(stack)
    assert [rung.members[0] for rung in rungs] == sorted(rung.members[0] for rung in rungs)
    for rung in rungs:
        assert len({groups[member] for member in rung.members}) == 1
        assert len(rung.members) == 1 or groups[rung.members[0]] is not None
        assert rung.mode == ("any" if groups[rung.members[0]] == 1 else "all")


separators = st.sampled_from([",", " ", "\n", "\t", ";", " , ", ",\r\n", " | ", "\n\n"])


@settings(max_examples=80)
@given(data=st.data())
def test_symbols_survive_any_separator_case_and_quoting(market: View, data):
    listed = [name.symbol for name in market.frame.names]
    wanted = data.draw(st.lists(st.sampled_from(listed), max_size=12))
    text = ""
    for symbol in wanted:
        shown = data.draw(
            st.sampled_from([symbol, symbol.lower(), symbol.title(), f'"{symbol}"', f"${symbol}", f"({symbol})"])
        )
        text += shown + data.draw(separators)
    found = read_symbols(market, text)
    assert found.symbols == list(dict.fromkeys(wanted))
    assert found.unknown == []


@given(text=st.text(max_size=200))
def test_any_text_can_be_pasted(market: View, text: str):
    found = read_symbols(market, text)
    assert set(found.symbols) <= set(market.frame.index)
    assert len(found.unknown) <= 100


@pytest.mark.parametrize(("word", "near"), [("TARNA", "TARNO"), ("HELMO", "HELMU")])
def test_a_slip_proposes_the_nearest(market: View, word: str, near: str):
    (unknown,) = read_symbols(market, word).unknown
    assert near in unknown.nearest


def test_sectors_are_those_of_companies(market: View):
    assert len(sectors(market)) == 12
    assert "Broad market" not in sectors(market)
