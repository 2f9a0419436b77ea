"""Changes under a key: what was done once is answered again, not done again (the Idempotency-Key header of the IETF's draft)."""

from __future__ import annotations

import hashlib
import threading
from contextlib import ExitStack, suppress

from flask import Response, g, request

from flinch.errors import FlinchError
from flinch.store.engine import told
from flinch.store.errors import DatabaseAway, DiskFull
from flinch.store.owned.write_keys import Pending, keep_answer, known_answer, under_key
from flinch.web import owner, services
from flinch.web.problems import Problem, UserError

HEADER = "Idempotency-Key"


class ChangeUnderWay(FlinchError):
    """The same change is being done for another request that does not end."""

    status, kind, wait = 503, "busy", 2

    def __init__(self) -> None:
        super().__init__("This change is being done already. Ask again: under the same key it is not done twice.")


_LONGEST_ANSWER = 1 << 20


def answer_again() -> Response | None:
    """The answer of a change that was kept before under the request's key; else the request goes on under its key."""
    key = request.headers.get(HEADER)
    if key is None or request.method in ("GET", "HEAD", "OPTIONS") or not request.path.startswith("/api/"):
        return None
    if not 8 <= len(key) <= 64 or not key.isascii() or not key.isprintable():
        raise UserError(Problem(type="bad_request", message="A key has 8 to 64 letters and digits.", where=HEADER), 422)
    body = hashlib.sha256(request.get_data(cache=True) + request.query_string).hexdigest()[:24]
    where = f"{request.method} {request.path}"[:170] + f" {body}"
    # The same change sent twice at once: the second one waits for the answer of the first.
    g.turn = _turn(owner(), key)
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
            # The change is kept whatever becomes of its answer.
            with suppress(DatabaseAway, DiskFull), told():
                keep_answer(services().owned, pending, data)
    return response


def leave_key(error: BaseException | None = None) -> None:
    """The key ends with the request."""
    open_key = g.pop("key", None)
    if open_key is not None:
        open_key.close()
    turn = g.pop("turn", None)
    if turn is not None:
        turn.close()


_turns: dict[tuple[int, str], tuple[threading.Lock, int]] = {}
_of_turns = threading.Lock()
_TURN_SECONDS = 8.0


def _turn(owner_id: int, key: str) -> ExitStack:
    """The turn of a change under its key; closing what this returns ends it. Raises ChangeUnderWay when it does not come."""
    name = (owner_id, key)
    with _of_turns:
        lock, waiting = _turns.get(name, (threading.Lock(), 0))
        _turns[name] = lock, waiting + 1

    def leave() -> None:
        with _of_turns:
            _, waiting = _turns[name]
            if waiting > 1:
                _turns[name] = lock, waiting - 1
            else:
                del _turns[name]

    stack = ExitStack()
    stack.callback(leave)
    if not lock.acquire(timeout=_TURN_SECONDS):
        stack.close()
        raise ChangeUnderWay
    stack.callback(lock.release)
    return stack
