"""Addresses of the Screen."""

from urllib.parse import urlencode


def address(*rules: str, **more: str) -> str:
    """The Screen with rules, in order."""
    return "/screen?" + urlencode(({"r": "\n".join(rules)} if rules else {}) | more)
