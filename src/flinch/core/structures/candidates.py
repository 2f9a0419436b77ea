"""Every structure of some kinds that the quoted options of some names can make."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.interrupt import checkpoint
from flinch.core.structures.kinds import Structure

Measure = Literal["delta", "percent", "moves"]
Places = NDArray[np.int32]
_CENT = 0.005


class Quotes(NamedTuple):
    """Options that can be traded, by expiration, puts first, by strike; arrays of shape (contracts,).

    `expiration` is a place in `Expirations`. Prices, and greeks as `greeks` has them, per share.
    """

    expiration: IntArray
    is_call: BoolArray
    strike: FloatArray
    bid: FloatArray
    ask: FloatArray
    delta: FloatArray
    gamma: FloatArray
    theta: FloatArray
    vega: FloatArray
    open_interest: FloatArray
    volume: FloatArray


class Expirations(NamedTuple):
    """Expirations of some names, by name and time; arrays of shape (expirations,).

    `name` is any number that tells names apart, `move` one expected move to the expiration in $, `center` the price that
    strikes are counted from: the spot, or a target (NaN: there is none). `near` says which ones structures may end at; `days`
    are calendar days."""

    name: IntArray
    days: IntArray
    spot: FloatArray
    move: FloatArray
    center: FloatArray
    near: BoolArray


class Placement(NamedTuple):
    """Where the placed leg may stand, and how far the others may be from it.

    `low` to `high` of `measure`: the size of its delta (decimals), or its distance in percent of the spot or in expected moves,
    out of the money from the spot (`at_target` false), either way from a target. Structures around the money have their middle
    within `middle` expected moves of the center. `least_width` to `most_width` in $ of the strike, or with `width_percent` in
    percent of the spot; `balanced` asks for wings of one width. A later leg expires `later_low` to `later_high` days after the
    nearer one."""

    measure: Measure
    low: float
    high: float
    at_target: bool = False
    middle: float = 0.25
    least_width: float = 0.0
    most_width: float = float("inf")
    width_percent: bool = False
    balanced: bool = True
    later_low: int = 7
    later_high: int = 60


class Block(NamedTuple):
    """Candidates of one kind: rows of the quotes of each leg in the kind's order, shape (candidates, legs)."""

    kind: Structure
    legs: Places


class _Side(NamedTuple):
    """Options of one expiration and right: their first row in the quotes, and their strikes."""

    first: int
    strike: FloatArray


class Chains:
    """Quotes found by expiration and right."""

    def __init__(self, quotes: Quotes, expirations: Expirations) -> None:
        self.quotes, self.expirations = quotes, expirations
        key = 2 * quotes.expiration + quotes.is_call
        if np.any(np.diff(key) < 0):
            raise ValueError("quotes must come by expiration, puts first")
        self._bounds = np.searchsorted(key, np.arange(2 * expirations.name.size + 1))

    def side(self, expiration: int, is_call: bool) -> _Side:
        """Options of an expiration and right, by strike."""
        first, last = self._bounds[2 * expiration + is_call], self._bounds[2 * expiration + is_call + 1]
        return _Side(int(first), self.quotes.strike[first:last])

    def later(self, expiration: int, placement: Placement) -> list[int]:
        """Later expirations of the same name that a placement allows."""
        e, ahead = self.expirations, self.expirations.days - self.expirations.days[expiration]
        fits = (e.name == e.name[expiration]) & (ahead >= max(placement.later_low, 1)) & (ahead <= placement.later_high)
        return np.flatnonzero(fits).tolist()


