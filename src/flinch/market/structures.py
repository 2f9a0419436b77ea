"""Structures that some names' quotes can make, as a table that a stack of rules runs on."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.calendar import is_monthly
from flinch.core.interrupt import checkpoint
from flinch.core.rules import Vocabulary, structure_vocabulary
from flinch.core.rules.catalogue.metric import PERCENT
from flinch.core.structures import (
    COLUMNS,
    OPINIONS,
    STRUCTURES,
    Block,
    Chains,
    Expirations,
    Placement,
    PlainLeg,
    PlainLegs,
    Structure,
    count_and_make,
    evaluate_block,
)
from flinch.core.structures.flags import pinned
from flinch.errors import FlinchError
from flinch.market.boards import Board, read_board
from flinch.market.things import ThingTable
from flinch.market.view import View

MOST_STRUCTURES = 500_000
MOST_LATER_DAYS = 400
_NAMES_AT_ONCE = 48
_KEPT = 2
Label = Literal["any", "weekly", "monthly"]
ReportWish = Literal["any", "before", "after"]


class TooManyStructures(FlinchError):
    """A search makes more than can be looked at; the message says what would shrink it."""

    kind, where = "too_many_structures", "search"


@dataclass(frozen=True)
class Search:
    """Which structures to make: kinds (keys of `STRUCTURES`), expirations by days, label and where the next report falls,
    strikes, how far from mid entry is, and whether the own past is given the spread of the forecast."""

    kinds: tuple[str, ...]
    least_days: int
    most_days: int
    label: Label
    report: ReportWish
    placement: Placement
    entry: float
    scaled: bool = False


class StructureTable(ThingTable):
    """All structures of a search as of a view, name after name within a batch of names, kind after kind.

    `counts` says how many there are of each kind, `left_out` how many options have no usable quote; `key` is what it is kept
    under."""

    vocabulary: Vocabulary = structure_vocabulary()
    labels = {"structure": tuple(kind.label for kind in STRUCTURES.values())}
    plain = frozenset[str]()

    def __init__(self, view: View, key: tuple[Hashable, ...], parts: list[_Part], counts: dict[str, int]) -> None:
        super().__init__(view, view, key)
        self.counts = counts
        self.boards = [part.board for part in parts]
        self.blocks = [(place, block) for place, part in enumerate(parts) for block in part.blocks]
        self.left_out = sum(board.left_out for board in self.boards)
        sizes = [block.legs.shape[0] for _, block in self.blocks]
        self.begin: IntArray = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
        """Where the structures of each block begin, and where the last ones end."""
        self.columns = np.concatenate([part.columns for part in parts], axis=1) if parts else _NO_COLUMNS
        kinds = list(STRUCTURES)
        self._kind = np.repeat(np.array([kinds.index(block.kind.key) for _, block in self.blocks], np.int8), sizes)
        # Which expiration of all boards each structure's first one is.
        offset = np.concatenate([[0], np.cumsum([board.name.size for board in self.boards])])
        first = [
            offset[place] + self.boards[place].quotes.expiration[block.legs[:, _near_leg(block.kind)]]
            for place, block in self.blocks
        ]
        self._expiration = np.concatenate(first).astype(np.int32) if first else np.empty(0, np.int32)

    @property
    def size(self) -> int:
        """How many there are."""
        return int(self.begin[-1])

    @cached_property
    def name(self) -> NDArray[np.int32]:
        """Row in the frame of each structure's name."""
        return self.of_expiration(lambda board: board.name, None).astype(np.int32)

    def codes(self, key: str) -> NDArray[np.int8]:
        """Which kind of structure each is."""
        assert key == "structure"
        return self._kind

    def values(self, key: str, rows: IntArray | None = None) -> FloatArray:
        """A number or condition that the catalogue reads of structures, in its unit, of all or of some rows; NaN: none."""
        made = _READ[key](self, rows)
        return np.where(np.isfinite(made), made, np.nan)

    def raw(self, key: str, rows: IntArray | None) -> FloatArray:
        """A column of `COLUMNS`, in double precision."""
        column = self.columns[COLUMNS.index(key)]
        found: FloatArray = (column if rows is None else column[rows]).astype(np.float64)
        return found

    def leaning(self, rows: IntArray | None) -> FloatArray:
        """Which way each wants the price to go, +1, -1 or 0."""
        lean = np.array([kind.lean for kind in STRUCTURES.values()], np.float64)
        return lean[self._kind if rows is None else self._kind[rows]]

    def spot(self, rows: IntArray | None) -> FloatArray:
        """Price of the name, $."""
        return self.of_expiration(lambda board: board.spot, rows)

    def move(self, rows: IntArray | None) -> FloatArray:
        """One expected move to the (first) expiration, $."""
        return self.of_expiration(lambda board: board.spot * board.terms.deviation, rows)

    def of_expiration(self, read: Callable[[Board], NDArray[Any]], rows: IntArray | None) -> FloatArray:
        """What a board says of each expiration, for each structure's first one."""
        told = [np.asarray(read(board), np.float64) for board in self.boards]
        every = np.concatenate(told) if told else np.empty(0)
        return every[self._expiration if rows is None else self._expiration[rows]]

    def structures(self, rows: IntArray) -> Iterator[tuple[Structure, PlainLegs]]:
        """Kind and legs of some structures."""
        at = np.searchsorted(self.begin, rows, "right") - 1
        for row, within in zip(rows.tolist(), at.tolist(), strict=True):
            place, block = self.blocks[within]
            board, quotes = self.boards[place], self.boards[place].quotes
            legs = [
                PlainLeg(
                    role.quantity,
                    bool(quotes.is_call[contract]),
                    float(quotes.strike[contract]),
                    board.expiries[quotes.expiration[contract]].expiration,
                )
                for role, contract in zip(block.kind.legs, block.legs[row - self.begin[within]].tolist(), strict=True)
            ]
            yield block.kind, PlainLegs(legs, block.kind.shares * int(self.view.multiplier(int(self.name[row]))))


