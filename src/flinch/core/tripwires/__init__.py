"""Tripwires: when a name that is waited for does what it is waited for."""

from flinch.core.tripwires.steps import AGAIN, Again, Step, Waiting, armed, step, through, watch

__all__ = ["AGAIN", "Again", "Step", "Waiting", "armed", "step", "through", "watch"]
