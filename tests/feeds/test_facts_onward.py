"""What becomes known of the companies in the sessions ahead: when it does, and that it goes on from what was known."""

from __future__ import annotations

import zlib

import numpy as np
import polars as pl
import pytest

from flinch.feeds.simulated import SimulatedMarket
from flinch.feeds.simulated.calendar import all_sessions
from flinch.feeds.simulated.facts_onward import FIGURES, Company, Facts, facts_of_session
from flinch.feeds.simulated.storylines import Storyline

AHEAD = 130
FIRST = int(np.searchsorted(all_sessions(), np.datetime64("2026-09-10")))
RISES = 0.001
"""What every price rises by in a session."""


def by_id(rows: pl.DataFrame) -> pl.DataFrame:
    return rows.rename({"name": "name_id"}).with_columns(pl.col("name_id") + 1)


def together(known: Facts, told: Facts) -> Facts:
    return Facts(
        *(
            pl.concat([a.select(b.columns), b.cast(a.select(b.columns).schema)])
            for a, b in zip(known, told, strict=True)
        )
    )


def asked(session: np.datetime64, company: Company, closes: np.ndarray, known: Facts, reported: np.ndarray) -> Facts:
    rng = np.random.default_rng(zlib.crc32(str(session).encode()))
    return facts_of_session(session, company, reported, closes, known, rng)


@pytest.fixture(scope="module")
def company(simulated: SimulatedMarket, stories: dict[str, Storyline]) -> Company:
    planted = {story.symbol: story for story in stories.values()}
    return Company(simulated.names, planted, simulated.shares_outstanding, simulated.carry)


@pytest.fixture(scope="module")
def known(simulated: SimulatedMarket) -> Facts:
    frames = (simulated.fundamentals, simulated.estimates, simulated.dividends, simulated.short_interest)
    return Facts(*map(by_id, frames))


@pytest.fixture(scope="module")
def ahead(simulated: SimulatedMarket, company: Company, known: Facts) -> list[Facts]:
    """What half a year tells; ten companies report in each session, and none twice before all others have."""
    told, now = [], known
    stocks = np.flatnonzero([name.kind == "stock" for name in simulated.names])
    closes = simulated.close[:, -64:]
    for place in range(AHEAD):
        reported = np.roll(stocks, -10 * place)[:10]
        made = asked(all_sessions()[FIRST + place], company, closes, now, reported)
        told.append(made)
        now = together(now, made)
        closes = np.concatenate([closes[:, 1:], closes[:, -1:] * np.exp(RISES)], axis=1)
    return told


def all_of(ahead: list[Facts], kind: str) -> pl.DataFrame:
    return pl.concat([getattr(one, kind) for one in ahead])


def places(rows: pl.DataFrame, column: str) -> np.ndarray:
    return np.searchsorted(all_sessions(), rows[column].to_numpy().astype("datetime64[D]"))


def test_dividends_come_a_quarter_apart_and_are_declared_before(ahead: list[Facts], known: Facts):
    told = all_of(ahead, "dividends")
    assert set(told["name_id"]) == set(known.dividends["name_id"]), "who paid goes on paying, and nobody else begins"
    assert (places(told, "ex_date") - places(told, "declared_on") == 25).all()
    whole = pl.concat([known.dividends.select(told.columns), told.cast(known.dividends.select(told.columns).schema)])
    for (name,), rows in whole.sort("ex_date").group_by("name_id"):
        apart = np.diff(places(rows, "ex_date")[-4:])
        assert (apart == 63).all(), name
        amounts = rows["amount"].to_numpy()
        assert 0.7 < amounts[-1] / amounts[-3] < 1.5


