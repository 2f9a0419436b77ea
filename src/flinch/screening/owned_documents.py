"""What a user owns as documents: a kind is one JSON object with a version and its items, written out and taken in again."""

from __future__ import annotations

import datetime as dt
import json
from collections import Counter
from pathlib import Path
from typing import Annotated, Any, NamedTuple

from pydantic import BaseModel, ConfigDict, Field, ValidationError
from sqlalchemy import Engine

from flinch.core.rules import FUNCTIONS, METRICS, STRUCTURE_METRICS, TICKETS, RuleError
from flinch.errors import FlinchError
from flinch.market.dictionary import PLAIN
from flinch.screening.body import ScreenBody
from flinch.store.owned.kept import BASKETS, OWN_LINES, OWN_METRICS, PLANS, SCREENS, Kept, TooMany, plain
from flinch.store.owned.owners import Whose
from flinch.store.owned.tray import MOST_ENTRIES, change_tray, read_tray

VERSION = 1
_LARGEST, _MOST = 64 << 20, 10_000
_Symbol = Annotated[str, Field(min_length=1, max_length=12)]
_Words = dict[Annotated[str, Field(max_length=40)], Any]


class BadDocument(FlinchError):
    """A document cannot be taken in; the message says which item, and why. Nothing was changed."""

    status, kind = 422, "bad_document"


