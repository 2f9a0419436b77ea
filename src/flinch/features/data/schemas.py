from __future__ import annotations

import datetime as dt
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field


class MarketRow(BaseModel):
    """A market, and what it has."""

    name: str
    source: str | None = Field(description="Where its data come from; none before anything was loaded")
    as_of: dt.datetime | None = Field(description="Its newest moment, in the zone of its exchange")
    missing: list[str] = Field(description="Kinds of data that it has none of")
    usable: bool = Field(description="Whether it has the least that pages need: names, daily bars and a chain")
    calendar: str
    currency: str
    index: str | None
    rate: float
    zone: str = Field(description="IANA name")


class MarketList(BaseModel):
    """The markets there are, and the one that this request is about."""

    market: str
    markets: list[MarketRow]


class HeldKind(BaseModel):
    """A kind of data: what it is, and what the market has of it."""

    kind: str
    words: str
    any: bool = Field(description="Whether there is a row at least")
    first: dt.date | None = Field(description="The first day that rows are of; none for a kind without days")
    last: dt.date | None
    sessions_behind: int | None = Field(
        description="Sessions from the last day to the newest bar; none where days lie ahead"
    )
    expected: dt.date | None = Field(description="The session after the last one, for a kind that comes each session")
    columns: list[str] = Field(description="Columns of a file of this kind, those of its key first")
    needed: list[str] = Field(description="Columns that such a file must have")


class HeldKinds(BaseModel):
    """Every kind, and what the market has of it."""

    market: str
    kinds: list[HeldKind]


class ExportQuery(BaseModel):
    """What is written out, and how."""

    of: str = Field("all", max_length=20, description="A kind, or all")
    form: Literal["parquet", "csv"] = "parquet"


class CoverageQuery(BaseModel):
    """Which kind."""

    of: str = Field("daily_bars", max_length=20, description="A kind that names have of sessions")


class HeldSpan(BaseModel):
    """A stretch of sessions, by the places of its first and last."""

    first: int
    last: int


class NameHoles(BaseModel):
    """A name that lacks sessions."""

    symbol: str
    spans: list[HeldSpan] = Field(description="Stretches that it has")
    lacks: int = Field(description="Sessions that it lacks, from its first one on")


class CoverageReply(BaseModel):
    """Which names have a kind of which of the newest sessions."""

    kind: str
    kinds: list[str] = Field(description="Kinds of which this can be told")
    sessions: list[dt.date]
    counts: list[int] = Field(description="Names that have it, by session")
    lacking: list[int] = Field(description="Names that lack it though they had it before, by session")
    names: int = Field(description="Names that have any")
    whole: int = Field(description="Names that lack none since their first")
    holes: list[NameHoles] = Field(description="Names that lack some, those that lack most first")
    more: int = Field(description="Names that lack some and are not told")


class FindingExample(BaseModel):
    symbol: str
    day: dt.date | None
    words: str


class CheckFinding(BaseModel):
    """Something that is likely wrong with what is loaded."""

    check: str
    kind: str
    words: str
    times: int = Field(description="How often it was found")
    examples: list[FindingExample]
    mend: str | None = Field(description="What its mend would do, if there is one")
    each: bool = Field(description="Whether each place is mended by itself, since not every one need be wrong")


class DataChecks(BaseModel):
    """What is likely wrong with what is loaded, by kind."""

    market: str
    findings: list[CheckFinding]


class SourceRow(BaseModel):
    """A source of a kind, and how many of its rows are kept beside, because one that is preferred says otherwise."""

    source: str
    beside: int


class KindSources(BaseModel):
    """A kind that several sources tell of, the preferred one first."""

    kind: str
    sources: list[SourceRow]


class DifferingValue(BaseModel):
    symbol: str
    day: dt.date
    served: str
    other: str
    apart: float | None = Field(description="As a share of what is served; none for what is no number")


class DisagreementRow(BaseModel):
    """Where two sources of a kind disagree on a column."""

    kind: str
    column: str
    served_by: str
    other: str
    times: int
    names: int
    first: dt.date
    last: dt.date
    widest: list[DifferingValue]


class OtherwiseAsked(BaseModel):
    """Which source's values are to stand in the place of those that are served."""

    model_config = ConfigDict(extra="forbid")
    source: str = Field(min_length=1, max_length=40)


class ScreenOtherwise(BaseModel):
    """A screen that would answer otherwise: how many names it has, and which would come and go."""

    key: str = Field(description="In addresses; s- and its key for a ready one")
    name: str
    saved: bool
    names: int
    came: list[str]
    went: list[str]
    more: int = Field(description="Of those that come and go, how many are not told")


class OtherwiseReply(BaseModel):
    """The screens that would answer otherwise with so many values of another source."""

    values: int
    looked_at: int
    unread: int = Field(description="Screens whose rules cannot be read")
    screens: list[ScreenOtherwise]


class OtherwiseJob(BaseModel):
    """How far that is, and what was found."""

    id: int
    percent: int
    stage: str
    over: bool
    told: OtherwiseReply | None


class SourceList(BaseModel):
    """Sources by kind, and where they disagree by more than the tolerance."""

    market: str
    kinds: list[KindSources]
    tolerance: float = Field(description="A share of the value that is served")
    disagreements: list[DisagreementRow]


class PreferPath(BaseModel):
    kind: str = Field(max_length=20)


class PreferDraft(BaseModel):
    """The sources of a kind, the preferred one first."""

    order: list[Annotated[str, Field(min_length=1, max_length=40)]] = Field(min_length=1, max_length=40)


class MendPath(BaseModel):
    check: str = Field(max_length=20)


