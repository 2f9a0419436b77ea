"""Whose things they are."""

from __future__ import annotations

from sqlalchemy import Engine, insert, select

from flinch.store.engine import transaction
from flinch.store.owned.models import Owner

LOCAL_OWNER = "local"


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
