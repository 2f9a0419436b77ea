"""Files that are brought: looked at, checked, loaded and undone."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable
from typing import Any

from sqlalchemy import Engine

from flinch.errors import FlinchError
from flinch.features.data.schemas import (
    ChangesReply,
    ColumnLook,
    FileLook,
    ImportCounts,
    ImportEntry,
    ImportHow,
    ImportJob,
    ImportList,
    MendAsked,
    RefusedRow,
    UploadRow,
    ValueChanged,
    WantedColumn,
)
from flinch.feeds.files.checking import Where, mend
from flinch.feeds.files.errors import BadFile
from flinch.feeds.files.importing import ADJUSTED, Asked, import_file, recover, undo_import, write_change
from flinch.feeds.files.kinds import KINDS, Column
from flinch.feeds.files.looking import look_at, refused_rows
from flinch.feeds.files.matching import CannotMatch
from flinch.feeds.files.reading import kinds_within
from flinch.feeds.files.sources import TOLD, prefer
from flinch.feeds.files.values import DAY_FORMATS, Hints, known_zone
from flinch.inbox import CannotTake, Inbox, Upload
from flinch.jobs import Handle, Jobs, Work
from flinch.market import Markets
from flinch.store.engine import make_engine
from flinch.store.errors import DatabaseAway
from flinch.store.jobs import UNDER_WAY, Job
from flinch.store.market.imports import ImportRow, read_changes, read_imports
from flinch.store.market.names import read_names

KIND = "import"
_REFUSED_SHOWN, _CHANGES_SHOWN = 20, 100
_NOTHING = "null"
"""The answer of work that counts nothing."""
_PATIENCE = 120
"""Seconds that a database may be away."""


def import_list(markets: Markets, inbox: Inbox, name: str) -> ImportList:
    """What was brought and loaded. Raises NoSuchMarket."""
    with markets.look(name) as market:
        told = read_imports(market.engine)
    return ImportList(
        market=name, uploads=[upload_row(one) for one in inbox.all(name)], imports=[_entry(one) for one in told]
    )


def upload_row(upload: Upload) -> UploadRow:
    """A file that was brought."""
    return UploadRow(**upload._asdict())


def changes(markets: Markets, name: str, number: int) -> ChangesReply:
    """What an import changed. Raises NoSuchMarket."""
    with markets.look(name) as market:
        told = read_changes(market.engine, number, _CHANGES_SHOWN)
        names = read_names(market.engine)
    symbols = dict(zip(names["id"].to_list(), names["symbol"].to_list(), strict=True))
    return ChangesReply(
        kept=told is not None,
        changes=[
            ValueChanged(
                symbol=None if one.name_id is None else symbols.get(one.name_id),
                day=one.day,
                what=f"{one.table} {one.column}".replace("_", " "),
                before=_word(one.before),
                now=_word(one.now),
            )
            for one in told or []
        ],
    )


def _word(value: Any) -> str:
    if value is None:
        return "nothing"
    return f"{value:.10g}" if isinstance(value, float) else str(value)[:80]


def take_part(inbox: Inbox, name: str, number: int, at: int, data: bytes) -> UploadRow:
    """Take a part of a file in; a workbook with a sheet a kind is a file of each. Raises CannotTake and NoSuchUpload."""
    before, upload = inbox.one(name, number), inbox.take(name, number, at, data)
    if upload.whole and not before.whole:
        kinds: list[str] = []
        # Whoever looks at a file that cannot be read is told so.
        with contextlib.suppress(BadFile):
            kinds = kinds_within(inbox.file(name, upload))
        upload = inbox.divide(name, number, kinds) if kinds else upload
    return upload_row(upload)


def _entry(one: ImportRow) -> ImportEntry:
    told = one._asdict()
    return ImportEntry(**{name: told[name] for name in ImportEntry.model_fields})


def file_look(markets: Markets, inbox: Inbox, name: str, number: int, how: ImportHow) -> FileLook:
    """A first look at a file. Raises NoSuchUpload, CannotTake and BadFile."""
    upload = _whole(inbox, name, number)
    with markets.look(name) as market:
        seen = look_at(market.engine, _asked(inbox, name, upload, how))
    hints = seen.asked.hints
    told = how.model_copy(
        update={
            "kind": seen.kind,
            "columns": seen.asked.columns,
            "zone": hints.zone,
            "days": dict(hints.days),
            "percent": sorted(hints.percent),
            "decimals": sorted(hints.decimals),
            "adjusted": hints.adjusted,
        }
    )
    return FileLook(
        kind=seen.kind,
        columns=[ColumnLook(**one._asdict()) for one in seen.columns],
        wanted=[] if seen.kind is None else [_wanted(column) for column in KINDS[seen.kind].columns],
        day_ways=DAY_FORMATS,
        adjustable=seen.kind in ADJUSTED,
        lacking=seen.lacking,
        question=seen.question,
        where=seen.where,
        how=told,
    )


def _wanted(column: Column) -> WantedColumn:
    return WantedColumn(
        name=column.name, sort=column.sort, needed=column.needed or column.key, share=column.share is not None
    )


def begin(jobs: Jobs, inbox: Inbox, name: str, number: int, how: ImportHow, owner: int, *, load: bool) -> int:
    """Check a file or load it, beside requests; returns the work's number. Raises NoSuchUpload, CannotTake and TooManyJobs."""
    _whole(inbox, name, number)
    asked = {"market": name, "file": number, "load": load, "how": how.model_dump(mode="json")}
    job = jobs.submit(KIND, asked, owner=owner)
    inbox.say(name, number, job=job)
    return job


