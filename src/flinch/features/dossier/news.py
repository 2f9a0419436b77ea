"""A headline, as it goes over the wire."""

from __future__ import annotations

import datetime as dt

from pydantic import BaseModel, Field


class NewsRow(BaseModel):
    """A headline and when it was told."""

    at: dt.datetime
    headline: str = Field(description="Plain text")
    topic: str
