"""The history of imports, and what was there before each of the last ones.

Before rows are written those that they take the place of are laid aside, with the keys of those that were not there. Rows are
written after that, so whatever ends in the middle can be brought back.
"""

from __future__ import annotations

import datetime as dt
import io
from collections.abc import Iterator
from typing import Any, NamedTuple

import polars as pl
from sqlalchemy import Engine, delete, insert, select, update
from sqlalchemy.orm import Session

from flinch.clock import wall
from flinch.store.bulk import remove_rows, replace_rows
from flinch.store.engine import told, transaction
from flinch.store.market.models import DataImport, ImportBefore, MarketBase, OtherRow, SourceOrder
from flinch.store.reading import read_table

KEPT = 10
"""Imports that can be undone: the newest ones, the newest first."""
_PIECE = 4 << 20
"""Bytes of rows that are laid aside together."""
_FEW = 1_000
_OVER = ("loaded", "undone")
_TABLES = {table.__tablename__: table for table in (m.class_ for m in MarketBase.registry.mappers)}


class ImportRow(NamedTuple):
    """An import as its row tells; instants are UTC. `undoable` is the one that can be undone now."""

    id: int
    kind: str
    source: str
    file: str
    how: dict[str, Any]
    state: str
    rows: int
    added: int
    changed: int
    same: int
    refused: int
    moments: list[str]
    began_at: dt.datetime
    ended_at: dt.datetime | None
    undoable: bool


def begin_import(engine: Engine, **columns: Any) -> int:
    """Write down that an import begins to write; returns its number."""
    with transaction(engine) as session:
        row = DataImport(state="writing", kept=True, began_at=_now(), **columns)
        session.add(row)
        session.flush()
        return row.id


def say_import(engine: Engine, number: int, state: str) -> None:
    """Say how far an import is. One that is over lets go of what is kept of those too long ago."""
    with transaction(engine) as session:
        session.execute(
            update(DataImport)
            .where(DataImport.id == number)
            .values(state=state, ended_at=_now() if state in _OVER else None, kept=state != "undone")
        )
    if state in _OVER:
        _let_go(engine)


def read_imports(engine: Engine, most: int = 100) -> list[ImportRow]:
    """The newest imports, the newest first."""
    with transaction(engine) as session:
        rows = session.scalars(select(DataImport).order_by(DataImport.id.desc()).limit(most)).all()
        newest = _newest(session)
        return [_told(row, row.id == newest) for row in rows]


def read_import(engine: Engine, number: int) -> ImportRow | None:
    """An import by its number."""
    with transaction(engine) as session:
        row = session.get(DataImport, number)
        return None if row is None else _told(row, row.id == _newest(session))


def half_done(engine: Engine) -> ImportRow | None:
    """The import that was ended in the middle, or is under way; there is one at most."""
    with transaction(engine) as session:
        row = session.scalar(select(DataImport).where(DataImport.state.not_in(_OVER)).order_by(DataImport.id.desc()))
        return None if row is None else _told(row, undoable=False)


def read_tellers(engine: Engine) -> tuple[dict[int, str], dict[str, list[str]]]:
    """The source of every import, and the sources of each kind in the order in which they are preferred, where that was said."""
    o = SourceOrder
    with told(), engine.connect() as connection:
        imports = {number: source for number, source in connection.execute(select(DataImport.id, DataImport.source))}
        order: dict[str, list[str]] = {}
        for kind, source in connection.execute(select(o.kind, o.source).order_by(o.kind, o.place)):
            order.setdefault(kind, []).append(source)
    return imports, order


class Ledger:
    """Writes the rows of an import, each after what was there before it is laid aside."""

    def __init__(self, engine: Engine, number: int) -> None:
        self.engine, self.number = engine, number
        self._place = 0

    def replace(self, table: type[MarketBase], rows: pl.DataFrame, *, as_told: bool = False) -> None:
        """Write rows to a table, as `store.bulk.replace_rows`. They are this import's, but for those that, with `as_told`, say
        whose they are."""
        if not rows.height:
            return
        self._lay_aside(table, _before(self.engine, table, rows))
        if "import_id" in table.__table__.columns:
            mine = pl.lit(self.number).alias("import_id")
            rows = rows.with_columns(pl.col("import_id").fill_null(mine) if as_told else mine)
        replace_rows(self.engine, table, rows)

    def remove(self, table: type[MarketBase], keys: pl.DataFrame) -> None:
        """Remove the rows of these keys from a table."""
        if keys.height:
            self._lay_aside(table, _before(self.engine, table, keys))
            remove_rows(self.engine, table, keys)

    def _lay_aside(self, table: type[MarketBase], before: pl.DataFrame) -> None:
        for piece in _pieces(before):
            file = io.BytesIO()
            piece.write_parquet(file)
            row = {"import_id": self.number, "place": self._place, "table_name": table.__tablename__}
            with told(), self.engine.begin() as connection:
                connection.execute(insert(ImportBefore).values(row | {"rows": file.getvalue()}))
            self._place += 1


def bring_back(engine: Engine, number: int) -> None:
    """Make the rows that an import wrote what they were before, the last ones first; it may be done again."""
    for table, before in _laid_aside(engine, number):
        key = primary_key(table)
        there = before.filter("_there")
        remove_rows(engine, table, before.filter(~pl.col("_there")).select(key))
        if there.height:
            replace_rows(engine, table, there.drop("_there"))


