"""`flinch backup` and `flinch restore`."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from flinch.commands.told import Refused, tell
from flinch.feeds.files.importing import recover
from flinch.reach import reached
from flinch.store.backup import Held, holds_anything, read_index, restore_market, restore_owned, write_backup
from flinch.store.databases import DEMO, MarketTaken
from flinch.store.engine import make_engine
from flinch.store.migrate import migrate_market


def add_backup(parser: argparse.ArgumentParser) -> None:
    """`flinch backup FILE`."""
    parser.add_argument("file", type=Path)
    parser.add_argument("--market", action="append", help="a market; all of one's own without it")
    parser.set_defaults(run=_backup)


def add_restore(parser: argparse.ArgumentParser) -> None:
    """`flinch restore FILE`."""
    parser.add_argument("file", type=Path)
    parser.add_argument("--market", action="append", help="a market alone; all that the file holds without it")
    parser.add_argument("--yes", action="store_true", help="do not ask whether what you own is replaced")
    parser.set_defaults(run=_restore)


def _backup(chosen: argparse.Namespace) -> None:
    with reached(chosen.folder) as databases:
        there = databases.markets()
        for name in chosen.market or []:
            if name not in there:
                raise Refused(f"there is no market {name!r}: flinch market list tells which there are")
        markets = chosen.market or [name for name in there if name != DEMO]
        held = write_backup(databases, chosen.file, markets)
    for one in held:
        _say(one, f"in {chosen.file}", as_json=chosen.json)


def _restore(chosen: argparse.Namespace) -> None:
    held = read_index(chosen.file)
    wanted = [one for one in held if one.part in chosen.market] if chosen.market else held
    for name in set(chosen.market or []) - {one.part for one in held}:
        raise Refused(
            f"{chosen.file} holds no market {name!r}, but {', '.join(one.part for one in held[1:]) or 'none'}"
        )
    with reached(chosen.folder) as databases:
        # Nothing is changed before it is known that all of it can be brought back.
        for one in wanted:
            if one.part != "owned" and holds_anything(databases, one.part):
                raise MarketTaken(one.part)
        owned = next((one for one in wanted if one.part == "owned"), None)
        if owned is not None and not chosen.yes:
            _ask()
        for one in wanted:
            if one.part == "owned":
                kept = restore_owned(databases, chosen.file, one, chosen.folder / "database" / "aside")
                _say(one, f"is back; what was there before is in {kept}", as_json=chosen.json)
                continue
            restore_market(databases, chosen.file, one)
            engine = make_engine(databases.market_url(one.part))
            migrate_market(engine)
            # It may have been written while an import was under way.
            recover(engine)
            engine.dispose()
            _say(one, "is back", as_json=chosen.json)


def _say(one: Held, what: str, *, as_json: bool) -> None:
    rows = sum(one.rows.values())
    words = "what you own" if one.part == "owned" else f"the market {one.part}"
    tell(f"{words}: {rows:,} rows {what}", {"part": one.part, "revision": one.revision, "rows": rows}, as_json=as_json)


def _ask() -> None:
    goes = "Tray, screens, baskets, lines and plans of the file take the place of those that are there (which are written aside)"
    if not sys.stdin.isatty():
        raise Refused(f"{goes}. Nobody is here to be asked: say so with --yes, or name markets with --market")
    if input(f"{goes}. Go on? [y/N] ").strip().lower() not in ("y", "yes"):
        raise Refused("nothing was brought back")
