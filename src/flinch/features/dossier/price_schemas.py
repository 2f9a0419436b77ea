"""Dossier, price: what goes over the wire."""

from __future__ import annotations

import datetime as dt
import re
from typing import Literal, get_args

from pydantic import BaseModel, Field, field_validator

from flinch.features.dossier.news import NewsRow
from flinch.market.name_bars import Length
from flinch.web import AsOfQuery

Layer = Literal[
    "averages", "bollinger", "keltner", "squeeze", "channel", "fans", "gaps", "swings", "day", "gamma", "shelves", "tickets",
    "events", "news",
]  # fmt: skip
LAYERS: tuple[Layer, ...] = get_args(Layer)
MOST_AVERAGES, MOST_BELOW = 4, 2
_AVERAGE = re.compile(r"(sma|ema|wma) ?([0-9]{1,3})")


class PriceQuery(AsOfQuery):
    length: Length = Field("day", description="Of a bar: a day, or minutes")
    extended: bool = Field(False, description="Also the hours before the open and after the close; not of days")
    layers: list[Layer] = Field([], max_length=len(LAYERS), description="What is laid over the bars")
    averages: str = Field(
        "sma 20, sma 50", max_length=60, description=f"At most {MOST_AVERAGES}: sma, ema or wma and how many bars"
    )
    channel: int = Field(63, ge=3, le=504, description="Bars of the regression channel")
    deviations: float = Field(2.0, gt=0, le=10, description="Its width, in root mean squared residuals")
    below: list[str] = Field([], max_length=MOST_BELOW, description="Metrics or expressions drawn below")

    @field_validator("averages")
    @classmethod
    def _known_averages(cls, value: str) -> str:
        asked = [text.strip() for text in value.split(",") if text.strip()]
        if len(asked) > MOST_AVERAGES:
            raise ValueError(f"Draw at most {MOST_AVERAGES} averages, not {len(asked)}.")
        written = []
        for text in asked:
            found = _AVERAGE.fullmatch(text)
            if not found or not int(found[2]):
                raise ValueError(f"{text[:20]!r} is no average. Write sma, ema or wma and how many bars, as in ema 21.")
            written.append(f"{found[1]} {int(found[2])}")
        return ", ".join(written)


class PriceLine(BaseModel):
    """A number beside each bar."""

    layer: Layer
    label: str
    expression: str = Field(description="In the rule language: a rule with it sees the same numbers")
    values: list[float | None]


class ChannelLine(BaseModel):
    """The least-squares line through the last closes, and its edges, at its first and last bar."""

    first: int
    last: int
    begin: float
    end: float
    width: float = Field(description="To either edge")


class BarFan(BaseModel):
    """An expected move that opens from where it was priced: bars, then places after the last one."""

    bars: list[int]
    lower: list[float]
    upper: list[float]
    current: bool


class GapZone(BaseModel):
    """A gap still open: from the bar after which price jumped, what of it price has not come back over."""

    bar: int
    fill: float = Field(description="Where it would be filled")
    reached: float
    above: bool


class PriceSwing(BaseModel):
    bar: int
    price: float
    high: bool


class PriceLevel(BaseModel):
    """A price across the chart; a zone when it has a low and a high."""

    layer: Layer
    label: str
    price: float
    low: float | None = None
    high: float | None = None
    share_pct: float | None = Field(None, description="Of a shelf: of the window's notional")


class TicketMark(BaseModel):
    """One of the largest option tickets, where the stock stood when it came."""

    bar: int
    at: dt.datetime
    is_call: bool
    side: int = Field(description="+1 on the ask side, -1 on the bid side, 0 nobody knows")
    premium: float
    spot: float
    since: float | None = Field(description="How far price has gone since, in one-day expected moves by the lean")
    words: str


class PriceEvent(BaseModel):
    """A report or a dividend."""

    bar: int
    kind: Literal["report", "dividend"]
    words: str


class PriceNews(BaseModel):
    """Headlines told in a bar, or since the close before it, the newest first."""

    bar: int
    headlines: list[NewsRow]


class PriceBelow(BaseModel):
    """A metric or expression under the price; `reason` says why it has no values."""

    expression: str
    label: str
    unit: str
    decimals: int
    values: list[float | None]
    reason: str | None


class PriceView(BaseModel):
    """One name's bars and the layers asked for. Places are indices of the bars, beyond the last one of `ahead`."""

    symbol: str
    session: dt.date
    length: Length
    price: float | None
    one_day_move: float | None
    at: list[dt.datetime] = Field(description="Where each bar begins; of a day where it opens")
    day: list[int] = Field(description="Place of each bar's session in `sessions`")
    sessions: list[dt.date]
    ahead: list[dt.date] = Field(description="Sessions after the last bar that a fan reaches")
    open: list[float | None]
    high: list[float | None]
    low: list[float | None]
    close: list[float | None]
    volume: list[float | None]
    regular: list[bool]
    lines: list[PriceLine]
    channel: ChannelLine | None
    squeeze: list[int] = Field(description="Bars on which the Bollinger bands lie inside the Keltner bands")
    fans: list[BarFan]
    gaps: list[GapZone]
    swings: list[PriceSwing]
    levels: list[PriceLevel]
    tickets: list[TicketMark]
    events: list[PriceEvent]
    news: list[PriceNews]
    below: list[PriceBelow]
    reason: str | None = Field(description="Why there are no bars")
