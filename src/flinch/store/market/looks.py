"""Looks at the chains within a session: at all of them, or at those of some names while what was seen of the others stands."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence

import polars as pl
from sqlalchemy import Engine, delete, func, insert, literal, select

from flinch.store.engine import transaction
from flinch.store.market.chain import stored
from flinch.store.market.models import ChainSnapshot, ExpiryVolatility, NameChain, Position, SnapshotPrice
from flinch.store.reading import read_table

_OF_LOOK = (NameChain, SnapshotPrice, ExpiryVolatility, Position)


def carry_look(engine: Engine, before: dt.datetime, now: dt.datetime, names: Sequence[int]) -> None:
    """Let what a look has of all names but these (their keys) stand at a later one too; doing it again changes nothing."""
    then, moment = stored(before), stored(now)
    looked_at = func.coalesce(SnapshotPrice.looked_at, SnapshotPrice.taken_at)
    with transaction(engine) as session:
        for table in _OF_LOOK:
            others = table.name_id.not_in([int(name) for name in names])
            columns = {column.name: column for column in table.__table__.columns}
            values = columns | {
                "taken_at": literal(moment),
                **({"looked_at": looked_at} if "looked_at" in columns else {}),
            }
            session.execute(delete(table).where(table.taken_at == moment, others))
            rows = select(*values.values()).where(table.taken_at == then, others)
            session.execute(insert(table).from_select(list(values), rows))


def read_own_looks(engine: Engine, taken_at: dt.datetime, name_id: int | None = None) -> pl.DataFrame:
    """When the chain of every name that a snapshot has, or of one, was looked at (UTC): name_id, looked_at."""
    p = SnapshotPrice
    wanted = [p.taken_at == stored(taken_at), *([] if name_id is None else [p.name_id == name_id])]
    own = func.coalesce(p.looked_at, p.taken_at).label("looked_at")
    return read_table(engine, select(p.name_id, own).where(*wanted).order_by(p.name_id))


def read_looks_before(engine: Engine, looks: Sequence[dt.datetime], name_id: int | None = None) -> pl.DataFrame:
    """The look of each name before its newest one, among the snapshots of a session in order: name_id, looked_at; of one name
    when it is given. Names that were looked at once are not there."""
    newest, *earlier = list(looks)[::-1]
    left = read_own_looks(engine, newest, name_id)
    found = [left.clear()]
    for look in earlier:
        if not left.height:
            break
        both = left.join(read_own_looks(engine, look, name_id), on="name_id", suffix="_then")
        other = both.filter(pl.col("looked_at_then") != pl.col("looked_at"))
        found.append(other.select("name_id", pl.col("looked_at_then").alias("looked_at")))
        left = left.join(other, on="name_id", how="anti")
    return pl.concat(found).sort("name_id")


def forget_looks(engine: Engine, day: dt.date) -> None:
    """Of a session that is over its last look at the chains stays alone, as of all others."""
    with transaction(engine) as session:
        taken = session.scalars(
            select(ChainSnapshot.taken_at).where(ChainSnapshot.session == day).order_by(ChainSnapshot.taken_at)
        ).all()
        for table in (*_OF_LOOK, ChainSnapshot):
            session.execute(delete(table).where(table.taken_at.in_(taken[:-1])))


def read_positions_before(engine: Engine, looks: Sequence[dt.datetime], fields: Sequence[str]) -> pl.DataFrame:
    """What the look of each name before its newest one said of some columns of `Position`: name_id and these, none where the
    snapshots of a session, in order, hold no such look."""
    found = read_looks_before(engine, looks) if looks else None
    moments = [] if found is None else found["looked_at"].unique().to_list()
    columns = [Position.name_id, *(getattr(Position, field) for field in fields)]
    rows = read_table(engine, select(Position.taken_at, *columns).where(Position.taken_at.in_(moments)))
    if found is None:
        return rows.drop("taken_at")
    return rows.join(found, left_on=["name_id", "taken_at"], right_on=["name_id", "looked_at"], how="semi").drop(
        "taken_at"
    )