class MendAsked(BaseModel):
    """Which place is mended; without a symbol all that the check finds."""

    symbol: str | None = Field(None, max_length=12)
    day: dt.date | None = None


class MarketDraft(BaseModel):
    """A market to make."""

    name: str = Field(max_length=60, description="A small letter, then small letters, digits or hyphens; 31 at most")
    calendar: str = Field("XNYS", max_length=8, description="The exchange's calendar, by its ISO 10383 code")
    currency: str = Field("USD", pattern="^[A-Z]{3}$", description="ISO 4217")
    index: str | None = Field(None, max_length=12, description="The symbol that relative strength is measured against")
    rate: float = Field(
        0.04, gt=-0.5, lt=1, description="Continuously compounded, a decimal; where no other rates are loaded"
    )


class MarketPath(BaseModel):
    name: str = Field(max_length=60)


class MarketChoice(BaseModel):
    """The market that requests which name none are about from now on."""

    market: str = Field(max_length=60)


_Name = Annotated[str, Field(max_length=120)]


class UploadDraft(BaseModel):
    """A file to bring."""

    name: str = Field(min_length=1, max_length=200, description="As it is called; it may tell the kind")
    size: int = Field(ge=0, description="Bytes")


class UploadRow(BaseModel):
    """A file that was brought and is not put away."""

    id: int
    name: str
    size: int
    here: int = Field(description="Bytes of it that are here")
    job: int | None = Field(description="The last work on it")
    loaded: bool


class ImportEntry(BaseModel):
    """An import that changed something."""

    id: int
    kind: str
    source: str
    file: str
    state: str = Field(description="writing, publishing, loaded, undoing or undone")
    rows: int
    added: int
    changed: int
    same: int
    refused: int
    began_at: dt.datetime
    ended_at: dt.datetime | None
    undoable: bool = Field(
        description="Whether it can be undone now: the newest that stands, while what was before it is kept"
    )


class ValueChanged(BaseModel):
    """A value that an import changed: as it was before, and as it is now."""

    symbol: str | None
    day: dt.date | None
    what: str = Field(description="The table and its column")
    before: str
    now: str


class ChangesReply(BaseModel):
    """The first values that an import changed, while what was there before it is kept."""

    kept: bool
    changes: list[ValueChanged]


class ImportList(BaseModel):
    """Files that were brought, the kinds that they may be of, and what was loaded, the newest first."""

    market: str
    uploads: list[UploadRow]
    imports: list[ImportEntry]


class UploadPath(BaseModel):
    id: int = Field(ge=1)


class PartQuery(BaseModel):
    """Where in a file the body belongs."""

    at: int = Field(ge=0, description="Its first byte")


class ImportHow(BaseModel):
    """How a file is read, as far as somebody said; the rest is told by the file, or by the last one of the same source."""

    model_config = ConfigDict(extra="forbid")
    kind: str | None = Field(None, max_length=20)
    source: str | None = Field(None, min_length=1, max_length=40, description="Who it is from")
    columns: dict[_Name, Annotated[str, Field(max_length=40)]] = Field(
        {}, max_length=400, description="Ours by the file's; nothing for one that is left out"
    )
    zone: str | None = Field(None, max_length=40, description="Zone of moments without an offset, an IANA name")
    days: dict[_Name, Annotated[str, Field(max_length=20)]] = Field(
        {}, max_length=40, description="How days are written, by our column"
    )
    percent: list[_Name] = Field([], max_length=40, description="Our columns whose values are in percent")
    decimals: list[_Name] = Field(
        [], max_length=40, description="Our columns whose values are decimals, and not in percent"
    )
    adjusted: bool | None = Field(None, description="Its prices were adjusted for splits by the source")
    make_names: bool = Field(False, description="Make names for symbols that are not known")


class ColumnLook(BaseModel):
    """A column of a file."""

    theirs: str
    sample: list[str] = Field(description="Some of its values, as they are written")
    ours: str | None = Field(description="What it is taken for; none: it is left out")
    way: str | None = Field(description="How its values are written, where there are several ways")


class WantedColumn(BaseModel):
    """A column that a kind has."""

    name: str
    sort: str = Field(description="text, number, whole, day, instant, right, contract, timing or type")
    needed: bool
    share: bool = Field(description="Whether its values may be told in percent")


class FileLook(BaseModel):
    """A first look at a file, by its first rows."""

    kind: str | None = Field(description="None where it has to be said")
    columns: list[ColumnLook]
    adjustable: bool = Field(description="Whether its prices may have been adjusted for splits")
    wanted: list[WantedColumn] = Field(description="Our columns that the kind has")
    day_ways: dict[str, str] = Field(description="Ways to write a day, with what each is in words")
    lacking: list[str] = Field(description="Those that it cannot do without and that are not found")
    question: str | None = Field(description="What has to be said before it can be loaded")
    where: str | None = Field(description="The column that the question is about")
    how: ImportHow = Field(description="What was said, with what is remembered of its source")


class RefusedRow(BaseModel):
    """A row that was refused."""

    line: int
    reason: str
    cells: list[str]


class ImportCounts(BaseModel):
    """What came of a file, or would."""

    kind: str
    rows: int
    added: int
    changed: int
    same: int
    refused: int
    beside: int = Field(description="Of those added and changed, how many another source is preferred to")
    columns: list[str] = Field(description="Of the rows that were refused")
    first: list[RefusedRow] = Field(description="The first ones that were refused")
    loaded: bool = Field(description="False for a check, which changes nothing")


class ImportJob(BaseModel):
    """Work on an import: how far it is, and what came of it."""

    id: int
    percent: int
    stage: str
    over: bool
    counts: ImportCounts | None


class ImportPath(BaseModel):
    id: int = Field(ge=1)