class _Item(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class _Screen(_Item):
    name: str = Field(min_length=1, max_length=120)
    description: str = Field("", max_length=2_000)
    tags: list[Annotated[str, Field(max_length=40)]] = Field([], max_length=20)
    body: ScreenBody


class _Metric(_Item):
    key: str = Field(pattern=r"^[a-z][a-z0-9_]{0,39}$")
    label: str = Field(min_length=1, max_length=80)
    unit: str = Field("", max_length=20)
    expression: str = Field(min_length=1, max_length=1_000)
    decimals: int = Field(2, ge=0, le=6)


class _Basket(_Item):
    name: str = Field(min_length=1, max_length=120)
    symbols: list[_Symbol] = Field(max_length=2_000)


class _Line(_Item):
    symbol: _Symbol
    name: str = Field("", max_length=60)
    price: float = Field(gt=0, le=1e9)
    note: str = Field("", max_length=500)
    since: dt.date


class _Plan(_Item):
    symbol: _Symbol
    legs: str = Field(min_length=1, max_length=400)
    label: str = Field(max_length=60)
    why: _Words
    entry_limit: float | None = None
    exits: _Words = {}
    notes: str = Field("", max_length=4_000)
    made_on: dt.date
    data_version: int = Field(ge=0)
    cost: float | None = None
    max_profit: float | None = None
    spot: float


class _TrayName(_Item):
    symbol: _Symbol
    why: _Words
    added_at: dt.datetime


class _Document(NamedTuple):
    """A kind: what an item is, where they are kept (the tray is not), and by which field one is known (none: by all of it)."""

    item: type[_Item]
    kept: Kept[Any] | None
    known_by: str | None


DOCUMENTS: dict[str, _Document] = {
    "screens": _Document(_Screen, SCREENS, "name"),
    "metrics": _Document(_Metric, OWN_METRICS, "key"),
    "baskets": _Document(_Basket, BASKETS, "name"),
    "lines": _Document(_Line, OWN_LINES, None),
    "plans": _Document(_Plan, PLANS, None),
    "tray": _Document(_TrayName, None, "symbol"),
}
"""Kinds of what a user owns, in the order in which they are taken in: screens may use metrics."""


class Taken(NamedTuple):
    """What came of a document's items."""

    added: int
    changed: int
    same: int


def write_document(engine: Engine, whose: Whose, kind: str, path: Path) -> int:
    """Write all of a kind into a file; returns how many items that is."""
    items = [one.model_dump(mode="json") for one in _items(engine, whose, kind)]
    told = {"kind": kind, "version": VERSION, "items": items}
    making = path.with_name(f".{path.name}.making")
    making.write_text(json.dumps(told, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
    making.rename(path)
    return len(items)


def take_document(engine: Engine, whose: Whose, kind: str, path: Path, now: dt.datetime) -> Taken:
    """Take the items of a file in: one that is there stays or becomes what the file says, others are added; none is removed.
    Raises BadDocument and TooMany; nothing is changed then. They are kept one after the other: who is ended among them takes the
    file in again."""
    items = _read(path, kind)
    document, here = DOCUMENTS[kind], _items(engine, whose, kind)

    def name(one: _Item) -> str:
        return one.model_dump_json() if document.known_by is None else str(getattr(one, document.known_by))

    known = {name(one): one for one in here}
    told = {name(one): one for one in items}
    fresh = {key: one for key, one in told.items() if key not in known}
    others = {key: one for key, one in told.items() if key in known and one != known[key]}
    if kind == "metrics":
        _require_readable(list((known | told).values()))
    most = MOST_ENTRIES if document.kept is None else document.kept.most
    if len(here) + len(fresh) > most:
        raise TooMany(most)
    if document.kept is None:
        # Why a name that is there came stays as it is.
        change_tray(
            engine, whose, "add", {key: one.why for key, one in fresh.items() if isinstance(one, _TrayName)}, now
        )
        return Taken(len(fresh), 0, len(items) - len(fresh))
    numbers = (
        {}
        if document.known_by is None
        else {getattr(row, document.known_by): row.id for row in document.kept.all(engine, whose)}
    )
    for key, one in (fresh | others).items():
        values = one.model_dump(mode="json") if kind == "screens" else one.model_dump()
        if kind in ("screens", "baskets"):
            values["changed_at"] = plain(now)
        document.kept.save(engine, whose, values, numbers.get(key))
    return Taken(len(fresh), len(others), len(items) - len(fresh) - len(others))


def _items(engine: Engine, whose: Whose, kind: str) -> list[_Item]:
    document = DOCUMENTS[kind]
    if document.kept is None:
        return [
            _TrayName(symbol=entry.symbol, why=entry.why, added_at=entry.added_at)
            for entry in read_tray(engine, whose).entries
        ]
    fields = list(document.item.model_fields)
    return [
        document.item.model_validate({field: getattr(row, field) for field in fields})
        for row in document.kept.all(engine, whose)
    ]


def _read(path: Path, kind: str) -> list[_Item]:
    try:
        if path.stat().st_size > _LARGEST:
            raise BadDocument(f"{path.name} is larger than such a document may be.")
        told = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError) as error:
        raise BadDocument(f"{path.name} cannot be read as JSON: {str(error)[:120]}. Nothing was changed.") from None
    if not isinstance(told, dict) or not isinstance(told.get("items"), list):
        raise BadDocument(f"{path.name} is no document of {kind}: it has no list of items. Nothing was changed.")
    if told.get("kind") != kind:
        raise BadDocument(f"{path.name} holds {str(told.get('kind'))[:40]}, not {kind}. Nothing was changed.")
    if told.get("version") != VERSION:
        raise BadDocument(
            f"{path.name} is of version {str(told.get('version'))[:10]}; {VERSION} is read. Nothing was changed."
        )
    items, known_by = [], DOCUMENTS[kind].known_by
    if len(told["items"]) > _MOST:
        raise BadDocument(f"{path.name} has {len(told['items'])} items; {_MOST} are read at most. Nothing was changed.")
    for place, item in enumerate(told["items"], start=1):
        try:
            items.append(DOCUMENTS[kind].item.model_validate(item))
        except ValidationError as error:
            first = error.errors()[0]
            where = ".".join(str(part) for part in first["loc"])
            raise BadDocument(f"Item {place} of {path.name}: {where}: {first['msg']}. Nothing was changed.") from None
    names = Counter(getattr(one, known_by) for one in items) if known_by else Counter[str]()
    if twice := next((one for one, times in names.items() if times > 1), None):
        raise BadDocument(f"{path.name} has {twice[:60]!r} twice. Nothing was changed.")
    return items


def _require_readable(metrics: list[_Item]) -> None:
    """Refuse metrics that cannot be computed, or are called as one of the catalogue's."""
    formulas = {one.key: one.expression for one in metrics if isinstance(one, _Metric)}
    for key in formulas:
        if any(key in words for words in (METRICS, TICKETS, STRUCTURE_METRICS, FUNCTIONS)):
            raise BadDocument(f"{key} is in the catalogue already. Nothing was changed.")
    words = PLAIN.extended(formulas)
    for key in formulas:
        try:
            node = words.daily.metric(key)
        except RuleError as error:
            raise BadDocument(f"{key} cannot be read: {error.message} Nothing was changed.") from None
        if node is None or node.kind != "number":
            raise BadDocument(f"{key} is no number. Nothing was changed.")
