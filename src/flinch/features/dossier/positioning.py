"""Dossier, positioning: gamma exposure and open interest of one name, where they lie, and how they are changing."""

from __future__ import annotations

import datetime as dt
from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray, find
from flinch.core.calendar import is_monthly
from flinch.core.gamma import (
    DEFAULT_RULE,
    RULE_WORDS,
    SIGN_RULES,
    Contracts,
    Exposure,
    SignRule,
    bucket_of,
    contract_gamma,
    dealer_side,
    exposure_profile,
    gamma_exposure,
    gamma_flip,
    interest_change,
    likely_spreads,
    put_call_ratio,
    spot_grid,
)
from flinch.core.moves import running_ends
from flinch.core.pricing import Exercise, option_price, usable_quote
from flinch.core.rules import percent
from flinch.core.volatility import smile_vol
from flinch.features.dossier.moves import Fan, fan_over
from flinch.features.dossier.positioning_schemas import (
    Adjusted,
    Against,
    Bucket,
    BucketName,
    Build,
    Changes,
    ExpiryPart,
    ExposureHistory,
    PositioningQuery,
    PositioningView,
    Profile,
    Recent,
    Side,
    Spread,
    StrikePart,
)
from flinch.features.dossier.service import NOT_KEPT
from flinch.market import View
from flinch.store.market.chain import Snapshot, read_adjusted, read_chain, read_spots, stored
from flinch.store.market.looks import read_looks_before
from flinch.store.market.surfaces import Expiry
from flinch.store.reading import numbers

_LISTED = 12
_BARS = 21
BUCKETS: tuple[BucketName, ...] = ("week", "month", "beyond")


class _Chain(NamedTuple):
    """One name's contracts at one moment, shape (contracts,); NaN where not known."""

    spot: float
    expiration: np.ndarray
    strike: FloatArray
    is_call: BoolArray
    interest: FloatArray
    volume: FloatArray
    mid: FloatArray
    years: FloatArray
    vol: FloatArray
    carry: FloatArray
    gamma: FloatArray

    def of(self, rows: BoolArray) -> _Chain:
        return _Chain._make([self.spot, *[values[rows] for values in self[1:]]])

    def contracts(self) -> list[tuple[dt.date, float, bool]]:
        return list(
            zip(self.expiration.astype(object).tolist(), self.strike.tolist(), self.is_call.tolist(), strict=True)
        )


