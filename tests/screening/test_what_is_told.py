"""What a stack, its order, its columns and its sources tell, against plain Python over the same market."""

from __future__ import annotations

from collections import Counter

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError
from sqlalchemy import Engine
from tests.somebody import somebody

from flinch.core.rules import Node, Shape, Truth
from flinch.core.shelves import LEAST_SESSIONS, Compared
from flinch.market import PLAIN, Column, View
from flinch.market.dictionary import PLAIN_TABLES
from flinch.screening.body import RuleBody, StackBody
from flinch.screening.columns import Described, describe, read_columns
from flinch.screening.groups import MOST_PASTED, NoSuchGroup, members, read_symbols, source_symbols, universe
from flinch.screening.history import NothingToStudy, through_history, through_tape
from flinch.screening.notes import rule_rows
from flinch.screening.order import ordered
from flinch.screening.report import rule_reports
from flinch.screening.run import run_stack, stack_work
from flinch.screening.search import BadSearch, SearchBody
from flinch.screening.shelf_record import record_row
from flinch.screening.starters import STARTERS
from flinch.store.owned.owners import Whose


@pytest.fixture(scope="module")
def whose(owned: Engine) -> Whose:
    return somebody(owned)


def stack(*texts: str, **settings: object) -> StackBody:
    return StackBody(rules=[RuleBody(text=text) for text in texts], **settings)


# -- the order ---------------------------------------------------------------------------------------------------------------


@settings(max_examples=60)
@given(
    sort=st.lists(st.tuples(st.sampled_from(["iv_rank", "sector", "symbol", "company", "kind"]), st.booleans()), max_size=2),
    data=st.data(),
)  # fmt: skip
def test_rows_come_in_the_order_that_was_asked_and_ties_stay(market: View, sort: list[tuple[str, bool]], data):
    rows = data.draw(st.lists(st.integers(0, len(market.frame.names) - 1), unique=True, max_size=40))
    values = {"iv_rank": market.column(PLAIN.read("iv_rank").node).values}
    # Those without a value are among them, wherever they stand.
    without = np.flatnonzero(np.isnan(values["iv_rank"]))[:3].tolist()
    rows = data.draw(st.permutations(sorted({*rows, *without})))
    assert without

    def key(row: int, name: str) -> object:
        return float(values[name][row]) if name in values else getattr(market.frame.names[row], name)

    expected = list(rows)
    for name, falling in reversed(sort):
        known = [row for row in expected if not (name in values and np.isnan(values[name][row]))]
        none = [row for row in expected if row not in known]
        # Python keeps what is equal as it was, in a falling order too.
        expected = sorted(known, key=lambda row: key(row, name), reverse=falling) + none
    asked = [f"-{name}" if falling else name for name, falling in sort]
    assert ordered(market, np.array(rows, np.int64), asked, PLAIN, {}).tolist() == expected


# -- reports -----------------------------------------------------------------------------------------------------------------


def test_a_range_tells_whom_it_met_and_where_they_lie(market: View):
    everyone = market.optionable()
    ran = run_stack(market, PLAIN, stack("iv_rank >= 50", "30 <= price < 60"), everyone)
    first, second = rule_reports({}, ran, None)
    rank, price = (market.column(PLAIN.read(key).node).values for key in ("iv_rank", "price"))
    assert (first.reached, first.unknown) == (everyone.sum(), np.isnan(rank[everyone]).sum())
    assert first.missing == first.unknown > 0, "who has no rank is lost"
    left = everyone & (rank >= 50)
    assert second.reached == first.survivors == left.sum()
    assert second.survivors == (left & (price >= 30) & (price < 60)).sum()
    assert (second.lower, second.upper, second.lower_open, second.upper_open) == (30, 60, False, True)
    assert (second.kind, second.subject, second.metric, second.takes_part) == ("range", "price", "price", True)
    assert (second.unit, second.decimals) == ("$", 2)
    assert second.histogram is not None
    assert sum(second.histogram.counts) + second.unknown == second.reached
    edges = second.histogram.edges
    inner = np.histogram(price[left], edges)[0]
    assert second.histogram.counts[1:-1] == inner[1:-1].tolist()
    assert second.aim == [], "nothing was aimed for"


