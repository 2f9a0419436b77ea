"""Loading a file into a market: read, checked row by row, compared with what is there, written, and published for what changed.

What is good is laid aside as Parquet first and written from there, each time after what was there before. Until all is written
and published the market says that it is being written, and what was there before is served. What ends while rows are written is
brought back, what ends later is gone on with, by whoever comes next: a start, or another import. The last imports can be undone.
"""

from __future__ import annotations

import csv
import datetime as dt
import tempfile
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, NamedTuple, TextIO
from zoneinfo import ZoneInfo

import numpy as np
import polars as pl
from numpy.typing import NDArray
from sqlalchemy import Engine

from flinch.clock import wall
from flinch.core.interrupt import stopped_by
from flinch.errors import FlinchError
from flinch.feeds.files.changes import MEND, Change, Names, Tellers
from flinch.feeds.files.kinds import KINDS, Kind
from flinch.feeds.files.loaders import LOADERS
from flinch.feeds.files.matching import CannotMatch, guess_kind, lacking, match_columns
from flinch.feeds.files.reading import open_table
from flinch.feeds.files.reasons import first_of
from flinch.feeds.files.values import DAY_FORMATS, Before, Hints, Reading, learn, typed_rows
from flinch.feeds.publish import publish
from flinch.hours import read_hours
from flinch.jobs import JobCancelled
from flinch.store.bulk import remove_rows, replace_rows
from flinch.store.market.calendars import sessions_between
from flinch.store.market.chain import read_snapshots
from flinch.store.market.hours import read_sessions
from flinch.store.market.imports import (
    ImportRow,
    Ledger,
    begin_import,
    bring_back,
    half_done,
    read_import,
    read_imports,
    read_tellers,
    say_import,
    written,
)
from flinch.store.market.models import (
    ExchangeSession,
    ExpiryVolatility,
    FundamentalSource,
    NameChain,
    OptionDay,
    Position,
    SurfaceDay,
    Venue,
    VolatilityDay,
)
from flinch.store.market.names import read_keys, read_names, read_newest_bar
from flinch.store.market.settings import MarketSettings, read_settings
from flinch.store.market.splits import read_splits
from flinch.store.market.state import advance, begin_load, begin_moment, finish_load, read_state
from flinch.store.market.writing import alone

Tell = Callable[[str, float], None]
_AHEAD = dt.timedelta(days=3 * 366)
_SHOWN = 1_000_000
"""Refused rows that are handed back at most."""
ADJUSTED = ("daily_bars", "extended_days")
"""Kinds whose prices a source may have adjusted for splits."""
_BESIDE = ("reason", "line")
"""Columns of a file of refused rows that are not of the file that they come from."""


class NothingToUndo(FlinchError):
    """An import cannot be undone."""

    status, kind = 409, "nothing_to_undo"

    def __init__(self, newest: int | None) -> None:
        words = "no import is left that could be" if newest is None else f"undo import {newest} first, which is newer"
        super().__init__(f"This import cannot be undone: {words}. Nothing was changed.")


@dataclass(frozen=True)
class Asked:
    """What is to be loaded: a file, and what was said of it. `make_names` makes names for symbols that are not known."""

    path: Path
    kind: str | None = None
    source: str | None = None
    columns: dict[str, str] = field(default_factory=dict)
    hints: Hints = field(default_factory=Hints)
    make_names: bool = False
    dry: bool = False
    refused: Path | None = None


class Outcome(NamedTuple):
    """What came of a file: rows read, those that are new, that take another's place, that were there already, that were refused,
    the file that the refused ones are in, how the columns were read, the number of the import, if anything was written, and how
    many of the new and other ones are kept beside, because another source is preferred."""

    kind: str
    rows: int
    added: int
    changed: int
    same: int
    refused: int
    file_of_refused: str | None
    columns: dict[str, str]
    job: int | None = None
    beside: int = 0


