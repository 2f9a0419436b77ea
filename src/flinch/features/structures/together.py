"""Chosen structures held side by side: what moves all of them at once."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from flinch.core.arrays import FloatArray
from flinch.core.rolling import lag
from flinch.core.structures import MOVES, BadLegs, leg_words, read_legs, structure_greeks, together, value
from flinch.features.structures.legs import (
    NoQuotes,
    OwnLegs,
    board_of,
    label_of,
    listed_rows,
    name_boards,
    name_surface,
    own_legs,
    problem_of,
)
from flinch.features.structures.together_schemas import Gains, OneOfThem, TogetherAsked, TogetherReply, TogetherRow
from flinch.market import UnknownName, View
from flinch.market.boards import Board

_POINTS, _REACH = 241, 0.6
"""A curve reaches so far either way of the price, relative to it: no day of the past went further without a split."""


class _Curve(NamedTuple):
    row: int
    greeks: FloatArray
    prices: FloatArray
    profit: FloatArray


def together_reply(view: View, asked: TogetherAsked) -> TogetherReply:
    """What the structures gain and lose together; one that cannot be priced says why and is not counted."""
    symbols = [one.symbol.strip().upper() for one in asked.structures]
    boards = name_boards(view, listed_rows(view, symbols))
    rows: list[TogetherRow] = []
    curves: list[_Curve] = []
    counted: list[int] = []
    for one in asked.structures:
        told, curve = _row(view, boards, one)
        if curve is not None:
            counted.append(len(rows))
            curves.append(curve)
        rows.append(told)
    used = np.unique([curve.row for curve in curves]).astype(np.int64)
    if not curves:
        return TogetherReply(
            version=view.data_version, session=view.today, moves=list(MOVES), rows=rows, total=None, worst_on=None, sessions=0,
            symbols=[], correlation=[],
        )  # fmt: skip
    close = view.frame.close[used, : view.end].astype(np.float64)
    with np.errstate(invalid="ignore", divide="ignore"):
        returns = close / lag(close, 1) - 1
    found = together(
        np.searchsorted(used, [curve.row for curve in curves]),
        np.stack([curve.prices for curve in curves]),
        np.stack([curve.profit for curve in curves]),
        close[:, -1],
        view.metric("next_day_move")[used],
        returns,
    )
    each = [
        _gains(curve.greeks, at, worst)
        for curve, at, worst in zip(curves, found.at_moves, found.worst.tolist(), strict=True)
    ]
    for place, gains in zip(counted, each, strict=True):
        rows[place] = rows[place].model_copy(update={"gains": gains})
    greeks = np.sum([curve.greeks for curve in curves], axis=0)
    return TogetherReply(
        version=view.data_version,
        session=view.today,
        moves=list(MOVES),
        rows=rows,
        total=_gains(greeks, found.at_moves.sum(axis=0), float(found.worst.sum())),
        worst_on=None if found.worst_at < 0 else view.frame.sessions[found.worst_at].astype(object),
        sessions=int(np.isfinite(returns).all(axis=0).sum()),
        symbols=[view.name(int(row)).symbol for row in used],
        correlation=found.correlation.tolist(),
    )


def _row(view: View, boards: dict[int, Board], one: OneOfThem) -> tuple[TogetherRow, _Curve | None]:
    symbol, label, words, curve = one.symbol, "", "", None
    problem: str | None
    try:
        plain = read_legs(one.legs)
        words = leg_words(plain)
        row = view.row(one.symbol)
        symbol = view.name(row).symbol
        board = board_of(view, boards, row)
        own = own_legs(view, board, plain, row)
        label, problem = label_of(own, float(board.terms.multiplier[0])), problem_of(own)
        if problem is None and not np.isfinite(view.metric("next_day_move")[row]):
            problem = f"{symbol} has no expected move of the next session"
        if problem is None:
            curve = _curve(view, board, own, row)
    except (BadLegs, NoQuotes, UnknownName) as error:
        problem = str(error)
    return TogetherRow(symbol=symbol, legs=one.legs, label=label, words=words, gains=None, problem=problem), curve


def _curve(view: View, board: Board, own: OwnLegs, row: int) -> _Curve:
    """Greeks in expected days of the name, and what a structure gains at other prices now."""
    surface = name_surface(view, board, row)
    spot, shares, multiplier = view.price(row), float(own.plain.shares), float(board.terms.multiplier[0])
    day = float(view.metric("next_day_move")[row])
    told = structure_greeks(own.legs, shares, spot, surface, multiplier=multiplier)
    far, near = spot * np.linspace(1 - _REACH, 1 + _REACH, _POINTS), spot + day * np.linspace(-3, 3, 60)
    prices = np.sort(np.concatenate([far, near]))
    worth = (
        value(own.legs, shares, prices, 0.0, surface, multiplier=multiplier)
        if own.legs.strike.size
        else shares * prices
    )
    now = float(np.interp(spot, prices, worth))
    return _Curve(
        row, np.array([told.delta * day, told.gamma * day**2, told.theta, told.vega], np.float64), prices, worth - now
    )


def _gains(greeks: FloatArray, at_moves: FloatArray, worst: float) -> Gains:
    delta, gamma, theta, vega = greeks.tolist()
    return Gains(delta=delta, gamma=gamma, theta=theta, vega=vega, at_moves=at_moves.tolist(), worst=worst)
