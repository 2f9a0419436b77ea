"""Expirations of a past session from the surface that was kept of it, and as they are some time after they were read."""

from __future__ import annotations

import datetime as dt

import numpy as np

from flinch.core.calendar import Hours, years_to_close
from flinch.core.volatility import SmileFit, delta_vol, smile_vol
from flinch.core.volatility.chain import FLAWS
from flinch.store.market.surfaces import NO_QUALITY, Expiry, KeptSurface


def expirations_of(surface: KeptSurface, session: dt.date, spot: float, rate: float, hours: Hours) -> list[Expiry]:
    """The expirations of a kept surface, as they were read then."""
    rows = surface.expirations
    days = [session + dt.timedelta(days=int(ahead)) for ahead in rows["days"]]
    years = years_to_close(np.array(days, dtype="datetime64[D]"), surface.taken_at, hours)
    forward, parameters = rows["forward"].astype(np.float64), np.ascontiguousarray(rows["svi"], dtype=np.float64)
    vol = smile_vol(parameters, years, np.zeros(years.size))
    with np.errstate(invalid="ignore", divide="ignore"):
        carry = rate - np.log(forward / spot) / np.where(years > 0, years, np.nan)
        low, high = (np.log(rows[edge] / forward) for edge in ("lowest", "highest"))
    fit = SmileFit(parameters, vol, rows["strikes"].astype(np.int64), low, high)
    put_25d, call_25d = (delta_vol(fit, years, 0.25, is_call=side) for side in (False, True))
    return [
        Expiry(
            expiration=days[i],
            years=float(years[i]),
            forward=float(forward[i]),
            forward_from_parity=bool(row["from_parity"]),
            vol=float(vol[i]),
            strikes=int(row["strikes"]),
            straddle=float(row["straddle"]),
            straddle_strike=float(row["straddle_strike"]),
            carry=float(carry[i]),
            vol_ex_earnings=float(row["vol_ex_earnings"]),
            put_25d=float(put_25d[i]),
            call_25d=float(call_25d[i]),
            quality=float("nan") if row["quality"] == NO_QUALITY else float(row["quality"]),
            flaw=FLAWS[int(row["flaw"])],
            lowest_strike=float(row["lowest"]),
            highest_strike=float(row["highest"]),
            svi=tuple(parameters[i].tolist()),
        )
        for i, row in enumerate(rows)
    ]


def carried(
    expiries: list[Expiry], session: dt.date, moment: dt.datetime, spot: float, rate: float, hours: Hours
) -> list[Expiry]:
    """Expirations that were read before, at a moment of a later session: volatility and carry stay, time has gone on and price
    is another. What was quoted then is not known now; those of before the session are over."""
    listed = [expiry for expiry in expiries if expiry.expiration >= session]
    days = np.array([expiry.expiration for expiry in listed], dtype="datetime64[D]")
    out = []
    for expiry, years in zip(listed, years_to_close(days, moment, hours).tolist(), strict=True):
        left = max(years, 0.0) / expiry.years if expiry.years > 0 else float("nan")
        a, b, rho, m, sigma = expiry.svi
        forward = spot * float(np.exp((rate - expiry.carry) * years))
        moved = forward / expiry.forward
        out.append(
            expiry._replace(
                years=years,
                forward=forward,
                straddle=float("nan"),
                straddle_strike=float("nan"),
                # The smile goes with the price: strikes that took part are as far from the forward as they were.
                lowest_strike=expiry.lowest_strike * moved,
                highest_strike=expiry.highest_strike * moved,
                svi=(a * left, b * left, rho, m, sigma),
            )
        )
    return out