def import_file(engine: Engine, asked: Asked, tell: Tell = lambda stage, share: None) -> Outcome:
    """Load a file into a market, or only say what would come of it.

    Raises BadFile, CannotMatch and Busy; nothing is changed then. What `tell` raises to stop it leaves nothing behind either.
    """
    table = open_table(asked.path, asked.kind)
    asked = recall(engine, asked, table.columns)
    kind, matched = understood(asked, table.columns)
    adjusted = bool(asked.hints.adjusted)
    if adjusted and kind.name not in ADJUSTED:
        raise CannotMatch(
            f"Of {kind.name} prices are taken as they were traded; only those of {' and '.join(ADJUSTED)} may be adjusted.",
            "adjusted",
        )
    reading = learn(table.batches(), kind, matched, asked.hints)
    settings, loader = read_settings(engine), LOADERS[kind.name]
    zone = ZoneInfo(settings.zone)
    with ExitStack() as stack:
        stack.enter_context(alone(engine))
        if not asked.dry:
            _recover(engine, settings, tell)
        place = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="flinch-import-")))
        names = Names(
            read_names(engine),
            make=asked.make_names,
            venues=read_keys(engine, Venue),
            sources=read_keys(engine, FundamentalSource),
            tellers=Tellers((asked.source or "files")[:40], *read_tellers(engine)),
        )
        refused = stack.enter_context(_Refused(asked.refused, table.columns).opened())
        rows, parts = 0, 0
        for batch in table.batches():
            frame, reason = typed_rows(batch, kind, reading)
            reason = first_of([reason, *loader.refuse(frame, names, zone)])
            rows += frame.height
            bad = reason.is_not_null()
            refused.write(batch.cells.filter(bad), batch.line[bad.to_numpy()], reason.drop_nulls())
            good = frame.filter(reason.is_null())
            if good.height:
                good.write_parquet(place / f"part-{parts:05}.parquet")
                parts += 1
            tell(f"reading, {rows:,} rows", 0.0)
        change, number = Change(), None
        if parts:
            tell("comparing", 0.1)
            change = loader.compare(engine, sorted(place.glob("part-*.parquet")), names, zone)
        counts = {"rows": rows, "added": change.added, "changed": change.changed, "same": change.same}
        if not asked.dry and (change.added or change.changed):
            tell("writing", 0.2)
            number = begin_import(
                engine,
                kind=kind.name,
                source=(asked.source or "files")[:40],
                file=asked.path.name[-120:],
                how=_how(reading, table.columns, adjusted=adjusted),
                moments=["all"] if change.all_moments else [moment.isoformat() for moment in sorted(change.moments)],
                refused=refused.count,
                **counts,
            )
            _write(engine, settings, number, change, names, tell)
        return Outcome(
            kind.name,
            rows,
            change.added,
            change.changed,
            change.same,
            refused.count,
            refused.told(),
            dict(matched),
            number,
            change.beside,
        )


def understood(asked: Asked, theirs: list[str]) -> tuple[Kind, dict[str, str]]:
    """The kind of a file and our columns, each with the file's that it is. Raises CannotMatch."""
    kind = KINDS[asked.kind or guess_kind(asked.path, theirs)]
    matched = match_columns(kind, theirs, asked.columns)
    lacks = lacking(kind, matched)
    if lacks:
        raise CannotMatch(
            f"{kind.name} need {', '.join(lacks)}, and no column of {asked.path.name} is called so. Say which one it is; the "
            f"file has {', '.join(theirs)[:300]}.",
            lacks[0],
        )
    return kind, matched


def recall(engine: Engine, asked: Asked, theirs: list[str]) -> Asked:
    """What is asked, with what was said of the last file of the same source and columns, or else of the same source and kind,
    where nothing is said now."""
    if asked.source is None:
        return asked
    told = [one for one in read_imports(engine, 1_000) if one.source == asked.source and asked.kind in (None, one.kind)]
    # A file of refused rows is of the one that they come from.
    own = [name for name in theirs if name not in _BESIDE]
    same = next((one for one in told if [name for name in one.how["theirs"] if name not in _BESIDE] == own), None)
    kind = asked.kind or (None if same is None else same.kind)
    near = same or next((one for one in told if one.kind == kind), None)
    if near is None:
        return asked
    how, hints = near.how, asked.hints
    taken = {*asked.columns.values()} - {""}
    columns = {their: our for their, our in how["columns"].items() if their in theirs and our not in taken}
    ours = set(columns.values()) | taken
    before = Before(
        {our: way for our, way in how["days"].items() if our in ours},
        ours & set(how["percent"]),
        ours & set(how["decimals"]),
    )
    return replace(
        asked,
        kind=kind,
        columns=columns | asked.columns,
        hints=replace(
            hints,
            zone=hints.zone or how["zone"],
            adjusted=bool(how.get("adjusted")) if hints.adjusted is None else hints.adjusted,
            before=before,
        ),
    )


def _how(reading: Reading, theirs: list[str], *, adjusted: bool) -> dict[str, Any]:
    """What the next file of this kind and source is read by, where it has these columns."""
    return {
        "theirs": theirs,
        "columns": {their: our for our, their in reading.matched.items()},
        "days": {name: way for name, way in reading.ways.items() if way in DAY_FORMATS},
        "percent": sorted(reading.percent),
        "decimals": sorted(name for name in reading.matched if name not in reading.percent),
        "zone": reading.zone,
        "adjusted": adjusted,
    }