_Read = Callable[[StructureTable, IntArray | None], FloatArray]


def _plain(column: str, factor: float = 1.0) -> _Read:
    """A column as the kernels tell it, times a factor."""
    return lambda table, rows: factor * table.raw(column, rows)


def _per_expiration(read: Callable[[Board], NDArray[Any]]) -> _Read:
    """What a board says of the (first) expiration."""
    return lambda table, rows: table.of_expiration(read, rows)


def _above_zero(factor: float) -> _Read:
    """Cost of entry times a factor where that is above zero."""

    def read(table: StructureTable, rows: IntArray | None) -> FloatArray:
        cost = factor * table.raw("cost", rows)
        return np.where(cost > 0, cost, np.nan)

    return read


def _below(table: StructureTable, rows: IntArray | None) -> FloatArray:
    return (table.spot(rows) - table.raw("breakeven_below", rows)) / table.move(rows)


def _above(table: StructureTable, rows: IntArray | None) -> FloatArray:
    return (table.raw("breakeven_above", rows) - table.spot(rows)) / table.move(rows)


def _dividend(table: StructureTable, rows: IntArray | None) -> FloatArray:
    inside = table.of_expiration(lambda board: board.dividend, rows) > 0
    return (inside & (table.raw("short_call", rows) < table.spot(rows))).astype(np.float64)


def _pinned(table: StructureTable, rows: IntArray | None) -> FloatArray:
    day = table.view.metric("next_day_move")[table.name if rows is None else table.name[rows]]
    away = [np.abs(table.raw(key, rows) - table.spot(rows)) for key in ("short_put", "short_call")]
    flagged = pinned(table.values("dte", rows), np.fmin(*away), day)
    return np.where(np.isfinite(day), flagged.astype(np.float64), np.nan)


def _adjusted(table: StructureTable, rows: IntArray | None) -> FloatArray:
    changed = list(frozenset[int]().union(*(board.adjusted for board in table.boards)))
    return table.of_expiration(lambda board: np.isin(board.name, changed), rows)


_READ: dict[str, _Read] = {
    **{column: _plain(column) for column in COLUMNS},
    **{f"chance_of_profit_{opinion}": _plain(f"chance_of_profit_{opinion}", PERCENT) for opinion in OPINIONS},
    **{f"chance_of_max_loss_{opinion}": _plain(f"chance_of_max_loss_{opinion}", PERCENT) for opinion in OPINIONS},
    **{f"expected_value_{opinion}": _plain(f"expected_{opinion}") for opinion in OPINIONS},
    "credit": _above_zero(-1.0),
    "debit": _above_zero(1.0),
    "max_loss": _plain("max_loss", -1.0),
    "quoted_width": lambda table, rows: 2 * (table.raw("natural", rows) - table.raw("mid", rows)),
    "dte": _per_expiration(lambda board: board.days),
    "sessions_to_expiration": _per_expiration(lambda board: board.sessions),
    "target": _per_expiration(lambda board: board.target),
    "profit_at_target": _plain("at_target"),
    "leaning": lambda table, rows: table.leaning(rows),
    "breakeven_below_moves": _below,
    "breakeven_above_moves": _above,
    "report_inside": _per_expiration(lambda board: board.report),
    "dividend_inside": _dividend,
    "pinned": _pinned,
    "adjusted": _adjusted,
}
"""How each metric that the catalogue reads of structures follows from what the kernels and the boards tell, in its unit."""


