"""A name's option trades of one session as a view knows them, and how far price has gone since each ticket."""

from __future__ import annotations

import numpy as np

from flinch.core.arrays import FloatArray
from flinch.core.flow import since
from flinch.market.tickets import asked_of
from flinch.market.view import View
from flinch.tape import SessionTape, read_session_tape


def read_name_tape(view: View, row: int, session: int) -> SessionTape | None:
    """The tape of a name's session as it was known at the view's moment; None when no trades of it are kept.

    `session` is not later than the view's. Next morning's open interest is known when the view is of a later session.
    """
    asked = asked_of(view, np.array([row]), session)
    return None if asked is None else read_session_tape(view.store, asked)


def tape_since(view: View, row: int, tape: SessionTape) -> FloatArray:
    """How far the price of the view's moment is from that of each ticket of a name, in one-day moves priced in the tape's session
    and in the direction of the lean."""
    then = view.at(view.session_on(tape.session))
    one_day = float(then.metric("one_day_move")[row])
    return since(np.full(tape.spot.size, view.price(row)), tape.spot, np.full(tape.spot.size, one_day), tape.lean)
