"""`flinch import`, `flinch export` and `flinch publish`."""

from __future__ import annotations

import argparse
import contextlib
import datetime as dt
import time
from collections.abc import Iterator
from pathlib import Path

from sqlalchemy import Engine

from flinch.clock import wall
from flinch.commands.told import Refused, tell
from flinch.feeds.files.checking import run_checks
from flinch.feeds.files.exporting import EXPORTED, Span, Written, export_kinds
from flinch.feeds.files.importing import ADJUSTED, Asked, Outcome, import_file, publish_all
from flinch.feeds.files.kinds import KINDS
from flinch.feeds.files.matching import guess_kind
from flinch.feeds.files.reading import files_of_rows, kinds_within, open_table
from flinch.feeds.files.values import Hints, known_zone
from flinch.feeds.sources import fetch_all, find_source
from flinch.reach import reached
from flinch.screening.owned_documents import DOCUMENTS, take_document, write_document
from flinch.store.databases import DEMO, Databases
from flinch.store.engine import make_engine
from flinch.store.migrate import migrate_market, migrate_owned
from flinch.store.owned.owners import LOCAL_OWNER, Whose, owner_called


def add_import(parser: argparse.ArgumentParser) -> None:
    """`flinch import KIND FILE...`, and `flinch import` of a folder, or of a workbook with a sheet a kind."""
    kinds = ", ".join([*KINDS, *DOCUMENTS])
    parser.add_argument(
        "what",
        nargs="+",
        metavar="KIND FILE... | FOLDER | WORKBOOK",
        help=f"a kind ({kinds}) and files, a folder, or a workbook with a sheet a kind",
    )
    parser.add_argument("--market", required=True)
    parser.add_argument("--source", help="who the files are from")
    parser.add_argument("--zone", help="the zone of moments without an offset, as America/New_York")
    for option, shape, words in (
        ("--map", "THEIRS=ours", "which of our columns one of theirs is"),
        ("--days", "COLUMN=FORMAT", "how days are written, as session=%%d/%%m/%%Y"),
        ("--percent", "COLUMN", "columns that are in percent"),
        ("--decimal", "COLUMN", "columns that are decimals, and not in percent"),
    ):
        parser.add_argument(option, action="extend", nargs="+", default=[], metavar=shape, help=words)
    parser.add_argument("--adjusted", action="store_true", help="their prices were adjusted for splits by the source")
    parser.add_argument("--make-names", action="store_true", help="make names for symbols that are not known")
    parser.add_argument("--dry-run", action="store_true", help="only say what would come of it")
    parser.set_defaults(run=_import)


def add_export(parser: argparse.ArgumentParser) -> None:
    """`flinch export KIND|all --market NAME --to FOLDER`."""
    parser.add_argument("kind", choices=("all", *EXPORTED, *DOCUMENTS))
    parser.add_argument("--market", required=True)
    parser.add_argument("--to", type=Path, required=True, metavar="FOLDER")
    parser.add_argument("--from", dest="since", type=dt.date.fromisoformat, metavar="SESSION")
    parser.add_argument("--until", type=dt.date.fromisoformat, metavar="SESSION")
    parser.add_argument("--as", dest="form", choices=("parquet", "csv"), default="parquet")
    parser.set_defaults(run=_export)


def add_fetch(parser: argparse.ArgumentParser) -> None:
    """`flinch fetch SOURCE --market NAME`."""
    parser.add_argument("source", help="`folder`, or the name of one that is installed")
    parser.add_argument("--market", required=True)
    parser.add_argument("--set", action="extend", nargs="+", default=[], metavar="KEY=VALUE", help="as path=/data/mine")
    parser.add_argument("--every", type=float, metavar="MINUTES", help="ask again and again, so many minutes apart")
    parser.set_defaults(run=_fetch)


def add_check(parser: argparse.ArgumentParser) -> None:
    """`flinch check --market NAME`."""
    parser.add_argument("--market", required=True)
    parser.set_defaults(run=_check)


def add_publish(parser: argparse.ArgumentParser) -> None:
    """`flinch publish --market NAME`."""
    parser.add_argument("--market", required=True)
    parser.add_argument("--from", dest="since", type=dt.date.fromisoformat, metavar="SESSION")
    parser.set_defaults(run=_publish)


