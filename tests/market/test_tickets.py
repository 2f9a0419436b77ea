"""Tickets of all names as a table: each name's are those of its own tape, and rules on them are what a plain loop finds."""

import datetime as dt

import numpy as np
import pytest

from flinch.core.flow import KINDS, OPENING
from flinch.core.rules import TICKETS
from flinch.feeds.simulated.calendar import EXCHANGE_ZONE
from flinch.market import PLAIN_TABLES, View
from flinch.market.tape import read_name_tape, tape_since
from flinch.market.tickets import LABELS, MOST_FILLS, MOST_SESSIONS, TicketTable, _newest, ticket_table

READ = PLAIN_TABLES["tickets"]


@pytest.fixture(scope="module")
def table(market: View) -> TicketTable:
    return ticket_table(market)


def values(table: TicketTable, text: str) -> np.ndarray:
    return table.column(READ.read(text).node).values


def yes(table: TicketTable, text: str) -> np.ndarray:
    truth = table.column(READ.read(text).node).truth
    assert truth is not None
    return truth.yes


def test_it_has_five_sessions_in_order_of_time(market: View, table: TicketTable):
    assert [day.session for day in table.days] == list(range(market.last - 4, market.last + 1))
    assert len(table.days) == MOST_SESSIONS
    assert table.size > 500_000
    for day in table.days:
        assert (np.diff(day.columns["first"]) >= 0).all()
    assert set(np.unique(values(table, "sessions_ago"))) == {0, 1, 2, 3, 4}


@pytest.mark.parametrize("symbol", ["TARNO", "GLUDO", "BELUA"])
@pytest.mark.parametrize("back", [0, 3])
def test_a_name_s_tickets_are_those_of_its_own_tape(market: View, table: TicketTable, symbol: str, back: int):
    row, session = market.row(symbol), market.last - back
    read = read_name_tape(market, row, session)
    assert read is not None
    mine = np.flatnonzero((table.name == row) & (table.session == session))
    assert mine.size == read.tickets.first.size
    expected = {
        "premium": read.tickets.premium,
        "contracts": read.tickets.contracts,
        "fill_price": read.tickets.price,
        "strike": read.contracts["strike"].to_numpy()[read.tickets.contract],
        "out_of_the_money_pct": 100 * read.away,
        "price_then": read.spot,
        "lean": read.lean,
        "share_equivalent": read.shares,
        "since": tape_since(market, row, read),
        "contract_volume": read.so_far,
        "in_package": read.packages.of_ticket >= 0,
        "is_roll": read.rolls.other >= 0,
        "fills": read.tickets.fills,
        "venues": read.tickets.venues,
    }
    for key, found in expected.items():
        np.testing.assert_allclose(values(table, key)[mine], found, rtol=2e-6, atol=2e-4, err_msg=key)
    for key, words in (
        ("ticket_kind", [KINDS[k] for k in read.tickets.kind]),
        ("opening", [OPENING[o] for o in read.opening]),
    ):
        column = table.column(READ.read(key).node).categories
        assert column is not None
        assert [column.labels[code] for code in column.codes[mine]] == words


def test_a_rule_on_the_ticket_and_its_name_is_a_plain_loop(market: View, table: TicketTable):
    text = (
        "is_call and premium >= 6_000 and dte <= 75 and out_of_the_money_pct > 3 and ask_share >= 70 "
        "and 1.5e9 <= market_cap <= 8e9 and since <= 0.5"
    )
    found = yes(table, text)
    cap = market.metric("market_cap")
    columns = {
        key: values(table, key) for key in ("is_call", "premium", "dte", "out_of_the_money_pct", "ask_share", "since")
    }
    rng = np.random.default_rng(1)
    looked = np.concatenate([np.flatnonzero(found)[:200], rng.integers(0, table.size, 3_000)])
    assert found.sum() > 5
    for i in looked.tolist():
        one = {key: column[i] for key, column in columns.items()}
        expected = (
            one["is_call"] == 1 and one["premium"] >= 6_000 and one["dte"] <= 75 and one["out_of_the_money_pct"] > 3
            and one["ask_share"] >= 70 and 1.5e9 <= cap[table.name[i]] <= 8e9 and one["since"] <= 0.5
        )  # fmt: skip
        assert found[i] == expected


