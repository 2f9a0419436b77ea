"""Gamma exposure: the hedging, in currency, that a 1 % move asks of those who hold the other side of customers."""

from __future__ import annotations

import math
from typing import Any, Literal, NamedTuple, get_args

import numpy as np
from numpy.typing import ArrayLike

from flinch.core.arrays import BoolArray, FloatArray, IntArray, broadcast_flat, run_in_chunks, shaped
from flinch.core.compiled import njit
from flinch.core.pricing.normal import normal_pdf

SignRule = Literal["calls_sold_puts_bought", "both_bought", "both_sold"]
"""What customers are assumed to have done; dealers hold the other side."""

SIGN_RULES: dict[SignRule, tuple[float, float]] = {
    "calls_sold_puts_bought": (1.0, -1.0),
    "both_bought": (-1.0, -1.0),
    "both_sold": (1.0, 1.0),
}
"""The dealers' side of a call and of a put: 1 long, -1 short."""

RULE_WORDS: dict[SignRule, str] = {
    "calls_sold_puts_bought": "customers sell calls and buy puts: dealers are long calls, short puts",
    "both_sold": "customers sell both: dealers are long everything",
    "both_bought": "customers buy both: dealers are short everything",
}
"""Each rule as it is told wherever its outcome is shown."""

DEFAULT_RULE: SignRule = "calls_sold_puts_bought"


class Exposure(NamedTuple):
    """Currency per 1 % move, any one shape: signed for calls, for puts and net of both, and both without sign.

    `left_out` counts open contracts whose gamma is not known; they are in none of the sums.
    """

    call: FloatArray
    put: FloatArray
    net: FloatArray
    gross: FloatArray
    left_out: FloatArray


@njit(
    "void(f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1], f8[::1])",
    cache=True,
    nogil=True,
    error_model="numpy",
    fastmath={"contract"},
)
def _gamma_kernel(
    spot: FloatArray,
    strike: FloatArray,
    years: FloatArray,
    vol: FloatArray,
    rate: FloatArray,
    dividend_yield: FloatArray,
    out: FloatArray,
) -> None:
    for i in range(out.size):
        s, k, t, v, r, q = spot[i], strike[i], years[i], vol[i], rate[i], dividend_yield[i]
        if not (s > 0.0 and k > 0.0 and t > 0.0 and v > 0.0):
            out[i] = math.nan
            continue
        root = v * math.sqrt(t)
        d1 = (math.log(s / k) + (r - q + 0.5 * v * v) * t) / root
        out[i] = math.exp(-q * t) * normal_pdf(d1) / (s * root)


def contract_gamma(
    spot: ArrayLike,
    strike: ArrayLike,
    years: ArrayLike,
    vol: ArrayLike,
    *,
    rate: ArrayLike = 0.0,
    dividend_yield: ArrayLike = 0.0,
) -> Any:
    """Gamma alone, the same for call and put: what `greeks` gives for European exercise, without the other four.

    Parameters and units are those of `flinch.core.pricing.greeks`.

    Returns
    -------
    Change of delta per 1.00 of spot, in the broadcast shape; NaN where an argument is missing or outside its range.

    Notes
    -----
    Black & Scholes (1973); Merton (1973). What early exercise takes from it is left aside: it matters deep in the money, where
    gamma is small.
    """
    inputs, shape = broadcast_flat(spot, strike, years, vol, rate, dividend_yield)
    out = np.empty(inputs[0].size)
    run_in_chunks(_gamma_kernel, inputs, [out])
    return shaped(out, shape)


def dealer_side(is_call: ArrayLike, rule: SignRule = DEFAULT_RULE) -> FloatArray:
    """The dealers' side of every contract under an assumption, 1 long and -1 short; shape of `is_call`.

    Raises
    ------
    ValueError
        For another rule.
    """
    if rule not in SIGN_RULES:
        raise ValueError(f"no sign rule {rule!r}; there are {', '.join(get_args(SignRule))}")
    call, put = SIGN_RULES[rule]
    return np.where(np.asarray(is_call, dtype=bool), call, put)


def exposure_size(
    gamma: FloatArray, open_interest: FloatArray, multiplier: FloatArray | float, spot: FloatArray | float
) -> FloatArray:
    """Exposure of each contract without sign, currency per 1 % move: zero where nothing is open, NaN where the gamma of an open
    contract is not known. Arguments as for `gamma_exposure`."""
    with np.errstate(invalid="ignore"):
        size: FloatArray = np.where(open_interest > 0, gamma * open_interest * multiplier * np.square(spot) * 0.01, 0.0)
    return size


def gamma_exposure(
    gamma: FloatArray,
    open_interest: FloatArray,
    *,
    spot: FloatArray | float,
    is_call: BoolArray,
    multiplier: FloatArray | float = 100.0,
    rule: SignRule = DEFAULT_RULE,
    side: FloatArray | None = None,
    group: IntArray | None = None,
    groups: int = 1,
) -> Exposure:
    """Exposure summed by group: by strike, by expiry, by name, whatever `group` numbers.

    Parameters
    ----------
    gamma
        Per share and 1.00 of spot, shape (contracts,); NaN where it is not known.
    open_interest
        Contracts, at least zero, shape (contracts,).
    spot, multiplier
        Price of the underlying, and shares (or index units) a contract stands for; scalars or shape (contracts,).
    is_call
        Shape (contracts,).
    rule
        What customers are assumed to have done. Without a better one: they sell calls and buy puts, so that dealers are long
        calls and short puts. A choice, not a measurement; say which wherever the result is shown.
    side
        The dealers' side as measured, -1 to 1 a contract, in place of `rule`; shape (contracts,). A contract of which nothing
        is known has 0.
    group, groups
        Number of each contract's group and how many there are; all in one when left out.

    Returns
    -------
    `Exposure`, each of shape (groups,). A group without open contracts has zeros; one whose open contracts all lack gamma has
    NaN, with the contracts counted in `left_out`.

    Raises
    ------
    ValueError
        For another rule.

    Notes
    -----
    gamma * open interest * multiplier * spot^2 * 0.01 (Ni, Pearson, Poteshman & White 2021; Baltussen, Da, Lammers & Martens
    2021).
    """
    signs = dealer_side(is_call, rule) if side is None else np.asarray(side, dtype=np.float64)
    place = np.zeros(np.shape(gamma), dtype=np.int64) if group is None else group
    size = exposure_size(gamma, open_interest, multiplier, spot)
    counted = np.isfinite(size)
    hidden = np.where(counted, 0.0, open_interest)
    size = np.where(counted, size, 0.0)

    def total(values: FloatArray) -> FloatArray:
        return np.bincount(place, values, groups).astype(np.float64)

    left_out = total(hidden)
    unknown = (left_out > 0) & (total(size) == 0)
    call = np.where(unknown, np.nan, total(np.where(is_call, signs * size, 0.0)))
    put = np.where(unknown, np.nan, total(np.where(is_call, 0.0, signs * size)))
    return Exposure(call, put, call + put, np.where(unknown, np.nan, total(size)), left_out)