def _import(chosen: argparse.Namespace) -> None:
    if chosen.what[0] in DOCUMENTS:
        _take(chosen)
        return
    files = _files(chosen.what)
    zone = None if chosen.zone is None else known_zone(chosen.zone)
    days, columns = _pairs(chosen.days, "--days", "session=%d/%m/%Y"), _pairs(chosen.map, "--map", "Date=session")
    _require_used({*days, *chosen.percent, *chosen.decimal, *columns.values()}, {kind for kind, _ in files})
    with reached(chosen.folder) as databases:
        engine = _engine(databases, chosen.market)
        for kind, path in files:
            # Of what was said of a folder each file takes what is about it.
            ours = {column.name for column in KINDS[kind].columns}
            theirs = open_table(path, kind).columns if len(files) > 1 else columns
            hints = Hints(
                zone,
                {name: way for name, way in days.items() if name in ours},
                ours.intersection(chosen.percent),
                ours.intersection(chosen.decimal),
                adjusted=(kind in ADJUSTED or len(files) == 1) if chosen.adjusted else None,
            )
            said = {their: our for their, our in columns.items() if our in ours and their in theirs}
            refused = chosen.folder / "refused" / chosen.market / f"{path.name.split('.')[0]}.refused.csv"
            asked = Asked(path, kind, chosen.source, said, hints, chosen.make_names, chosen.dry_run, refused)
            _tell(path, import_file(engine, asked), dry=chosen.dry_run, as_json=chosen.json)
        engine.dispose()


def _require_used(names: set[str], kinds: set[str]) -> None:
    """Refuse columns that no file of these kinds has."""
    known = {column.name for kind in kinds for column in KINDS[kind].columns}
    if unknown := sorted(names - known):
        raise Refused(
            f"no column is called {unknown[0]!r}; those of {', '.join(sorted(kinds))} are {', '.join(sorted(known))}"
        )


def _tell(path: Path, outcome: Outcome, *, dry: bool, as_json: bool) -> None:
    would = "would be " if dry else ""
    words = (
        f"{path.name}: {outcome.rows:,} rows of {outcome.kind}; {outcome.added:,} {would}added, "
        f"{outcome.changed:,} {would}changed, {outcome.same:,} there already, {outcome.refused:,} refused"
    )
    if outcome.beside:
        words += f"; {outcome.beside:,} {would}kept beside, another source is preferred"
    if outcome.file_of_refused:
        words += f" (with the reasons in {outcome.file_of_refused})"
    tell(words, {"file": path.name} | outcome._asdict(), as_json=as_json)


def _files(what: list[str]) -> list[tuple[str, Path]]:
    """Kind and path of each file, in the order in which kinds are loaded."""
    if what[0] in KINDS:
        if len(what) == 1:
            raise Refused(f"give the files of {what[0]} too")
        return [(what[0], Path(name)) for name in what[1:]]
    place = Path(what[0])
    book = place.is_file() and bool(kinds_within(place))
    if len(what) > 1 or not (place.is_dir() or book):
        raise Refused(
            f"{what[0]!r} is neither a folder, a workbook with a sheet a kind, nor a kind; kinds are {', '.join(KINDS)}"
        )
    inside = [place] if book else files_of_rows(place)
    if not inside:
        raise Refused(f"there is no file of rows in {what[0]}")
    found = [(kind, path) for path in inside for kind in kinds_within(path) or [_kind_of(path)]]
    order = list(KINDS)
    return sorted(found, key=lambda one: (order.index(one[0]), one[1].name))


def _kind_of(path: Path) -> str:
    return guess_kind(path, open_table(path).columns)


def _pairs(told: list[str], option: str, example: str) -> dict[str, str]:
    pairs = [text.partition("=") for text in told]
    if not all(equals and key and value for key, equals, value in pairs):
        raise Refused(f"{option} wants pairs as {example}")
    return {key: value for key, _, value in pairs}