def test_short_interest_is_settled_every_tenth_session_and_known_eight_later(
    ahead: list[Facts], known: Facts, company: Company
):
    told = all_of(ahead, "short_interest")
    assert set(told["name_id"]) == set(known.short_interest["name_id"])
    assert (places(told, "known_on") - places(told, "settled_on") == 8).all()
    last = known.short_interest["settled_on"].max()
    first = told["settled_on"].min()
    assert np.diff(np.searchsorted(all_sessions(), np.array([last, first], "datetime64[D]"))).tolist() == [10]
    assert told.group_by("name_id").len()["len"].unique().to_list() == [AHEAD // 10]
    share = told["shares"].to_numpy() / company.shares[told["name_id"].to_numpy() - 1]
    assert (share > 0).all()
    assert (share <= 0.45 + 1e-6).all()


def test_who_is_short_of_what_rises_buys_some_back(company: Company, known: Facts, simulated: SimulatedMarket):
    session = all_sessions()[FIRST + 9]
    risen, still = simulated.close[:, -64:].copy(), simulated.close[:, -64:].copy()
    still[:, :] = still[:, -1:]
    risen[:, :] = still
    risen[:, -9:] *= 1.2
    nobody = np.empty(0, dtype=np.int64)
    one, other = (asked(session, company, closes, known, nobody).short_interest for closes in (risen, still))
    assert other.height > 400
    assert np.median(one["shares"].to_numpy() / other["shares"].to_numpy()) == pytest.approx(1.2**-0.6, rel=0.01)


def test_each_company_is_estimated_once_a_month(ahead: list[Facts], known: Facts):
    told = all_of(ahead, "estimates")
    whole = pl.concat([known.estimates.select(told.columns), told.cast(known.estimates.select(told.columns).schema)])
    for _, rows in whole.sort("known_on").group_by("name_id"):
        assert (np.diff(places(rows, "known_on")[-6:]) == 21).all()
    assert (told["fair_value"].to_numpy() > 0).all()


def test_both_sources_tell_what_was_reported_and_disagree_where_they_did(
    ahead: list[Facts], known: Facts, company: Company
):
    told = all_of(ahead, "fundamentals")
    silent = {row + 1 for row, name in enumerate(company.names) if _silent(company, name.symbol)}
    assert silent
    assert not silent & set(told["name_id"])
    for one in ahead:
        assert one.fundamentals["name_id"].n_unique() in (8, 9, 10)
        assert one.fundamentals.group_by("name_id").len()["len"].unique().to_list() == [2]
    book = told.pivot("source", index=["name_id", "known_on"], values="book").with_columns(
        off=pl.col("2") / pl.col("1")
    )
    was = known.fundamentals.sort("period_end").group_by("name_id", "source", maintain_order=True).last()
    was = was.pivot("source", index="name_id", values="book").with_columns(was=pl.col("2") / pl.col("1"))
    both = book.join(was.select("name_id", "was"), on="name_id")
    apart = both.filter((pl.col("was") - 1).abs() > 0.05)
    assert apart.height > 20
    assert (apart["off"] - apart["was"]).abs().max() < 0.01
    alike = both.filter((pl.col("was") - 1).abs() < 0.01)
    assert (alike["off"] - 1).abs().max() < 0.02
    assert told.select(FIGURES).to_numpy().std(axis=0).min() > 0


def _silent(company: Company, symbol: str) -> bool:
    return symbol in company.planted and company.planted[symbol].stale_since is not None


def test_earnings_go_with_price(company: Company, known: Facts, simulated: SimulatedMarket):
    """A price that rose by a fifth in the quarter lifts earnings by a good tenth: 0.6 of its logarithm and a little."""
    reported = np.flatnonzero([name.kind == "stock" for name in simulated.names])
    closes = np.full((len(simulated.names), 64), 100.0)
    closes[:, -1] = 120.0
    told = asked(all_sessions()[FIRST], company, closes, known, reported).fundamentals.filter(pl.col("source") == 1)
    was = known.fundamentals.filter(pl.col("source") == 1).sort("period_end").group_by("name_id").last()
    grown = told.join(was, on="name_id").select(pl.col("eps_ttm") / pl.col("eps_ttm_right"))["eps_ttm"]
    assert grown.median() == pytest.approx(1 + 0.015 + 0.6 * np.log(1.2), abs=0.01)


def test_free_cash_flow_is_reported_once_a_year(company: Company, known: Facts, simulated: SimulatedMarket):
    reported = np.flatnonzero([name.kind == "stock" for name in simulated.names])
    told = []
    for quarter in range(4):
        session = all_sessions()[FIRST + 63 * quarter]
        told.append(asked(session, company, simulated.close[:, -64:], known, reported))
        known = together(known, told[-1])
    mine = known.fundamentals.filter(pl.col("source") == 1).join(told[0].fundamentals, on="name_id", how="semi")
    rows = mine.sort("name_id", "period_end").group_by("name_id", maintain_order=True).tail(5)
    changes = rows.group_by("name_id").agg((pl.col("fcf_ttm").diff().fill_null(0.0) != 0).sum())["fcf_ttm"]
    assert changes.unique().to_list() == [1]


def test_who_asks_twice_is_told_the_same(company: Company, known: Facts, simulated: SimulatedMarket):
    session, closes = all_sessions()[FIRST + 9], simulated.close[:, -64:]
    reported = np.array([3, 5, 8])
    once = asked(session, company, closes, known, reported)
    again = asked(session, company, closes, together(known, once), reported)
    for one, other in zip(once, again, strict=True):
        assert one.height > 0
        assert one.equals(other)
