"""Errors that a request can cause, as they are answered."""

from __future__ import annotations

from typing import Any

from flask import Response
from pydantic import BaseModel, Field

from flinch.errors import FlinchError


class Problem(BaseModel):
    """An error: what happened and what to do, and where."""

    type: str = Field(description="A word for programs")
    message: str = Field(description="A sentence for people that says what to do")
    where: str | None = Field(None, description="The offending place: a rule, a field, a character")
    nearest: list[str] = Field([], description="Listed symbols most like an unknown one")
    version: int | None = Field(
        None, description="The version that is kept now, when a change was made on an older one"
    )


ERRORS: dict[Any, Any] = dict.fromkeys((403, 404, 405, 413, 415, 422, 503), Problem)
"""What any route may answer when it cannot do what is asked."""


class UserError(FlinchError):
    """A problem of one route's own."""

    def __init__(self, problem: Problem, status: int = 422) -> None:
        super().__init__(problem.message)
        self.status, self.kind, self.where, self.nearest = status, problem.type, problem.where, problem.nearest


_LONGEST = 600


def _short(text: str) -> str:
    """A refusal does not repeat all that was sent."""
    return text if len(text) <= _LONGEST else f"{text[: _LONGEST - 1]}…"


def answer(error: FlinchError) -> Response:
    """What an error of the tree is answered with."""
    problem = Problem(
        type=error.kind,
        message=_short(str(error)),
        where=None if error.where is None else _short(str(error.where)),
        nearest=list(error.nearest),
        version=error.version,
    )
    response = reply(problem, error.status)
    if error.wait is not None:
        response.headers["Retry-After"] = str(error.wait)
    return response


def reply(model: BaseModel, status: int = 200) -> Response:
    """JSON of a model; NaN becomes null."""
    return Response(model.model_dump_json(), status, mimetype="application/json")
