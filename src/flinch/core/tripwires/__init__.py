"""Tripwires: when a name that is waited for does what it is waited for."""

from flinch.core.tripwires.steps import Again, Step, Waiting, armed, step, through, watch

__all__ = ["Again", "Step", "Waiting", "armed", "step", "through", "watch"]
