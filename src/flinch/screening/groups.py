"""Where a screen's universe and a list's names come from: kinds, sectors, fund members, baskets, the tray, pasted symbols."""

from __future__ import annotations

import re
from typing import NamedTuple

import numpy as np
from sqlalchemy import Engine

from flinch.core.arrays import BoolArray
from flinch.errors import FlinchError
from flinch.market import Dictionary, View
from flinch.screening.body import StackBody
from flinch.screening.run import run_stack
from flinch.screening.starters import STARTERS
from flinch.store.owned import tray
from flinch.store.owned.kept import BASKETS, SCREENS
from flinch.store.owned.owners import Whose

MOST_PASTED = 2_000


class NoSuchGroup(FlinchError):
    """A universe or source that is not there; the message says what to do."""

    kind, where = "no_such_group", "universe"


class Unknown(NamedTuple):
    """A word that is no listed symbol, with the nearest ones."""

    text: str
    nearest: list[str]


class Pasted(NamedTuple):
    """What a pasted text holds: listed symbols in order, each once, and the words that are none."""

    symbols: list[str]
    unknown: list[Unknown]


def read_symbols(view: View, text: str) -> Pasted:
    """Find symbols in a text of any shape: commas, spaces, lines, semicolons, or a column of a sheet.

    Of a line with tabs (a row copied from a sheet) every cell is looked at when it could be a symbol. A word is taken for a
    symbol when it is one, whatever its case; quotes and a leading $ are ignored.
    """
    words = re.split(r"[\s,;|]+", text)
    symbols: dict[str, None] = {}
    unknown: dict[str, None] = {}
    for word in words[: 4 * MOST_PASTED]:
        clean = word.strip("\"'“”‘’()[].$").upper()
        if not clean:
            continue
        if clean in view.frame.index:
            symbols[clean] = None
        elif re.search(r"\w", clean):
            unknown[clean[:40]] = None
    # Headers and figures of a sheet are no misspelt symbols.
    plain = [word for word in unknown if re.fullmatch(r"[^\W\d_]{1,12}", word) and word not in _HEADERS]
    return Pasted(list(symbols)[:MOST_PASTED], [Unknown(word, view.nearest_symbols(word)) for word in plain[:100]])


_HEADERS = {"SYMBOL", "SYMBOLS", "NAME", "COMPANY", "PRICE", "TICKER", "CHANGE", "AND"}


def sectors(view: View) -> list[str]:
    """The sectors of companies, by name."""
    return sorted({name.sector for name in view.frame.names if name.kind == "stock"})


def mask(view: View, symbols: list[str]) -> BoolArray:
    """Rows of symbols; those no longer listed are left out."""
    out = np.zeros(len(view.frame.names), dtype=bool)
    out[[view.frame.index[symbol] for symbol in symbols if symbol in view.frame.index]] = True
    return out


def members(view: View, engine: Engine, whose: Whose, source: str) -> BoolArray:
    """Who belongs to a source; raises NoSuchGroup.

    `source` is all, stock, fund, tray, name:SYMBOL, sector:NAME, members:SYMBOL or basket:ID.
    """
    kind, _, detail = source.partition(":")
    frame = view.frame
    if kind == "all" and not detail:
        return np.ones(len(frame.names), dtype=bool)
    if kind in ("stock", "fund") and not detail:
        return np.asarray(frame.kind == kind)
    if kind == "tray" and not detail:
        return mask(view, tray.tray_symbols(engine, whose))
    if kind == "name" and detail in frame.index:
        return mask(view, [detail])
    if kind == "sector" and detail in sectors(view):
        return np.asarray((view.panel.texts["sector"] == detail) & (frame.kind == "stock"))
    if kind == "members" and frame.members.get(frame.index.get(detail, -1)):
        out = np.zeros(len(frame.names), dtype=bool)
        out[[row for row, _ in frame.members[frame.index[detail]]]] = True
        return out
    if kind == "basket" and detail.isdecimal() and len(detail) < 10:
        basket = BASKETS.one(engine, whose, int(detail))
        if basket is not None:
            return mask(view, basket.symbols)
        raise NoSuchGroup("This basket is not there any more. Choose another universe.")
    raise NoSuchGroup(
        f"There is no universe {source[:60]!r}. Choose all, stock, fund, tray, a sector, a fund's members or a basket."
    )


def source_symbols(view: View, engine: Engine, whose: Whose, dictionary: Dictionary, source: str) -> list[str]:
    """The symbols of any source, a screen's survivors (screen:ID, or screen:s-KEY of a ready one) among them; raises
    NoSuchGroup."""
    kind, _, detail = source.partition(":")
    if kind == "screen":
        stack = _screen(engine, whose, detail)
        start = universe(view, engine, whose, stack.universe)
        survivors = run_stack(view, dictionary, stack, start).result.survivors
    else:
        survivors = members(view, engine, whose, source)
    return [view.name(row).symbol for row in np.flatnonzero(survivors).tolist()]


def screen_name(engine: Engine, whose: Whose, source: str) -> str:
    """What the screen of a source (screen:KEY) is called; in plain words where it is not there any more."""
    key = source.partition(":")[2]
    if key.startswith("s-"):
        return next((starter.name for starter in STARTERS if starter.key == key[2:]), "a screen that is gone")
    saved = SCREENS.one(engine, whose, int(key)) if key.isdecimal() and len(key) < 10 else None
    return "a screen that is gone" if saved is None else saved.name


def _screen(engine: Engine, whose: Whose, key: str) -> StackBody:
    """The stack of a screen of names; raises NoSuchGroup."""
    if key.startswith("s-"):
        ready = next((starter.body for starter in STARTERS if starter.key == key[2:]), None)
        body = None if ready is None else ready.model_dump()
    else:
        saved = SCREENS.one(engine, whose, int(key)) if key.isdecimal() and len(key) < 10 else None
        body = None if saved is None or saved.body.get("table", "names") != "names" else saved.body
    if body is None:
        raise NoSuchGroup("This screen is not there any more. Choose another one.")
    return StackBody.within(body)


def universe(view: View, engine: Engine, whose: Whose, source: str) -> BoolArray:
    """The optionable names of a source."""
    return members(view, engine, whose, source) & view.optionable()