def count_and_make(
    chains: Chains, kinds: list[Structure], placement: Placement, most: int
) -> tuple[list[Block], dict[str, int]]:
    """All candidates, a block a kind, and how many there are of each kind by its key.

    More than `most` are counted and not made: the list of blocks is then empty.
    """
    counts: dict[str, int] = {}
    parts: dict[str, list[Places]] = {kind.key: [] for kind in kinds}
    total = 0
    for kind in kinds:
        counts[kind.key] = 0
        for expiration in np.flatnonzero(chains.expirations.near).tolist():
            checkpoint()
            for made in _make(chains, kind, placement, expiration, most - total):
                count = made if isinstance(made, int) else made.shape[0]
                counts[kind.key] += count
                total += count
                if total > most:
                    parts = {}
                elif not isinstance(made, int):
                    parts[kind.key].append(made)
    if total > most:
        return [], counts
    blocks = [Block(kind, np.concatenate(parts[kind.key])) for kind in kinds if parts[kind.key]]
    return [block for block in blocks if block.legs.size], counts


def _placed(chains: Chains, expiration: int, is_call: bool, placement: Placement) -> IntArray:
    """Places of a side where a placed leg may stand."""
    side, e = chains.side(expiration, is_call), chains.expirations
    strike, center = side.strike, e.center[expiration]
    if placement.measure == "delta" and not placement.at_target:
        size = np.abs(chains.quotes.delta[side.first : side.first + strike.size])
        return np.flatnonzero((size >= placement.low) & (size <= placement.high))
    away = np.abs(strike - center) if placement.at_target else (strike - center) * (1.0 if is_call else -1.0)
    unit = e.spot[expiration] / 100.0 if placement.measure == "percent" else e.move[expiration]
    return np.flatnonzero((away >= placement.low * unit - 1e-9) & (away <= placement.high * unit + 1e-9))


def _middle(chains: Chains, expiration: int, side: _Side, placement: Placement) -> IntArray:
    """Places of a side that are around the center."""
    e = chains.expirations
    reach = placement.middle * e.move[expiration]
    return np.flatnonzero(np.abs(side.strike - e.center[expiration]) <= reach + 1e-9)


def _widths(chains: Chains, expiration: int, placement: Placement) -> tuple[float, float]:
    unit = chains.expirations.spot[expiration] / 100.0 if placement.width_percent else 1.0
    return max(placement.least_width * unit, _CENT) - 1e-9, placement.most_width * unit + 1e-9


def _partners(side: _Side, placed: IntArray, widths: tuple[float, float], sign: int) -> tuple[IntArray, IntArray]:
    """Pairs of a placed strike and one a width above (`sign` 1) or below it, as places of the side."""
    away = (side.strike[None, :] - side.strike[placed][:, None]) * sign
    at, other = np.nonzero((away >= widths[0]) & (away <= widths[1]))
    return placed[at], other


def _rows(*columns: IntArray) -> Places:
    return np.stack(columns, axis=1).astype(np.int32) if columns else np.empty((0, 0), np.int32)


