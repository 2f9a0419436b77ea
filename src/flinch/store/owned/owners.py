"""Whose things they are."""

from __future__ import annotations

from typing import Any, NamedTuple

from sqlalchemy import ColumnElement, Engine, insert, select

from flinch.store.engine import told, transaction
from flinch.store.owned.models import ChosenMarket, Owner

LOCAL_OWNER = "local"


class Whose(NamedTuple):
    """An owner's id, and the market that is at hand: tray, lines, plans and baskets are of one market, screens and own metrics of
    all."""

    owner: int
    market: str


def said_by(model: type[Any], whose: Whose) -> dict[str, Any]:
    """What says whose a row is: its owner, and where it is of one market which."""
    return {"owner_id": whose.owner} | ({"market": whose.market} if hasattr(model, "market") else {})


def theirs(model: type[Any], whose: Whose) -> list[ColumnElement[bool]]:
    """That rows are somebody's."""
    return [getattr(model, key) == value for key, value in said_by(model, whose).items()]


def is_theirs(row: Any, whose: Whose) -> bool:
    """Whether a row is somebody's."""
    return all(getattr(row, key) == value for key, value in said_by(type(row), whose).items())


def owner_called(engine: Engine, name: str) -> int:
    """Id of the owner of a name, made when it is not there yet."""
    wanted = select(Owner.id).where(Owner.name == name)
    with transaction(engine) as session:
        id = session.scalar(wanted)
        if id is not None:
            return id
        # Two first requests may come at once: the second one's row is left out.
        session.execute(insert(Owner).prefix_with("IGNORE").values(name=name))
    with transaction(engine) as session:
        return session.scalars(wanted).one()


def chosen_market(engine: Engine, owner_id: int) -> str | None:
    """The market that an owner chose last; None before the first choice."""
    with told(), engine.connect() as connection:
        return connection.scalar(select(ChosenMarket.market).where(ChosenMarket.owner_id == owner_id))


def choose_market(engine: Engine, owner_id: int, market: str) -> None:
    """Remember a choice."""
    with transaction(engine) as session:
        session.merge(ChosenMarket(owner_id=owner_id, market=market))
