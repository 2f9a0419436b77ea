"""Daily series that follow from others: cycles and their bands, forecast volatility, correlation within funds."""

from __future__ import annotations

import numpy as np

from flinch.core.arrays import FloatArray
from flinch.core.moves import CycleBands, cycle_bands
from flinch.core.rolling import rolling_mean
from flinch.core.volatility import average_correlation, forecast_vol, session_variance, weighted_vol
from flinch.market.frame import MarketFrame

CORRELATION_SESSIONS = 63


def bands(frame: MarketFrame) -> dict[str, CycleBands]:
    """Weekly and monthly bands of every name and session; each uses only what was known at its cycle's start."""
    return {
        period: cycle_bands(frame.close, frame.daily[f"iv_{period}"], frame.calendar, monthly=period == "month")
        for period in ("week", "month")
    }


def derive(frame: MarketFrame, cycle: dict[str, CycleBands]) -> dict[str, FloatArray]:
    """By field of the catalogue, names x sessions (or 1 x sessions for what all names share)."""
    out: dict[str, FloatArray] = {}
    for period, band in cycle.items():
        out[f"{period}_anchor"] = band.anchor
        out[f"{period}_half_width"] = band.half_width
        out[f"{period}_elapsed"] = band.elapsed[None, :]
        out[f"{period}_length"] = band.length[None, :]
    variance = session_variance(frame.open, frame.high, frame.low, frame.close)
    out["forecast_vol"] = forecast_vol(variance)
    out["net_exposure_before"] = frame.daily["call_exposure_before"] + frame.daily["put_exposure_before"]
    realised = np.sqrt(252 * rolling_mean(variance, CORRELATION_SESSIONS))
    return out | fund_series(frame, realised)


def fund_series(frame: MarketFrame, realised: FloatArray) -> dict[str, FloatArray]:
    """Correlation between a fund's members as its options imply it and as it was, and the members' mean volatility."""
    names = ("implied_correlation", "realised_correlation", "members_iv30")
    out = {name: np.full(frame.close.shape, np.nan) for name in names}
    implied = frame.implied[30]
    for fund, members in frame.members.items():
        rows = np.array([row for row, _ in members])
        weights = np.array([weight for _, weight in members])
        out["implied_correlation"][fund] = average_correlation(implied[fund], implied[rows], weights)
        out["realised_correlation"][fund] = average_correlation(realised[fund], realised[rows], weights)
        out["members_iv30"][fund] = weighted_vol(implied[rows], weights)
    return out
