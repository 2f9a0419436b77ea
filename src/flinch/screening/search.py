"""A search for structures as it is sent, saved and shipped."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from flinch.core.arrays import FloatArray
from flinch.core.rules import RuleError
from flinch.core.structures import STRUCTURES, Placement
from flinch.errors import FlinchError
from flinch.market import Dictionary, View
from flinch.market.structures import MOST_LATER_DAYS, Search

_KINDS = tuple(STRUCTURES)


class BadSearch(FlinchError):
    """A search that cannot be read; the message says what to do."""

    kind, where = "bad_search", "search"


Axis = Annotated[str, Field(max_length=200, description="An expression; with - before it less is better")]


class Weight(BaseModel):
    """How much an axis counts in the order."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    axis: Axis
    weight: float = Field(ge=0, le=100)


class AtMost(BaseModel):
    """So many of each name, sector, or group of names whose returns move together, first come first served."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    count: int = Field(ge=1, le=1_000)
    of: Literal["name", "sector", "together"] = "name"


class SearchBody(BaseModel):
    """Which structures to make of the names: kinds, expirations, strikes and widths, and where between both sides entry is; and
    how those that survive are weighed."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    kinds: list[Annotated[str, Field(max_length=40)]] = Field(
        ["put_credit", "call_credit", "iron_condor"], max_length=len(_KINDS), description="Keys of kinds"
    )
    least_days: int = Field(20, ge=0, le=1_000)
    most_days: int = Field(60, ge=0, le=1_000)
    label: Literal["any", "weekly", "monthly"] = "any"
    report: Literal["any", "before", "after"] = Field(
        "any", description="Expirations that end before the next report, or after it"
    )
    measure: Literal["delta", "percent", "moves"] = Field(
        "delta", description="Of the placed leg: size of its delta, or distance in percent or expected moves"
    )
    low: float = Field(0.10, ge=-100, le=100)
    high: float = Field(0.35, ge=-100, le=100)
    target: Annotated[str, Field(max_length=200)] = Field(
        "", description="An expression that gives each name a price; strikes are then counted from it, either way"
    )
    middle: float = Field(
        0.25, ge=0, le=3, description="How far the middle may be from the spot or target, expected moves"
    )
    least_width: float = Field(0, ge=0, le=100_000)
    most_width: float = Field(10, ge=0, le=100_000)
    width_in: Literal["dollars", "percent"] = Field("dollars", description="Percent: of the price of the name")
    balanced: bool = Field(True, description="Wings of one width")
    later_low: int = Field(7, ge=1, le=MOST_LATER_DAYS, description="Days between two expirations")
    later_high: int = Field(45, ge=1, le=MOST_LATER_DAYS)
    entry: float = Field(0.3, ge=0, le=1, description="0: at mid; 1: at the worst side of every leg")
    scaled: bool = Field(False, description="Give the own past the spread of the forecast")
    front: list[Axis] = Field(
        ["chance_of_profit_past", "return_on_capital"], min_length=2, max_length=4, description="Axes of the front"
    )
    weights: list[Weight] = Field(
        [], max_length=6, description="Order by the mean standing on these axes; none: by columns"
    )
    at_most: AtMost | None = None

    @model_validator(mode="after")
    def _ranges(self) -> SearchBody:
        for low, high, words in (
            (self.least_days, self.most_days, "days to expiration"),
            (self.low, self.high, "strikes"),
            (self.least_width, self.most_width, "widths"),
            (self.later_low, self.later_high, "days between expirations"),
        ):
            if low > high:
                raise ValueError(
                    f"The range of {words} begins at {low:g} and ends at {high:g}: put the smaller number first."
                )
        return self

    def search(self) -> Search:
        """What the market makes of it; raises BadSearch."""
        kinds = tuple(dict.fromkeys(self.kinds))
        if unknown := [kind for kind in kinds if kind not in STRUCTURES]:
            raise BadSearch(f"There is no kind of structure {unknown[0]!r}. Choose one of {', '.join(_KINDS)}.")
        if not kinds:
            raise BadSearch("Choose at least one kind of structure.")
        aimed = bool(self.target.strip())
        if aimed and self.measure == "delta":
            raise BadSearch(
                "At a target strikes are counted in percent or expected moves, not by delta: choose one of these."
            )
        if self.measure == "delta" and not 0 <= self.low <= self.high <= 1:
            raise BadSearch("A delta lies between 0 and 1: give the strikes as 0.10 to 0.35, for example.")
        placement = Placement(
            self.measure, self.low, self.high, aimed, self.middle, self.least_width, self.most_width,
            self.width_in == "percent", self.balanced, self.later_low, self.later_high,
        )  # fmt: skip
        return Search(
            kinds, self.least_days, self.most_days, self.label, self.report, placement, self.entry, self.scaled
        )

    def prices(self, view: View, dictionary: Dictionary) -> FloatArray:
        """The target of each name, by row of the frame; NaN where there is none. Raises BadSearch for a text that is no price."""
        text = self.target.strip()
        if not text:
            return np.full(len(view.frame.names), np.nan)
        try:
            return np.full(len(view.frame.names), float(text))
        except ValueError:
            pass
        try:
            node = dictionary.read(text).node
        except RuleError as error:
            raise BadSearch(f"The target cannot be read: {error.message}") from None
        if node.kind != "number":
            raise BadSearch(
                "The target must be a price: a number, or an expression like month_anchor + month_half_width."
            )
        prices = view.column(node).values
        return np.where(prices > 0, prices, np.nan)
