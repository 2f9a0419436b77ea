"""The forecast of where a price will be, as structures use it and as the record judges it: one way for both."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.rolling import lag
from flinch.core.rules import evaluate
from flinch.core.rules.catalogue.metric import PERCENT
from flinch.core.structures import excess_kurtosis, own_tail
from flinch.market.dictionary import PLAIN
from flinch.market.view import View

SIZE_TO_DEVIATION = float(np.sqrt(np.pi / 2))
"""What a mean size is multiplied with to be the deviation of a normal move."""
_USUAL, _PRICED = PLAIN.read("average_earnings_move").node, PLAIN.read("implied_earnings_move").node


class Spread(NamedTuple):
    """Standard deviation of the logarithm, and degrees of freedom of Student's distribution; NaN where nothing can be said."""

    deviation: FloatArray
    tail: FloatArray


def forecast_spread(view: View, name: IntArray, session: IntArray, ahead: FloatArray, inside: BoolArray) -> Spread:
    """The forecast of some cases, by what was known at each one's moment.

    Parameters
    ----------
    view
        No case may be of a later session.
    name, session
        Row and index of the session of each case, shape (cases,).
    ahead
        Sessions from that moment to the end, a part of a session counts as such.
    inside
        Whether the price reacts before the end to the report that is next as far as was known (`reports_inside`).

    Returns
    -------
    `Spread`, shape (cases,): forecast volatility over the sessions, with the usual move of a report inside, or what options price
    for it where the name has reported too seldom; and the tail of the name's own returns up to then.
    """
    end = int(session.max(initial=-1)) + 1
    rows, of = np.unique(name, return_inverse=True)
    usual, priced = (
        np.asarray(evaluate([node], view.panel, 0, end)[0])[rows] / PERCENT * scale
        for node, scale in ((_USUAL, SIZE_TO_DEVIATION), (_PRICED, 1.0))
    )
    report = np.where(np.isfinite(usual), usual, priced)[of, session]
    forecast = np.asarray(view.frame.derived["forecast_vol"][rows, :end], np.float64)
    close = np.ascontiguousarray(view.frame.close[rows, :end], np.float64)
    with np.errstate(invalid="ignore", divide="ignore"):
        returns = np.log(close / lag(close, 1)) / (lag(forecast, 1) / np.sqrt(252))
    variance = forecast[of, session] ** 2 * ahead / 252 + np.where(inside, np.nan_to_num(report**2), 0.0)
    return Spread(np.sqrt(variance), own_tail(excess_kurtosis(returns)[of, session], ahead))
