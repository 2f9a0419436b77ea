"""`flinch market new`, `list` and `remove`."""

from __future__ import annotations

import argparse
import datetime as dt
import shutil
import sys

from flinch.commands.told import Refused, tell
from flinch.market.markets import make_market
from flinch.reach import reached
from flinch.store.databases import DEMO, Databases
from flinch.store.engine import make_engine
from flinch.store.market.calendars import calendar_zone
from flinch.store.market.holdings import HOLDS, held_kinds
from flinch.store.market.settings import MarketSettings, read_settings
from flinch.store.market.state import read_state
from flinch.store.migrate import migrate_market


def add_market_commands(parser: argparse.ArgumentParser, common: argparse.ArgumentParser) -> None:
    """`market` and what can be done with one."""
    commands = parser.add_subparsers(dest="do", required=True)
    new = commands.add_parser("new", parents=[common], help="make an empty market")
    new.add_argument("name")
    new.add_argument("--calendar", default="XNYS", help="the exchange's calendar, by its ISO 10383 code (default XNYS)")
    new.add_argument("--currency", default="USD", help="ISO 4217 (default USD)")
    new.add_argument("--index", help="the symbol that relative strength is measured against")
    new.add_argument(
        "--rate", type=float, default=0.04, help="interest, a decimal, where no rates are loaded (default 0.04)"
    )
    new.set_defaults(run=_new)
    listed = commands.add_parser("list", parents=[common], help="the markets there are")
    listed.set_defaults(run=_list)
    remove = commands.add_parser("remove", parents=[common], help="remove a market's data for good")
    remove.add_argument("name")
    remove.add_argument("--yes", action="store_true", help="do not ask")
    remove.set_defaults(run=_remove)


def _new(chosen: argparse.Namespace) -> None:
    zone = calendar_zone(chosen.calendar)
    if len(chosen.currency) != 3 or not chosen.currency.isupper():
        raise Refused(f"{chosen.currency!r} is not a currency: give its three letters, as USD")
    if not -0.5 < chosen.rate < 1:
        raise Refused(f"a rate of {chosen.rate} is not a decimal as 0.04")
    settings = MarketSettings(chosen.calendar, chosen.currency, chosen.index, chosen.rate, zone)
    with reached(chosen.folder) as databases:
        make_market(databases, chosen.name, settings)
    words = (
        f"The market {chosen.name} is there, and empty. Load files with: flinch import FOLDER --market {chosen.name}"
    )
    tell(words, {"market": chosen.name} | settings._asdict(), as_json=chosen.json)


def _list(chosen: argparse.Namespace) -> None:
    with reached(chosen.folder) as databases:
        for name in databases.markets():
            words, row = _row(databases, name)
            tell(words, row, as_json=chosen.json)


def _row(databases: Databases, name: str) -> tuple[str, dict[str, object]]:
    engine = make_engine(databases.market_url(name))
    migrate_market(engine)
    state, held, settings = read_state(engine), held_kinds(engine), read_settings(engine)
    engine.dispose()
    newest = state.as_of.astimezone(dt.UTC) if state is not None and state.data_version else None
    words = f"{name:<20} " + (
        "empty" if newest is None else f"as of {newest:%Y-%m-%d %H:%M} UTC, from {state and state.source}"
    )
    row: dict[str, object] = {
        "market": name,
        "as_of": newest,
        "source": state and state.source,
        "missing": [k for k in HOLDS if k not in held],
    }
    return words, row | settings._asdict()


def _remove(chosen: argparse.Namespace) -> None:
    if chosen.name == DEMO:
        raise Refused("the demo market cannot be removed: every start would make it again")
    with reached(chosen.folder) as databases:
        if chosen.name not in databases.markets():
            raise Refused(f"there is no market {chosen.name!r}: flinch market list tells which there are")
        if not chosen.yes:
            _ask(chosen.name)
        databases.remove_market(chosen.name)
    for beside in ("columns", "inbox"):
        shutil.rmtree(chosen.folder / beside / chosen.name, ignore_errors=True)
    tell(
        f"The market {chosen.name} is gone. Tray, lines, plans and baskets of it stay.",
        {"market": chosen.name},
        as_json=chosen.json,
    )


def _ask(name: str) -> None:
    goes = f"All data of the market {name} go for good"
    if not sys.stdin.isatty():
        raise Refused(f"{goes}. Nobody is here to be asked: say so with --yes")
    if input(f"{goes}. Go on? [y/N] ").strip().lower() not in ("y", "yes"):
        raise Refused("nothing was removed")