def publish_all(engine: Engine, since: dt.date | None = None, tell: Tell = lambda stage, share: None) -> int:
    """Compute again what follows from the chains of every session from one on; returns how many moments that were."""
    with alone(engine):
        state = read_state(engine)
        if state is None:
            return 0
        moments = [s.taken_at for s in read_snapshots(engine) if since is None or not state.whole or s.session >= since]
        if state.complete:
            begin_moment(engine)
        _finish(engine, read_settings(engine), moments, tell)
        return len(moments)


def write_change(
    engine: Engine,
    kind: str,
    change: Callable[[], tuple[Change, str]],
    tell: Tell = lambda stage, share: None,
) -> int:
    """Write a change that no file tells, and keep it as an import: `change` says what it is, and in words. Returns its number;
    raises Busy and what `change` raises."""
    with alone(engine):
        settings = read_settings(engine)
        _recover(engine, settings, tell)
        made, words = change()
        number = begin_import(
            engine,
            kind=kind,
            source=MEND,
            file=words[:120],
            how={
                "theirs": [],
                "columns": {},
                "days": {},
                "percent": [],
                "decimals": [],
                "zone": None,
                "adjusted": False,
            },
            moments=["all"] if made.all_moments else [moment.isoformat() for moment in sorted(made.moments)],
            rows=made.changed,
            added=made.added,
            changed=made.changed,
            same=made.same,
            refused=0,
        )
        _write(engine, settings, number, made, Names(read_names(engine), make=False), tell)
        return number


def undo_import(engine: Engine, number: int, tell: Tell = lambda stage, share: None) -> None:
    """Bring back what was there before an import: the newest one that stands. Raises NothingToUndo and Busy."""
    with alone(engine):
        settings = read_settings(engine)
        _recover(engine, settings, tell)
        one = read_import(engine, number)
        if one is None or not one.undoable:
            newest = next((other.id for other in read_imports(engine) if other.undoable), None)
            raise NothingToUndo(newest)
        begin_moment(engine)
        say_import(engine, number, "undoing")
        _undo(engine, settings, one, tell)


def recover(engine: Engine) -> None:
    """Finish what an import left that was ended while it wrote. Raises Busy when one is under way."""
    state = read_state(engine)
    if state is not None and (not state.whole or half_done(engine) is not None):
        with alone(engine):
            _recover(engine, read_settings(engine), lambda stage, share: None)


def _recover(engine: Engine, settings: MarketSettings, tell: Tell) -> None:
    """Go on with what was ended: rows that were not all written are as they were before, those that were are published."""
    one, state = half_done(engine), read_state(engine)
    if one is not None and one.state in ("writing", "undoing"):
        _undo(engine, settings, one, tell)
    elif one is not None:
        _go_on(engine, settings, one, tell)
    elif state is not None and not state.whole:
        _finish(engine, settings, [s.taken_at for s in read_snapshots(engine)], tell)


def _write(engine: Engine, settings: MarketSettings, number: int, change: Change, names: Names, tell: Tell) -> None:
    one = read_import(engine, number)
    assert one is not None
    if read_state(engine) is None:
        # The moment is known when the rows are there.
        begin_load(engine, source=one.source, source_version=1, as_of=wall(), rate=settings.rate)
    else:
        begin_moment(engine)
    ledger = Ledger(engine, number)
    try:
        names.write(ledger)
        for done, write in enumerate(change.writes):
            write(ledger)
            tell("writing", 0.2 + 0.3 * (done + 1) / len(change.writes))
        say_import(engine, number, "publishing")
        _go_on(engine, settings, one, tell)
    except JobCancelled:
        # Whatever else ends it is gone on with by whoever comes next.
        with stopped_by(lambda: None):
            _undo(engine, settings, one, lambda stage, share: None)
        raise


def _go_on(engine: Engine, settings: MarketSettings, one: ImportRow, tell: Tell) -> None:
    """Publish what an import changed."""
    _finish(engine, settings, _moments(engine, one), tell)
    say_import(engine, one.id, "loaded")


def _undo(engine: Engine, settings: MarketSettings, one: ImportRow, tell: Tell) -> None:
    """Bring back the rows that were there before an import, and what follows from them; it may be done again."""
    tell("bringing back what was there", 0.0)
    chains = written(engine, one.id, NameChain)
    bring_back(engine, one.id)
    _forget(engine, settings, chains)
    _finish(engine, settings, _moments(engine, one), tell)
    say_import(engine, one.id, "undone")


def _forget(engine: Engine, settings: MarketSettings, chains: pl.DataFrame) -> None:
    """Remove what was computed of chains that are not there any more, or are others again."""
    if not chains.height:
        return
    for table in (ExpiryVolatility, Position):
        remove_rows(engine, table, chains.select("taken_at").unique(maintain_order=True))
    zone, utc = settings.zone, pl.col("taken_at").dt.replace_time_zone("UTC")
    gone = chains.filter(~pl.col("_there")).select(utc.dt.convert_time_zone(zone).dt.date().alias("session"), "name_id")
    for later in (SurfaceDay, VolatilityDay, OptionDay):
        remove_rows(engine, later, gone.unique(maintain_order=True))


