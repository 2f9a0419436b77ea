"""Each session's implied volatility as it would have been read from the chains of that session."""

from __future__ import annotations

from collections.abc import Callable
from statistics import NormalDist

import numpy as np
from numpy.typing import NDArray

from flinch.core.moves import cycle_ends, cycles
from flinch.core.volatility import constant_maturity_vol, ex_earnings, reports_before
from flinch.feeds.simulated.calendar import SESSIONS, DateArray, listed_expirations
from flinch.feeds.simulated.earnings import EarningsCalendar
from flinch.feeds.simulated.names import Listing
from flinch.feeds.simulated.paths import Paths
from flinch.feeds.simulated.surfaces import Smile, atm_vols, earnings_variance, smile_vol

Floats = NDArray[np.float64]
TENOR_DAYS = np.array([7, 14, 30, 60, 90, 180, 365])
_READING_NOISE = 0.004
_QUALITY = {"large": 97.0, "medium": 92.0, "small": 70.0}
_NORMAL_QUARTILE = NormalDist().inv_cdf(0.75)


def vols_at(
    paths: Paths,
    premium: Floats,
    earnings: EarningsCalendar,
    calendar: DateArray,
    t: int,
    listed: DateArray,
    years: Floats,
    members: NDArray[np.int64],
) -> Floats:
    """True volatility at the money of some names' expirations at the close of session `t`, shape (members, expirations)."""
    jumps = earnings_variance(earnings, premium.shape[0], t, np.searchsorted(calendar, listed))
    return atm_vols(
        paths.variance[:, members, t], paths.long_variance[:, members], premium[members, t], years, jumps[members]
    )


def make_volatility_history(
    names: list[Listing],
    groups: list[tuple[str, bool, NDArray[np.int64]]],
    paths: Paths,
    premium: Floats,
    smiles: Smile,
    earnings: EarningsCalendar,
    calendar: DateArray,
    rng: np.random.Generator,
    progress: Callable[[float], None],
) -> dict[str, Floats]:
    """By column of the store, arrays names x sessions: constant maturities, the expirations that end the week and the month,
    without earnings, the move priced for earnings, 25-delta volatilities and the quality of the fit."""
    count = len(names)
    noise = 1 + _READING_NOISE * rng.normal(size=(count, SESSIONS, TENOR_DAYS.size))
    out = np.full((TENOR_DAYS.size + 5, count, SESSIONS), np.nan)
    ends = [cycles(cycle_ends(calendar, monthly=monthly)).end for monthly in (False, True)]
    to_report = _days_to_report(count, earnings, calendar)
    for t in range(SESSIONS):
        for size, weekly, members in groups:
            listed = listed_expirations(calendar[t], size, weekly)
            days = (listed - calendar[t]).astype(np.int64)
            years = days / 365
            vol = vols_at(paths, premium, earnings, calendar, t, listed, years, members)
            table = np.broadcast_to(years, vol.shape)
            fixed = constant_maturity_vol(table, vol, TENOR_DAYS / 365) * noise[members, t]
            read = vol * (1 + _READING_NOISE * rng.normal(size=vol.shape))
            bare = ex_earnings(table, read, reports_before(days, to_report[members, t]))
            bare30 = constant_maturity_vol(table, bare.vols, np.array([30 / 365]))[:, 0]
            out[: TENOR_DAYS.size, members, t] = fixed.T
            rest = [vol[:, 0] * noise[members, t, 0]]
            for end in ends:
                # From the close of a session on, the next cycle is the one that counts.
                place = np.flatnonzero(listed == calendar[end[t + 1]])
                rest.append(read[:, place[0]] if place.size else np.full(members.size, np.nan))
            out[TENOR_DAYS.size :, members, t] = [*rest, bare30, bare.move]
        if t % 24 == 0:
            progress(t / SESSIONS)
    keys = [f"iv{days}" for days in TENOR_DAYS]
    keys += ["iv_nearest", "iv_week", "iv_month", "iv30_ex_earnings", "implied_earnings_move"]
    found = dict(zip(keys, out, strict=True))
    put, call = (_quarter_delta(found["iv30"], smiles, is_call) for is_call in (False, True))
    found |= {
        side: vol * (1 + _READING_NOISE * rng.normal(size=vol.shape))
        for side, vol in (("put_25d", put), ("call_25d", call))
    }
    usual = np.array([_QUALITY[name.size] for name in names])[:, None]
    found["fit_quality"] = np.clip(usual + 4 * rng.normal(size=(count, SESSIONS)), 0, 100)
    return found


def _days_to_report(count: int, earnings: EarningsCalendar, calendar: DateArray) -> Floats:
    """Days from each session to the last close before the next report's reaction, shape (names, sessions)."""
    out = np.full((count, SESSIONS), np.nan)
    number = calendar.astype(np.int64)
    for company, reaction in zip(earnings.company[::-1], earnings.reaction[::-1], strict=True):
        # From the last report to the first, so that the next one stays.
        upto = min(int(reaction), SESSIONS)
        out[company, :upto] = number[reaction - 1] - number[:upto] if reaction > 0 else out[company, :upto]
    return out


def _quarter_delta(atm: Floats, smiles: Smile, is_call: bool) -> Floats:
    """Volatility of the option of 25 forward delta, 30 days ahead."""
    years = 30 / 365
    root = np.sqrt(years)
    vol = atm
    for _ in range(8):
        s = vol * root
        k = 0.5 * s * s + (s if is_call else -s) * _NORMAL_QUARTILE
        vol = smile_vol(atm, k, np.full_like(atm, years), smiles.rho, smiles.eta)
    return vol
