"""What all routes share: the services of the running application, replies, and errors a user can cause."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass, field
from functools import lru_cache

from flask import Response, current_app, g
from pydantic import BaseModel, Field
from sqlalchemy import Engine

from flinch.core.rules import RuleError
from flinch.market import PLAIN, Dictionary, Market, MarketHolder
from flinch.screening.columns import Described
from flinch.store.engine import DatabaseAway
from flinch.store.kept import OWN_METRICS
from flinch.store.models import OwnMetric
from flinch.store.tray import local_owner


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


class Problem(BaseModel):
    """An error: what happened and what to do, and where."""

    type: str = Field(description="A word for programs")
    message: str = Field(description="A sentence for people that says what to do")
    where: str | None = Field(None, description="The offending place: a rule, a field, a character")
    nearest: list[str] = Field([], description="Listed symbols most like an unknown one")


class Done(BaseModel):
    """It was done."""

    done: bool = True


class UserError(Exception):
    """An error that the request caused."""

    def __init__(self, problem: Problem, status: int = 422) -> None:
        super().__init__(problem.message)
        self.problem = problem
        self.status = status


def reply(model: BaseModel, status: int = 200) -> Response:
    """JSON of a model; NaN becomes null."""
    return Response(model.model_dump_json(), status, mimetype="application/json")


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