def positioning(view: View, symbol: str, query: PositioningQuery) -> PositioningView:
    """Where one name's exposure and open interest lie; raises UnknownName."""
    row = view.row(symbol)
    multiplier, rate, spot = view.multiplier(row), view.rate, view.price(row)
    exercise = view.exercise(row)
    kept = view.snapshot
    # Without a kept chain there are no contracts; what was summed up of them is.
    now = _chain(view, row, kept.taken_at if kept else view.as_of, spot, view.expirations(row))
    against, yesterday = (_moment(view, row, moment) if kept else None for moment in (query.against, "yesterday"))
    before = _earlier(view, row, against) if against else None
    opened_since = before if against == yesterday else _earlier(view, row, yesterday) if yesterday else None

    listed = np.unique(now.expiration)
    asked = {np.datetime64(part, "D") for part in query.expirations.split(",")} if query.expirations else set()
    chosen = np.array([not asked or day in asked for day in listed], dtype=bool)
    if not chosen.any():
        chosen[:] = True
    place = np.searchsorted(listed, now.expiration)
    by_expiry = _exposure(now, multiplier, query.rule, place, listed.size)
    whole = _whole(now, multiplier, query.rule)
    chosen_now = now.of(chosen[place])
    chosen_before = before.of(np.isin(before.expiration, listed[chosen])) if before else None
    missing = view.reason("call_exposure", row)
    net_history, net_before = (
        _net(view.daily(f"call_exposure{when}", row), view.daily(f"put_exposure{when}", row), query.rule)
        for when in ("", "_before")
    )
    daily_value = float(view.metric("avg_dollar_volume_21")[row])

    def metric(key: str) -> float:
        return float(view.metric(key)[row])

    stored_flip = float(view.daily("flip", row)[view.last]) if query.rule == DEFAULT_RULE else float("nan")
    flip = _flip(now, multiplier, query.rule, rate) if kept else stored_flip
    why_no_flip = _no_flip(flip) if kept or query.rule == DEFAULT_RULE else NOT_KEPT
    builds, unwinds = _changes(now, opened_since)
    return PositioningView(
        symbol=view.name(row).symbol,
        spot=spot,
        rule=query.rule,
        says=RULE_WORDS[query.rule],
        multiplier=multiplier,
        against=against.taken_at if against else None,
        now=_side(whole, daily_value) if kept else _stored_side(view, row, query.rule, daily_value),
        chain_kept=kept is not None,
        before=_side(_whole(before, multiplier, query.rule) if before else None, daily_value),
        changes=_net_changes(net_history, net_before, view.last),
        daily_value=daily_value,
        flip=flip,
        flip_reason=missing or why_no_flip,
        peak_exposure=metric("peak_exposure_strike"),
        peak_interest=metric("peak_interest_strike"),
        top_strikes_pct=metric("top_strikes_share"),
        put_call_interest=metric("put_call_open_interest"),
        put_call_volume=metric("put_call_volume"),
        roll_off_pct=metric("roll_off_share"),
        next_expiration=next((e.expiration for e in view.expirations(row)), None),
        left_out=int(whole.left_out[0]),
        adjusted=_adjusted(view, row),
        strikes=_strikes(chosen_now, chosen_before, multiplier, query.rule),
        profile=_profile(chosen_now, multiplier, query.rule, rate, missing or (None if kept else NOT_KEPT)),
        expiries=_expiries(view, listed, chosen, place, now, opened_since, by_expiry),
        buckets=_buckets(view, listed, by_expiry) if kept else _stored_buckets(view, row),
        fan=_fan(view, row, query.fan),
        recent=Recent(sessions=view.sessions[-_BARS:], close=view.prices(row)[3][-_BARS:].tolist()),
        builds=builds,
        unwinds=unwinds,
        spreads=_spreads(now, opened_since, multiplier, rate, exercise),
        history=ExposureHistory(
            sessions=view.sessions, net=net_history.tolist(), close=view.prices(row)[3].tolist()
        ),
        reason=missing,
    )  # fmt: skip


def _side(exposure: Exposure | None, daily_value: float) -> Side:
    """Exposure added up from a chain."""
    call, put, net, gross = (float(v[0]) for v in exposure[:4]) if exposure else (np.nan,) * 4
    return Side(call=call, put=put, net=net, gross=gross, net_pct=percent(net / daily_value))


def _stored_side(view: View, row: int, rule: SignRule, daily_value: float) -> Side:
    """The same from the sums that were kept of the session, turned to the rule asked for."""
    call, put = (float(view.daily(f"{side}_exposure", row)[view.last]) for side in ("call", "put"))
    calls, puts = (ours / usual for ours, usual in zip(SIGN_RULES[rule], SIGN_RULES[DEFAULT_RULE], strict=True))
    net = calls * call + puts * put
    gross = abs(call) + abs(put)
    return Side(call=calls * call, put=puts * put, net=net, gross=gross, net_pct=percent(net / daily_value))


def _net_changes(net: FloatArray, at_the_snapshot_before: FloatArray, last: int) -> Changes:
    """Of net exposure, shape (sessions,), up to the session `last`."""

    def since(sessions: int) -> float:
        return float(net[last] - net[last - sessions]) if last >= sessions else float("nan")

    return Changes(snapshot=float(net[last] - at_the_snapshot_before[last]), yesterday=since(1), week=since(5))


def _adjusted(view: View, row: int) -> list[Adjusted]:
    """Contracts that a corporate action changed, at the session's kept chain."""
    rows = read_adjusted(view.store, view.id(row), view.snapshot.taken_at if view.snapshot else view.as_of)
    return [
        Adjusted(shares=shares, cash=cash, contracts=contracts, open_interest=interest)
        for _, _, shares, cash, contracts, interest in rows.iter_rows()
    ]


