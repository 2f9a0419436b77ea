"""Structures that some names' quotes can make, as a table that a stack of rules runs on."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Hashable
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
    STRUCTURES,
    Block,
    Chains,
    Expirations,
    Placement,
    Structure,
    count_and_make,
    evaluate_block,
)
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


class LegOf(NamedTuple):
    """One leg in plain values."""

    quantity: int
    is_call: bool
    strike: float
    expiration: dt.date
    bid: float
    ask: float


class StructureTable(ThingTable):
    """All structures of a search as of a view, name after name within a batch of names, kind after kind.

    `counts` says how many there are of each kind, `left_out` how many options have no usable quote; `key` is what it is kept
    under."""

    vocabulary: Vocabulary = structure_vocabulary()
    labels = {"structure": tuple(kind.label for kind in STRUCTURES.values())}
    plain = frozenset[str]()

    def __init__(self, view: View, key: tuple[Hashable, ...], parts: list[_Part], counts: dict[str, int]) -> None:
        super().__init__(view, view, key)
        self.parts, self.counts = parts, counts
        self._blocks = [(part, block) for part in parts for block in part.blocks]
        self.left_out = sum(part.board.left_out for part in parts)

    @cached_property
    def begin(self) -> IntArray:
        """Where the structures of each block begin, and where the last ones end."""
        sizes = [block.legs.shape[0] for _, block in self._blocks]
        return np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)

    @property
    def size(self) -> int:
        """How many there are."""
        return int(self.begin[-1])

    @cached_property
    def name(self) -> NDArray[np.int32]:
        """Row in the frame of each structure's name."""
        return self._of_expiration(lambda board: board.name).astype(np.int32)

    def codes(self, key: str) -> NDArray[np.int8]:
        """Which kind of structure each is."""
        assert key == "structure"
        kinds = list(STRUCTURES)
        codes = [np.full(block.legs.shape[0], kinds.index(block.kind.key), np.int8) for _, block in self._blocks]
        return np.concatenate(codes) if codes else np.empty(0, np.int8)

    def raw(self, key: str) -> FloatArray:
        """A column of `COLUMNS`, in double precision."""
        told = [part.columns[COLUMNS.index(key)] for part in self.parts]
        return np.concatenate(told).astype(np.float64) if told else np.empty(0)

    def values(self, key: str) -> FloatArray:
        """A number or condition that the catalogue reads of structures, in its unit; NaN where there is none."""
        made = self._made(key)
        return np.where(np.isfinite(made), made, np.nan)

    def _made(self, key: str) -> FloatArray:
        for judged in ("chance_of_profit", "chance_of_max_loss"):
            if key.startswith(judged):
                return PERCENT * self.raw(key)
        if key.startswith("expected_value"):
            return self.raw(key.replace("expected_value", "expected"))
        match key:
            case "credit":
                cost = self.raw("cost")
                return np.where(cost < 0, -cost, np.nan)
            case "debit":
                cost = self.raw("cost")
                return np.where(cost > 0, cost, np.nan)
            case "max_loss":
                return -self.raw("max_loss")
            case "quoted_width":
                return 2 * (self.raw("natural") - self.raw("mid"))
            case "dte":
                return self._of_expiration(lambda board: board.days)
            case "sessions_to_expiration":
                return self._of_expiration(lambda board: board.sessions)
            case "target":
                return self._of_expiration(lambda board: board.target)
            case "profit_at_target":
                return self.raw("at_target")
            case "leaning":
                return self._leaning()
            case "breakeven_below_moves":
                return (self._spot - self.raw("breakeven_below")) / self._move
            case "breakeven_above_moves":
                return (self.raw("breakeven_above") - self._spot) / self._move
            case "report_inside":
                return self._of_expiration(lambda board: board.report)
            case "dividend_inside":
                inside = self._of_expiration(lambda board: board.dividend) > 0
                return (inside & (self.raw("short_call") < self._spot)).astype(np.float64)
            case "pinned":
                day = self.view.metric("next_day_move")[self.name]
                away = [np.abs(self.raw(key) - self._spot) for key in ("short_put", "short_call")]
                near = np.fmin(*away)
                week = self.values("dte") <= 7
                return np.where(np.isfinite(day), (week & (near <= 0.5 * day)).astype(np.float64), np.nan)
            case "adjusted":
                changed = frozenset[int]().union(*(part.board.adjusted for part in self.parts))
                return np.isin(self.name, list(changed)).astype(np.float64)
        return self.raw(key)

    @cached_property
    def _spot(self) -> FloatArray:
        return self._of_expiration(lambda board: board.spot)

    @cached_property
    def _move(self) -> FloatArray:
        """One expected move to the (first) expiration, $."""
        return self._of_expiration(lambda board: board.spot * board.terms.deviation)

    def _of_expiration(self, read: Callable[[Board], NDArray[Any]]) -> FloatArray:
        """What a board says of each expiration, for each structure's first one."""
        told = [
            np.asarray(read(part.board), np.float64)[part.board.quotes.expiration[block.legs[:, _near_leg(block.kind)]]]
            for part, block in self._blocks
        ]
        return np.concatenate(told) if told else np.empty(0)

    def _leaning(self) -> FloatArray:
        told = [np.full(block.legs.shape[0], float(block.kind.lean)) for _, block in self._blocks]
        return np.concatenate(told) if told else np.empty(0)

    def place(self, row: int) -> tuple[_Part, Block, int]:
        """Where a structure is: its part, block, and row within the block."""
        at = int(np.searchsorted(self.begin, row, "right")) - 1
        return *self._blocks[at], int(row - self.begin[at])

    def legs(self, row: int) -> tuple[Structure, list[LegOf]]:
        """A structure's kind and legs."""
        part, block, inner = self.place(row)
        board, quotes = part.board, part.board.quotes
        legs = []
        for role, contract in zip(block.kind.legs, block.legs[inner].tolist(), strict=True):
            expiration = board.date[quotes.expiration[contract]].astype(object)
            legs.append(
                LegOf(
                    role.quantity,
                    bool(quotes.is_call[contract]),
                    float(quotes.strike[contract]),
                    expiration,
                    float(quotes.bid[contract]),
                    float(quotes.ask[contract]),
                )
            )
        return block.kind, legs


class _Part(NamedTuple):
    """A batch of names: their board, candidates by kind, and columns of all of them, shape (columns, structures)."""

    board: Board
    blocks: list[Block]
    columns: NDArray[np.float32]


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
        wanted &= is_monthly(board.date) == (search.label == "monthly")
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
