"""Each session's implied volatility as it would have been read from the chains of that session."""

from __future__ import annotations

from statistics import NormalDist
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.moves import cycle_ends, cycles
from flinch.core.volatility import constant_maturity_vol, ex_earnings, reports_before
from flinch.feeds.simulated.calendar import SESSIONS, DateArray, listed_expirations
from flinch.feeds.simulated.earnings import EarningsCalendar
from flinch.feeds.simulated.ground import Ground
from flinch.feeds.simulated.surfaces import Smile, Variance, atm_vols, earnings_variance, smile_vol

Floats = NDArray[np.float64]
TENOR_DAYS = np.array([7, 14, 30, 60, 90, 180, 365])
_READING_NOISE = 0.004
_QUALITY = {"large": 97.0, "medium": 92.0, "small": 70.0}
_NORMAL_QUARTILE = NormalDist().inv_cdf(0.75)


class PastSurfaces(NamedTuple):
    """Surfaces as they were read at past closes, an expiration an element, by session, name and days ahead: volatility at the
    money with and without reports; and the smiles around them by name and session."""

    session: NDArray[np.int32]
    name: NDArray[np.int32]
    days: NDArray[np.int16]
    vol: NDArray[np.float32]
    vol_ex_earnings: NDArray[np.float32]
    smiles: Smile


def vols_at(ground: Ground, t: int, listed: DateArray, years: Floats, members: NDArray[np.int64]) -> Floats:
    """True volatility at the money of some names' expirations at the close of session `t`, shape (members, expirations)."""
    return priced_vols(
        ground, t, ground.paths.variance[:, members, t], ground.premium[members, t], listed, years, members
    )


def priced_vols(
    ground: Ground,
    t: int,
    variance: Floats,
    premium: Floats,
    listed: DateArray,
    years: Floats,
    members: NDArray[np.int64],
) -> Floats:
    """The same with a variance, shape (3, members), and a premium, shape (members,), of one's own."""
    places = np.searchsorted(ground.calendar, listed)
    jumps = earnings_variance(ground.earnings, ground.premium.shape[0], t, places)[members]
    long, spread = ground.paths.long_variance[:, members], ground.paths.spread[:, members]
    return atm_vols(Variance(variance, long, spread), premium, years, jumps)


def make_volatility_history(
    ground: Ground, closes: list[list[Priced]], rng: np.random.Generator
) -> tuple[dict[str, Floats], PastSurfaces]:
    """By column of the store, arrays names x sessions: constant maturities, the expirations that end the week and the month,
    without earnings, the move priced for earnings, 25-delta volatilities and the quality of the fit. And the surfaces that these
    were read from."""
    calendar, smiles = ground.calendar, ground.smiles
    past: list[_Read] = []
    count = len(ground.names)
    noise = 1 + _READING_NOISE * rng.normal(size=(count, SESSIONS, TENOR_DAYS.size))
    out = np.full((TENOR_DAYS.size + 5, count, SESSIONS), np.nan)
    ends = [cycles(cycle_ends(calendar, monthly=monthly)).end for monthly in (False, True)]
    to_report = _days_to_report(count, ground.earnings, calendar)
    for t, close in enumerate(closes):
        for members, listed, days, vol in close:
            years = days / 365
            table = np.broadcast_to(years, vol.shape)
            fixed = constant_maturity_vol(table, vol, TENOR_DAYS / 365) * noise[members, t]
            read = vol * (1 + _READING_NOISE * rng.normal(size=vol.shape))
            bare = ex_earnings(table, read, reports_before(days, to_report[members, t]))
            past.append(_Read(t, members, days, read, bare.vols))
            bare30 = constant_maturity_vol(table, bare.vols, np.array([30 / 365]))[:, 0]
            out[: TENOR_DAYS.size, members, t] = fixed.T
            rest = [vol[:, 0] * noise[members, t, 0]]
            for end in ends:
                # From the close of a session on, the next cycle is the one that counts.
                place = np.flatnonzero(listed == calendar[end[t + 1]])
                rest.append(read[:, place[0]] if place.size else np.full(members.size, np.nan))
            out[TENOR_DAYS.size :, members, t] = [*rest, bare30, bare.move]
    keys = [f"iv{days}" for days in TENOR_DAYS]
    keys += ["iv_nearest", "iv_week", "iv_month", "iv30_ex_earnings", "implied_earnings_move"]
    vols = dict(zip(keys, out, strict=True))
    put, call = (_quarter_delta(vols["iv30"], smiles, is_call) for is_call in (False, True))
    vols |= {
        side: vol * (1 + _READING_NOISE * rng.normal(size=vol.shape))
        for side, vol in (("put_25d", put), ("call_25d", call))
    }
    usual = np.array([_QUALITY[name.size] for name in ground.names])[:, None]
    vols["fit_quality"] = np.clip(usual + 4 * rng.normal(size=(count, SESSIONS)), 0, 100)
    return vols, _joined(past, smiles)


class Priced(NamedTuple):
    """Expirations that some names list at a close, `days` ahead, shape (expirations,), and their true volatility at the money,
    shape (members, expirations)."""

    members: NDArray[np.int64]
    listed: DateArray
    days: NDArray[np.int64]
    vol: Floats


def priced_closes(ground: Ground) -> list[list[Priced]]:
    """What is listed at each session's close, and its volatility, by group of names."""
    return [
        [
            _priced(ground, t, listed_expirations(ground.calendar[t], size, weekly), members)
            for size, weekly, members in ground.groups
        ]
        for t in range(SESSIONS)
    ]


def _priced(ground: Ground, t: int, listed: DateArray, members: NDArray[np.int64]) -> Priced:
    days = (listed - ground.calendar[t]).astype(np.int64)
    return Priced(members, listed, days, vols_at(ground, t, listed, days / 365, members))


class _Read(NamedTuple):
    """What was read of the names that list the same expirations, at one session: `days` ahead, shape (expirations,), volatilities
    with and without reports (members, expirations)."""

    session: int
    members: NDArray[np.int64]
    days: NDArray[np.int64]
    vol: Floats
    without_reports: Floats


def _joined(past: list[_Read], smiles: Smile) -> PastSurfaces:
    """One array each, by session and name."""
    session = np.repeat([read.session for read in past], [read.vol.size for read in past])
    name = np.concatenate([np.repeat(read.members, read.days.size) for read in past])
    ahead = np.concatenate([np.tile(read.days, read.members.size) for read in past])
    vol = np.concatenate([read.vol.reshape(-1) for read in past]).astype(np.float32)
    bare = np.concatenate([read.without_reports.reshape(-1) for read in past]).astype(np.float32)
    order = np.lexsort((ahead, name, session))
    return PastSurfaces(
        session[order].astype(np.int32), name[order].astype(np.int32), ahead[order].astype(np.int16), vol[order], bare[order],
        smiles,
    )  # fmt: skip


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
