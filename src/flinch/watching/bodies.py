"""What a tripwire is made of, as it is sent and kept."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from flinch.core.tripwires import Again
from flinch.market import BarLength

MOST_PARKED = 2_000
MOST_MINUTES = 1_950
"""Of no, after which a name may trip again: five sessions."""
Symbol = Annotated[str, Field(min_length=1, max_length=12)]


class _Body(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class Parked(_Body):
    """Names that are waited for: a list that is kept as it was, or a source that is asked again at every update."""

    symbols: list[Symbol] | None = Field(
        None, max_length=MOST_PARKED, description="Kept as they were; none: the source"
    )
    source: str | None = Field(
        None,
        max_length=80,
        description="all, stock, fund, tray, name:SYMBOL, sector:NAME, members:SYMBOL, basket:ID or screen:KEY",
    )
    session: str | None = Field(None, max_length=10, description="As of which session the list was kept")
    of: str | None = Field(None, max_length=80, description="The source that the list was kept of")


class Rule(_Body):
    """What trips: a rule that begins to hold, or a screen that a name enters or leaves."""

    text: str = Field("", max_length=1_001, description="A condition, or a range, as in a stack of rules")
    bars: BarLength = "day"
    screen: str | None = Field(None, max_length=80, description="screen:KEY: instead of a text, names of this screen")
    when: Literal["enters", "leaves"] = Field("enters", description="Of a screen")


class AgainBody(_Body):
    """When a name may trip again."""

    when: Again = "session"
    minutes: int = Field(0, ge=0, le=MOST_MINUTES, description="Of no, before it may: for after")
