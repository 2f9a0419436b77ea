"""Cells as values: how a column writes its numbers, days and instants is told from the whole of it, never row by row."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from collections.abc import Set as AbstractSet
from dataclasses import dataclass, field
from typing import NamedTuple
from zoneinfo import ZoneInfo

import polars as pl

from flinch.feeds.files.kinds import MISSING, Column, Kind, Sort
from flinch.feeds.files.matching import CannotMatch
from flinch.feeds.files.reading import Batch
from flinch.feeds.files.reasons import because, first_of

DAY_FORMATS = {
    "%Y-%m-%d": "year-month-day", "%Y%m%d": "yearmonthday", "%Y/%m/%d": "year/month/day", "%d.%m.%Y": "day.month.year",
    "%m/%d/%Y": "month/day/year", "%d/%m/%Y": "day/month/year", "%d-%b-%Y": "day-name-year", "%d %b %Y": "day name year",
    "%m/%d/%y": "month/day/short year", "%d/%m/%y": "day/month/short year", "%y%m%d": "short yearmonthday",
}  # fmt: skip
"""Ways to write a day, with what each is in words."""
INSTANT_FORMATS = (
    "offset",
    "%Y-%m-%dT%H:%M:%S%.f",
    "%Y-%m-%d %H:%M:%S%.f",
    "%Y-%m-%d %H:%M",
    "%Y-%m-%dT%H:%M",
    "s",
    "ms",
    "us",
    "ns",
)
"""ISO 8601 with an offset, without one (the zone is asked), or since 1970."""
_TYPES = {
    "stock": "stock",
    "equity": "stock",
    "cs": "stock",
    "common stock": "stock",
    "fund": "fund",
    "etf": "fund",
    "index": "index",
}
_TIMING = {
    "before_open": "before_open", "bmo": "before_open", "pre": "before_open", "before": "before_open",
    "after_close": "after_close",
    "amc": "after_close", "post": "after_close", "after": "after_close", "unknown": "unknown",
}  # fmt: skip
_RIGHTS = {"c": True, "call": True, "calls": True, "p": False, "put": False, "puts": False}
_MEANT: dict[str, Mapping[str, object]] = {"right": _RIGHTS, "timing": _TIMING, "type": _TYPES}
_OCC = r"^([A-Z0-9. ]{6})(\d{6})([CP])(\d{8})$"


class Before(NamedTuple):
    """How the columns of an earlier file of the same source were read; it decides where the values themselves leave it open."""

    days: Mapping[str, str] = {}
    percent: AbstractSet[str] = frozenset()
    decimals: AbstractSet[str] = frozenset()


@dataclass
class Hints:
    """What somebody said of a file: the zone of its instants, its days' format by column, columns in percent, those that are
    decimals though they might be percent, and whether its source adjusted prices for splits."""

    zone: str | None = None
    days: Mapping[str, str] = field(default_factory=dict)
    percent: AbstractSet[str] = frozenset()
    decimals: AbstractSet[str] = frozenset()
    adjusted: bool | None = None
    before: Before = field(default_factory=Before)


@dataclass
class Reading:
    """How each of our columns is read: the file's column, and the way that its values are written."""

    matched: dict[str, str]
    ways: dict[str, str]
    percent: AbstractSet[str]
    zone: str | None


def learn(batches: Iterable[Batch], kind: Kind, matched: dict[str, str], hints: Hints) -> Reading:
    """Go through the rows of a file once and tell how its columns write their values.

    Raises CannotMatch where more than one way fits, with what to say; BadFile as reading does.
    """
    _require_known(kind, hints)
    asked = {name: column for name in matched if (column := kind.column(name)) is not None and column.sort in _WAYS}
    shares = _Shares(kind, matched, hints)
    counts: dict[str, dict[str, int]] = {name: dict.fromkeys(_WAYS[column.sort], 0) for name, column in asked.items()}
    differ: dict[str, set[tuple[str, str]]] = {name: set() for name in asked}
    for batch in batches:
        shares.count(batch)
        for name in asked:
            cells = present(batch.cells[matched[name]], asked[name].sort)
            if cells.dtype != pl.String:
                way = "no offset" if isinstance(cells.dtype, pl.Datetime) and cells.dtype.time_zone is None else "typed"
                counts[name][way] = counts[name].get(way, 0) + cells.len() - cells.null_count()
                continue
            _count(cells, counts[name], differ[name], asked[name])
    ways = {}
    for name, column in asked.items():
        ways[name] = hints.days.get(name) or _best(
            matched[name], counts[name], differ[name], column, hints.before.days.get(name)
        )
    ways |= _marks_of_all(counts, ways)
    needs = [
        name for name, way in ways.items() if asked[name].sort == "instant" and way not in ("offset", "typed", *_EPOCHS)
    ]
    if needs and hints.zone is None:
        their = matched[needs[0]]
        raise CannotMatch(
            f"Times in the column {their[:40]!r} have no offset: say the zone they are in, America/New_York for instance.",
            their[:80],
        )
    return Reading(matched, ways, hints.percent | shares.percent(ways), hints.zone)


