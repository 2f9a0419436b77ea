"""Parsing what looks like Python, in threads."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

Parsed = TypeVar("Parsed")
_TIMES = 20


def parsed(parse: Callable[[], Parsed]) -> Parsed:
    """What a parser makes of a text, asked again where Python 3.11 fails by itself.

    Its compiler counts the depth of all threads in one place (gh-106905): one that parses while another does may be told
    SystemError, whatever the text is. Raises what `parse` raises otherwise, and SystemError where it always does.
    """
    for _ in range(_TIMES):
        try:
            return parse()
        except SystemError:
            continue
    return parse()
