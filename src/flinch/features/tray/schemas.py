from __future__ import annotations

import datetime as dt
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from flinch.store.owned.tray import Operation

Symbol = Annotated[str, Field(min_length=1, max_length=64)]


class Why(BaseModel):
    """Why a name came: from which page, in words, the link that shows it again, and the values then."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    page: str = Field(max_length=40)
    words: str = Field(max_length=600)
    link: str = Field("", max_length=1500, pattern=r"^(/[^/\\].*|/|)$", description="A path within Flinch")
    values: dict[Annotated[str, Field(max_length=40)], float | None] = Field({}, max_length=40)


class TrayAddition(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    symbols: list[Symbol] = Field(min_length=1, max_length=500)
    why: Why


class TrayChange(BaseModel):
    """Change the whole tray by a list of names, in one step that undo takes back."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)
    op: Operation
    symbols: list[Symbol] = Field(max_length=2_000)
    why: Why
    version: int | None = Field(None, ge=0, description="The tray's version that the change was made on")
    values: dict[Annotated[str, Field(max_length=12)], dict[Annotated[str, Field(max_length=40)], float | None]] = (
        Field({}, max_length=2_000, description="The values then of each name, by symbol")
    )


class TrayExport(BaseModel):
    format: Literal["csv", "xlsx", "json"] = "xlsx"


class TrayVersion(BaseModel):
    version: int | None = Field(None, ge=0, description="The tray's version that the change was made on")


class TraySymbolPath(BaseModel):
    symbol: str = Field(max_length=64)


class TrayItem(BaseModel):
    symbol: str
    company: str
    why: Why
    added_at: dt.datetime


class TrayReply(BaseModel):
    """The tray, and what undo would take back."""

    items: list[TrayItem]
    undo: str | None
    version: int = Field(description="Changes with every change of the tray")
