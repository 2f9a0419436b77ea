"""The catalogue's values for every name, with a reason where there is none."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, FloatArray
from flinch.core.moves import one_day_move, spent
from flinch.core.volatility import MIN_OBSERVATIONS, historical_vol, observed_sessions, vol_percentile, vol_rank
from flinch.core.volatility.estimators import rolling_mean

VOLUME_WINDOW = 50
SHORT_WINDOW = 21


@dataclass(frozen=True)
class MetricInputs:
    """What the catalogue is computed from.

    Bars, volumes and `iv30` have shape (names, sessions); the rest (names,). Volatilities are annualised decimals; NaN where
    missing. `nearest_vol` is the volatility of the nearest expiration, `quoted` whether any expiration could be read today.
    """

    kind: NDArray[np.str_]
    shares_outstanding: FloatArray
    open: FloatArray
    high: FloatArray
    low: FloatArray
    close: FloatArray
    volume: FloatArray
    option_volume: FloatArray
    iv30: FloatArray
    nearest_vol: FloatArray
    days_to_earnings: FloatArray
    quoted: BoolArray


@dataclass(frozen=True)
class Column:
    """One metric for every name, shape (names,), in the catalogue's unit; `reasons` says why a row is NaN."""

    values: FloatArray
    reasons: dict[int, str] = field(default_factory=dict)


def compute_columns(m: MetricInputs) -> dict[str, Column]:
    """Every metric of the catalogue at the newest session.

    Parameters
    ----------
    m
        Histories that end at the session asked for.

    Returns
    -------
    A `Column` for every key of `METRICS`. A value that cannot be computed is NaN and has a reason.
    """
    names = m.close.shape[0]
    price = m.close[:, -1]
    previous = m.close[:, -2] if m.close.shape[1] > 1 else np.full(names, np.nan)
    iv30 = m.iv30[:, -1]
    recent = slice(-SHORT_WINDOW - 1, None)
    hv21 = historical_vol(
        m.open[:, recent], m.high[:, recent], m.low[:, recent], m.close[:, recent], SHORT_WINDOW, estimator="yang_zhang"
    )[:, -1]
    day_move = one_day_move(price, m.nearest_vol)
    seen = observed_sessions(m.iv30)
    stock = m.kind == "stock"

    no_price = (~np.isfinite(price), "no trade in this session")
    no_previous = (~np.isfinite(previous), "the previous session is missing")
    no_quotes = (~m.quoted, "no usable option quotes in this session")
    no_iv = (~np.isfinite(iv30), "no expiration around thirty days could be read")
    few = (seen < MIN_OBSERVATIONS, [f"{n} sessions observed, {MIN_OBSERVATIONS} are needed" for n in seen])
    gap21 = (~np.isfinite(hv21), f"one of the last {SHORT_WINDOW + 1} sessions is missing")
    not_company = (~stock, "only companies have it")

    with np.errstate(invalid="ignore", divide="ignore"):
        return {
            "price": _column(price, no_price),
            "change_pct": _column(100 * (price / previous - 1), no_price, no_previous),
            "avg_volume_50": _column(
                rolling_mean(m.volume[:, -VOLUME_WINDOW:], VOLUME_WINDOW)[:, -1],
                (m.kind == "index", "an index does not trade"),
                (np.ones(names, dtype=bool), f"one of the last {VOLUME_WINDOW} sessions is missing"),
            ),
            "market_cap": _column(price * m.shares_outstanding, not_company, no_price),
            "avg_option_volume_21": _column(
                rolling_mean(m.option_volume[:, -SHORT_WINDOW:], SHORT_WINDOW)[:, -1],
                (np.ones(names, dtype=bool), f"one of the last {SHORT_WINDOW} sessions is missing"),
            ),
            "iv30": _column(100 * iv30, no_quotes, no_iv),
            "hv21": _column(100 * hv21, gap21),
            "iv_hv_ratio": _column(iv30 / hv21, no_quotes, no_iv, gap21),
            "iv_rank": _column(vol_rank(m.iv30), no_quotes, no_iv, few),
            "iv_percentile": _column(vol_percentile(m.iv30), no_quotes, no_iv, few),
            "one_day_move_pct": _column(100 * day_move / price, no_quotes, no_price),
            "spent": _column(100 * spent(price, previous, day_move), no_quotes, no_price, no_previous),
            "days_to_earnings": _column(
                m.days_to_earnings, (~stock, "does not report earnings"), (stock, "no report is scheduled")
            ),
        }


def _column(values: FloatArray, *reasons: tuple[BoolArray, str | list[str]]) -> Column:
    """The first reason that applies to a missing row is its reason."""
    said: dict[int, str] = {}
    for row in np.flatnonzero(~np.isfinite(values)):
        for applies, text in reasons:
            if applies[row]:
                said[int(row)] = text if isinstance(text, str) else text[row]
                break
        else:
            said[int(row)] = "could not be computed"
    return Column(np.where(np.isfinite(values), values, np.nan), said)
