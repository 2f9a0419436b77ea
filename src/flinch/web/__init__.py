"""What all routes share: the services of the running application, replies, and errors a user can cause."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass, field

from flask import current_app, g, request
from pydantic import BaseModel, Field
from sqlalchemy import Engine

from flinch.files import Files
from flinch.inbox import Inbox
from flinch.jobs import Jobs
from flinch.live import Live
from flinch.market import Dictionary, Market, Markets, Table, View, view_at
from flinch.market.own_lines import LineAt
from flinch.screening.columns import TABLE_METRICS, Described
from flinch.screening.own_words import with_own
from flinch.store.databases import DEMO
from flinch.store.errors import DatabaseAway
from flinch.store.owned.kept import OWN_LINES, OWN_METRICS, Stamp, read_stamps
from flinch.store.owned.models import OwnMetric
from flinch.store.owned.owners import Whose, chosen_market, owner_called
from flinch.watching import Watcher
from flinch.web.as_of import AS_OF, AsOf
from flinch.web.identity import who
from flinch.web.problems import ERRORS, Problem, UserError, answer, reply

__all__ = [
    "ERRORS",
    "AsOfQuery",
    "Done",
    "Problem",
    "RemoveQuery",
    "Services",
    "UserError",
    "answer",
    "dictionary",
    "market",
    "market_name",
    "own_formulas",
    "own_lines",
    "own_metrics",
    "owner",
    "reply",
    "services",
    "view",
    "whose",
]


@dataclass
class Services:
    """What a route may reach."""

    owned: Engine
    markets: Markets
    jobs: Jobs
    files: Files
    inbox: Inbox
    live: Live
    watcher: Watcher
    owners: dict[str, int] = field(default_factory=dict)
    own_metrics: dict[Whose, tuple[Stamp, list[OwnMetric]]] = field(default_factory=dict)
    own_lines: dict[Whose, tuple[Stamp, tuple[LineAt, ...]]] = field(default_factory=dict)


def services() -> Services:
    """The running application's services."""
    running: Services = current_app.extensions["flinch"]
    return running


def market() -> Market:
    """The market that this request is about: the one it names, else the one that was chosen last, else the demo's.

    Raises NoSuchMarket when it names one that is not there.
    """
    if "market" not in g:
        g.market = services().markets.open(market_name())
    found: Market = g.market
    return found


def market_name() -> str:
    """Its name. Raises NoSuchMarket."""
    if "market_name" not in g:
        name, markets = request.args.get("market") or _chosen(), services().markets
        if name != DEMO:
            markets.require(name)
        g.market_name = name
    named: str = g.market_name
    return named


def _chosen() -> str:
    running = services()
    with suppress(DatabaseAway):
        chosen = chosen_market(running.owned, owner())
        # One that was removed since is chosen no more.
        if chosen is not None and chosen in running.markets.names():
            return chosen
    return DEMO


def view(as_of: AsOf | None = None) -> View:
    """The market that this request works on, as of a day's session or as it was at a minute; the newest one unless that is given.
    Call it once. Raises NotKept."""
    newest = market().holder.current()
    return newest if as_of is None else view_at(newest, as_of)


class AsOfQuery(BaseModel):
    """Which session a page is about."""

    as_of: AsOf | None = AS_OF


class RemoveQuery(BaseModel):
    """What is removed as it was read."""

    version: int | None = Field(None, ge=1, description="The one that was read; none: whichever is kept")


class Done(BaseModel):
    """It was done."""

    done: bool = True


def owner() -> int:
    """Id of whoever the request is for."""
    if "owner" not in g:
        name, running = who(), services()
        if name not in running.owners:
            running.owners[name] = owner_called(running.owned, name)
        g.owner = running.owners[name]
    number: int = g.owner
    return number


def whose() -> Whose:
    """Whoever the request is for, and the market that it is about."""
    return Whose(owner(), market_name())


def known_whose() -> Whose:
    """The same, of owner 0 for one who is not known while the database is away."""
    with suppress(DatabaseAway):
        return whose()
    return Whose(0, DEMO)


def dictionary(table: Table = "names") -> Dictionary:
    """What the request's texts on a table of things may use: the catalogue and the owner's own metrics and lines."""
    read: dict[Table, Dictionary] = g.setdefault("dictionaries", {})
    if table not in read:
        read[table] = with_own(own_formulas(), table, own_lines())
    return read[table]


def own_formulas() -> tuple[tuple[str, str], ...]:
    """Key and expression of the owner's own metrics."""
    return tuple((metric.key, metric.expression) for metric in _own())


def own_lines() -> tuple[LineAt, ...]:
    """The owner's lines; while the database is away, as they were when it was last there."""
    running = services()
    if "own_lines" not in g:
        with suppress(DatabaseAway):
            _, stamp = _stamps()
            if running.own_lines.get(whose(), (None, ()))[0] != stamp:
                kept = OWN_LINES.all(running.owned, whose())
                lines = tuple(LineAt(line.symbol, line.price, line.since) for line in kept)
                running.own_lines[whose()] = stamp, lines
        g.own_lines = running.own_lines.get(known_whose(), (None, ()))[1]
    told: tuple[LineAt, ...] = g.own_lines
    return told


def own_metrics(table: Table = "names") -> dict[str, Described]:
    """What a table of things has beside the metrics of names, and the owner's own metrics, by key."""
    own = {m.key: Described(m.key, m.label, m.label[:12], m.unit, m.decimals, "number") for m in _own()}
    return own | TABLE_METRICS[table]


def _own() -> list[OwnMetric]:
    """Read once a request; while the database is away, as they were when it was last there."""
    if "own_metrics" not in g:
        running = services()
        with suppress(DatabaseAway):
            stamp, _ = _stamps()
            if running.own_metrics.get(whose(), (None, []))[0] != stamp:
                running.own_metrics[whose()] = stamp, OWN_METRICS.all(running.owned, whose())
        g.own_metrics = running.own_metrics.get(known_whose(), (None, []))[1]
    metrics: list[OwnMetric] = g.own_metrics
    return metrics


def _stamps() -> list[Stamp]:
    """Of the owner's metrics and lines, read once a request and before them: what is newer than its stamp is read again."""
    if "stamps" not in g:
        g.stamps = read_stamps(services().owned, whose(), OWN_METRICS, OWN_LINES)
    stamps: list[Stamp] = g.stamps
    return stamps
