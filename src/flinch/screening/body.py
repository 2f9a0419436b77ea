"""What a screen consists of, as it is sent, saved and shipped."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from flinch.core.rules import MAX_RULES
from flinch.market import BarLength, Table
from flinch.screening.search import SearchBody

Text = Annotated[str, Field(max_length=1_001)]
Tag = Annotated[str, Field(min_length=1, max_length=40)]
View = Literal["table", "gallery", "map", "names", "tickets", "contracts", "day", "front"]
"""Ways to look at the results: the first three of a screen of names, the next four of tickets, the last and the first of
structures."""


class RuleBody(BaseModel):
    """One rule: its text, on which bars, whether it is switched on, and the group it belongs to."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    text: Text
    on: bool = True
    bars: BarLength = "day"
    group: int | None = Field(
        None, ge=1, le=20, description="Rules of one group are one step; it stands where its first rule does"
    )


class StackBody(BaseModel):
    """Rules in order over a universe."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    universe: str = Field(
        "all",
        max_length=80,
        description="all, stock, fund, tray, name:SYMBOL, sector:NAME, members:SYMBOL or basket:ID; structures: screen:KEY too",
    )
    rules: list[RuleBody] = Field([], max_length=MAX_RULES)
    any_groups: list[int] = Field(
        [], max_length=20, description="Groups of which one rule is enough; of the others all must hold"
    )

    @classmethod
    def within(cls, body: dict[str, Any]) -> StackBody:
        """The stack of a whole screen as it is kept."""
        return cls(**{field: body[field] for field in cls.model_fields if field in body})


class ScreenBody(StackBody):
    """A whole screen: the stack and how its results are shown."""

    columns: list[Text] = Field([], max_length=40, description="Metrics or own metrics, in order; none: the usual ones")
    sort: list[Annotated[str, Field(max_length=80)]] = Field(
        [], max_length=2, description="Keys, - before one that falls"
    )
    view: View = "table"
    table: Table = Field("names", description="What the rules are on")
    sessions: int = Field(1, ge=1, le=5, description="For tickets: how many sessions back")
    search: SearchBody | None = Field(None, description="For structures: which ones are made; none: the usual ones")
