"""What goes wrong in the sessions ahead leaves what was traded as it was: halts, fills told twice, corrections."""

from __future__ import annotations

import datetime as dt

import numpy as np
import polars as pl
import pytest

from flinch.feeds.simulated import SimulatedMarket
from flinch.feeds.simulated.mishaps import Halt, after_halt, amended, draw_halt, halted_at, without_halted
from flinch.store.market.tape import CANCELLED
from flinch.tape.fills import clean

OPENED = dt.datetime(2026, 9, 10, 13, 30, tzinfo=dt.UTC)
OPENS = 13 * 3_600_000 + 30 * 60_000
END = OPENS + 390 * 60_000
HALT = Halt(3, 100, 111)


def fills(rng: np.random.Generator, count: int = 20_000) -> pl.DataFrame:
    """Fills of ten names in one contract each, no two of one moment."""
    at = np.sort(rng.choice(np.arange(OPENS, END), count, replace=False))
    rows = {"name": rng.integers(0, 10, count), "at": at.astype(np.int32), "expiration": [dt.date(2026, 9, 18)] * count}
    rows |= {"strike": np.full(count, 50.0), "is_call": np.ones(count, np.bool_), "venue": np.full(count, 2, np.int16)}
    rows |= {"conditions": np.where(rng.random(count) < 0.01, CANCELLED, 0).astype(np.uint8)}
    rows |= {"price": np.full(count, 1.2), "contracts": rng.integers(1, 50, count).astype(np.int32)}
    return pl.DataFrame(rows | {"bid": np.full(count, 1.1), "ask": np.full(count, 1.3)}).sort("name", "at")


@pytest.fixture
def plain() -> pl.DataFrame:
    return fills(np.random.default_rng(3))


def cleaned(tape: pl.DataFrame):
    """As Flinch reads the tape."""
    contracts = tape.select("name", "expiration", "strike", "is_call").unique(maintain_order=True)
    return clean(tape.rename({"name": "name_id"}), contracts.rename({"name": "name_id"}))


def test_what_counts_of_an_amended_tape_is_what_was_traded(plain: pl.DataFrame):
    tape = amended(plain, END, np.random.default_rng(4))
    (before, was), (after, doubts) = cleaned(plain), cleaned(tape)
    assert doubts.doubled > 3
    assert doubts.cancelled > was.cancelled + 3
    assert tape.height == plain.height + doubts.doubled + doubts.cancelled - was.cancelled
    sums = [rows.group_by("name_id").agg(pl.col("contracts").sum()).sort("name_id") for rows in (before, after)]
    assert sums[0].equals(sums[1])
    assert tape.select("name", "at").equals(tape.select("name", "at").sort("name", "at"))


def test_a_corrected_fill_is_told_of_too_many_and_again_within_seconds(plain: pl.DataFrame):
    tape = amended(plain, END, np.random.default_rng(4))
    there = plain.with_columns(told=pl.lit(value=True))
    wrong = tape.join(there, on=plain.columns, how="anti").filter((pl.col("conditions") & CANCELLED) > 0)
    right = tape.join(there, on=plain.columns, how="anti").filter((pl.col("conditions") & CANCELLED) == 0)
    assert wrong.height == right.height > 3
    later = (right["at"] - wrong["at"]).to_numpy()
    assert ((later >= 1_000) & (later < 20_000)).all()
    assert (wrong["contracts"] == 10 * right["contracts"]).all()
    assert (wrong["name"] == right["name"]).all()


def test_no_correction_comes_after_the_session(plain: pl.DataFrame):
    last = plain.with_columns(at=pl.lit(END - 900, dtype=pl.Int32))
    tape = amended(last, END, np.random.default_rng(4))
    assert (tape["at"] == END - 900).all()
    assert tape.height > plain.height, "some are told twice"


def test_what_would_be_traded_in_a_halt_waits_for_its_end(plain: pl.DataFrame):
    moved = after_halt(plain, HALT, OPENS)
    minute = (moved["at"].to_numpy() - OPENS) // 60_000
    mine = moved["name"].to_numpy() == HALT.name
    assert not ((minute >= 100) & (minute < 111) & mine).any()
    waiting = plain.filter((pl.col("name") == 3) & ((pl.col("at") - OPENS) // 60_000).is_between(100, 110))
    assert waiting.height > 20
    usual = plain.filter((pl.col("name") == 3) & ((pl.col("at") - OPENS) // 60_000 == 111)).height
    assert ((minute == 111) & mine).sum() == waiting.height + usual
    others = pl.col("name") != 3
    assert moved.filter(others).equals(plain.filter(others))
    assert moved["contracts"].sum() == plain["contracts"].sum()
    assert moved.select("name", "at").equals(moved.select("name", "at").sort("name", "at"))
    assert after_halt(plain, None, OPENS) is plain


def test_a_halted_name_has_no_minutes_and_no_quotes_until_it_goes_on():
    at = [(OPENED + dt.timedelta(minutes=minute)).replace(tzinfo=None) for minute in range(390)]
    minutes = pl.DataFrame({"name": [3] * 390 + [4] * 390, "at": at * 2, "close": [1.0] * 780})
    left = without_halted(minutes, HALT, OPENED)
    assert left.filter(pl.col("name") == 4).height == 390
    mine = left.filter(pl.col("name") == 3)["at"].to_list()
    assert mine == at[:100] + at[111:]
    nobody = np.zeros(6, dtype=bool)
    quoted = {minute: not halted_at(HALT, minute, nobody)[3] for minute in (99, 100, 110, 111)}
    assert quoted == {99: True, 100: False, 110: False, 111: True}
    assert not nobody.any(), "what is asked with stays as it is"
    assert halted_at(HALT, 105, nobody).sum() == 1
    assert not halted_at(None, 105, nobody).any()


def test_about_every_other_session_has_a_halt_of_eleven_minutes(simulated: SimulatedMarket):
    drawn = [draw_halt(simulated.names, np.random.default_rng(seed)) for seed in range(400)]
    halts = [halt for halt in drawn if halt is not None]
    assert 150 < len(halts) < 250
    assert {halt.end - halt.begin for halt in halts} == {11}
    assert all(halt.begin >= 30 and halt.end < 390 and simulated.names[halt.name].kind == "stock" for halt in halts)
    assert len({halt.name for halt in halts}) > 100
