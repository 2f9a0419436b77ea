"""Two sources for the same item: which one is served, what the other one says, and where they differ."""

from __future__ import annotations

import datetime as dt
from typing import Any, NamedTuple

import polars as pl
from sqlalchemy import Engine, select

from flinch.feeds.files.changes import MEND, NEW, OTHER, SAME, Change, Tellers
from flinch.store.market.imports import Ledger, read_tellers
from flinch.store.market.models import (
    DailyBar,
    Dividend,
    EarningsReport,
    Estimate,
    ExtendedDay,
    MarketBase,
    OtherRow,
    ShortInterest,
    SourceOrder,
)
from flinch.store.market.names import read_names
from flinch.store.reading import read_table

TOLERANCE = 0.005
"""How far two sources may be apart, as a share of the value, before they are told to disagree."""
_EXAMPLES = 12
TOLD: dict[str, tuple[type[MarketBase], str]] = {
    "daily_bars": (DailyBar, "session"),
    "extended_days": (ExtendedDay, "session"),
    "dividends": (Dividend, "ex_date"),
    "earnings_dates": (EarningsReport, "session"),
    "short_interest": (ShortInterest, "settled_on"),
    "estimates": (Estimate, "known_on"),
}
"""Kinds that several sources may tell of: the table of what is served, and the day that a row is of."""
KIND_OF = {table: (kind, day) for kind, (table, day) in TOLD.items()}


class Held(NamedTuple):
    """What rows of a file come to: of each whether it is new, other than what its source said before, or the same; those that are
    served, those that are kept beside (`waits` of them of this file), and keys of what is no longer kept beside."""

    alike: pl.Series
    served: pl.DataFrame
    beside: pl.DataFrame | None
    gone: pl.DataFrame | None
    waits: int


def hold(engine: Engine, table: type[MarketBase], there: pl.DataFrame, made: pl.DataFrame, tellers: Tellers) -> Held:
    """Sort the rows that a source tells, of a table of `TOLD`, by whether they are served; `there` are those that are, with their
    imports.

    A row is served when nobody else told it, when who did agrees, or is not preferred to this source; what was served before is
    then kept beside. Otherwise it is kept beside itself.
    """
    kind, day = KIND_OF[table]
    key = [day, "name_id"]
    values = [name for name in made.columns if name not in key]
    typed = there.select(pl.col(name).cast(made.schema[name]) for name in (*key, *values)).with_columns(
        there["import_id"].cast(pl.Int64), pl.lit(True).alias("_there")
    )
    both = made.join(typed, on=key, how="left", suffix="_before", maintain_order="left")
    both = both.join(_beside_of(engine, kind, tellers.me, made, day), on=key, how="left", maintain_order="left")
    source = pl.col("import_id").replace_strict(tellers.imports, default=None, return_dtype=pl.String)
    ranks = tellers.ranks(kind)
    rank = source.replace_strict(ranks, default=len(ranks), return_dtype=pl.Int64)
    equal = pl.all_horizontal(pl.lit(True), *[pl.col(name).eq_missing(pl.col(f"{name}_before")) for name in values])
    new = pl.col("_there").is_null()
    mine = source.is_null() | source.is_in([tellers.me, MEND])
    other = ~new & ~equal & ~mine
    told = both.with_columns(
        source.alias("_source"),
        (new | (~equal & (mine | (rank > ranks[tellers.me])))).alias("_served"),
        (other & (rank > ranks[tellers.me])).alias("_gives_way"),
        (other & (rank <= ranks[tellers.me])).alias("_waits"),
    ).with_row_index("_row")
    keyed = [pl.lit(kind).alias("kind"), pl.col(day).alias("day"), pl.col("name_id")]
    # Written out for those alone that are kept beside, which are few.
    waits = told.filter("_waits").with_columns(pl.struct(values).struct.json_encode().alias("told"))
    waits = waits.filter(pl.col("_beside").ne_missing(pl.col("told")))
    before = pl.struct(pl.col(f"{name}_before").alias(name) for name in values).struct.json_encode().alias("told")
    gave_way = told.filter("_gives_way").select(*keyed, pl.col("_source").alias("source"), before, "import_id")
    # What this source said otherwise ends where it is served or agrees now.
    ended = ~pl.col("_waits") & pl.col("_beside").is_not_null()
    first = pl.col("_row").is_in(waits.filter(pl.col("_beside").is_null())["_row"].implode())
    again = pl.col("_row").is_in(waits.filter(pl.col("_beside").is_not_null())["_row"].implode())
    alike = pl.when(new | first).then(NEW).when(pl.col("_served") | again | ended).then(OTHER).otherwise(SAME)
    return Held(
        told.select(alike.alias("alike"))["alike"],
        told.filter("_served").select(made.columns),
        pl.concat(
            [
                waits.select(
                    *keyed, pl.lit(tellers.me).alias("source"), "told", pl.lit(None, pl.Int64).alias("import_id")
                ),
                gave_way,
            ]
        ),
        told.filter(ended).select(*keyed, pl.lit(tellers.me).alias("source")),
        waits.height,
    )


