"""What the parts of the simulator share once prices are walked."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from flinch.feeds.simulated.calendar import SESSIONS, DateArray
from flinch.feeds.simulated.earnings import EarningsCalendar
from flinch.feeds.simulated.names import Listing
from flinch.feeds.simulated.paths import Paths
from flinch.feeds.simulated.storylines import PlantedTrade, Storyline
from flinch.feeds.simulated.surfaces import Smile

Floats = NDArray[np.float64]


class Ground(NamedTuple):
    """Arrays are names x sessions or, where they do not change, by name."""

    names: list[Listing]
    planted: dict[str, Storyline]
    groups: list[tuple[str, bool, NDArray[np.int64]]]  # names that list the same expirations: size, weeklies, rows
    calendar: DateArray  # the sessions and the ones ahead
    paths: Paths
    close: Floats
    premium: Floats  # what options ask over the volatility expected, a factor
    smiles: Smile
    earnings: EarningsCalendar
    option_volume: NDArray[np.int64]
    carry: Floats  # what the forward grows less than money, by name
    multiplier: Floats  # shares or index units a contract, by name
    halted: NDArray[np.bool_]  # stopped trading in the newest session, by name


def trades_of(ground: Ground, session: int) -> list[tuple[int, PlantedTrade]]:
    """What is planted on the tape of a session, each with the row of its name."""
    return [
        (row, trade)
        for row, name in enumerate(ground.names)
        if name.symbol in ground.planted
        for trade in ground.planted[name.symbol].trades
        if SESSIONS + trade.session == session
    ]
