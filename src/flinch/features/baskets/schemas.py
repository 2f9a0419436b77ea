from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

Symbols = Annotated[list[Annotated[str, Field(max_length=12)]], Field(max_length=2_000)]


class BasketDraft(BaseModel):
    """A named group of names to keep."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    name: str = Field(min_length=1, max_length=120)
    symbols: Symbols
    version: int | None = Field(
        None, ge=1, description="The version that the change was made on; none: whichever is kept"
    )


class OwnBasket(BasketDraft):
    id: int


class KeptBasket(BaseModel):
    """A group that keeps itself: a sector, or a fund's members with the heaviest first."""

    source: str
    name: str
    names: int


class BasketList(BaseModel):
    own: list[OwnBasket]
    sectors: list[KeptBasket]
    funds: list[KeptBasket]


class BasketPath(BaseModel):
    id: int = Field(ge=1, lt=2**31)


class PastedText(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    text: str = Field(max_length=100_000)


class UnknownWord(BaseModel):
    text: str
    nearest: list[str]


class PastedReply(BaseModel):
    """Symbols found in a text, and words that are none."""

    symbols: list[str]
    unknown: list[UnknownWord]


class SourceQuery(BaseModel):
    source: str = Field(
        max_length=80, description="all, stock, fund, tray, sector:…, members:…, basket:ID or screen:ID"
    )


class SourceReply(BaseModel):
    source: str
    symbols: list[str]