def _marks_of_all(counts: dict[str, dict[str, int]], ways: dict[str, str]) -> dict[str, str]:
    """The decimal mark of columns that either fits: that of the others, where they agree. Shares of 54.321 are thousands in a
    file that has prices of 10,25."""
    told = {name: counts[name] for name, way in ways.items() if way in ("point", "comma")}
    sure = {ways[name] for name, count in told.items() if count["point"] != count["comma"]}
    return {name: "comma" for name, count in told.items() if count["point"] == count["comma"] and sure == {"comma"}}


class _Shares:
    """Columns whose values are decimals or percent, as far as nobody said which: what their values come to."""

    def __init__(self, kind: Kind, matched: dict[str, str], hints: Hints) -> None:
        said = hints.percent | hints.decimals
        self._columns = [
            column
            for column in kind.columns
            if column.share is not None and column.name in matched and column.name not in said
        ]
        self._matched, self._before = matched, hints.before
        self._total = {(column.name, way): 0.0 for column in self._columns for way in ("typed", "point", "comma")}
        self._count = dict.fromkeys(self._total, 0)
        self._funds: set[str] = set()
        self._largest = 0.0

    def count(self, batch: Batch) -> None:
        """Take in some rows."""
        for column in self._columns:
            cells = present(batch.cells[self._matched[column.name]], column.sort)
            # Who writes the sign says it of that cell alone.
            if cells.dtype == pl.String:
                told = cells.filter(~cells.str.ends_with("%").fill_null(False))
                read = {way: _WAYS["number"][way](told) for way in ("point", "comma")}
            else:
                read = {"typed": cells.cast(pl.Float64, strict=False)}
            for way, values in read.items():
                known = values.filter(values.is_finite().fill_null(False)).abs()
                self._total[column.name, way] += float(known.sum())
                self._count[column.name, way] += known.len()
                self._largest = max(self._largest, float(known.max() or 0.0))  # type: ignore[arg-type]
        if self._columns and "fund" in self._matched:
            self._funds |= set(batch.cells[self._matched["fund"]].cast(pl.String).drop_nulls().unique().to_list())

    def percent(self, ways: Mapping[str, str]) -> set[str]:
        """Those in percent. Raises CannotMatch where it cannot be told."""
        found = set()
        for column in self._columns:
            assert column.share is not None
            (least, most), weight = column.share, column.name == "weight"
            key = column.name, ways[column.name]
            if not self._count[key]:
                continue
            size = self._total[key] / (len(self._funds) or 1 if weight else self._count[key])
            before = column.name in self._before.percent and (weight or size > least)
            if size > most or before:
                found.add(column.name)
            elif (size > least or (weight and self._largest > 1)) and column.name not in self._before.decimals:
                their = self._matched[column.name]
                what, of = ("come to", " a fund") if weight else ("are", " on average")
                raise CannotMatch(
                    f"Values in the column {their[:40]!r} {what} {size:.3g}{of}: say whether they are decimals or in percent.",
                    their[:80],
                )
        return found


def _require_known(kind: Kind, hints: Hints) -> None:
    """Refuse what was said of columns that there are not, or of days in a way that nobody writes."""
    for name in (*hints.days, *hints.percent, *hints.decimals):
        if kind.column(name) is None:
            names = ", ".join(column.name for column in kind.columns)
            raise CannotMatch(f"{kind.name} have no column {name[:40]!r}; theirs are {names}.", name[:80])
    for way in hints.days.values():
        if way not in DAY_FORMATS:
            raise CannotMatch(f"Days are not written as {way[:40]!r}; say one of {', '.join(DAY_FORMATS)}.", way[:80])


def present(cells: pl.Series, sort: Sort) -> pl.Series:
    """Cells as text without blanks around them, null where a word says that there is none; those that have a type which fits
    stay as they are."""
    if _fits(cells.dtype, sort):
        return cells
    try:
        plain = cells.cast(pl.String).str.strip_chars()
    except pl.exceptions.PolarsError:
        raise CannotMatch(
            f"The column {cells.name[:40]!r} holds {cells.dtype}, which is no value: leave it out.", cells.name[:80]
        ) from None
    return plain.set(plain.str.to_lowercase().is_in(list(MISSING)), None)


def _fits(dtype: pl.DataType, sort: Sort) -> bool:
    """Whether a column of a type is taken as it is, rather than read as text."""
    if sort in ("number", "whole"):
        return dtype.is_numeric()
    if sort == "right":
        return dtype == pl.Boolean
    return (
        isinstance(dtype, pl.Datetime) or (sort == "day" and dtype == pl.Date) if sort in ("day", "instant") else False
    )


