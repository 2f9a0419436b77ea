"""The simulator's surfaces of past closes as the store keeps them."""

from __future__ import annotations

import datetime as dt
import itertools
from collections.abc import Iterator

import numpy as np
import polars as pl
from numpy.typing import NDArray

from flinch.feeds.simulated import SimulatedMarket
from flinch.feeds.simulated.calendar import CLOSE, EXCHANGE_ZONE
from flinch.store.market.chain import stored
from flinch.store.market.surfaces import NO_QUALITY, PACKED
from flinch.store.packing import pack_groups

_AT_ONCE = 64
_REACH = 2.5
"""Deviations from the forward that the simulator's past quotes reach."""


def past_surfaces(market: SimulatedMarket, kept: NDArray[np.bool_]) -> Iterator[pl.DataFrame]:
    """Rows of `SurfaceDay` for the names and sessions of `kept`, some sessions at a time."""
    past = market.surfaces
    closes = [dt.datetime.combine(day, CLOSE, EXCHANGE_ZONE) for day in market.sessions.astype(object)]
    moments = np.array([stored(close) for close in closes], dtype="datetime64[ms]")
    bounds = np.searchsorted(past.session, np.arange(0, market.sessions.size + _AT_ONCE, _AT_ONCE))
    for first, last in itertools.pairwise(bounds):
        part = slice(first, last)
        wanted = kept[past.name[part], past.session[part]]
        name, session = past.name[part][wanted].astype(np.int64), past.session[part][wanted].astype(np.int64)
        days, vol, bare = past.days[part][wanted], past.vol[part][wanted], past.vol_ex_earnings[part][wanted]
        rows = _packed(market, name, session, days, vol, bare)
        owner, surfaces = pack_groups(session * len(market.names) + name, rows)
        session, name = np.divmod(owner, len(market.names))
        keys = {"name_id": name + 1, "session": market.sessions[session], "taken_at": moments[session]}
        yield pl.DataFrame(keys | {"surface": pl.Series(surfaces, dtype=pl.Binary)})


def _packed(
    market: SimulatedMarket,
    name: NDArray[np.int64],
    session: NDArray[np.int64],
    days: NDArray[np.int16],
    vol: NDArray[np.float32],
    without_reports: NDArray[np.float32],
) -> NDArray[np.void]:
    """On an SSVI slice with phi = eta / sqrt(theta), which is raw SVI with a = theta (1 - rho^2) / 2, b = theta phi / 2,
    m = -rho / phi and sigma = sqrt(1 - rho^2) / phi (Gatheral & Jacquier 2014)."""
    years = days / 365
    theta = vol.astype(np.float64) ** 2 * years
    rho, eta = (part[name, session] for part in market.surfaces.smiles)
    with np.errstate(divide="ignore", invalid="ignore"):
        phi = eta / np.sqrt(theta)
        flat = np.sqrt(1 - rho**2)
        forward = market.close[name, session] * np.exp((market.rate - market.carry[name]) * years)
        rows = np.zeros(name.size, PACKED)
        rows["svi"] = np.stack([0.5 * theta * flat**2, 0.5 * theta * phi, rho, -rho / phi, flat / phi], axis=1)
        reach = _REACH * np.sqrt(theta)
        rows["lowest"], rows["highest"] = forward * np.exp(-reach), forward * np.exp(reach)
        listed = market.option_days["strikes"][name, session] / market.option_days["expirations"][name, session]
    rows["days"], rows["forward"], rows["vol_ex_earnings"] = days, forward, without_reports
    rows["straddle"] = rows["straddle_strike"] = np.nan
    quality = market.volatility["fit_quality"][name, session]
    rows["quality"] = np.where(np.isfinite(quality), np.round(np.nan_to_num(quality)), NO_QUALITY)
    rows["strikes"] = np.clip(np.round(np.nan_to_num(listed)), 0, 255)
    rows["from_parity"] = 1
    return rows
