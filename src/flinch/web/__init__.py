"""What all routes share: the services of the running application, replies, and errors a user can cause."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass, field
from functools import lru_cache

from flask import current_app, g
from pydantic import BaseModel
from sqlalchemy import Engine

from flinch.core.rules import RuleError
from flinch.market import PLAIN, Dictionary, Market, MarketHolder
from flinch.screening.columns import Described
from flinch.store.engine import DatabaseAway
from flinch.store.kept import OWN_METRICS
from flinch.store.models import OwnMetric
from flinch.store.tray import local_owner
from flinch.web.problems import ERRORS, Problem, UserError, reply

__all__ = [
    "ERRORS",
    "Done",
    "Problem",
    "Services",
    "UserError",
    "dictionary",
    "market",
    "own_metrics",
    "owner",
    "reply",
    "rule_problem",
    "services",
    "with_own",
]


@dataclass
class Services:
    """What a route may reach."""

    engine: Engine
    holder: MarketHolder
    owner_id: int | None = None
    own_metrics: list[OwnMetric] = field(default_factory=list)


def services() -> Services:
    """The running application's services."""
    found: Services = current_app.extensions["flinch"]
    return found


def market() -> Market:
    """The market version that this request works on; call it once a request."""
    return services().holder.current()


class Done(BaseModel):
    """It was done."""

    done: bool = True


def owner() -> int:
    """Id of whoever the request is for: the one local owner."""
    held = services()
    if held.owner_id is None:
        held.owner_id = local_owner(held.engine)
    return held.owner_id


def dictionary() -> Dictionary:
    """What the request's texts may use: the catalogue and the owner's own metrics."""
    return with_own(tuple((metric.key, metric.expression) for metric in _own()))


def own_metrics() -> dict[str, Described]:
    """The owner's own metrics, by key."""
    return {m.key: Described(m.key, m.label, m.label[:12], m.unit, m.decimals, "number") for m in _own()}


def _own() -> list[OwnMetric]:
    """Read once a request; while the database is away, as they were when it was last there."""
    if "own_metrics" not in g:
        held = services()
        with suppress(DatabaseAway):
            held.own_metrics = OWN_METRICS.all(held.engine, owner())
        g.own_metrics = held.own_metrics
    found: list[OwnMetric] = g.own_metrics
    return found


@lru_cache(maxsize=32)
def with_own(formulas: tuple[tuple[str, str], ...]) -> Dictionary:
    """The catalogue and own metrics (key, expression); kept, so that a text is read once."""
    if not formulas:
        return PLAIN
    return Dictionary(PLAIN.daily.extended(dict(formulas)), PLAIN.intraday.extended(dict(formulas)))


def rule_problem(error: RuleError) -> Problem:
    """What is wrong with a text, and where."""
    return Problem(
        type="bad_rule",
        message=error.message,
        where=f"character {error.start + 1}",
        nearest=error.nearest,
    )
