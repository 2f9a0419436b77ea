"""Errors that a request can cause, as they are answered."""

from __future__ import annotations

from flask import Response
from pydantic import BaseModel, Field


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