def _moments(engine: Engine, one: ImportRow) -> list[dt.datetime]:
    """Moments of chains to publish for an import: those that it changed, and for one of a session that is the last no more, or
    again, that session's last."""
    there = read_snapshots(engine)
    if "all" in one.moments:
        return [s.taken_at for s in there]
    changed = [dt.datetime.fromisoformat(text) for text in one.moments]
    last = {s.session: s.taken_at for s in there}
    days = {moment.date() + dt.timedelta(days=near) for moment in changed for near in (-1, 0, 1)}
    lost = {moment for moment in changed} - {s.taken_at for s in there}
    again = {moment for day, moment in last.items() if lost and day in days}
    return sorted((set(changed) - lost) | again)


def _finish(engine: Engine, settings: MarketSettings, moments: list[dt.datetime], tell: Tell) -> None:
    """Publish what changed, and let it be served."""
    _write_calendar(engine, settings)
    state, newest = read_state(engine), _newest(engine, settings)
    day_of = read_hours(engine).day_of
    if state is not None and read_splits(engine).between(day_of(state.as_of), day_of(newest)):
        # What was told a share before a split is told a share of now.
        moments = [s.taken_at for s in read_snapshots(engine)]
    for done, moment in enumerate(sorted(moments)):
        tell(f"publishing, moment {done + 1} of {len(moments)}", 0.5 + 0.5 * done / len(moments))
        publish(engine, moment)
    if state is not None and not state.complete:
        finish_load(engine)
    if state is not None:
        advance(engine, newest, past_changed=True)


def _newest(engine: Engine, settings: MarketSettings) -> dt.datetime:
    """The market's newest moment: that of the newest chains, or the close of the newest bars where those came later."""
    snapshots, bar = read_snapshots(engine), read_newest_bar(engine)
    if snapshots and (bar is None or snapshots[-1].session >= bar):
        return snapshots[-1].taken_at
    if bar is None:
        return wall()
    closes = sessions_between(settings.calendar, bar, bar).closes
    if not closes.size:
        return dt.datetime.combine(bar, dt.time(21), dt.UTC)
    moment: dt.datetime = closes[0].astype("datetime64[s]").astype(object)
    return moment.replace(tzinfo=dt.UTC)


def _write_calendar(engine: Engine, settings: MarketSettings) -> None:
    """The sessions that the market's calendar has, from the first bar to three years ahead."""
    first, last = read_newest_bar(engine, oldest=True), read_newest_bar(engine)
    snapshots = [s.session for s in read_snapshots(engine)]
    days = [day for day in (first, last, *snapshots[:1], *snapshots[-1:]) if day is not None]
    sessions = pl.DataFrame(schema={"session": pl.Date, "opens": pl.String, "closes": pl.String})
    if days:
        sessions = sessions_between(settings.calendar, min(days), max(days) + _AHEAD).table(settings.zone)
    there = read_sessions(engine)
    remove_rows(engine, ExchangeSession, there.select("session").join(sessions, on="session", how="anti"))
    replace_rows(engine, ExchangeSession, sessions.join(there, on=sessions.columns, how="anti"))


class _Refused:
    """Rows that were refused, as they were, each with its line and the reason. The file comes in its place when all are in it:
    it may be the very one that is read, mended."""

    def __init__(self, path: Path | None, columns: list[str]) -> None:
        self.path, self.count = path, 0
        self._columns = [name for name in columns if name not in _BESIDE]
        self._file: TextIO | None = None

    @contextmanager
    def opened(self) -> Iterator[_Refused]:
        try:
            yield self
            if self._file is not None and self.path is not None:
                self._file.close()
                self._making.rename(self.path)
        finally:
            if self._file is not None:
                self._file.close()
                self._making.unlink(missing_ok=True)

    def write(self, cells: pl.DataFrame, lines: NDArray[np.int64], reasons: pl.Series) -> None:
        rows = cells.select(self._columns).with_columns(reasons.alias("reason"), pl.Series("line", lines))
        rows, self.count = rows.head(max(0, _SHOWN - self.count)), self.count + rows.height
        if self.path is None or not rows.height:
            return
        if self._file is None:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            self._file = self._making.open("w", encoding="utf-8", newline="")
            csv.writer(self._file).writerow(rows.columns)
        csv.writer(self._file).writerows(rows.iter_rows())

    @property
    def _making(self) -> Path:
        assert self.path is not None
        return self.path.with_name(f".{self.path.name}.making")

    def told(self) -> str | None:
        return str(self.path) if self._file is not None else None
