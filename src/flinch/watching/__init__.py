"""What runs by itself on every moment of a market."""

from flinch.watching.watcher import Watcher

__all__ = ["Watcher"]