def _net(call: FloatArray, put: FloatArray, rule: SignRule) -> FloatArray:
    """Net exposure under a rule from the sums kept under the usual one, in which puts are below zero."""
    (calls, puts), (usual_calls, usual_puts) = SIGN_RULES[rule], SIGN_RULES[DEFAULT_RULE]
    dollars: FloatArray = call * calls / usual_calls + put * puts / usual_puts
    return dollars


def _moment(view: View, row: int, against: Against) -> Snapshot | None:
    """The look at a name's chain before the newest one, or the last one of the session before, or of five sessions before."""
    snapshots = view.snapshots
    newest = snapshots[-1]
    if against == "snapshot":
        looks = [s.taken_at for s in snapshots if s.session == newest.session]
        before = read_looks_before(view.store, looks, view.id(row))["looked_at"].to_list()
        return next((s for s in snapshots if before and stored(s.taken_at) == before[0]), None)
    last_of = {s.session: s for s in snapshots if s.session < newest.session}
    sessions, back = sorted(last_of), 1 if against == "yesterday" else 5
    return last_of[sessions[-back]] if len(sessions) >= back else None


def _earlier(view: View, row: int, moment: Snapshot) -> _Chain:
    expiries = view.expirations_at(row, moment)
    price = read_spots(view.store, moment.taken_at, view.id(row))["price"]
    return _chain(view, row, moment.taken_at, float(price[0]) if price.len() else float("nan"), expiries)


def _chain(view: View, row: int, taken_at: dt.datetime, spot: float, expiries: list[Expiry]) -> _Chain:
    rows = read_chain(view.store, view.id(row), taken_at)
    expiration = rows["expiration"].to_numpy().astype("datetime64[D]")
    strike, is_call = numbers(rows["strike"]), rows["is_call"].to_numpy().astype(bool)
    listed = np.array([e.expiration for e in expiries], dtype="datetime64[D]")
    # A contract whose expiration was not read at that moment has no volatility: the last place, which is missing.
    place = find(listed, expiration)
    years, forward, carry = (
        np.array([*(getattr(e, key) for e in expiries), np.nan], dtype=np.float64)[place]
        for key in ("years", "forward", "carry")
    )
    parameters = np.array([*(e.svi for e in expiries), [np.nan] * 5], dtype=np.float64)[place]
    with np.errstate(invalid="ignore", divide="ignore"):
        vol = smile_vol(parameters, years, np.log(strike / forward))
    gamma = contract_gamma(spot, strike, years, vol, rate=view.rate, dividend_yield=carry)
    bid, ask = numbers(rows["bid"]), numbers(rows["ask"])
    mid = np.where(usable_quote(bid, ask), 0.5 * (bid + ask), np.nan)
    interest, volume = numbers(rows["open_interest"]), numbers(rows["volume"])
    return _Chain(spot, expiration, strike, is_call, interest, volume, mid, years, vol, carry, np.atleast_1d(gamma))


def _exposure(chain: _Chain, multiplier: float, rule: SignRule, group: IntArray, groups: int) -> Exposure:
    return gamma_exposure(
        chain.gamma, chain.interest, spot=chain.spot, is_call=chain.is_call, multiplier=multiplier, rule=rule,
        group=group.astype(np.int64), groups=groups,
    )  # fmt: skip


def _whole(chain: _Chain, multiplier: float, rule: SignRule) -> Exposure:
    return _exposure(chain, multiplier, rule, np.zeros(chain.strike.size, dtype=np.int64), 1)


def _weights(chain: _Chain, multiplier: float, rule: SignRule) -> Contracts:
    weight = dealer_side(chain.is_call, rule) * chain.interest * multiplier
    group = np.zeros(chain.strike.size, dtype=np.int64)
    return Contracts(group, chain.strike, chain.years, chain.vol, chain.carry, weight)


