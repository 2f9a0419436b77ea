"""The start command, which also keeps what the simulator made: the loading process imports this module again, and so keeps it."""

from __future__ import annotations

import os
import pickle
import sys
from collections.abc import Callable
from pathlib import Path

from tests.demo_process import KEPT_IN

from flinch.cli import main
from flinch.feeds import load_simulated
from flinch.feeds.simulated import SimulatedMarket, Simulation


class KeptSimulation(Simulation):
    """Writes the whole market where the environment says."""

    def whole(self, first: SimulatedMarket, progress: Callable[[str, float], None]) -> SimulatedMarket:
        market = super().whole(first, progress)
        Path(os.environ[KEPT_IN]).write_bytes(pickle.dumps(market, protocol=5))
        return market


load_simulated.Simulation = KeptSimulation  # type: ignore[misc]

if __name__ == "__main__":
    sys.exit(main())
