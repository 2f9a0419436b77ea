"""Daily series that follow from others: cycles and their bands, forecast volatility, correlation within funds."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import FloatArray
from flinch.core.moves import CycleBands, cycle_bands
from flinch.core.rolling import rolling_mean
from flinch.core.volatility import average_correlation, forecast_vol, session_variance, weighted_vol

CORRELATION_SESSIONS = 63
PERIODS = ("week", "month")
_FUND = ("implied_correlation", "realised_correlation", "members_iv30")
DERIVED = (
    *[f"{period}_{part}" for period in PERIODS for part in ("anchor", "half_width", "elapsed", "length")],
    "forecast_vol",
    "net_exposure_before",
    *_FUND,
)
"""The fields that `derive` makes."""
Members = Mapping[int, list[tuple[int, float]]]


def derive(
    bars: Mapping[str, FloatArray],
    daily: Mapping[str, FloatArray],
    calendar: NDArray[np.datetime64],
    members: Members,
) -> dict[str, FloatArray]:
    """Every field of `DERIVED`, names x sessions (or 1 x sessions for what all names share), from what was known in each session.

    Parameters
    ----------
    bars
        open, high, low and close.
    daily
        Fields of the frame, those of implied volatility as iv30 and so on.
    calendar
        The sessions and those ahead.
    members
        Rows and weights of a fund's members, by its row.
    """
    out: dict[str, FloatArray] = {}
    for period in PERIODS:
        band = cycle_bands(bars["close"], daily[f"iv_{period}"], calendar, monthly=period == "month")
        out[f"{period}_anchor"], out[f"{period}_half_width"] = band.anchor, band.half_width
        out[f"{period}_elapsed"], out[f"{period}_length"] = band.elapsed[None, :], band.length[None, :]
    variance = session_variance(bars["open"], bars["high"], bars["low"], bars["close"])
    out["forecast_vol"] = forecast_vol(variance)
    out["net_exposure_before"] = daily["call_exposure_before"] + daily["put_exposure_before"]
    realised = np.sqrt(252 * rolling_mean(variance, CORRELATION_SESSIONS))
    return out | fund_series(daily["iv30"], realised, members)


def fund_series(implied: FloatArray, realised: FloatArray, members: Members) -> dict[str, FloatArray]:
    """Correlation between a fund's members as its options imply it and as it was, and the members' mean volatility."""
    out = {name: np.full(realised.shape, np.nan) for name in _FUND}
    for fund, weighted in members.items():
        rows = np.array([row for row, _ in weighted])
        weights = np.array([weight for _, weight in weighted])
        out["implied_correlation"][fund] = average_correlation(implied[fund], implied[rows], weights)
        out["realised_correlation"][fund] = average_correlation(realised[fund], realised[rows], weights)
        out["members_iv30"][fund] = weighted_vol(implied[rows], weights)
    return out


def band_of(derived: Mapping[str, FloatArray], period: str, end: int) -> CycleBands:
    """The expected-move band of each week or month, of the sessions before `end`."""
    anchor, half_width, elapsed, length = (
        derived[f"{period}_{part}"][:, :end] for part in ("anchor", "half_width", "elapsed", "length")
    )
    return CycleBands(anchor, half_width, elapsed[0], length[0])
