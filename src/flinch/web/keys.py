"""Changes under a key: what was done once is answered again, not done again (the Idempotency-Key header of the IETF's draft)."""

from __future__ import annotations

from contextlib import ExitStack, suppress

from flask import Response, g, request

from flinch.store.engine import DatabaseAway, told
from flinch.store.owned.write_keys import Pending, keep_answer, known_answer, under_key
from flinch.web import owner, services
from flinch.web.problems import Problem, UserError

HEADER = "Idempotency-Key"
_LONGEST_ANSWER = 1 << 20


def answer_again() -> Response | None:
    """The answer of a change that was kept before under the request's key; else the request goes on under its key."""
    key = request.headers.get(HEADER)
    if key is None or request.method in ("GET", "HEAD", "OPTIONS") or not request.path.startswith("/api/"):
        return None
    if not 8 <= len(key) <= 64 or not key.isascii() or not key.isprintable():
        raise UserError(Problem(type="bad_request", message="A key has 8 to 64 letters and digits.", where=HEADER), 422)
    where = f"{request.method} {request.path}"[:200]
    with told():
        known = known_answer(services().owned, owner(), key)
    if known is None:
        g.pending = Pending(owner(), key, where)
        g.key = ExitStack()
        g.key.enter_context(under_key(g.pending))
        return None
    path, answer = known
    if path != where:
        raise UserError(Problem(type="key_used", message="This key was used for another change.", where=HEADER), 422)
    if answer is None:
        message = "This change was kept already; what was answered then is not known. Look at the page again."
        raise UserError(Problem(type="done_already", message=message, where=HEADER), 409)
    return Response(answer, 200, {"Idempotent-Replayed": "true"}, mimetype="application/json")


def remember_answer(response: Response) -> Response:
    """Keep the answer of a change that was kept under a key."""
    pending = g.get("pending")
    if pending is not None and pending.kept and response.status_code == 200 and response.is_json:
        data = response.get_data(as_text=True)
        if len(data) <= _LONGEST_ANSWER:
            with suppress(DatabaseAway), told():
                keep_answer(services().owned, pending, data)
    return response


def leave_key(error: BaseException | None = None) -> None:
    """The key ends with the request."""
    open_key = g.pop("key", None)
    if open_key is not None:
        open_key.close()