def _make(chains: Chains, kind: Structure, placement: Placement, expiration: int, room: int) -> Iterator[Places | int]:
    """Candidates of a kind at one expiration; their number alone where there is no room for them."""
    widths = _widths(chains, expiration, placement)
    puts, calls = chains.side(expiration, False), chains.side(expiration, True)
    role = kind.legs[kind.placed]
    side = calls if role.is_call else puts
    match kind.shape:
        case "single":
            yield _rows(_placed(chains, expiration, role.is_call, placement) + side.first)
        case "pair":
            placed = _placed(chains, expiration, role.is_call, placement)
            at, other = _partners(side, placed, widths, 1 if kind.placed == 0 else -1)
            pair = (at, other) if kind.placed == 0 else (other, at)
            yield _rows(*(leg + side.first for leg in pair))
        case "same" | "body":
            _, low, high = np.intersect1d(puts.strike, calls.strike, return_indices=True)
            near = np.isin(low, _middle(chains, expiration, puts, placement))
            low, high = low[near].astype(np.int64), high[near].astype(np.int64)
            if kind.shape == "same":
                yield _rows(low + puts.first, high + calls.first)
                return
            below, above = _partners(puts, low, widths, -1), _partners(calls, high, widths, 1)
            yield from _crossed(puts, calls, below, above, placement.balanced, room, dict(zip(low, high, strict=True)))
        case "two":
            low, high = (_placed(chains, expiration, is_call, placement) for is_call in (False, True))
            a, b = np.nonzero(puts.strike[low][:, None] < calls.strike[high][None, :])
            yield _rows(low[a] + puts.first, high[b] + calls.first)
        case "condor":
            below = _partners(puts, _placed(chains, expiration, False, placement), widths, -1)
            above = _partners(calls, _placed(chains, expiration, True, placement), widths, 1)
            yield from _crossed(puts, calls, below, above, placement.balanced, room)
        case "fly" | "wide fly":
            middle = _middle(chains, expiration, side, placement)
            at, other = _partners(side, middle, widths, 1)
            for body in np.unique(at):
                up, down = other[at == body], _partners(side, np.array([body]), widths, -1)[1]
                apart = np.abs((side.strike[up] - side.strike[body])[:, None] - (side.strike[body] - side.strike[down]))
                a, b = np.nonzero(apart < _CENT if kind.shape == "fly" else apart >= _CENT)
                first = side.first
                yield _rows(down[b] + first, np.full(a.size, body + first), up[a] + first)
        case "calendar" | "diagonal":
            placed = (
                _middle(chains, expiration, side, placement)
                if kind.shape == "calendar"
                else _placed(chains, expiration, role.is_call, placement)
            )
            for later in chains.later(expiration, placement):
                far = chains.side(later, role.is_call)
                away = far.strike[None, :] - side.strike[placed][:, None]
                if kind.shape == "calendar":
                    fits = np.abs(away) < _CENT
                else:
                    # The leg that lasts is nearer to the money, or in it.
                    away = away * (-1 if role.is_call else 1)
                    fits = (away >= widths[0]) & (away <= widths[1])
                a, b = np.nonzero(fits)
                legs = {False: placed[a] + side.first, True: b + far.first}
                yield _rows(*(legs[leg.later] for leg in kind.legs))


def _crossed(
    puts: _Side,
    calls: _Side,
    below: tuple[IntArray, IntArray],
    above: tuple[IntArray, IntArray],
    balanced: bool,
    room: int,
    same: dict[int, int] | None = None,
) -> Iterator[Places | int]:
    """Every vertical of puts with every vertical of calls above it; with `same` those of one middle strike."""
    (short_put, long_put), (short_call, long_call) = below, above
    order = np.argsort(puts.strike[short_put] - puts.strike[long_put], kind="stable")
    short_put, long_put = short_put[order], long_put[order]
    put_wide, call_wide = (
        puts.strike[short_put] - puts.strike[long_put],
        calls.strike[long_call] - calls.strike[short_call],
    )
    if balanced:
        first = np.searchsorted(put_wide, call_wide - _CENT)
        last = np.searchsorted(put_wide, call_wide + _CENT)
    else:
        first, last = np.zeros(call_wide.size, np.int64), np.full(call_wide.size, put_wide.size)
    many = last - first
    # Pairs that overlap are left out afterwards, so this is no less than there are.
    if int(many.sum()) > 4 * max(room, 250_000):
        yield int(many.sum())
        return
    call = np.repeat(np.arange(call_wide.size), many)
    put = np.arange(call.size) - np.repeat(np.cumsum(many) - many, many) + np.repeat(first, many)
    if same is None:
        fits = puts.strike[short_put[put]] < calls.strike[short_call[call]]
    else:
        partner = np.full(puts.strike.size, -1)
        partner[list(same)] = list(same.values())
        fits = partner[short_put[put]] == short_call[call]
    call, put = call[fits], put[fits]
    yield _rows(
        long_put[put] + puts.first, short_put[put] + puts.first, short_call[call] + calls.first, long_call[call] + calls.first
    )  # fmt: skip