def _flip(chain: _Chain, multiplier: float, rule: SignRule, rate: float) -> float:
    return float(gamma_flip(_weights(chain, multiplier, rule), np.array([chain.spot]), rate=rate)[0])


def _no_flip(flip: float) -> str | None:
    return None if np.isfinite(flip) else "exposure has one sign within 20 % of the price"


def _profile(chain: _Chain, multiplier: float, rule: SignRule, rate: float, missing: str | None) -> Profile:
    net = exposure_profile(_weights(chain, multiplier, rule), np.array([chain.spot]), rate=rate)[0]
    flip = _flip(chain, multiplier, rule, rate)
    return Profile(
        spots=spot_grid(chain.spot).tolist(),
        net=[] if missing else net.tolist(),
        flip=flip,
        reason=missing or _no_flip(flip),
    )


def _strikes(now: _Chain, before: _Chain | None, multiplier: float, rule: SignRule) -> list[StrikePart]:
    every = np.unique(np.concatenate([now.strike, before.strike if before else now.strike[:0]]))

    def of(chain: _Chain | None) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
        if chain is None:
            nothing = np.zeros(every.size)
            return nothing, nothing, nothing, nothing
        place = np.searchsorted(every, chain.strike)
        exposure = _exposure(chain, multiplier, rule, place, every.size)
        calls, puts = (
            np.bincount(place, np.where(chain.is_call == side, chain.interest, 0.0), every.size).astype(np.float64)
            for side in (True, False)
        )
        return exposure.call, exposure.put, calls, puts

    (call, put, calls, puts), (call_b, put_b, calls_b, puts_b) = of(now), of(before)
    return [
        StrikePart(
            strike=float(every[i]),
            call_exposure=call[i],
            put_exposure=put[i],
            call_exposure_before=call_b[i],
            put_exposure_before=put_b[i],
            call_interest=int(calls[i]),
            put_interest=int(puts[i]),
            call_interest_before=int(calls_b[i]),
            put_interest_before=int(puts_b[i]),
        )
        for i in range(every.size)
    ]


def _bucketed(view: View, listed: np.ndarray) -> IntArray:
    return bucket_of(listed, *running_ends(view.calendar, np.datetime64(view.today, "D"), over=view.over))


def _expiries(
    view: View,
    listed: np.ndarray,
    chosen: BoolArray,
    place: IntArray,
    now: _Chain,
    before: _Chain | None,
    exposure: Exposure,
) -> list[ExpiryPart]:
    buckets = _bucketed(view, listed)
    calls, puts = (
        np.bincount(place, np.where(now.is_call == side, now.interest, 0.0), listed.size).astype(np.float64)
        for side in (True, False)
    )
    put_call = put_call_ratio(puts, calls)
    opened = np.bincount(place, interest_change(now.interest, _matched(now, before)).contracts, listed.size)
    whole = float(np.nansum(exposure.gross))
    days = (listed - np.datetime64(view.today, "D")).astype(np.int64)
    return [
        ExpiryPart(
            expiration=listed[i].astype(object),
            days=int(days[i]),
            monthly=bool(is_monthly(listed[i : i + 1], view.calendar)[0]),
            bucket=BUCKETS[buckets[i]],
            chosen=bool(chosen[i]),
            call=exposure.call[i],
            put=exposure.put[i],
            net=exposure.net[i],
            share=percent(exposure.gross[i] / whole) if whole else None,
            interest=int(calls[i] + puts[i]),
            put_call=put_call[i],
            opened=int(opened[i]) if before else 0,
        )
        for i in range(listed.size)
    ]


def _buckets(view: View, listed: np.ndarray, exposure: Exposure) -> list[Bucket]:
    buckets = _bucketed(view, listed)
    gross = np.bincount(buckets, np.nan_to_num(exposure.gross), 3)
    net = np.bincount(buckets, np.nan_to_num(exposure.net), 3)
    whole = float(gross.sum())
    return [
        Bucket(bucket=name, net=net[i] if whole else None, share=percent(gross[i] / whole) if whole else None)
        for i, name in enumerate(BUCKETS)
    ]


