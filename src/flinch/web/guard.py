"""What every request is held to before a route sees it, and what every answer says to the browser."""

from __future__ import annotations

import json
import re
from urllib.parse import urlsplit

from flask import Response, request

from flinch.web.problems import Problem, UserError

_POLICY = "; ".join(
    (
        "default-src 'self'",
        "script-src 'self'",
        # Charts position their parts by style attributes.
        "style-src 'self' 'unsafe-inline'",
        "img-src 'self' data: blob:",
        "object-src 'none'",
        "base-uri 'none'",
        "form-action 'self'",
        "frame-ancestors 'none'",
    )
)
HEADERS = {
    "Content-Security-Policy": _POLICY,
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
}
_SURROGATE = re.compile(rb"\\u[dD][89aAbBcCdDeEfF]")
_OWN_HOSTS = ("127.0.0.1", "localhost", "::1")
_OWN_PAGES = ("same-origin", "none")


def add_headers(response: Response) -> Response:
    """Nothing of ours may be framed, sniffed, or run scripts that are not ours."""
    for name, value in HEADERS.items():
        response.headers.setdefault(name, value)
    return response


def refuse_foreign_hosts() -> None:
    """A name that leads here but is not ours is a page elsewhere that pretends to be this machine."""
    try:
        host = urlsplit(f"//{request.headers.get('Host', '')}").hostname
    except ValueError:
        host = None
    if host not in _OWN_HOSTS:
        message = "Flinch is asked under a name that is not its own. Open it at http://127.0.0.1 with its port."
        raise UserError(Problem(type="foreign_host", message=message, where="Host"), 400)


def refuse_other_origins() -> None:
    """Data is given to, and changes are taken from, our own pages only; programs that say nothing of an origin may ask too."""
    if not request.path.startswith("/api/"):
        return
    site, origin = request.headers.get("Sec-Fetch-Site"), request.headers.get("Origin")
    if site is not None and site not in _OWN_PAGES:
        raise _other_site()
    if origin is not None and origin != request.host_url.rstrip("/"):
        raise _other_site()


def _other_site() -> UserError:
    message = "Another site asked for this. Flinch answers its own pages only."
    return UserError(Problem(type="other_site", message=message), 403)


def refuse_unreadable_bodies() -> None:
    """A body that no JSON reader takes, or whose texts cannot be written down, is refused with words."""
    if request.mimetype != "application/json":
        if request.is_json:
            message = "Send JSON as application/json: other kinds of it are not read."
            raise UserError(Problem(type="bad_request", message=message, where="Content-Type"), 415)
        return
    data = request.get_data(cache=True)
    try:
        body = json.loads(data) if data else None
        if _SURROGATE.search(data):
            json.dumps(body, ensure_ascii=False).encode("utf-8")
    except RecursionError:
        raise _unreadable("It is nested too deep.") from None
    except UnicodeError:
        raise _unreadable("A text in it holds half a character (a lone surrogate). Write it anew.") from None
    except ValueError as error:
        if "digits" in str(error):
            raise _unreadable("A number in it has thousands of digits: numbers go up to 1e15.") from None
        raise _unreadable(f"It is no JSON: {error}.") from None


def _unreadable(why: str) -> UserError:
    return UserError(Problem(type="bad_request", message=f"The request cannot be read. {why}", where="body"), 422)