def _beside_of(engine: Engine, kind: str, source: str, made: pl.DataFrame, day: str) -> pl.DataFrame:
    """What a source said of these days that is kept beside."""
    o = OtherRow
    wanted = select(o.day, o.name_id, o.told).where(
        o.kind == kind, o.source == source, o.day.between(made[day].min(), made[day].max())
    )
    rows = read_table(engine, wanted)
    return rows.select(
        pl.col("day").cast(made.schema[day]).alias(day),
        pl.col("name_id").cast(made.schema["name_id"]),
        pl.col("told").cast(pl.String).alias("_beside"),
    )


class Sources(NamedTuple):
    """The sources of a kind, the preferred one first, and how many rows of each are kept beside."""

    kind: str
    order: list[str]
    beside: dict[str, int]


class Differs(NamedTuple):
    """Where two sources disagree on a name's day: the column, what is served and what the other one says, and how far apart they
    are as a share of the former (none for what is no number)."""

    symbol: str
    day: dt.date
    served: str
    other: str
    apart: float | None


class Disagreement(NamedTuple):
    """Where two sources of a kind disagree on a column by more than the tolerance: how often, on how many names, since when and
    until when, and the widest of them."""

    kind: str
    column: str
    served_by: str
    other: str
    times: int
    names: int
    first: dt.date
    last: dt.date
    widest: list[Differs]


def read_sources(engine: Engine) -> list[Sources]:
    """The sources of every kind that more than one tells of."""
    imports, order = read_tellers(engine)
    o = OtherRow
    beside = read_table(engine, select(o.kind, o.source)).group_by("kind", "source").len().rows()
    told = []
    for kind in TOLD:
        kept = {source: count for one, source, count in beside if one == kind}
        known = [one for one in Tellers("", imports, order).known(kind) if one and one != MEND]
        ever = _ever(engine, kind, imports) | kept.keys()
        if len(ever) > 1:
            told.append(Sources(kind, [one for one in known if one in ever], kept))
    return told


def _ever(engine: Engine, kind: str, imports: dict[int, str]) -> set[str]:
    table = TOLD[kind][0].__table__.columns
    numbers = read_table(engine, select(table["import_id"]).distinct())["import_id"].drop_nulls().to_list()
    return {imports[int(number)] for number in numbers if int(number) in imports} - {MEND}


def _values(kind: str) -> list[str]:
    """Columns of a kind's table that say something."""
    return [c.name for c in TOLD[kind][0].__table__.columns if not c.primary_key and c.name != "import_id"]


def _pairs(engine: Engine, kind: str) -> pl.DataFrame:
    """The rows that are kept beside with what is served in their place: the values of either as JSON, and who tells each."""
    imports, _ = read_tellers(engine)
    table, day = TOLD[kind]
    o, columns = OtherRow, table.__table__.columns
    wanted = (
        select(o.day, o.name_id, o.source, o.told, o.import_id.label("other_import"), columns["import_id"])
        .add_columns(*[columns[name] for name in _values(kind)])
        .join(table, (columns[day] == o.day) & (columns["name_id"] == o.name_id))
        .where(o.kind == kind)
        .order_by(o.day, o.name_id, o.source)
    )
    rows = read_table(engine, wanted)
    source = pl.col("import_id").cast(pl.Int64).replace_strict(imports, default="", return_dtype=pl.String)
    return rows.with_columns(pl.col("day").cast(pl.Date), pl.col("told").cast(pl.String), source.alias("served_by"))


def read_others(engine: Engine, kind: str, source: str) -> pl.DataFrame:
    """The rows that a source tells otherwise than those that are served, as rows of the kind's table."""
    pairs = _pairs(engine, kind)
    mine = pairs.filter(pl.col("source") == source)
    return _decoded(kind, mine, pairs.schema)


def _decoded(kind: str, pairs: pl.DataFrame, schema: pl.Schema) -> pl.DataFrame:
    """What is kept beside as rows of the kind's table."""
    _, day = TOLD[kind]
    decoded = pairs["told"].str.json_decode(pl.Struct({name: schema[name] for name in _values(kind)})).struct.unnest()
    key = pairs.select(pl.col("day").alias(day), "name_id", pl.col("other_import").alias("import_id"))
    return pl.concat([key, decoded], how="horizontal")