def _count(cells: pl.Series, counts: dict[str, int], differ: set[tuple[str, str]], column: Column) -> None:
    distinct = cells.drop_nulls().unique()
    read = {way: _WAYS[column.sort][way](distinct) for way in counts if way in _WAYS[column.sort]}
    for way, values in read.items():
        counts[way] += values.len() - values.null_count()
    if column.sort == "day":
        ways = [way for way, values in read.items() if values.null_count() < values.len()]
        differ.update((a, b) for a in ways for b in ways if a < b and (read[a] != read[b]).any())


def _best(their: str, counts: dict[str, int], differ: set[tuple[str, str]], column: Column, before: str | None) -> str:
    """The way that reads most of a column. When another one reads as many, and otherwise, it is the one of the file before;
    raises CannotMatch where there is none."""
    best = max(counts, key=lambda way: counts[way])
    others = [
        way for way in counts if way != best and counts[way] == counts[best] and tuple(sorted((way, best))) in differ
    ]
    if before in (best, *others):
        return before
    if counts[best] and others and column.sort == "day":
        words = " or ".join(DAY_FORMATS[way] for way in (best, *others))
        raise CannotMatch(f"Days in the column {their[:40]!r} may be {words}: say which.", their[:80])
    return best


def _day(way: str) -> Callable[[pl.Series], pl.Series]:
    def read(cells: pl.Series) -> pl.Series:
        days = cells.str.to_date(way, strict=False, exact=True)
        # A year of two digits is read by the ways that have one.
        return days.set((days.dt.year() < _FIRST_YEAR).fill_null(False), None)

    return read


def _instant(way: str) -> Callable[[pl.Series], pl.Series]:
    if way == "offset":
        return lambda cells: (
            cells.str.replace(r"[zZ]$", "+00:00")
            .str.replace(" ", "T", literal=True)
            .str.to_datetime("%Y-%m-%dT%H:%M:%S%.f%:z", strict=False, time_unit="us")
            .dt.convert_time_zone("UTC")
        )
    if way in _EPOCHS:
        least, most = _EPOCHS[way]

        def since(cells: pl.Series) -> pl.Series:
            whole = cells.cast(pl.Int64, strict=False)
            inside = whole.set(~whole.is_between(least, most).fill_null(False), None)
            scaled = inside // 1_000 if way == "ns" else inside * _MICROSECONDS[way]
            return scaled.cast(pl.Datetime("us")).dt.replace_time_zone("UTC")

        return since
    return lambda cells: cells.str.to_datetime(way, strict=False, exact=True, time_unit="us")


def _number(mark: str) -> Callable[[pl.Series], pl.Series]:
    """Numbers with a decimal mark; the other sign may stand between thousands."""
    other = "," if mark == "." else "."
    shape = rf"^[+-]?(\d+|\d{{1,3}}(\{other}\d{{3}})+)?(\{mark}\d*)?([eE][+-]?\d+)?$"

    def shaped(cells: pl.Series) -> pl.Series:
        bare = cells.str.strip_chars_end(" %").str.strip_chars_start("$€£ ")
        sound = bare.set(~bare.str.contains(shape).fill_null(False), None)
        return (
            sound.str.replace_all(other, "", literal=True)
            .str.replace(mark, ".", literal=True)
            .cast(pl.Float64, strict=False)
        )

    def read(cells: pl.Series) -> pl.Series:
        # Most are plain, and need no look at their shape.
        values = cells.cast(pl.Float64, strict=False)
        odd = ~values.is_finite().fill_null(False) & cells.is_not_null()
        return values.zip_with(~odd, shaped(cells)) if odd.any() else values

    return read if mark == "." else shaped


_FIRST_YEAR = 1800
_EPOCHS = {
    "s": (10**8, 10**10), "ms": (10**11, 10**13), "us": (10**14, 10**16), "ns": (10**17, 9 * 10**18),
}  # fmt: skip
_MICROSECONDS = {"s": 1_000_000, "ms": 1_000, "us": 1}
_WAYS: dict[str, dict[str, Callable[[pl.Series], pl.Series]]] = {
    "day": {way: _day(way) for way in DAY_FORMATS},
    "instant": {way: _instant(way) for way in INSTANT_FORMATS},
    "number": {"point": _number("."), "comma": _number(",")},
    "whole": {"point": _number("."), "comma": _number(",")},
}