def test_a_rule_that_is_off_or_has_no_edge_cuts_nothing_and_says_so(market: View):
    everyone = market.optionable()
    body = StackBody(
        rules=[RuleBody(text="iv_rank >= 99", on=False), RuleBody(text="price"), RuleBody(text="price >= 50")]
    )
    ran = run_stack(market, PLAIN, body, everyone)
    off, bare, on = rule_reports({}, ran, 10)
    assert [rule.takes_part for rule in (off, bare, on)] == [False, False, True]
    assert off.survivors == bare.survivors == on.reached == everyone.sum()
    assert off.histogram is not None, "its number is drawn all the same"
    assert off.aim == [], "what is off cannot be aimed"
    assert {edge.edge for edge in on.aim} <= {"lower", "upper"}
    price = market.column(PLAIN.read("price").node).values
    lower = next(edge for edge in on.aim if edge.edge == "lower")
    assert lower.names == (everyone & (price >= lower.value)).sum()
    assert abs(lower.names - 10) <= 1


def test_a_choice_offers_what_the_universe_has_and_counts_those_that_came(market: View):
    everyone = market.optionable()
    rules = stack("price >= 250", 'sector in ("Household", "Nowhere")')
    ran = run_stack(market, PLAIN, rules, everyone)
    report = rule_reports({}, ran, None)[1]
    assert report.kind == "choice"
    assert report.values == ["Household", "Nowhere"]
    names = [market.frame.names[row] for row in np.flatnonzero(ran.result.reached[1])]
    counted = Counter(name.sector for name in names)
    every = {market.frame.names[row].sector for row in np.flatnonzero(everyone)} - {""}
    assert report.choices is not None
    assert {choice.value: choice.count for choice in report.choices} == {
        value: counted.get(value, 0) for value in every | {"Nowhere"}
    }
    assert report.unknown == counted.get("", 0)
    assert [choice.value for choice in report.choices] == sorted(choice.value for choice in report.choices)
    assert sum(choice.count == 0 for choice in report.choices) > 1, "a sector that nobody is left of is offered"


class FourThings:
    """A table of four: an a, one without a text, a b, another a."""

    def column(self, node: Node, bars: str = "day") -> Column:
        if node.kind == "text":
            return Column(np.full(4, np.nan), None, np.array(["a", "", "b", "a"]))
        yes = np.array([True, False, False, True])
        return Column(yes.astype(float), Truth(yes, np.array([False, False, True, False])))

    def between(self, subject: Node, shape: Shape, bars: str = "day") -> Truth:
        raise AssertionError("no range is asked")


def test_who_has_no_text_is_unknown_and_no_choice():
    universe = np.array([True, True, True, False])
    ran = run_stack(FourThings(), PLAIN, stack('sector in ("a", "c")'), universe)
    (report,) = rule_reports({}, ran, None)
    assert (report.reached, report.survivors, report.missing, report.unknown) == (3, 1, 1, 1)
    assert report.choices is not None
    assert [(choice.value, choice.count) for choice in report.choices] == [("a", 1), ("b", 1), ("c", 0)]


def test_a_range_is_drawn_from_where_the_universe_begins_to_where_it_ends(market: View):
    price = market.column(PLAIN.read("price").node).values
    narrow = market.optionable() & (price > 50) & (price < 60)
    (report,) = rule_reports({}, run_stack(market, PLAIN, stack("price >= 55"), narrow), None)
    assert report.histogram is not None
    assert 50 <= report.histogram.edges[0] < 55 < report.histogram.edges[-1] <= 60


def test_what_cannot_be_read_cuts_nothing_and_says_where(market: View):
    everyone = market.optionable()
    ran = run_stack(market, PLAIN, stack("price >=", "iv_rnk > 5", "price >= 50"), everyone)
    half, slip, fine = rule_reports({}, ran, None)
    assert half.error is not None
    assert slip.error is not None
    assert (slip.error.start, slip.error.end) == (0, 6)
    assert "iv_rank" in slip.error.nearest
    assert (half.takes_part, slip.takes_part, fine.error) == (False, False, None)
    assert fine.reached == everyone.sum()
    rows = rule_rows(ran)
    assert [row[:4] for row in rows] == [[rule.body.text, "daily", True, None] for rule in ran.rules]
    assert [row[4:7] for row in rows[:2]] == [[None] * 3] * 2
    assert rows[2][4:] == [fine.survivors, fine.missing, fine.lone_cut, None]
    assert rows[1][7] == slip.error.message


def test_work_is_that_of_the_rules_that_can_be_read():
    plain, dear = stack_work(PLAIN, stack("price > 5")), stack_work(PLAIN, stack("median(close, 250) > 5"))
    assert 0 < plain < dear
    assert stack_work(PLAIN, stack("price > 5", "median(close, 250) > 5", "no such thing >")) == plain + dear