class _Part(NamedTuple):
    """A batch of names: their board, candidates by kind, and columns of all of them, shape (columns, structures)."""

    board: Board
    blocks: list[Block]
    columns: NDArray[np.float32]


_NO_COLUMNS = np.empty((len(COLUMNS), 0), np.float32)


def structure_table(view: View, names: BoolArray, search: Search, target: FloatArray) -> StructureTable:
    """The table of a search over some names, made once.

    `target` is the price that each name's strikes are counted from when the search asks for one, by row of the frame. Raises
    TooManyStructures.
    """
    key = ("structures", view.last, search, names.tobytes(), target.tobytes())
    return view.version.keep(key, lambda: _make_table(view, names, search, target, key), _KEPT)


def _make_table(
    view: View, names: BoolArray, search: Search, target: FloatArray, key: tuple[Hashable, ...]
) -> StructureTable:
    kinds = [STRUCTURES[kind] for kind in search.kinds]
    lasting = any(leg.later for kind in kinds for leg in kind.legs)
    reach = search.most_days + (min(search.placement.later_high, MOST_LATER_DAYS) if lasting else 0)
    rows = np.flatnonzero(names)
    parts: list[_Part] = []
    counts = dict.fromkeys(search.kinds, 0)
    for first in range(0, rows.size, _NAMES_AT_ONCE):
        checkpoint()
        board = read_board(view, rows[first : first + _NAMES_AT_ONCE], target, reach)
        if not board.expiries:
            continue
        near = _wanted(board, search)
        expirations = Expirations(
            board.name,
            board.days,
            board.spot,
            board.spot * board.terms.deviation,
            board.target if search.placement.at_target else board.spot,
            near,
        )
        room = MOST_STRUCTURES - sum(counts.values())
        blocks, found = count_and_make(Chains(board.quotes, expirations), kinds, search.placement, max(room, 0))
        for kind, count in found.items():
            counts[kind] += count
        if sum(counts.values()) > MOST_STRUCTURES or not blocks:
            continue
        # Opinions of what nothing ends at are not asked for.
        ends = np.zeros(near.size, dtype=bool)
        for block in blocks:
            ends[board.quotes.expiration[block.legs[:, _near_leg(block.kind)]]] = True
        opinions = board.opinions(ends, scaled=search.scaled)
        columns = np.empty((len(COLUMNS), sum(block.legs.shape[0] for block in blocks)), np.float32)
        begin = 0
        for block in blocks:
            told = evaluate_block(
                block, board.quotes, board.terms, opinions, entry=search.entry, remaining=board.remaining
            )
            end = begin + block.legs.shape[0]
            for place, column in enumerate(COLUMNS):
                columns[place, begin:end] = told[column]
            begin = end
        parts.append(_Part(board, blocks, columns))
    total = sum(counts.values())
    if total > MOST_STRUCTURES:
        raise TooManyStructures(_too_many(total, counts))
    return StructureTable(view, key, parts, counts)


def _too_many(total: int, counts: dict[str, int]) -> str:
    most = max(counts, key=lambda kind: counts[kind])
    share = STRUCTURES[most].label.lower()
    return (
        f"This makes {total:,} structures or more, {total / MOST_STRUCTURES:.1f} times what one search may "
        f"({MOST_STRUCTURES:,}). Most of them, {counts[most]:,}, are of the kind {share}: narrow the strikes or widths, "
        "ask for fewer days, fewer names or fewer kinds, or for wings of one width."
    )


def _wanted(board: Board, search: Search) -> BoolArray:
    """Expirations that structures may end at."""
    wanted = (board.days >= search.least_days) & (board.days <= search.most_days) & (board.terms.years > 0)
    if search.label != "any":
        wanted &= is_monthly(board.date, board.view.calendar) == (search.label == "monthly")
    if search.report != "any":
        wanted &= board.report == (search.report == "after")
    result: BoolArray = wanted
    return result


def _near_leg(kind: Structure) -> int:
    """Which leg ends first."""
    return next(place for place, leg in enumerate(kind.legs) if not leg.later)


def compile_structures(view: View) -> None:
    """Run a small search of every kind, so that nobody waits for its compiling."""
    rows = np.flatnonzero(view.optionable())[:1]
    names = np.zeros(len(view.frame.names), dtype=bool)
    names[rows] = True
    placement = Placement("moves", 0.0, 3.0, middle=1.0, most_width=float("inf"))
    search = Search(tuple(STRUCTURES), 0, 400, "any", "any", placement, 0.3)
    with suppress(TooManyStructures):
        _make_table(view, names, search, np.full(names.size, np.nan), ())
