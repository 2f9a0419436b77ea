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
from flinch.feeds.simulated import SimulatedMarket

simulate = load_simulated.simulate


def keep(progress: Callable[[str, float], None]) -> SimulatedMarket:
    """Simulate, and write the result where the environment says."""
    market = simulate(progress)
    Path(os.environ[KEPT_IN]).write_bytes(pickle.dumps(market, protocol=5))
    return market


load_simulated.simulate = keep

if __name__ == "__main__":
    sys.exit(main())
