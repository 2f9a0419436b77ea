"""Markets that differ from the demo market."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from flinch.market import MarketFrame
from flinch.market.derived import derive


def altered(frame: MarketFrame, **changes: Any) -> MarketFrame:
    """A frame with other arrays, and what follows from them; nothing of it is taken from files of the one it was."""
    changed = replace(frame, **({"place": None} | changes))
    bars = {field: getattr(changed, field) for field in ("open", "high", "low", "close")}
    daily = changed.daily | {f"iv{days}": vols for days, vols in changed.implied.items()}
    return replace(changed, derived=derive(bars, daily, changed.calendar, changed.members))
