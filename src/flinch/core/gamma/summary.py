"""What one chain says about every name: exposure, where it sits, when it goes, and what was opened."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, FloatArray, IntArray, group_bounds, group_sums, smallest_rows
from flinch.core.gamma.exposure import DEFAULT_RULE, SIGN_RULES, contract_gamma, exposure_size
from flinch.core.gamma.interest import by_strike
from flinch.core.gamma.profile import Contracts, gamma_flip


class StrikeRows(NamedTuple):
    """A call and a put of one expiration and strike a row, shape (rows,), in order of `name`.

    `name` numbers the names; expirations are dates. Time, fitted volatility and `carry` (the continuous yield of the forward)
    as for `flinch.core.pricing.greeks`; `multiplier` is shares a contract. Open interest is contracts, zero where a side is
    not listed; `_before` is that of the session before, NaN where the contract was not listed then.
    """

    name: IntArray
    expiration: NDArray[np.datetime64]
    strike: FloatArray
    years: FloatArray
    vol: FloatArray
    carry: FloatArray
    multiplier: FloatArray
    call_interest: FloatArray
    put_interest: FloatArray
    call_before: FloatArray
    put_before: FloatArray


class Positions(NamedTuple):
    """By name, shape (names,), in the order the columns are kept; NaN where there is no such thing.

    Exposures are currency per 1 % move under the default rule (puts below zero); strikes and flip are prices; amounts of
    interest are contracts, `top_strikes` a share. `near`, `week` and `month` are gross exposure in the next expiration, in
    those to the week's end and in the later ones to the month's end. `left_out` is open contracts without a gamma, which are in
    none of the exposures.
    """

    call_exposure: FloatArray
    put_exposure: FloatArray
    flip: FloatArray
    near_exposure: FloatArray
    week_exposure: FloatArray
    month_exposure: FloatArray
    peak_exposure_strike: FloatArray
    peak_interest_strike: FloatArray
    top_strikes: FloatArray
    interest_above: FloatArray
    opened: FloatArray
    opened_above: FloatArray
    opened_below: FloatArray
    largest_build: FloatArray
    largest_build_base: FloatArray
    left_out: FloatArray


def bucket_of(expiration: NDArray[np.datetime64], week_end: np.datetime64, month_end: np.datetime64) -> IntArray:
    """0 for expirations to the end of this week, 1 for later ones to the end of this month's cycle, 2 beyond.

    A month that ends with this week has no later ones.
    """
    found: IntArray = np.where(expiration <= week_end, 0, np.where(expiration <= month_end, 1, 2))
    return found


def summarise_positions(
    rows: StrikeRows, *, spot: FloatArray, rate: float, week_end: np.datetime64, month_end: np.datetime64
) -> Positions:
    """Positions of every name at one moment.

    Parameters
    ----------
    rows
        Every listed strike.
    spot
        By name, shape (names,).
    rate
        Continuously compounded.
    week_end, month_end
        The expirations that end the running cycles.

    Returns
    -------
    `Positions`. Exposures are NaN where a name has open contracts and no surface for any of them. `before` entirely missing for
    a name means that nothing is known of what was opened.

    Raises
    ------
    ValueError
        When the rows are not in order of their name.
    """
    names, name, strike = spot.size, rows.name, rows.strike
    price, bounds = spot[name], group_bounds(name, names)

    def total(values: FloatArray) -> FloatArray:
        return group_sums(values, bounds)

    gamma = contract_gamma(price, strike, rows.years, rows.vol, rate=rate, dividend_yield=rows.carry)
    calls, puts = (
        exposure_size(gamma, interest, rows.multiplier, price) for interest in (rows.call_interest, rows.put_interest)
    )
    interest = rows.call_interest + rows.put_interest
    unread = np.where(np.isnan(gamma), interest, 0.0)
    calls, puts = (np.where(np.isnan(side), 0.0, side) for side in (calls, puts))
    size = calls + puts
    # Where there are open contracts and none of them can be read, exposure is not known.
    known = (total(unread) == 0) | (total(size) > 0)

    def of_known(values: FloatArray) -> FloatArray:
        return np.where(known, total(values), np.nan)

    def of_part(part: BoolArray) -> FloatArray:
        found = total(np.where(part, size, 0.0))
        return np.where((found == 0) & (total(np.where(part, unread, 0.0)) > 0), np.nan, found)

    call_side, put_side = SIGN_RULES[DEFAULT_RULE]
    day = rows.expiration.astype("datetime64[D]").astype(np.int64)
    never = np.iinfo(np.int64).max
    next_day = np.full(names, never)
    filled = np.flatnonzero(np.diff(bounds))
    if filled.size:
        next_day[filled] = np.minimum.reduceat(np.where(rows.years > 0, day, never), bounds[filled])
    bucket = bucket_of(rows.expiration, week_end, month_end)
    weight = (call_side * rows.call_interest + put_side * rows.put_interest) * rows.multiplier
    flip = gamma_flip(Contracts(name, strike, rows.years, rows.vol, rows.carry, weight), spot, rate=rate)

    listed_before = total((np.isfinite(rows.call_before) | np.isfinite(rows.put_before)).astype(np.float64)) > 0
    call_opened, put_opened = (
        now - np.where(np.isnan(before), 0.0, before)
        for now, before in ((rows.call_interest, rows.call_before), (rows.put_interest, rows.put_before))
    )
    opened = call_opened + put_opened

    def of_opened(values: FloatArray) -> FloatArray:
        return np.where(listed_before, total(values), np.nan)

    top = smallest_rows(name, -np.maximum(call_opened, put_opened), names)
    is_call = call_opened[top] >= put_opened[top]
    built = np.where(top >= 0, np.where(is_call, call_opened[top], put_opened[top]), np.nan)
    base = np.nan_to_num(np.where(is_call, rows.call_before[top], rows.put_before[top]))
    grows = listed_before & (built > 0)
    exposed, holding = by_strike(name, strike, [size, interest], names)
    above = strike > price
    return Positions(
        call_exposure=of_known(call_side * calls),
        put_exposure=of_known(put_side * puts),
        flip=flip,
        near_exposure=of_part(day == next_day[name]),
        week_exposure=of_part(bucket == 0),
        month_exposure=of_part(bucket == 1),
        peak_exposure_strike=exposed.peak,
        peak_interest_strike=holding.peak,
        top_strikes=holding.top_share,
        interest_above=total(np.where(above, interest, 0.0)),
        opened=of_opened(opened),
        opened_above=of_opened(np.where(above, opened, 0.0)),
        opened_below=of_opened(np.where(strike < price, opened, 0.0)),
        largest_build=np.where(grows, built, np.nan),
        largest_build_base=np.where(grows, base, np.nan),
        left_out=total(unread),
    )
