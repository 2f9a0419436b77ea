"""Columns of the market in memory: kept by what they compute, asked for by many at once, and warmed at the start."""

from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine

from flinch.core.rules import METRICS, RuleError
from flinch.market import PLAIN, View, load_frame, opened, warm
from flinch.screening.columns import Described, describe, read_columns
from flinch.web import with_own


@pytest.fixture(scope="module")
def fresh(engine: Engine) -> View:
    frame = load_frame(engine)
    assert frame is not None
    return opened(frame, engine)


def test_the_same_computation_is_kept_once_whatever_it_is_called(fresh: View):
    first = fresh.column(PLAIN.read("price").node)
    assert fresh.column(PLAIN.read("close").node) is first
    assert fresh.at(fresh.last - 1).column(PLAIN.read("price").node) is not first


def test_what_many_ask_at_once_is_what_one_is_told(fresh: View):
    texts = ["rsi(9)", "iv30 / mean(iv30, 40)", "squeeze_on", "rank_pct(volume, 80)", "sector"] * 6

    def ask(text: str) -> np.ndarray:
        column = fresh.at(fresh.last - 3).column(PLAIN.read(text).node)
        return column.texts if column.texts is not None else column.values

    with ThreadPoolExecutor(8) as pool:
        answers = list(pool.map(ask, texts))
    for text, answer in zip(texts, answers, strict=True):
        np.testing.assert_array_equal(answer, ask(text))


def test_warming_computes_the_whole_catalogue_and_says_how_far_it_is(fresh: View):
    shares: list[float] = []
    warm(fresh, shares.append)
    assert shares == sorted(shares)
    assert (shares[0], shares[-1]) == (0.0, 1.0)
    assert len(fresh.version._columns) >= len({PLAIN.read(key).node.key for key in METRICS})


def test_columns_are_named_by_the_catalogue_the_user_or_themselves():
    own = {"dear": Described("dear", "Dear", "Dear", "×", 3, "number")}
    assert describe("iv_rank", own, "number").label == "IV rank"
    assert describe("dear", own, "number").decimals == 3
    plain = describe("iv30 / hv21", own, "number")
    assert (plain.label, plain.unit) == ("iv30 / hv21", "")


def test_a_column_that_cannot_be_read_says_so_and_the_others_stay(market: View):
    good, bad = read_columns(market, PLAIN, {}, ["price", "prise", "price"])
    assert np.isfinite(good.values).all()
    assert bad.error is not None
    assert "Did you mean price" in bad.error
    assert bad.reasons(np.arange(5)) == {}


def test_own_metrics_are_words_of_their_owner_only():
    mine = with_own((("dear", "iv30 / hv63"),))
    assert mine.read("dear > 1").node.key == PLAIN.read("iv30 / hv63 > 1").node.key
    with pytest.raises(RuleError):
        PLAIN.read("dear > 1")
    assert with_own((("dear", "iv30 / hv63"),)) is mine, "read once"
    assert with_own(()) is PLAIN


def test_figures_that_newer_ones_are_overdue_of_say_how_old_they_are(market: View):
    rows = np.arange(market.panel.names)
    keys = ["price_to_book", "forward_pe", "days_to_cover", "price", "fundamentals_age", "eps_ttm / eps_next_year"]
    told = dict(zip(keys, read_columns(market, PLAIN, {}, keys), strict=True))
    stale = {key: column.stale(rows) for key, column in told.items()}
    age = {key: market.metric(key) for key in ("fundamentals_age", "estimates_age", "short_interest_age")}

    def expected(key: str, of: str, most: int) -> dict[int, int]:
        there = np.isfinite(told[key].values) & (age[of] > most)
        return {int(row): int(age[of][row]) for row in np.flatnonzero(there)}

    for key, of, most in (
        ("price_to_book", "fundamentals_age", 140),
        ("forward_pe", "estimates_age", 100),
        ("days_to_cover", "short_interest_age", 35),
    ):
        assert {row: one.days for row, one in stale[key].items()} == expected(key, of, most), key
    overdue = stale["price_to_book"]
    assert overdue, "the market has names whose reports are overdue"
    row, one = next(iter(overdue.items()))
    assert one.words == f"of a quarter that ended {one.days} days ago"
    assert stale["price"] == stale["fundamentals_age"] == {}
    # Of several figures the oldest is told.
    both = stale["eps_ttm / eps_next_year"]
    assert both[row].days == max(
        age["fundamentals_age"][row], age["estimates_age"][row] if age["estimates_age"][row] > 100 else 0
    )
    # As of an earlier session nothing of later is known, and ages are those of then.
    before = market.at(market.last - 200)
    [column] = read_columns(before, PLAIN, {}, ["price_to_book"])
    then = before.metric("fundamentals_age")
    assert {r: one.days for r, one in column.stale(rows).items()} == {
        int(r): int(then[r]) for r in np.flatnonzero(np.isfinite(column.values) & (then > 140))
    }


def test_the_screen_says_it_beside_the_value(client: FlaskClient, market: View):
    answer = client.post(
        "/api/screen",
        json={"stack": {"universe": "stock", "rules": []}, "columns": ["price_to_book", "price"], "count": 500},
    ).json
    columns = {one["key"]: one for one in answer["columns"]}
    age = market.metric("fundamentals_age")
    assert columns["price"]["stale"] == {}
    told = columns["price_to_book"]["stale"]
    assert told
    for symbol, one in told.items():
        assert one["days"] == age[market.row(symbol)] > 140