def typed_rows(batch: Batch, kind: Kind, reading: Reading) -> tuple[pl.DataFrame, pl.Series]:
    """A batch's rows with our columns and types, null where there is no value, and why each row is refused (null: it is not)."""
    columns, reasons = {}, [batch.reason]
    for column in kind.columns:
        their = reading.matched.get(column.name)
        if their is None:
            columns[column.name] = pl.Series([None], dtype=_DTYPES[column.sort]).new_from_index(0, batch.cells.height)
            continue
        cells = present(batch.cells[their], column.sort)
        values = _values(cells, column, reading)
        columns[column.name] = values
        bad = values.is_null() & cells.is_not_null()
        if column.sort in ("number", "whole") and column.least is not None:
            bad = bad | (values < column.least).fill_null(False)
        reasons.append(because(bad, f"{their} is no {_WORDS[column.sort]}: ", cells))
        if column.needed:
            reasons.append(because(cells.is_null(), f"{their} is missing"))
    frame = pl.DataFrame(columns)
    if kind.column("contract") is not None:
        frame = _with_contract(frame, reasons)
    return frame, first_of(reasons)


def _values(cells: pl.Series, column: Column, reading: Reading) -> pl.Series:
    way = reading.ways.get(column.name, "")
    if cells.dtype == pl.String:
        values = _WAYS[column.sort][way](cells) if column.sort in _WAYS else _words(cells, column)
    elif cells.dtype == pl.Float32:
        # The number that was meant is the shortest one that reads back as the same.
        values = cells.cast(pl.String).cast(pl.Float64)
    else:
        values = cells
    if column.sort == "instant":
        if isinstance(values.dtype, pl.Datetime) and values.dtype.time_zone is None:
            # `learn` asked for the zone.
            values = values.dt.replace_time_zone(reading.zone, ambiguous="earliest", non_existent="null")
        return values.dt.convert_time_zone("UTC").dt.cast_time_unit("us")
    if column.sort in ("number", "whole"):
        values = values.cast(pl.Float64, strict=False)
        values = values.set(~values.is_finite().fill_null(False), None)
        if column.name in reading.percent:
            values = values / 100
        elif cells.dtype == pl.String:
            # Who writes the sign says it of that cell alone.
            signed = cells.str.ends_with("%").fill_null(False)
            values = pl.DataFrame({"v": values, "s": signed}).select(
                pl.when("s").then(pl.col("v") / 100).otherwise("v")
            )["v"]
        if column.sort == "whole":
            values = values.set((values != values.round()).fill_null(False), None)
    return values.cast(_DTYPES[column.sort], strict=False)


def _words(cells: pl.Series, column: Column) -> pl.Series:
    known = _MEANT.get(column.sort)
    if known is not None:
        low = cells.str.to_lowercase()
        return low.replace_strict(list(known), list(known.values()), default=None, return_dtype=_DTYPES[column.sort])
    if column.sort == "contract":
        upper = cells.str.to_uppercase()
        return upper.set(~upper.str.contains(_OCC).fill_null(False), None)
    if column.name in ("symbol", "fund"):
        upper = cells.str.to_uppercase()
        return upper.set(~upper.str.contains(r"^[A-Z0-9][A-Z0-9.^/-]{0,11}$").fill_null(False), None)
    return cells.str.slice(0, column.characters)


def _with_contract(frame: pl.DataFrame, reasons: list[pl.Series]) -> pl.DataFrame:
    """The three of a contract, from its symbol where they are not given."""
    part = pl.col("contract").str
    filled = frame.with_columns(
        pl.coalesce("expiration", part.extract(_OCC, 2).str.to_date("%y%m%d", strict=False)).alias("expiration"),
        pl.coalesce("strike", part.extract(_OCC, 4).cast(pl.Float64) / 1000).alias("strike"),
        pl.coalesce("right", part.extract(_OCC, 3) == "C").alias("right"),
    )
    for name in ("expiration", "strike", "right"):
        reasons.append(because(filled[name].is_null(), f"{name} is missing"))
    return filled.drop("contract")


_DTYPES: dict[str, pl.DataType] = {
    "text": pl.String(), "number": pl.Float64(), "whole": pl.Int64(), "day": pl.Date(), "instant": pl.Datetime("us", "UTC"),
    "right": pl.Boolean(), "contract": pl.String(), "timing": pl.String(), "type": pl.String(),
}  # fmt: skip
_WORDS = {
    "text": "text", "number": "number that can be", "whole": "whole number that can be", "day": "day", "instant": "moment",
    "right": "call or put", "contract": "contract", "timing": "time of a report", "type": "stock, fund or index",
}  # fmt: skip


def known_zone(name: str) -> str:
    """The name of a zone that there is. Raises CannotMatch."""
    try:
        return ZoneInfo(name).key
    except (KeyError, ValueError, OSError):
        raise CannotMatch(
            f"There is no zone {name[:40]!r}: give its name, America/New_York for instance.", "zone"
        ) from None