def disagreements(engine: Engine, tolerance: float = TOLERANCE) -> list[Disagreement]:
    """Where sources disagree by more than a tolerance, by kind, column and pair of sources; those that do most often first."""
    names = read_names(engine)
    symbols = dict(zip(names["id"].to_list(), names["symbol"].to_list(), strict=True))
    found = [one for kind in TOLD for one in _of_kind(engine, kind, tolerance, symbols)]
    return sorted(found, key=lambda one: -one.times)


def _of_kind(engine: Engine, kind: str, tolerance: float, symbols: dict[int, str]) -> list[Disagreement]:
    pairs = _pairs(engine, kind)
    if not pairs.height:
        return []
    found = []
    for name in _values(kind):
        numeric = pairs.schema[name].is_numeric()
        raw = pl.col("told").str.json_path_match(f"$.{name}")
        other = raw.cast(pl.Float64, strict=False) if numeric else raw
        served = pl.col(name).cast(pl.Float64) if numeric else pl.col(name).cast(pl.String)
        both = pairs.select("day", "name_id", "source", "served_by", served.alias("served"), other.alias("other"))
        if numeric:
            apart = (pl.col("other") - pl.col("served")).abs() / pl.col("served").abs().clip(lower_bound=1e-12)
            one_missing = pl.col("served").is_null() != pl.col("other").is_null()
            wide = both.with_columns(apart.alias("apart")).filter((pl.col("apart") > tolerance) | one_missing)
        else:
            wide = both.with_columns(pl.lit(None, pl.Float64).alias("apart")).filter(
                pl.col("served").ne_missing(pl.col("other"))
            )
        for (source, served_by), rows in wide.group_by("source", "served_by", maintain_order=True):
            found.append(_disagreement(kind, _ours(kind, name), str(served_by), str(source), rows, symbols))
    return found


def _ours(kind: str, column: str) -> str:
    return "price_target" if (kind, column) == ("estimates", "fair_value") else column


def _disagreement(
    kind: str, column: str, served_by: str, source: str, rows: pl.DataFrame, symbols: dict[int, str]
) -> Disagreement:
    widest = rows.sort("apart", "day", descending=True, nulls_last=True).head(_EXAMPLES)
    told = [
        Differs(symbols.get(name_id, "?"), day, _word(served), _word(other), apart)
        for day, name_id, served, other, apart in widest.select(
            "day", "name_id", "served", "other", "apart"
        ).iter_rows()
    ]
    days = rows["day"]
    first, last = days.min(), days.max()
    assert isinstance(first, dt.date)
    assert isinstance(last, dt.date)
    return Disagreement(kind, column, served_by, source, rows.height, rows["name_id"].n_unique(), first, last, told)


def _word(value: Any) -> str:
    if value is None:
        return "nothing"
    return f"{value:.10g}" if isinstance(value, float) else str(value)


def prefer(engine: Engine, kind: str, order: list[str]) -> tuple[Change, str]:
    """The change that makes an order of preference hold: what is kept beside and preferred now is served, and what was served is
    kept beside."""
    imports, before = read_tellers(engine)
    tellers = Tellers("", imports, before | {kind: order})
    table, _ = TOLD[kind]
    pairs = _pairs(engine, kind)
    ranks = tellers.ranks(kind)
    rank = pl.col("source").replace_strict(ranks, default=len(ranks), return_dtype=pl.Int64)
    served = pl.col("served_by").replace_strict(ranks, default=len(ranks), return_dtype=pl.Int64)
    best = (
        pairs.with_columns(rank.alias("_rank"))
        .filter((pl.col("_rank") < served) & (pl.col("served_by") != MEND))
        .sort("_rank", maintain_order=True)
        .unique(["day", "name_id"], keep="first", maintain_order=True)
    )
    values = _values(kind)

    def write(ledger: Ledger) -> None:
        ledger.replace(
            SourceOrder,
            pl.DataFrame({"place": range(len(order)), "source": order}).with_columns(pl.lit(kind).alias("kind")),
        )
        if not best.height:
            return
        keyed = [pl.lit(kind).alias("kind"), pl.col("day"), pl.col("name_id")]
        now = _decoded(kind, best, pairs.schema)
        gave_way = best.select(
            *keyed,
            pl.col("served_by").alias("source"),
            pl.struct(values).struct.json_encode().alias("told"),
            "import_id",
        )
        ledger.remove(OtherRow, best.select(*keyed, pl.col("source")))
        ledger.replace(OtherRow, gave_way, as_told=True)
        ledger.replace(table, now, as_told=True)

    republish = kind in ("dividends", "earnings_dates")
    change = Change(changed=best.height, writes=[write], all_moments=republish)
    return change, f"prefer {', '.join(order)}"
