"""What a command prints: sentences for people, JSON for machines."""

from __future__ import annotations

import json
import sys
from collections.abc import Mapping
from typing import Any

Row = Mapping[str, Any]


class Refused(Exception):
    """A command cannot do what it was asked; the message says why, and what to do."""


def tell(words: str, row: Row, *, as_json: bool) -> None:
    """One thing: a sentence, or an object on a line."""
    print(json.dumps(row, default=str, ensure_ascii=False) if as_json else words)


def complain(words: str) -> None:
    """Why something was refused."""
    print(words, file=sys.stderr)