def test_what_is_asked_of_names_goes_to_their_tickets(market: View, table: TicketTable):
    np.testing.assert_array_equal(values(table, "iv_rank"), market.metric("iv_rank")[table.name])
    sector = market.panel.texts["sector"]
    np.testing.assert_array_equal(yes(table, 'sector == "Household"'), (sector == "Household")[table.name])
    mean = market.metric("avg_option_volume_21")
    np.testing.assert_array_equal(
        yes(table, "contracts > 0.02 * avg_option_volume_21"), values(table, "contracts") > (0.02 * mean)[table.name]
    )


def test_first_in_is_by_hand(market: View, table: TicketTable):
    """Looking back through the largest tickets of each session before, and through the same day."""
    largest = {right: market.frame.daily[f"largest_{right}_premium"] for right in ("call", "put")}
    rare = np.flatnonzero(values(table, "first_in") >= 2)
    rng = np.random.default_rng(2)
    premium, first_in = table.raw("premium").astype(float), values(table, "first_in")
    is_call = table.raw("is_call")
    for i in [*rng.choice(rare, 40), *rng.integers(0, table.size, 40)]:
        row, session = table.name[i], table.session[i]
        same = (table.name == row) & (table.session == session) & (is_call == is_call[i])
        earlier = np.flatnonzero(same)
        if (premium[earlier[earlier < i]] >= premium[i]).any():
            expected = 0
        else:
            past = largest["call" if is_call[i] else "put"][row, :session][::-1]
            known = past[np.isfinite(past)]
            reached = np.flatnonzero(known >= premium[i])
            expected = reached[0] + 1 if reached.size else known.size
        assert first_in[i] == expected


def test_unusual_is_the_sum_of_its_five_parts(table: TicketTable):
    keys = ("size_part", "interest_part", "ask_part", "novelty_part", "urgency_part")
    parts = np.array([values(table, key) for key in keys])
    total = values(table, "unusual")
    np.testing.assert_allclose(total, parts.sum(axis=0), rtol=1e-12)
    assert np.nanmin(parts) >= 0
    assert np.nanmax(parts) <= 1
    weighted = values(table, "2 * size_part + novelty_part")
    np.testing.assert_allclose(weighted, 2 * parts[0] + parts[3])
    np.testing.assert_array_equal(parts[3], np.minimum(1, values(table, "first_in") / 60))


def test_rolls_say_the_same_on_both_sides(table: TicketTable):
    day = table.days[-1]
    roll = day.columns["roll"]
    one = np.flatnonzero(roll >= 0)
    assert one.size > 100
    for key in ("roll_ratio", "roll_strike_pct", "roll_days"):
        np.testing.assert_array_equal(day.columns[key][one], day.columns[key][roll[one]])
        assert np.isnan(day.columns[key][roll < 0]).all()
    sold = np.where(day.columns["side"][one] == 0, one, roll[one])
    bought = np.where(sold == one, roll[one], one)
    np.testing.assert_allclose(
        day.columns["roll_ratio"][one], day.columns["premium"][bought] / day.columns["premium"][sold], rtol=1e-5
    )


def test_at_an_earlier_time_nothing_later_is_known(market: View, table: TicketTable):
    until = dt.datetime.combine(market.today, dt.time(11, 30), EXCHANGE_ZONE)
    then = ticket_table(market, until)
    midnight = dt.datetime.combine(market.today, dt.time(), dt.UTC)
    last = int((until.astimezone(dt.UTC) - midnight).total_seconds() * 1000)
    day, whole = then.days[-1], table.days[-1]
    assert day.columns["first"].max() < last
    assert 0 < day.size < whole.size
    # Tickets that were over by then are the same; volume so far and what opened are those of that time.
    same = int(np.searchsorted(day.columns["first"], last - 120_000))
    assert same > 1_000
    for key in ("name", "contract", "premium", "price_then", "first_in"):
        np.testing.assert_array_equal(day.columns[key][:100], whole.columns[key][:100], err_msg=key)
    assert (day.contracts["volume"] <= whole.contracts["volume"]).all()
    assert day.contracts["volume"].sum() < whole.contracts["volume"].sum()
    # What is daily of a name is of the session before.
    np.testing.assert_array_equal(
        values(then, "change_pct"), market.at(market.last - 1).metric("change_pct")[then.name]
    )
    # The price now is that of the last minute which had ended.
    row = market.row("TARNO")
    minutes = market.day_bars(row)
    place = (11 * 60 + 30 - (9 * 60 + 30)) // 5
    assert then.price[row] == pytest.approx(minutes.close[0, place - 1])
    assert then.price[row] != market.price(row)


