"""Rules on a table of things: their own columns beside what is known of the names that they belong to."""

import numpy as np
import pytest

from flinch.core.rules import (
    METRICS,
    TICKET_GROUPS,
    TICKETS,
    Categories,
    Panel,
    RuleError,
    Truth,
    daily_vocabulary,
    evaluate,
    name_parts,
    series_keys,
    ticket_vocabulary,
)

NAN = float("nan")
OWN = frozenset(key for key, metric in TICKETS.items() if metric.read)


def parts_of(text: str) -> tuple[str, set[str]]:
    node, parts = name_parts(ticket_vocabulary().read(text).node, OWN)
    return node.key, set(parts)


def test_what_is_asked_of_names_is_taken_out_whole():
    assert parts_of("premium >= 5")[1] == set()
    cap = daily_vocabulary().read("market_cap").node
    for text in ("premium > 5 and market_cap < 8e9", "market_cap < 8e9 and premium > 5"):
        assert parts_of(text)[1] == {daily_vocabulary().read("market_cap < 8e9").node.key}
    assert parts_of("premium / market_cap > 0.1")[1] == {cap.key}
    scaled = daily_vocabulary().read("0.1 * mean(option_volume, 21)").node
    assert parts_of("contracts > 0.1 * mean(option_volume, 21)")[1] == {scaled.key}
    assert parts_of("iv_rank")[1] == {daily_vocabulary().read("iv_rank").node.key}, "a rule on names alone is one part"
    assert parts_of("3 > 2")[1] == set(), "a constant asks nobody"


def test_the_rest_reads_the_things_and_the_parts_only():
    node, parts = name_parts(
        ticket_vocabulary().read("is_call and since < 0.5 * iv_rank and sector in ('A',)").node, OWN
    )
    assert series_keys(node) <= OWN | set(parts)


def test_a_function_of_the_past_is_not_for_tickets():
    with pytest.raises(RuleError) as error:
        ticket_vocabulary().read("iv30 > 1 and mean(premium, 5) > 3")
    assert "which only a name has" in error.value.message
    assert (error.value.start, error.value.end) == (13, 29)
    for fine in ("mean(iv30, 5) > 3", "abs(since) > 1", "larger(premium, mean(iv30, 5)) > 2", "is_known(since)"):
        assert ticket_vocabulary().read(fine).node.kind == "condition"
    with pytest.raises(RuleError):
        ticket_vocabulary().read("lag(iv30 * premium, 1) > 3")


def test_tickets_and_names_have_no_word_in_common_and_every_entry_explains_itself():
    assert not set(TICKETS) & set(METRICS)
    assert {metric.group for metric in TICKETS.values()} == set(TICKET_GROUPS)
    for metric in TICKETS.values():
        assert metric.definition.endswith(".")
        assert len(metric.short) <= 12
        assert ticket_vocabulary().read(metric.key).node.kind == metric.kind


def run(text: str, series: dict, texts: dict):
    node = ticket_vocabulary().read(text).node
    count = len(next(iter(series.values())))
    columns = {key: np.array(values, np.float64)[:, None] for key, values in series.items()}
    return evaluate([node], Panel(count, 1, columns, texts), 0, 1)[0]


def test_conditions_that_are_read_have_three_values():
    found = run("is_call", {"is_call": [1, 0, NAN]}, {})
    assert isinstance(found, Truth)
    assert found.yes[:, 0].tolist() == [True, False, False]
    assert found.no[:, 0].tolist() == [False, True, False]
    both = run("not is_call and premium > 2", {"is_call": [0, 0, 1, NAN], "premium": [3, 1, 3, 3]}, {})
    assert both.yes[:, 0].tolist() == [True, False, False, False]
    assert both.no[:, 0].tolist() == [False, True, True, False]


def test_texts_by_few_labels():
    side = Categories(np.array([2, 0, 1, -1]), ("bid", "mid", "ask"))
    found = run('side in ("ask", "mid")', {"premium": [1, 1, 1, 1]}, {"side": side})
    assert found.yes[:, 0].tolist() == [True, False, True, False]
    assert found.no[:, 0].tolist() == [False, True, False, False], "what is missing is unknown"
    assert run('side == "nothing"', {"premium": [1] * 4}, {"side": side}).yes.sum() == 0
    whole = run("side", {"premium": [1] * 4}, {"side": side})
    assert whole.counts() == {"bid": 1, "mid": 1, "ask": 1}
    assert whole[np.array([0, 3])].counts() == {"ask": 1}


def test_many_things_are_run_in_blocks_and_come_back_in_order():
    count = 300_001
    values = np.arange(count, dtype=np.float64)
    side = Categories(np.arange(count) % 3, ("bid", "mid", "ask"))
    found = run('premium >= 150000 and side == "ask"', {"premium": values}, {"side": side})
    assert np.flatnonzero(found.yes[:, 0]).tolist() == [i for i in range(150_000, count) if i % 3 == 2]
    assert run("side", {"premium": values}, {"side": side}).codes.tolist() == side.codes.tolist()
