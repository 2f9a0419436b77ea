"""Searching structures: what is made, which survive, in which order, and which of them no other beats."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from sqlalchemy import Engine

from flinch.core.arrays import BoolArray, FloatArray, IntArray
from flinch.core.rules import Binned, RuleError
from flinch.core.rules.catalogue import Scale
from flinch.core.rules.evaluate import Categories
from flinch.core.structures import OPINIONS, STRUCTURES, front, moving_together, spread_out, weighed
from flinch.core.structures.flags import thin, wide
from flinch.core.structures.notation import leg_words, write_legs
from flinch.features.structures.schemas import (
    Cells,
    Front,
    FrontAxis,
    KindCount,
    KindEntry,
    SearchAsked,
    StructureColumn,
    StructureLine,
    StructuresReply,
    StructuresRequest,
)
from flinch.market import Dictionary, View
from flinch.market.structures import StructureTable, structure_table
from flinch.screening.columns import TABLE_METRICS, Described, describe
from flinch.screening.groups import mask, source_symbols, universe
from flinch.screening.report import bins_among, rule_reports
from flinch.screening.run import Ran, run_stack
from flinch.screening.search import AtMost, SearchBody
from flinch.store.owned.owners import Whose

MOST_SYMBOLS, MOST_POINTS = 2_000, 200
TOGETHER = 0.6
"""Correlation from which on two names count as one."""
_TOGETHER_SESSIONS = 252
_CELLS_X, _CELLS_Y = 96, 56
NOT_KEPT = "No quotes of this session are kept, so nothing can be made of them: choose a later one."


@dataclass(frozen=True)
class Found:
    """A table, what became of the stack, and the structures left, in order; `on_front` are those of all survivors on the
    front."""

    table: StructureTable
    view: View
    names: int
    ran: Ran
    survivors: IntArray
    axes: list[FrontAxis]
    places: FloatArray
    on_front: BoolArray
    rows: IntArray
    targets: int | None


def find(view: View, engine: Engine, whose: Whose, names: Dictionary, things: Dictionary, asked: SearchAsked) -> Found:
    """Make, screen and order; raises NoSuchGroup, BadSearch, TooManyStructures, RuleError for an axis that cannot be read."""
    source = asked.stack.universe
    wanted = (
        mask(view, source_symbols(view, engine, whose, names, source)) & view.optionable()
        if source.startswith("screen:")
        else universe(view, engine, whose, source)
    )
    search, target = asked.search.search(), asked.search.prices(view, names)
    table = structure_table(view, wanted, search, target)
    ran = run_stack(table, things, asked.stack, np.ones(table.size, dtype=bool))
    survivors = np.flatnonzero(ran.result.survivors)
    axes, places = _axes(table, things, asked.search.front, survivors)
    on_front = front(places)
    by_weight = _weighed(table, things, asked.search, survivors) if asked.search.weights else None
    rows = _sorted(table, things, survivors, asked.sort) if by_weight is None else by_weight
    front_rows = np.zeros(table.size, dtype=bool)
    front_rows[survivors[on_front]] = True
    if asked.front_only:
        rows = rows[front_rows[rows]]
    if asked.search.at_most is not None:
        rows = rows[_at_most(table, rows, asked.search.at_most)]
    aimed = int((np.isfinite(target) & wanted).sum()) if asked.search.target.strip() else None
    return Found(table, view, int(wanted.sum()), ran, survivors, axes, places, front_rows, rows, aimed)


def look(found: Found, own: dict[str, Described], things: Dictionary, request: StructuresRequest) -> StructuresReply:
    """The funnel, the rows asked for, and the front."""
    view, table = found.view, found.table
    page = found.rows[request.first : request.first + request.count]

    def bins(key: str, values: Callable[[], FloatArray], scale: Scale) -> Binned:
        return view.version.keep(("bins", key, *table.key), lambda: bins_among(values(), found.ran.universe, scale), 60)

    return StructuresReply(
        version=view.data_version,
        session=view.today,
        newest=view.is_newest,
        past=view.past,
        moment=view.as_of,
        reason=None if view.snapshot else NOT_KEPT,
        names=found.names,
        targets=found.targets,
        kinds=[KindCount(key=key, label=STRUCTURES[key].label, count=count) for key, count in table.counts.items()],
        left_out=table.left_out,
        universe=table.size,
        survivors=found.survivors.size,
        total=found.rows.size,
        symbols=_symbols(view, table.name[found.rows].astype(np.int64)),
        rules=rule_reports(own, found.ran, request.aim, bins),
        first=request.first,
        rows=lines(found, page),
        columns=[column_of(table, things, own, text, page) for text in dict.fromkeys(request.columns)],
        front=_front(found) if request.points else None,
    )


def lines(found: Found, page: IntArray) -> list[StructureLine]:
    """Structures in words and numbers."""
    table = found.table

    def of(key: str) -> FloatArray:
        return table.values(key, page)

    chances = np.stack([of(f"chance_of_profit_{opinion}") for opinion in OPINIONS], axis=1).tolist()
    edges = np.stack([of(f"expected_value_{opinion}") - of("cost") for opinion in OPINIONS], axis=1).tolist()
    facts = [(words, of(key) > 0) for key, words in _FLAG_WORDS.items()]
    facts.append(("wide market", wide(of("quoted_width"), of("mid"))))
    facts.append(("thin leg", thin(of("min_leg_open_interest"))))
    out = []
    for place, (row, (kind, legs)) in enumerate(zip(page.tolist(), table.structures(page), strict=True)):
        name = found.view.name(int(table.name[row]))
        out.append(
            StructureLine(
                key=f"{name.symbol} {write_legs(legs)}",
                symbol=name.symbol,
                company=name.company,
                kind=kind.key,
                label=kind.label,
                words=leg_words(legs),
                chances=chances[place],
                edges=edges[place],
                flags=[words for words, holds in facts if holds[place]],
                on_front=bool(found.on_front[row]),
            )
        )
    return out


_FLAG_WORDS = {
    "report_inside": "report inside",
    "dividend_inside": "dividend inside",
    "pinned": "pinned",
    "adjusted": "adjusted contracts",
}


def column_of(
    table: StructureTable, things: Dictionary, own: dict[str, Described], text: str, page: IntArray
) -> StructureColumn:
    """One column for some structures; one that cannot be read carries its error."""
    nothing = [None] * page.size
    try:
        node = things.read(text).node
    except RuleError as error:
        described = describe(text, own, "number")
        return StructureColumn(**_told(described), error=error.message, numbers=nothing, texts=[])
    column = table.column(node)
    described = describe(text, own, node.kind)
    if isinstance(column.categories, Categories):
        labels = column.categories.labels
        texts = [labels[code] if code >= 0 else "" for code in column.categories.codes[page].tolist()]
        return StructureColumn(**_told(described), error=None, numbers=[], texts=texts)
    return StructureColumn(
        **_told(described), error=None, numbers=column.values[page].astype(np.float64).tolist(), texts=[]
    )


def _told(described: Described) -> dict[str, object]:
    return {key: getattr(described, key) for key in ("key", "label", "short", "unit", "decimals", "kind")}


# -- order -------------------------------------------------------------------------------------------------------------


def _number(table: StructureTable, things: Dictionary, text: str) -> tuple[FloatArray, str | None]:
    """An axis for every structure, larger being better, and why it cannot be read."""
    key, falling = text.removeprefix("-").strip(), text.startswith("-")
    try:
        node = things.read(key).node
    except RuleError as error:
        return np.full(table.size, np.nan), error.message
    column = table.column(node)
    if column.categories is not None:
        return np.full(table.size, np.nan), f"{key[:40]} is a text: an axis is a number."
    values = column.values.astype(np.float64)
    return (-values if falling else values), None


def _sorted(table: StructureTable, things: Dictionary, rows: IntArray, sort: list[str]) -> IntArray:
    """Rows by up to two keys; what has no value comes last whichever way."""
    for key in reversed(sort):
        name, falling = key.removeprefix("-"), key.startswith("-")
        if name in ("symbol", "structure"):
            place = (
                np.argsort(np.argsort([n.symbol for n in table.view.frame.names]))[table.name]
                if name == "symbol"
                else table.codes("structure")
            ).astype(np.float64)
            values = -place if falling else place
        else:
            better, _ = _number(table, things, name)
            values = -better if falling else better
        values = values[rows]
        rows = rows[np.argsort(np.where(np.isnan(values), np.inf, values), kind="stable")]
    return rows


def _weighed(table: StructureTable, things: Dictionary, search: SearchBody, rows: IntArray) -> IntArray:
    """Rows by their mean standing on weighed axes, the best first."""
    axes = np.stack([_number(table, things, weight.axis)[0][rows] for weight in search.weights], axis=1)
    score = weighed(axes, np.array([weight.weight for weight in search.weights]))
    return rows[np.argsort(np.where(np.isnan(score), np.inf, -score), kind="stable")]


def _at_most(table: StructureTable, rows: IntArray, wish: AtMost) -> BoolArray:
    view, name = table.view, table.name[rows].astype(np.int64)
    if wish.of == "sector":
        sector = np.unique(view.panel.texts["sector"], return_inverse=True)[1]
        return spread_out(sector[name].astype(np.int64), wish.count)
    used, group = np.unique(name, return_inverse=True)
    if wish.of == "name":
        return spread_out(group.astype(np.int64), wish.count)
    close = view.frame.close[used, max(0, view.end - _TOGETHER_SESSIONS - 1) : view.end]
    with np.errstate(invalid="ignore", divide="ignore"):
        returns = np.diff(np.log(close), axis=1)
    return spread_out(group.astype(np.int64), wish.count, moving_together(returns, TOGETHER))


def _symbols(view: View, names: IntArray) -> list[str]:
    """Symbols in the order in which their names first come."""
    seen, first = np.unique(names, return_index=True)
    return [view.name(int(row)).symbol for row in seen[np.argsort(first)][:MOST_SYMBOLS]]


# -- the front ---------------------------------------------------------------------------------------------------------


def _axes(
    table: StructureTable, things: Dictionary, texts: list[str], rows: IntArray
) -> tuple[list[FrontAxis], FloatArray]:
    """The axes, and where each of the rows stands on them, larger being better."""
    axes, columns = [], []
    for text in texts:
        key, falling = text.removeprefix("-").strip(), text.startswith("-")
        better, error = _number(table, things, text)
        values = better[rows]
        told = values[np.isfinite(values)]
        metric = describe(key, TABLE_METRICS["structures"], "number")
        ends = (float(told.min()), float(told.max())) if told.size else (None, None)
        if falling and told.size:
            ends = (-float(told.max()), -float(told.min()))
        axes.append(
            FrontAxis(
                key=text,
                label=metric.label,
                unit=metric.unit,
                decimals=metric.decimals,
                rising=not falling,
                error=error,
                lowest=ends[0],
                highest=ends[1],
            )
        )
        columns.append(values)
    return axes, np.stack(columns, axis=1) if columns else np.empty((rows.size, 0))


def _front(found: Found) -> Front:
    signs = np.array([1.0 if axis.rising else -1.0 for axis in found.axes])
    mine = np.flatnonzero(found.on_front[found.survivors])
    order = mine[np.argsort(found.places[mine, 0], kind="stable")]
    if order.size > MOST_POINTS:
        order = order[np.unique(np.linspace(0, order.size - 1, MOST_POINTS).astype(np.int64))]
    places = found.places[order] * signs
    return Front(
        axes=found.axes,
        total=int(mine.size),
        points=lines(found, found.survivors[order]),
        places=places.tolist(),
        knee=_knee(found.places[order]) if len(found.axes) == 2 else None,
        cells=_cells(found.places[:, :2] * signs[:2]),
    )


def _knee(places: FloatArray) -> int | None:
    """The point furthest from the line between the ends of a front of two axes, each from 0 to 1; none with fewer than three."""
    if places.shape[0] < 3:
        return None
    span = np.ptp(places, axis=0)
    if not (span > 0).all():
        return None
    scaled = (places - places.min(axis=0)) / span
    start, end = scaled[0], scaled[-1]
    along = end - start
    away = np.abs((scaled[:, 0] - start[0]) * along[1] - (scaled[:, 1] - start[1]) * along[0])
    return int(away.argmax())


def _cells(places: FloatArray) -> Cells:
    """How many lie where, in small cells of the range in which all but a hundredth do."""
    known = places[np.isfinite(places).all(axis=1)]
    if not known.size:
        return Cells(x=[], y=[], count=[])
    low, high = known.min(axis=0), np.percentile(known, 99.5, axis=0)
    span = np.where(high > low, high - low, 1.0)
    sizes = np.array([_CELLS_X, _CELLS_Y])
    cell = np.minimum((known - low) / span * sizes, sizes - 1).astype(np.int64)
    count = np.bincount(cell[:, 0] * _CELLS_Y + cell[:, 1])
    place = np.flatnonzero(count)
    middle = (np.stack(np.divmod(place, _CELLS_Y), axis=1) + 0.5) / sizes * span + low
    return Cells(x=middle[:, 0].tolist(), y=middle[:, 1].tolist(), count=count[place].tolist())


def kinds() -> list[KindEntry]:
    """The kinds that a search can ask for."""
    return [
        KindEntry(
            key=kind.key,
            label=kind.label,
            lean=kind.lean,
            legs=[
                f"{leg.quantity:+d} {'call' if leg.is_call else 'put'}{' later' if leg.later else ''}"
                for leg in kind.legs
            ]
            + (["shares"] if kind.shares else []),
            later=any(leg.later for leg in kind.legs),
            middle=kind.shape in ("same", "body", "fly", "wide fly", "calendar"),
            wide=kind.shape not in ("single", "same", "two", "calendar"),
        )
        for kind in STRUCTURES.values()
    ]