# -- where names come from ---------------------------------------------------------------------------------------------------


def test_every_source_has_its_names(market: View, owned: Engine, whose: Whose, empty_tray: None):
    names = market.frame.names

    def told(source: str) -> set[str]:
        return {names[row].symbol for row in np.flatnonzero(members(market, owned, whose, source))}

    assert told("all") == {name.symbol for name in names}
    for kind in ("stock", "fund"):
        assert told(kind) == {name.symbol for name in names if name.kind == kind} != set()
    assert (
        told("sector:Household") == {n.symbol for n in names if n.sector == "Household" and n.kind == "stock"} != set()
    )
    assert told("name:TARNO") == {"TARNO"}
    held = {names[row].symbol for row, _ in market.frame.members[market.frame.index["FELRO"]]}
    assert told("members:FELRO") == held != set()
    assert told("tray") == set()
    listed = market.optionable()
    assert np.array_equal(universe(market, owned, whose, "all"), listed)
    assert not universe(market.at(0), owned, whose, "stock")[market.frame.listed_from > 0].any(), "not listed by then"


@pytest.mark.parametrize(
    "source",
    ["", "everything", "all:5", "stock:TARNO", "tray:1", "name:NOSUCH", "name:tarno", "sector:Broad market", "members:TARNO",
     "members:NOSUCH", "basket:999999999", "basket:9999999999", "basket:-1", "basket:one"],
)  # fmt: skip
def test_a_source_that_is_not_there_is_refused(market: View, owned: Engine, whose: Whose, source: str):
    with pytest.raises(NoSuchGroup, match=r"[Cc]hoose"):
        members(market, owned, whose, source)


def test_a_ready_screen_is_a_source_when_it_is_one_of_names(market: View, owned: Engine, whose: Whose):
    for starter in STARTERS:
        source = f"screen:s-{starter.key}"
        if starter.body.table != "names":
            with pytest.raises(NoSuchGroup):
                source_symbols(market, owned, whose, PLAIN, source)
            continue
        found = source_symbols(market, owned, whose, PLAIN, source)
        body = StackBody(**{field: getattr(starter.body, field) for field in StackBody.model_fields})
        ran = run_stack(market, PLAIN, body, universe(market, owned, whose, body.universe))
        assert found == [market.frame.names[row].symbol for row in np.flatnonzero(ran.result.survivors)], starter.key
    for gone in ("screen:s-no-such", "screen:999999999", "screen:9999999999", "screen:one", "screen:"):
        with pytest.raises(NoSuchGroup):
            source_symbols(market, owned, whose, PLAIN, gone)


def test_of_a_sheet_figures_and_headers_are_no_misspelt_symbols(market: View):
    found = read_symbols(market, "Symbol\tPrice\tTARNO\t12.50\tKesoe\nab1\t3,400\tTHIRTEENCHARS")
    assert found.symbols == ["TARNO"]
    assert [unknown.text for unknown in found.unknown] == ["KESOE"]
    assert found.unknown[0].nearest[0] == "KESEO"
    many = read_symbols(market, " ".join(["zzzzzz"] * 4 * MOST_PASTED + ["TARNO"]))
    assert many.symbols == [], "what lies beyond the bound is not read"


# -- columns -----------------------------------------------------------------------------------------------------------------


def test_columns_come_once_and_one_that_cannot_be_read_says_why(market: View):
    mine = {"steep": Described("steep", "Steepness", "Steep", "%", 1, "number")}
    found = read_columns(market, PLAIN, mine, ["iv_rank", "sector", "iv_rank", "close - open", "no_such"])
    assert [column.described.key for column in found] == ["iv_rank", "sector", "close - open", "no_such"]
    rank, sector, made, wrong = found
    assert (rank.described.label, rank.described.unit) == ("IV rank", "0–100")
    assert (made.described.label, made.described.decimals) == ("close - open", 2)
    assert wrong.error is not None
    assert np.isnan(wrong.values).all()
    assert wrong.reasons(np.arange(3)) == {}
    rows = np.arange(len(market.frame.names))
    assert set(rank.reasons(rows)) == set(np.flatnonzero(np.isnan(rank.values)).tolist())
    assert all(rank.reasons(rows).values()), "with a reason each"
    without = np.flatnonzero(np.isnan(rank.values))
    assert set(rank.reasons(without)) == set(without.tolist()), "where none of those asked for has one, too"
    assert sector.texts is not None
    assert describe("steep", mine, "number").label == "Steepness"
    assert describe("price", mine, "number").label != "price"