def _stored_buckets(view: View, row: int) -> list[Bucket]:
    """Shares of what was summed up of chains that are not kept."""
    week, month = (float(view.daily(f"{period}_exposure", row)[view.last]) for period in ("week", "month"))
    whole = sum(abs(float(view.daily(f"{side}_exposure", row)[view.last])) for side in ("call", "put"))
    parts = (week, month, whole - week - month)
    return [
        Bucket(bucket=name, net=None, share=percent(part / whole) if whole else None)
        for name, part in zip(BUCKETS, parts, strict=True)
    ]


def _fan(view: View, row: int, asked: dt.date | None) -> Fan | None:
    readable = view.readable_expirations(row)
    if not readable:
        return None
    monthly = [e for e in readable if is_monthly(np.array(e.expiration, dtype="datetime64[D]"), view.calendar)]
    expiry = next((e for e in readable if e.expiration == asked), (monthly or readable)[0])
    calendar, so_far = view.calendar, view.end
    end = int(np.searchsorted(calendar, np.datetime64(expiry.expiration, "D")))
    price = view.price(row)
    half = price * expiry.vol * float(np.sqrt(max(expiry.years, 0.0)))
    return fan_over("ahead", calendar[so_far - 1 : end + 1], price, half, current=True) if end >= so_far else None


def _matched(now: _Chain, before: _Chain | None) -> FloatArray:
    """Open interest before, at the rows of now; NaN where a contract was not listed."""
    interest_before = dict(zip(before.contracts(), before.interest.tolist(), strict=True)) if before else {}
    return np.array([interest_before.get(key, np.nan) for key in now.contracts()], dtype=np.float64)


def _changes(now: _Chain, before: _Chain | None) -> tuple[list[Build], list[Build]]:
    """The contracts that gained and lost most open interest, by contracts."""
    if before is None:
        return [], []
    was = _matched(now, before)
    change = interest_change(now.interest, was)
    order = np.argsort(-change.contracts, kind="stable")

    def told(rows: np.ndarray) -> list[Build]:
        return [
            Build(
                expiration=now.expiration[i].astype(object),
                strike=now.strike[i],
                is_call=bool(now.is_call[i]),
                interest=int(now.interest[i]),
                before=int(np.nan_to_num(was[i])),
                change=int(change.contracts[i]),
                percent=percent(change.percent[i]),
                small_base=bool(change.small_base[i]),
                volume=int(now.volume[i]),
                new=bool(np.isnan(was[i])),
            )
            for i in rows
        ]

    gained = order[change.contracts[order] > 0][:_LISTED]
    lost = order[::-1][change.contracts[order[::-1]] < 0][:_LISTED]
    return told(gained), told(lost)


def _spreads(now: _Chain, before: _Chain | None, multiplier: float, rate: float, exercise: Exercise) -> list[Spread]:
    """What was opened in equal amounts at two strikes; at mid where both are usably quoted, else at the fitted prices."""
    if before is None:
        return []
    opened = interest_change(now.interest, _matched(now, before)).contracts
    pairs = likely_spreads(now.expiration.astype(np.int64), now.strike, now.is_call, opened)
    out = []
    for lower, upper, contracts in pairs[:_LISTED]:
        rows = np.array([lower, upper])
        fitted = bool(np.isnan(now.mid[rows]).any())
        near, far = option_price(
            now.spot, now.strike[rows], now.years[rows], now.vol[rows], is_call=now.is_call[rows], rate=rate,
            dividend_yield=now.carry[rows], exercise=exercise,
        ) if fitted else now.mid[rows]  # fmt: skip
        cost = abs(float(near - far))
        out.append(
            Spread(
                expiration=now.expiration[lower].astype(object),
                is_call=bool(now.is_call[lower]),
                lower=now.strike[lower],
                upper=now.strike[upper],
                contracts=int(contracts),
                cost=cost,
                fitted=fitted,
                total=cost * multiplier * contracts,
            )
        )
    return out