def _export(chosen: argparse.Namespace) -> None:
    kinds = [*EXPORTED, *DOCUMENTS] if chosen.kind == "all" else [chosen.kind]
    with reached(chosen.folder) as databases:
        engine = _engine(databases, chosen.market, demo=True)
        written = export_kinds(
            engine,
            [kind for kind in kinds if kind in EXPORTED],
            chosen.to,
            chosen.form,
            Span(chosen.since, chosen.until),
        )
        engine.dispose()
        for kind in (kind for kind in kinds if kind in DOCUMENTS):
            with _owned(databases, chosen.market) as (owned, whose):
                items = write_document(owned, whose, kind, chosen.to / f"{kind}.json")
            written.append(Written(kind, f"{kind}.json", items))
    for one in written:
        tell(f"{chosen.to / one.file}: {one.rows:,} rows of {one.kind}", one._asdict(), as_json=chosen.json)


@contextlib.contextmanager
def _owned(databases: Databases, market: str) -> Iterator[tuple[Engine, Whose]]:
    """The database of what users own, and who is asked for: the user of this machine."""
    owned = make_engine(databases.owned_url)
    try:
        migrate_owned(owned)
        yield owned, Whose(owner_called(owned, LOCAL_OWNER), market)
    finally:
        owned.dispose()


def _take(chosen: argparse.Namespace) -> None:
    """Take documents of what a user owns in."""
    kind, *files = chosen.what
    if not files:
        raise Refused(f"give the files of {kind} too")
    if chosen.dry_run:
        raise Refused(f"{kind} are checked before any is taken in; --dry-run is for rows of a market")
    with reached(chosen.folder) as databases:
        _engine(databases, chosen.market, demo=True).dispose()
        for name in files:
            with _owned(databases, chosen.market) as (owned, whose):
                taken = take_document(owned, whose, kind, Path(name), wall())
            words = f"{name}: of {sum(taken)} {kind} {taken.added} added, {taken.changed} changed, {taken.same} there already"
            tell(words, {"kind": kind, "file": name} | taken._asdict(), as_json=chosen.json)


def _fetch(chosen: argparse.Namespace) -> None:
    if chosen.every is not None and not 0 < chosen.every <= 7 * 24 * 60:
        raise Refused(f"--every {chosen.every} is no number of minutes")
    said = _pairs(chosen.set, "--set", "path=/data/mine")
    source = find_source(chosen.source, said)
    with reached(chosen.folder) as databases:
        engine = _engine(databases, chosen.market)
        while True:
            for outcome in fetch_all(engine, chosen.source, source, chosen.folder / "refused" / chosen.market):
                words = f"{outcome.kind} from {chosen.source}: {outcome.added:,} added, {outcome.changed:,} changed"
                words += f", {outcome.same:,} there already, {outcome.refused:,} refused"
                if outcome.file_of_refused:
                    words += f" (with the reasons in {outcome.file_of_refused})"
                tell(words, outcome._asdict(), as_json=chosen.json)
            if chosen.every is None:
                break
            time.sleep(60 * chosen.every)
        engine.dispose()


def _check(chosen: argparse.Namespace) -> None:
    with reached(chosen.folder) as databases:
        engine = _engine(databases, chosen.market, demo=True)
        found = run_checks(engine)
        engine.dispose()
    for one in found:
        places = ", ".join(f"{at.symbol} {at.day or ''}".strip() for at in one.examples[:5])
        words = f"{one.kind}: {one.words} {one.times} times: {places}"
        row = one._asdict() | {"examples": [at._asdict() for at in one.examples]}
        tell(words, row, as_json=chosen.json)
    if not found and not chosen.json:
        tell("Nothing of what is loaded looks wrong.", {}, as_json=False)


def _publish(chosen: argparse.Namespace) -> None:
    with reached(chosen.folder) as databases:
        engine = _engine(databases, chosen.market)
        moments = publish_all(engine, chosen.since)
        engine.dispose()
    tell(
        f"{moments} moments of {chosen.market} were published",
        {"market": chosen.market, "moments": moments},
        as_json=chosen.json,
    )


def _engine(databases: Databases, name: str, *, demo: bool = False) -> Engine:
    if name == DEMO and not demo:
        raise Refused("the demo market is made by Flinch itself; make one of your own with: flinch market new NAME")
    if name not in databases.markets():
        raise Refused(f"there is no market {name!r}: flinch market list tells which there are")
    engine = make_engine(databases.market_url(name))
    migrate_market(engine)
    return engine