class Before(NamedTuple):
    """A value of a row that an import changed: of which table, name (its key) and day, the column, what it was before the import,
    and what it is now."""

    table: str
    name_id: int | None
    day: dt.date | None
    column: str
    before: Any
    now: Any


def read_changes(engine: Engine, number: int, most: int) -> list[Before] | None:
    """The first values that an import changed, as far as what was there before is kept: None where it is not. Packed values are
    not taken apart."""
    with transaction(engine) as session:
        row = session.get(DataImport, number)
        if row is None or not row.kept:
            return None
    found: list[Before] = []
    for table, before in _laid_aside(engine, number):
        there, packed = before.filter("_there").drop("_there"), pl.Binary in before.dtypes
        if there.height and not packed and table not in (OtherRow, SourceOrder):
            found += _changes(engine, table, there, most - len(found))
        if len(found) >= most:
            break
    return found


def _changes(engine: Engine, table: type[MarketBase], before: pl.DataFrame, most: int) -> list[Before]:
    key = primary_key(table)
    now = _before(engine, table, before.select(key)).filter("_there")
    told = [name for name in before.columns if name not in (*key, "import_id")]
    both = before.join(
        now.select(pl.col(name).cast(before.schema[name]) for name in (*key, *told)), on=key, suffix="_now"
    )
    named = next((name for name in ("name_id", "id") if name in key), None)
    day = next((name for name in key if before.schema[name].is_temporal()), None)
    found: list[Before] = []
    for name in told:
        other = both.filter(pl.col(name).ne_missing(pl.col(f"{name}_now"))).head(most - len(found))
        for one in other.iter_rows(named=True):
            on = None if day is None else one[day]
            found.append(
                Before(
                    table.__tablename__,
                    None if named is None else int(one[named]),
                    on.date() if isinstance(on, dt.datetime) else on,
                    name,
                    one[name],
                    one[f"{name}_now"],
                )
            )
    return found


def written(engine: Engine, number: int, table: type[MarketBase]) -> pl.DataFrame:
    """Keys of the rows of a table that an import wrote, and whether each was `_there` before."""
    parts = [rows.select(*primary_key(table), "_there") for one, rows in _laid_aside(engine, number) if one is table]
    return pl.concat(parts) if parts else pl.DataFrame()


def _laid_aside(engine: Engine, number: int) -> Iterator[tuple[type[MarketBase], pl.DataFrame]]:
    b = ImportBefore
    with told(), engine.connect() as connection:
        places = connection.scalars(select(b.place).where(b.import_id == number).order_by(b.place.desc())).all()
    for place in places:
        with told(), engine.connect() as connection:
            name, rows = connection.execute(
                select(b.table_name, b.rows).where(b.import_id == number, b.place == place)
            ).one()
        yield _TABLES[name], pl.read_parquet(io.BytesIO(rows))


def primary_key(table: type[MarketBase]) -> list[str]:
    """Names of the columns of a table's natural key."""
    return [column.name for column in table.__table__.columns if column.primary_key]


def _before(engine: Engine, table: type[MarketBase], rows: pl.DataFrame) -> pl.DataFrame:
    """The rows of a table that have the keys of these, and the keys that none has."""
    key, columns = primary_key(table), table.__table__.columns
    wanted = select(*columns).where(columns[key[0]].between(rows[key[0]].min(), rows[key[0]].max()))
    for other in key[1:]:
        some = rows[other].unique()
        if some.len() <= _FEW:
            wanted = wanted.where(columns[other].in_(some.to_list()))
    there = read_table(engine, wanted)
    keys = rows.select(pl.col(name).cast(there.schema[name]) for name in key).unique(maintain_order=True)
    found = there.join(keys, on=key, how="semi").with_columns(pl.lit(True).alias("_there"))
    new = keys.join(there, on=key, how="anti").with_columns(pl.lit(False).alias("_there"))
    return pl.concat([found, new], how="diagonal")


def _pieces(rows: pl.DataFrame) -> Iterator[pl.DataFrame]:
    count = max(1, -(-int(rows.estimated_size()) // _PIECE))
    yield from rows.iter_slices(max(1, -(-rows.height // count)))


def _newest(session: Session) -> int | None:
    """The import that can be undone: the newest of those that stand, while what was before it is kept."""
    row = session.scalar(select(DataImport).where(DataImport.state == "loaded").order_by(DataImport.id.desc()).limit(1))
    under_way = session.scalar(select(DataImport.id).where(DataImport.state.not_in(_OVER)).limit(1))
    return row.id if row is not None and row.kept and under_way is None else None


def _let_go(engine: Engine) -> None:
    with transaction(engine) as session:
        stands = select(DataImport.id).where(DataImport.state == "loaded").order_by(DataImport.id.desc())
        kept = session.scalars(stands.limit(KEPT)).all()
        session.execute(delete(ImportBefore).where(ImportBefore.import_id.not_in(kept)))
        session.execute(update(DataImport).where(DataImport.id.not_in(kept)).values(kept=False))


def _now() -> dt.datetime:
    return wall().replace(tzinfo=None, microsecond=0)


def _told(row: DataImport, undoable: bool) -> ImportRow:
    return ImportRow(
        row.id,
        row.kind,
        row.source,
        row.file,
        row.how,
        row.state,
        row.rows,
        row.added,
        row.changed,
        row.same,
        row.refused,
        row.moments,
        row.began_at.replace(tzinfo=dt.UTC),
        None if row.ended_at is None else row.ended_at.replace(tzinfo=dt.UTC),
        undoable,
    )
