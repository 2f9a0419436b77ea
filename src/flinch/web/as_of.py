"""As of when a page is asked for."""

from __future__ import annotations

import datetime as dt
import re
from typing import Annotated, Any

from pydantic import BeforeValidator, Field, WithJsonSchema

_PATTERN = r"\d{4}-\d\d-\d\d(T\d\d:\d\d(:00)?)?"
_WHAT = "Give a day as 2026-09-08, or a minute of it as 2026-09-08T10:31, in exchange time"


def _read(said: Any) -> Any:
    if said is None or isinstance(said, dt.date):
        return said
    if not isinstance(said, str) or not re.fullmatch(_PATTERN, said, re.ASCII):
        raise ValueError(_WHAT)
    try:
        return dt.datetime.fromisoformat(said) if "T" in said else dt.date.fromisoformat(said)
    except ValueError:
        raise ValueError(f"There is no such day or minute. {_WHAT}") from None


AsOf = Annotated[
    dt.date | dt.datetime,
    BeforeValidator(_read),
    WithJsonSchema({"type": "string", "pattern": f"^{_PATTERN}$"}),
]
"""A day, or a minute of one in exchange time without a zone."""
AS_OF = Field(
    None,
    description="The last session on or before this day, or the market as it was at this minute of it, in exchange time; none: "
    "the newest",
)
