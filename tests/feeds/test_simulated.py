"""The simulated market: made up, the same everywhere, of one piece, and behaving like a market."""

import itertools
import re

import numpy as np
import polars as pl
import pytest
from scipy.stats import kurtosis

from flinch.core.calendar import years_to_close
from flinch.core.volatility import average_correlation, historical_vol
from flinch.core.volatility.chain import ChainQuotes, summarise_expiries
from flinch.feeds.simulated import SimulatedMarket
from flinch.feeds.simulated.calendar import AS_OF, listed_expirations
from flinch.feeds.simulated.chains import RATE
from flinch.feeds.simulated.names import listings
from flinch.feeds.simulated.storylines import storylines


@pytest.fixture(scope="module")
def summary(simulated: SimulatedMarket):
    """What publish reads from the chain."""
    chain, expiries = simulated.chain, simulated.expiries
    bid, ask = chain.bid.reshape(-1, 2), chain.ask.reshape(-1, 2)
    quotes = ChainQuotes(chain.expiry[::2], chain.strike[::2], bid[:, 0], ask[:, 0], bid[:, 1], ask[:, 1])
    spot = simulated.close[expiries.name, -1]
    return summarise_expiries(quotes, name=expiries.name, spot=spot, years=expiries.years, rate=RATE)


def of_size(simulated, size):
    return np.array([name.size == size for name in simulated.names])


def test_names_are_invented_distinct_and_shaped_as_promised():
    names = listings()
    kinds = [name.kind for name in names]
    assert (kinds.count("stock"), kinds.count("fund"), kinds.count("index")) == (480, 20, 2)
    assert len({name.symbol for name in names}) == len({name.company for name in names}) == 502
    assert all(re.fullmatch(r"[A-Z]{4}[AEIOU]", name.symbol) for name in names)
    assert len({name.sector for name in names if name.kind == "stock"}) == 12
    assert len({name.symbol[:4] for name in names}) == 502, "two symbols differ in their last letter only"


def test_a_larger_market_has_further_companies_of_the_same_kinds():
    names = listings(2_000)
    assert len(names) == len({name.symbol for name in names}) == 2_000
    assert [name for name in names if name in set(listings())] == listings()
    assert [name.kind for name in names[-22:]] == ["fund"] * 20 + ["index"] * 2
    assert all(re.fullmatch(r"[A-Z]{4}[AEIOU]", name.symbol) for name in names)
    sizes = [name.size for name in names if name.kind == "stock"]
    assert sizes.count("small") > sizes.count("medium") > sizes.count("large") > 50, "most of a whole market is small"
    assert listings(2_000) == names


def test_it_is_the_market_that_was_made_before(simulated: SimulatedMarket):
    # Coarse on purpose: these figures change when the simulator makes another market, not with a processor's last digit.
    # Then raise SIMULATOR_VERSION, so that a market loaded earlier is made afresh.
    assert len(simulated.chain.strike) == pytest.approx(228_076, rel=2e-3)
    assert np.log(simulated.close).mean() == pytest.approx(3.730, abs=5e-3)


def test_sessions_end_on_the_day_of_the_as_of_instant(simulated: SimulatedMarket):
    assert simulated.sessions.size == 504
    assert simulated.sessions[-1] == np.datetime64("2026-09-09")
    assert np.datetime64("2026-09-07") not in simulated.sessions, "a holiday Monday"
    assert np.all(np.diff(simulated.sessions) > np.timedelta64(0, "D"))


def test_bars_hold_together(simulated: SimulatedMarket):
    assert np.all(simulated.low > 0)
    assert np.all(simulated.high >= np.maximum(simulated.open, simulated.close))
    assert np.all(simulated.low <= np.minimum(simulated.open, simulated.close))
    assert np.all(simulated.volume[:500] > 0)
    assert np.isnan(simulated.volume[500:]).all(), "indices do not trade"


