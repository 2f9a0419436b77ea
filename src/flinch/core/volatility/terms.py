"""What the term structures of one look at all chains come to for each name."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.moves import cycle_ends, cycles
from flinch.core.volatility.constant_maturity import constant_maturity_vol
from flinch.core.volatility.earnings import ex_earnings, reports_before

_MONTH = np.array([30 / 365])


class Terms(NamedTuple):
    """Expirations of names as they were read at one look, by name and date, shape (expirations,): place of the name among `names`
    of them, date, years from the look, volatility at the money, at 25 delta of puts and calls (annualised decimals), quality of
    the fit (0 to 100); NaN where one could not be read. `session` is the look's."""

    names: int
    session: np.datetime64
    name: IntArray
    expiration: NDArray[np.datetime64]
    years: FloatArray
    vol: FloatArray
    put_25d: FloatArray
    call_25d: FloatArray
    quality: FloatArray

    @property
    def days(self) -> FloatArray:
        """Calendar days ahead."""
        days: FloatArray = (self.expiration - self.session).astype(np.float64)
        return days

    @property
    def ahead(self) -> FloatArray:
        """Volatility of those that are still ahead: an expiration of today prices nothing that is to come."""
        return np.where(self.days > 0, self.vol, np.nan)

    def tabled(self, values: FloatArray) -> FloatArray:
        """One row a name, one column an expiration in order of date, NaN where a name has fewer."""
        place = np.arange(self.name.size) - np.searchsorted(self.name, self.name)
        out = np.full((self.names, int(place.max(initial=0)) + 1), np.nan)
        out[self.name, place] = values
        return out

    def listed(self, table: FloatArray) -> FloatArray:
        """The other way round."""
        place = np.arange(self.name.size) - np.searchsorted(self.name, self.name)
        values: FloatArray = table[self.name, place]
        return values


class WithoutReports(NamedTuple):
    """Volatility of each expiration that is still ahead without reports, shape (expirations,), and the move priced for one, a
    decimal, shape (names,)."""

    vol: FloatArray
    move: FloatArray


def without_reports(terms: Terms, to_report: FloatArray) -> WithoutReports:
    """Take reports out of all term structures; `to_report` as in `reports_before`."""
    reports = reports_before(np.nan_to_num(terms.tabled(terms.days)).astype(np.int64), to_report)
    bare = ex_earnings(terms.tabled(terms.years), terms.tabled(terms.ahead), reports)
    return WithoutReports(terms.listed(bare.vols), bare.move)


def session_volatility(
    terms: Terms, bare: WithoutReports, calendar: NDArray[np.datetime64], tenors: Sequence[int]
) -> dict[str, FloatArray]:
    """What is kept of a session, by name: volatility at constant maturities (`iv30` and so on, days), 30 days ahead without
    reports and at 25 delta, of the nearest expiration and of those that end the week and the month (`calendar` has the sessions
    of the exchange, the look's and those ahead among them); the move priced for reports, and the quality of the fit.

    Annualised decimals, the quality 0 to 100, shape (names,) each; NaN where there is none.
    """
    years, ahead = terms.tabled(terms.years), terms.ahead
    vols = constant_maturity_vol(years, terms.tabled(ahead), np.array(tenors) / 365)
    out = {f"iv{tenor}": vols[:, i] for i, tenor in enumerate(tenors)}
    month = {"iv30_ex_earnings": bare.vol, "put_25d": terms.put_25d, "call_25d": terms.call_25d}
    out |= {key: constant_maturity_vol(years, terms.tabled(values), _MONTH)[:, 0] for key, values in month.items()}
    out |= {"implied_earnings_move": bare.move, "fit_quality": _quality(terms)}
    here = int(np.searchsorted(calendar, terms.session))
    for key, monthly in (("iv_week", False), ("iv_month", True)):
        end = calendar[cycles(cycle_ends(calendar, monthly=monthly)).end[here + 1]]
        out[key] = np.full(terms.names, np.nan)
        out[key][terms.name[terms.expiration == end]] = ahead[terms.expiration == end]
    out["iv_nearest"] = np.full(terms.names, np.nan)
    read = np.flatnonzero(np.isfinite(ahead))
    name, first = np.unique(terms.name[read], return_index=True)
    out["iv_nearest"][name] = ahead[read[first]]
    return out


def _quality(terms: Terms) -> FloatArray:
    """A name's fit quality: the mean of its expirations between a week and a quarter ahead, or of all when none is."""
    name, days = terms.name, terms.days
    known = np.isfinite(terms.quality) & (days > 0)
    near = known & (days >= 7) & (days <= 92)
    chosen = np.where(np.isin(name, name[near]), near, known)
    with np.errstate(invalid="ignore"):
        mean: FloatArray = np.bincount(name[chosen], terms.quality[chosen], terms.names) / np.bincount(
            name[chosen], minlength=terms.names
        )
    return mean