def test_as_of_a_session_the_morning_after_is_not_known(market: View):
    past = market.at(market.last - 2)
    table = ticket_table(past)
    assert table.days[-1].session == past.last
    assert np.isnan(table.days[-1].contracts["next_open_interest"]).all()
    assert np.isfinite(table.days[0].contracts["next_open_interest"]).any()
    np.testing.assert_allclose(values(table, "since"), _since(past, table), equal_nan=True)


def _since(view: View, table: TicketTable) -> np.ndarray:
    now, lean, then = (
        view.frame.close[:, view.last][table.name],
        table.raw("lean").astype(int),
        values(table, "price_then"),
    )
    moves = {day.session: view.at(day.session).metric("one_day_move") for day in table.days}
    move = np.concatenate([moves[day.session][day.columns["name"]] for day in table.days])
    return np.where(lean != 0, lean * (now - then) / move, np.nan)


def test_before_any_tape_it_is_empty_and_answers(market: View):
    table = ticket_table(market.at(market.last - 40))
    assert table.size == 0
    for key in TICKETS:
        column = table.column(READ.read(key).node)
        assert (column.categories.codes if column.categories else column.values).size == 0
    assert set(LABELS) <= set(TICKETS)


def test_some_tickets_are_taken_from_every_day(table: TicketTable):
    rows = np.sort(np.random.default_rng(4).choice(table.size, 5_000, replace=False))
    for some in (rows, rows[:0], rows[rows > table.begin[4]], rows[rows < table.begin[1]]):
        np.testing.assert_array_equal(table.take("premium", some), table.raw("premium")[some])


def test_a_contract_over_days_is_added_up(table: TicketTable):
    volume, interest, later = (table.contract_days(k) for k in ("volume", "open_interest", "next_open_interest"))
    rng = np.random.default_rng(5)
    for begin in (0, 2, 4):
        over = table.over(begin)
        busy = np.flatnonzero((volume > 0).sum(axis=0) == 1)
        for c in [*rng.integers(0, volume.shape[1], 30), *rng.choice(busy, 30)]:
            days = range(begin, 5)
            assert over.volume[c] == sum(float(volume[d, c]) for d in days if volume[d, c] == volume[d, c])
            listed = [float(interest[d, c]) for d in days if interest[d, c] == interest[d, c]]
            assert over.open_interest[c] == listed[0] if listed else np.isnan(over.open_interest[c])
            known = [float(later[d, c] - interest[d, c]) for d in days if later[d, c] == later[d, c]]
            known = [value for value in known if value == value]
            assert over.opened[c] == sum(known) if known else np.isnan(over.opened[c])
            traded = [begin - d for d in range(begin) if volume[d, c] > 0]
            assert over.quiet[c] == min(traded) if traded else np.isnan(over.quiet[c])


def test_a_market_too_large_is_held_for_fewer_sessions():
    days = [dt.date(2026, 9, day) for day in range(1, 9)]
    newest = days[-1]
    assert _newest(dict.fromkeys(days, 10), newest) == days[-5:]
    assert _newest(dict.fromkeys(days, 10), days[2]) == days[:3]
    assert _newest(dict.fromkeys(days, MOST_FILLS // 2), newest) == days[-2:]
    assert _newest(dict.fromkeys(days, MOST_FILLS // 2 + 1), newest) == days[-1:]
    assert _newest(dict.fromkeys(days, 2 * MOST_FILLS), newest) == days[-1:], "one is always held"
    assert _newest({}, newest) == []