def begin_undo(jobs: Jobs, name: str, number: int, owner: int) -> int:
    """Undo an import beside requests; returns the work's number. Raises TooManyJobs."""
    return jobs.submit(KIND, {"market": name, "undo": number}, owner=owner)


def begin_mend(jobs: Jobs, name: str, check: str, asked: MendAsked, owner: int) -> int:
    """Mend what a check finds beside requests; returns the work's number. Raises TooManyJobs."""
    return jobs.submit(KIND, {"market": name, "mend": check, "where": asked.model_dump(mode="json")}, owner=owner)


def begin_prefer(jobs: Jobs, name: str, kind: str, order: list[str], owner: int) -> int:
    """Say beside requests which source of a kind is preferred; returns the work's number. Raises CannotMatch and TooManyJobs."""
    require_told(kind)
    return jobs.submit(KIND, {"market": name, "prefer": kind, "order": list(dict.fromkeys(order))}, owner=owner)


def require_told(kind: str) -> None:
    """Raises CannotMatch for a kind that several sources do not tell of."""
    if kind not in TOLD:
        raise CannotMatch(f"Of {kind[:40]!r} one source tells at a time; several may of {', '.join(TOLD)}.", "kind")


def job_told(jobs: Jobs, job: Job) -> ImportJob:
    """How work on an import stands. Raises what it failed with, and JobCancelled."""
    answer = jobs.answer(job)
    counts = None if answer is None or answer == _NOTHING else ImportCounts.model_validate_json(answer)
    return ImportJob(id=job.id, percent=job.percent, stage=job.stage, over=job.state not in UNDER_WAY, counts=counts)


def import_work(markets: Markets, inbox: Inbox) -> Work:
    """The work that checks, loads and undoes."""

    def work(handle: Handle) -> str:
        asked: dict[str, Any] = handle.asked
        name = str(asked["market"])
        markets.require(name)
        # The engine of pages gives up after seconds; this may take minutes.
        engine = make_engine(markets.databases.market_url(name))

        def tell(stage: str, share: float) -> None:
            handle.tell(share, stage)

        try:
            if "file" in asked:
                answer = _loaded(engine, inbox, name, asked, tell).model_dump_json()
            else:
                _changed(engine, asked, tell)
                answer = _NOTHING
        except DatabaseAway:
            _bring_back(engine, tell)
            raise
        finally:
            engine.dispose()
        if asked.get("load", True):
            # It is loaded, whatever comes of showing it.
            with contextlib.suppress(FlinchError):
                markets.open(name).holder.renew()
        return answer

    return work


def _changed(engine: Engine, asked: dict[str, Any], tell: Callable[[str, float], None]) -> None:
    """Undo, mend, or say who is preferred."""
    if "undo" in asked:
        undo_import(engine, int(asked["undo"]), tell)
    elif "mend" in asked:
        at = MendAsked.model_validate(asked["where"])
        mend(engine, str(asked["mend"]), None if at.symbol is None else Where(at.symbol, at.day), tell)
    else:
        kind, order = str(asked["prefer"]), [str(one) for one in asked["order"]]
        write_change(engine, kind, lambda: prefer(engine, kind, order), tell)


def _loaded(
    engine: Engine, inbox: Inbox, name: str, asked: dict[str, Any], tell: Callable[[str, float], None]
) -> ImportCounts:
    """Load a file that was brought, or check it."""
    upload = _whole(inbox, name, int(asked["file"]))
    how, load = ImportHow.model_validate(asked["how"]), bool(asked["load"])
    refused = inbox.refused(name, upload.id)
    refused.unlink(missing_ok=True)
    outcome = import_file(engine, _asked(inbox, name, upload, how, dry=not load), tell)
    if load:
        inbox.say(name, upload.id, loaded=True)
    shown = refused_rows(refused, _REFUSED_SHOWN)
    return ImportCounts(
        kind=outcome.kind,
        rows=outcome.rows,
        added=outcome.added,
        changed=outcome.changed,
        same=outcome.same,
        refused=outcome.refused,
        beside=outcome.beside,
        columns=list(shown[0].columns) if shown else [],
        first=[RefusedRow(line=one.line, reason=one.reason, cells=one.cells) for one in shown],
        loaded=load,
    )


def _bring_back(engine: Engine, tell: Callable[[str, float], None]) -> None:
    """Once the database is there again, go on with what was ended with it, or bring back what was there before; when it stays
    away, whoever comes next does so."""
    for _ in range(_PATIENCE):
        tell("waiting for the database", 0.0)
        with contextlib.suppress(DatabaseAway):
            recover(engine)
            return
        time.sleep(1)


def _whole(inbox: Inbox, name: str, number: int) -> Upload:
    upload = inbox.one(name, number)
    if upload.loaded:
        raise CannotTake(f"{upload.name[:80]} was loaded already. Bring it again to load it again.")
    if not upload.whole:
        raise CannotTake(
            f"{upload.name[:80]} is not all here: {upload.here:,} of {upload.size:,} bytes. Bring it again."
        )
    return upload


def _asked(inbox: Inbox, name: str, upload: Upload, how: ImportHow, *, dry: bool = False) -> Asked:
    if how.kind is not None and how.kind not in KINDS:
        raise CannotMatch(f"There is no kind {how.kind!r}; kinds are {', '.join(KINDS)}.", "kind")
    zone = None if how.zone is None else known_zone(how.zone)
    return Asked(
        inbox.file(name, upload),
        how.kind,
        how.source,
        dict(how.columns),
        Hints(zone, dict(how.days), frozenset(how.percent), frozenset(how.decimals), how.adjusted),
        how.make_names,
        dry,
        inbox.refused(name, upload.id),
    )