def test_quotes_make_sense(simulated: SimulatedMarket):
    chain = simulated.chain
    quoted = np.isfinite(chain.bid)
    assert np.all(chain.bid[quoted] >= 0)
    assert np.all(chain.ask[quoted] > chain.bid[quoted])
    assert np.all(np.isfinite(chain.ask) == quoted)
    assert np.all(chain.volume >= 0)
    assert np.all(chain.open_interest >= 0)
    assert chain.is_call.reshape(-1, 2).tolist() == [[True, False]] * (chain.strike.size // 2)


def test_spreads_narrow_with_liquidity(simulated: SimulatedMarket):
    chain = simulated.chain
    owner = simulated.expiries.name[chain.expiry]
    spot = simulated.close[owner, -1]
    near = (np.abs(np.log(chain.strike / spot)) < 0.05) & np.isfinite(chain.bid)
    width = (chain.ask - chain.bid) / (0.5 * (chain.ask + chain.bid))
    medians = [np.median(width[near & of_size(simulated, size)[owner]]) for size in ("large", "medium", "small")]
    assert medians == sorted(medians)
    assert medians[0] < 0.05


def test_the_chains_volume_is_the_days_option_volume(simulated: SimulatedMarket):
    owner = simulated.expiries.name[simulated.chain.expiry]
    total = np.bincount(owner, simulated.chain.volume, minlength=len(simulated.names))
    assert np.array_equal(
        total, simulated.option_days["call_volume"][:, -1] + simulated.option_days["put_volume"][:, -1]
    )


def test_larger_names_list_more(simulated: SimulatedMarket):
    owner = simulated.expiries.name[simulated.chain.expiry]
    contracts = np.bincount(owner, minlength=len(simulated.names))
    small, medium, large = (np.median(contracts[of_size(simulated, size)]) for size in ("small", "medium", "large"))
    assert 2 * small < medium < large / 2


def test_expirations_fall_on_fridays_or_before_a_holiday():
    day = np.datetime64("2026-09-09")
    large = listed_expirations(day, "large", True)
    assert np.datetime64("2026-09-11") == large[0]
    assert np.datetime64("2026-09-18") in large
    assert np.datetime64("2027-06-17") in large, "Friday 18 June 2027 is a holiday"
    assert listed_expirations(day, "small", False)[0] == np.datetime64("2026-09-18")
    minutes = years_to_close(large[:1], AS_OF)[0] * 525_600
    assert minutes == pytest.approx(2 * 1440 + 15), "two days and a quarter of an hour"


def test_true_surfaces_are_free_of_calendar_arbitrage(simulated: SimulatedMarket):
    expiries = simulated.expiries
    total = expiries.vol**2 * expiries.years
    same = np.diff(expiries.name) == 0
    assert np.all(np.diff(total)[same] > 0)


def test_volatility_read_from_the_chain_is_the_true_one_within_the_quoting_noise(simulated: SimulatedMarket, summary):
    size = np.array([name.size for name in simulated.names])[simulated.expiries.name]
    error = summary.vol - simulated.expiries.vol
    for name, noise in (("large", 0.004), ("medium", 0.010), ("small", 0.022)):
        seen = np.isfinite(error) & (size == name)
        assert seen.sum() > 0.9 * (size == name).sum()
        assert np.sqrt(np.mean(error[seen] ** 2)) < noise
        assert abs(np.mean(error[seen] / simulated.expiries.vol[seen])) < 0.01


def test_parity_gives_forwards_within_a_tick_or_two(simulated: SimulatedMarket, summary):
    spot = simulated.close[simulated.expiries.name, -1]
    lean = np.log(summary.forward / spot) - RATE * simulated.expiries.years
    assert summary.forward_from_parity.mean() > 0.95
    assert np.all(lean[summary.forward_from_parity] < 0.03)
    assert np.quantile(lean, 0.05) > -0.08, "no dividend yield above four per cent, none longer than two years"


def autocorrelation(values: np.ndarray, sessions: int) -> np.ndarray:
    """Of each row, with itself that many sessions earlier."""
    away = values - values.mean(axis=1, keepdims=True)
    earlier, later = away[:, :-sessions], away[:, sessions:]
    return (earlier * later).sum(axis=1) / np.sqrt((earlier**2).sum(axis=1) * (later**2).sum(axis=1))


@pytest.fixture(scope="module")
def returns(simulated: SimulatedMarket) -> np.ndarray:
    """Of the companies without a planted case."""
    planted = {story.symbol for story in storylines()}
    plain = [i for i, name in enumerate(simulated.names[:480]) if name.symbol not in planted]
    return np.diff(np.log(simulated.close[plain]), axis=1)


def test_returns_have_fat_tails_and_volatility_clusters(returns: np.ndarray):
    assert 2 < np.median(kurtosis(returns, axis=1)) < 8
    assert abs(np.median(autocorrelation(returns, 1))) < 0.03, "what was says nothing of the direction"
    size = np.abs(returns)
    assert 0.10 < np.median(autocorrelation(size, 1)) < 0.25
    assert 0.02 < np.median(autocorrelation(size, 20)) < 0.10, "a restless month is followed by another"


def test_names_move_together_as_they_do(simulated: SimulatedMarket, returns: np.ndarray):
    planted = {story.symbol for story in storylines()}
    sector = np.array([name.sector for name in simulated.names[:480] if name.symbol not in planted])
    pairs = np.triu_indices(sector.size, 1)
    alike = (sector[:, None] == sector)[pairs]
    together = np.corrcoef(returns)[pairs]
    assert 0.20 < np.median(together) < 0.35
    assert 0.35 < np.median(together[alike]) < 0.50
    index = next(i for i, name in enumerate(simulated.names) if name.symbol == "GLUDO")
    falls = np.diff(np.log(simulated.close[index])) < 0
    falling, rising = (np.median(np.corrcoef(returns[:, days])[pairs]) for days in (falls, ~falls))
    assert falling > rising + 0.03


def test_volume_has_a_memory_and_rises_with_the_move(simulated: SimulatedMarket):
    volume = np.log(simulated.volume[:480])
    assert 0.4 < np.median(autocorrelation(volume, 1)) < 0.7
    size = np.abs(np.diff(np.log(simulated.close[:480]), axis=1))
    alike = [np.corrcoef(v, m)[0, 1] for v, m in zip(volume[:, 1:], size, strict=True)]
    assert 0.3 < np.median(alike) < 0.8


def test_shares_turn_over_as_they_do_and_shorts_are_covered_in_days(simulated: SimulatedMarket):
    turnover = np.median(simulated.volume[:480], axis=1) / simulated.float_shares[:480]
    assert 0.005 < np.median(turnover) < 0.015
    newest = simulated.short_interest.sort("settled_on").group_by("name").last().sort("name")
    rows = newest["name"].to_numpy()
    days = newest["shares"].to_numpy() / simulated.volume[rows, -50:].mean(axis=1)
    assert 2 < np.median(days) < 6
    assert np.quantile(days, 0.9) < 15


def test_funds_imply_about_the_correlation_that_their_members_have(simulated: SimulatedMarket):
    vol = np.diff(np.log(simulated.close), axis=1).std(axis=1)
    iv30, whole = simulated.volatility["iv30"].mean(axis=1), len(simulated.names) - 2
    weights = simulated.members[-2]
    had = average_correlation(vol[[whole]], vol[:480, None], weights)[0]
    implied = average_correlation(iv30[[whole]], iv30[:480, None], weights)[0]
    assert abs(implied - had) < 0.1
    assert 0.15 < had < 0.45


def test_implied_lies_above_realised_on_average_and_not_always(simulated: SimulatedMarket):
    bars = (simulated.open, simulated.high, simulated.low, simulated.close)
    after = historical_vol(*bars, 21, estimator="yang_zhang")[:480, 21:]
    ratio = simulated.volatility["iv30"][:480, :-21] / after
    assert 1.02 < np.nanmedian(ratio) < 1.3
    assert 0.1 < np.nanmean(ratio < 1) < 0.45


def test_earnings_variance_shows_before_and_collapses_after(simulated: SimulatedMarket):
    e = simulated.earnings
    past = (e.reaction > 30) & (e.reaction < 500) & (e.company < 480)
    weekly = np.array([name.size == "large" for name in simulated.names])[e.company]
    before = simulated.volatility["iv7"][e.company, np.clip(e.reaction - 1, 0, 503)][past & weekly]
    after = simulated.volatility["iv7"][e.company, np.clip(e.reaction, 0, 503)][past & weekly]
    assert np.median(before / after) > 1.25
    assert np.mean(before > after) > 0.9


def test_the_jump_on_earnings_is_of_the_size_that_was_priced_with_error(simulated: SimulatedMarket):
    e = simulated.earnings
    ratio = np.abs(e.jump) / e.priced_move
    assert 0.4 < np.median(ratio) < 0.7, "a little under the median of a normal move, with fatter tails"
    assert ratio.max() < 4


def test_funds_are_baskets(simulated: SimulatedMarket):
    returns = np.diff(np.log(simulated.close), axis=1)
    names = {name.symbol: row for row, name in enumerate(simulated.names)}
    whole, index = names["TRAFA"], names["GLUDO"]
    assert np.corrcoef(returns[whole], returns[index])[0, 1] > 0.99
    assert returns[whole].std() < np.median(returns[:480].std(axis=1)) / 1.6


def test_minutes_are_of_one_piece_with_the_day(simulated: SimulatedMarket):
    bars = simulated.minute_bars
    assert bars["high"].ge(bars["low"]).all()
    assert (bars["high"] >= bars["open"]).all()
    assert (bars["low"] <= bars["close"]).all()
    assert bars.select("name", "at").is_duplicated().sum() == 0
    last = bars.filter(bars["name"] == 0).tail(1)
    assert str(last["at"][0]) == "2026-09-09 19:44:00", "the newest minute before 15:45 in New York"
    assert last["close"][0] == simulated.close[0, -1]
    fenso = next(i for i, name in enumerate(simulated.names) if name.symbol == "FENSO")
    stopped = bars.filter(bars["name"] == fenso)["at"].max()
    assert stopped.hour == 14, "halted before eleven in New York"


def test_mornings_lead_from_the_last_close_to_the_open(simulated: SimulatedMarket):
    hours = simulated.extended
    seen = np.isfinite(hours.pre_last)
    assert np.all(hours.pre_high[seen] >= hours.pre_last[seen])
    assert np.all(hours.pre_low[seen] <= hours.pre_last[seen])
    night = np.abs(np.log(simulated.open[:, 1:] / simulated.close[:, :-1]))
    left = np.abs(np.log(simulated.open[:, 1:] / hours.pre_last[:, 1:]))
    assert np.nanmedian(left) < 0.25 * np.median(night)
    small = of_size(simulated, "small")
    assert seen[small].mean() < 0.8 < seen[of_size(simulated, "large")].mean()
    assert np.isnan(hours.post_last[:, -1]).all(), "this evening is still ahead"
    busy = np.abs(np.diff(np.log(simulated.close), axis=1)) > 0.08
    share = (hours.pre_volume / simulated.volume.mean(axis=1, keepdims=True))[:, 1:]
    assert np.nanmean(share[busy]) > 1.5 * np.nanmean(share[~busy])


def contracts_of(simulated: SimulatedMarket, place: int) -> pl.DataFrame:
    """A snapshot's contracts with their keys."""
    snapshot = simulated.snapshots[place]
    chain, expiries = snapshot.chain, snapshot.expiries
    return pl.DataFrame(
        {
            "name": expiries.name[chain.expiry],
            "expiration": expiries.expiration[chain.expiry],
            "strike": chain.strike,
            "is_call": chain.is_call,
            "volume": chain.volume,
            "open_interest": chain.open_interest,
        }
    )


KEY = ["name", "expiration", "strike", "is_call"]


def test_snapshots_are_six_closes_and_five_of_the_newest_session(simulated: SimulatedMarket):
    sessions = [snapshot.session for snapshot in simulated.snapshots]
    assert sessions == [497, 498, 499, 500, 501, 502] + [503] * 5
    assert [f"{s.taken_at:%H:%M}" for s in simulated.snapshots[6:]] == ["10:00", "11:30", "13:00", "14:30", "15:45"]
    assert simulated.snapshots[-1].taken_at == AS_OF
    assert np.array_equal(simulated.snapshots[-1].spot, simulated.close[:, -1])
    assert np.array_equal(simulated.snapshots[5].spot, simulated.close[:, 502])


def test_within_a_session_volume_grows_and_open_interest_stays(simulated: SimulatedMarket):
    day = simulated.snapshots[6:]
    for earlier, later in itertools.pairwise(day):
        assert np.array_equal(earlier.chain.strike, later.chain.strike)
        assert np.array_equal(earlier.chain.open_interest, later.chain.open_interest), "it is counted in the morning"
        assert np.all(later.chain.volume >= earlier.chain.volume)
        assert later.chain.volume.sum() > earlier.chain.volume.sum()
        assert np.all(later.expiries.years < earlier.expiries.years)


def test_open_interest_follows_the_trades_of_the_session_before(simulated: SimulatedMarket):
    # Two planted cases are given what is open at their start.
    bases = {story.symbol for story in storylines() if any(plant.base is not None for plant in story.interest)}
    given = [row for row, name in enumerate(simulated.names) if name.symbol in bases]
    for place in range(6):
        before, after = contracts_of(simulated, place), contracts_of(simulated, place + 1)
        both = before.join(after, on=KEY, suffix="_after").filter(~pl.col("name").is_in(given))
        change = both["open_interest_after"] - both["open_interest"]
        assert (change.abs() <= both["volume"]).all(), "nothing opens or closes without a trade"
        assert (after["open_interest"] >= 0).all()
        new = after.join(before, on=KEY, how="anti")
        assert (new["open_interest"] == 0).all(), "what was just listed has nobody in it"
        day = simulated.sessions[simulated.snapshots[place + 1].session]
        assert (after["expiration"].to_numpy() > day).all(), "what expired is gone"
        kept = before.filter(pl.col("expiration").is_in(after["expiration"].unique().to_list()))
        assert kept.join(after, on=KEY, how="anti").is_empty(), "a listed strike stays until it expires"


def test_exposure_of_every_session_is_there_and_moves(simulated: SimulatedMarket):
    net = simulated.positions["call_exposure"] + simulated.positions["put_exposure"]
    assert np.isfinite(net).all()
    assert 0.3 < (net > 0).mean() < 0.7
    turns = (np.sign(net[:, 1:]) != np.sign(net[:, :-1])).sum(axis=1)
    assert 5 < np.median(turns) < 100
    flips = simulated.positions["flip"] / simulated.close
    assert 0.3 < np.isfinite(flips).mean() < 0.8
    assert np.nanmin(flips) > 0.79
    assert np.nanmax(flips) < 1.21


def test_what_is_opened_follows_the_volume_of_the_session_before(simulated: SimulatedMarket):
    days = simulated.option_days
    volume = (days["call_volume"] + days["put_volume"])[:, 1:-1]
    opened = simulated.positions["opened"][:, 2:]
    corr = [np.corrcoef(c, v)[0, 1] for c, v in zip(opened, volume, strict=True)]
    assert np.median(corr) > 0.5


def test_facts_are_plausible_and_mostly_agree(simulated: SimulatedMarket):
    rows = simulated.fundamentals
    assert (rows["period_end"] < rows["known_on"]).all()
    one, two = (rows.filter(rows["source"] == source) for source in (1, 2))
    apart = np.abs(one["book"].to_numpy() / two["book"].to_numpy() - 1)
    assert 0.01 < (apart > 0.05).mean() < 0.1
    assert np.median(apart) < 0.005
    newest = simulated.sessions[-1].astype("datetime64[D]")
    assert (simulated.short_interest["known_on"].to_numpy().astype("datetime64[D]") <= newest).all()
    assert (simulated.short_interest["settled_on"] < simulated.short_interest["known_on"]).all()
    ahead = simulated.dividends.filter(simulated.dividends["ex_date"].to_numpy().astype("datetime64[D]") > newest)
    assert len(ahead) > 50
    assert (ahead["declared_on"].to_numpy().astype("datetime64[D]") <= newest).all(), "declared by now"
    assert np.allclose(simulated.members.sum(axis=1), 1)


def test_headlines_go_with_what_happens(simulated: SimulatedMarket):
    news, market = simulated.news, simulated
    day = news["at"].dt.replace_time_zone("UTC").dt.convert_time_zone("America/New_York").dt.date()
    told = news.with_columns(
        session=pl.Series(np.searchsorted(market.sessions, day.to_numpy().astype("datetime64[D]")))
    )
    of = [name.company for name in market.names]
    about = told.filter(pl.col("name") >= 0)
    assert all(line.startswith(of[row]) for row, line in about.select("name", "headline").iter_rows())
    # Every report of a session that traded is told of its day, and what it says goes with how price reacts.
    e = market.earnings
    reports = told.filter(topic="report")
    inside = (e.announced >= 0) & (e.announced < 504)
    inside[inside] &= market.traded[e.company[inside], e.announced[inside]]
    assert set(reports.select("name", "session").iter_rows()) == set(
        zip(e.company[inside].tolist(), e.announced[inside].tolist(), strict=True)
    )
    reacted = {(c, a): r for c, a, r in zip(e.company.tolist(), e.announced.tolist(), e.reaction.tolist(), strict=True)}
    moved = {"more than expected": [], "less than expected": []}
    for row, session, line in reports.select("name", "session", "headline").iter_rows():
        after = reacted[row, session]
        for words, moves in moved.items():
            if line.endswith(words) and 0 < after < 504:
                moves.append(np.log(market.close[row, after] / market.close[row, after - 1]))
    assert np.median(moved["more than expected"]) > 0.02
    assert np.median(moved["less than expected"]) < -0.02
    # Up goes with what is good and down with what is not.
    change = np.diff(np.log(market.close), axis=1, prepend=np.nan)
    for topic, sign in (("takeover", 1), ("upgrade", 1), ("downgrade", -1), ("legal", -1)):
        rows = about.filter(topic=topic)
        assert (sign * change[rows["name"], rows["session"]] > 0).all(), topic
    # One line sums up each close, right of the direction.
    closing = told.filter(topic="market").sort("session")
    assert closing["session"].to_list() == list(range(1, 504))
    stock = [name.kind == "stock" for name in market.names]
    mean = (market.close[stock, 1:] / market.close[stock, :-1] - 1).mean(axis=0)
    assert (closing["headline"].str.contains("higher").to_numpy() == (mean >= 0.001)).all()
    assert (closing["headline"].str.contains("lower").to_numpy() == (mean <= -0.001)).all()
