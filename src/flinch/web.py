"""What all routes share: the services of the running application, replies, and errors a user can cause."""

from __future__ import annotations

from dataclasses import dataclass

from flask import Response, current_app
from pydantic import BaseModel, Field
from sqlalchemy import Engine

from flinch.market import Market, MarketHolder


@dataclass
class Services:
    """What a route may reach."""

    engine: Engine
    holder: MarketHolder


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


class UserError(Exception):
    """An error that the request caused."""

    def __init__(self, problem: Problem, status: int = 422) -> None:
        super().__init__(problem.message)
        self.problem = problem
        self.status = status


def reply(model: BaseModel, status: int = 200) -> Response:
    """JSON of a model; NaN becomes null."""
    return Response(model.model_dump_json(), status, mimetype="application/json")
