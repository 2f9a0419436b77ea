"""The Tarrow Isles: a made-up market from one seed, in which every part agrees with every other."""

from flinch.feeds.simulated.market import SimulatedMarket, Simulation, simulate

__all__ = ["SimulatedMarket", "Simulation", "simulate"]