# -- the past ----------------------------------------------------------------------------------------------------------------


def test_rules_that_cannot_be_followed_are_refused_with_their_number(market: View, owned: Engine, whose: Whose):
    def ask(body: StackBody) -> None:
        through_history(market, owned, whose, PLAIN, body)

    minutes = StackBody(rules=[RuleBody(text="price > 5"), RuleBody(text="rsi(14) > 50", bars="15")])
    with pytest.raises(NothingToStudy, match="Rule 2 is on 15-minute bars"):
        ask(minutes)
    minutes.rules[1].on = False
    ask(minutes)  # what is off stands in nobody's way
    with pytest.raises(NothingToStudy, match="no rule with an edge"):
        ask(stack("price"))
    with pytest.raises(Exception, match="Rule 2 cannot be read"):
        ask(stack("price > 5", "price >"))
    for body in (stack("premium"), StackBody(rules=[RuleBody(text="premium > 5", on=False)])):
        with pytest.raises(NothingToStudy):
            through_tape(market, owned, whose, PLAIN_TABLES["tickets"], body)


# -- searches ----------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("body", "words"),
    [
        ({"kinds": []}, "at least one kind"),
        ({"kinds": ["iron_condor", "iron_ox"]}, "iron_ox"),
        ({"target": "100"}, "not by delta"),
        ({"low": 0.2, "high": 1.2}, "between 0 and 1"),
        ({"low": -0.1, "high": 0.2}, "between 0 and 1"),
    ],
)
def test_a_search_that_cannot_be_made_says_what_to_do(body: dict, words: str):
    with pytest.raises(BadSearch, match=words):
        SearchBody(**body).search()


@pytest.mark.parametrize(
    "body",
    [
        {"least_days": 61},
        {"low": 0.4},
        {"least_width": 11},
        {"later_low": 46},
        {"entry": 1.1},
        {"front": ["max_profit"]},
    ],
)
def test_a_range_begins_before_it_ends(body: dict):
    with pytest.raises(ValidationError):
        SearchBody(**body)


def test_a_search_says_where_strikes_lie():
    body = SearchBody(
        kinds=["put_credit", "put_credit", "iron_condor"], measure="moves", low=0, high=2, target=" 50 ", middle=0.5,
        least_width=1, most_width=5, width_in="percent", balanced=False, later_low=5, later_high=9, entry=0.4, scaled=True,
        least_days=3, most_days=7, label="weekly", report="before",
    )  # fmt: skip
    made = body.search()
    assert made.kinds == ("put_credit", "iron_condor"), "each kind once"
    assert made.placement == ("moves", 0, 2, True, 0.5, 1, 5, True, False, 5, 9)
    assert (made.least_days, made.most_days, made.label, made.report, made.entry, made.scaled) == (
        3, 7, "weekly", "before", 0.4, True,
    )  # fmt: skip
    edge = SearchBody(least_days=5, most_days=5, low=0, high=1)
    assert edge.search().placement.at_target is False


def test_a_target_is_a_number_or_an_expression_that_gives_each_name_a_price(market: View):
    def prices(text: str) -> np.ndarray:
        return SearchBody(target=text, measure="moves", low=0, high=2).prices(market, PLAIN)

    assert np.isnan(prices(" ")).all()
    assert (prices("12.5") == 12.5).all()
    close = market.column(PLAIN.read("close").node).values
    assert np.array_equal(prices("close * 2"), close * 2, equal_nan=True)
    assert np.isnan(prices("close - close")).all(), "no price is zero"
    for text, words in (("close >", "cannot be read"), ("close > 5", "must be a price"), ("sector", "must be a price")):
        with pytest.raises(BadSearch, match=words):
            prices(text)


# -- the record of shelves ---------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("verdict", "tests", "words"),
    [
        ("none", 50, "no better"),
        ("above", 50, "more often"),
        ("below", 50, "less often"),
        ("too few", 50, f"in 12 sessions, {LEAST_SESSIONS} are needed"),
        ("too few", 0, "No test"),
    ],
)
def test_a_record_is_told_in_percent_and_in_a_sentence(verdict, tests: int, words: str):
    row = record_row("of all names", Compared(0.61, 0.55, 0.06, 0.01, 0.11, tests, 70, 12, verdict))
    assert (row.held_pct, row.placebo_pct, row.low, row.high) == pytest.approx((61, 55, 1, 11))
    assert row.difference == pytest.approx(6)
    assert (row.tests, row.placebo_tests, row.sessions, row.verdict) == (tests, 70, 12, verdict)
    assert words in row.sentence
