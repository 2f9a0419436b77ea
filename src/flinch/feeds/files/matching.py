"""Which kind a file is of, and which of its columns is which."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path

from flinch.errors import FlinchError
from flinch.feeds.files.kinds import KINDS, Column, Kind


class CannotMatch(FlinchError):
    """What a column or a file is cannot be told; the message says what to say."""

    status, kind = 422, "cannot_match"

    def __init__(self, message: str, where: str | None = None) -> None:
        super().__init__(message)
        self.where = where


def plain_word(text: str) -> str:
    """A column's name without what differs between suppliers: capitals, spaces, signs."""
    spaced = re.sub(r"(?<=[a-z])(?=[A-Z])", "_", text)
    return re.sub(r"[^a-z0-9]+", "_", spaced.lower()).strip("_")


def match_columns(kind: Kind, theirs: Sequence[str], said: Mapping[str, str] | None = None) -> dict[str, str]:
    """Our columns of a kind, each with the file's that it is; `said` are those that somebody told, theirs to ours, or to nothing
    for one that is left out.

    Our own names win over what suppliers call a column, and what is told over both. Raises CannotMatch for a name that is not
    there.
    """
    found: dict[str, str] = {}
    for their, our in (said or {}).items():
        if their not in theirs:
            raise CannotMatch(f"There is no column {their[:40]!r}; the file has {', '.join(theirs)[:300]}.", their[:80])
        if our and kind.column(our) is None:
            names = ", ".join(column.name for column in kind.columns)
            raise CannotMatch(f"{kind.name} have no column {our[:40]!r}; theirs are {names}.", our[:80])
        if our in found:
            raise CannotMatch(
                f"{their[:40]!r} and {found[our][:40]!r} cannot both be {our}: leave one out.", their[:80]
            )
        if our:
            found[our] = their
    words = {plain_word(their): their for their in theirs if their not in (said or {})}
    for ours in (
        [(column.name, (column.name,)) for column in kind.columns],
        [(c.name, c.called) for c in kind.columns],
    ):
        for name, calls in ours:
            word = next((word for word in calls if word in words), None)
            if name not in found and word is not None:
                found[name] = words.pop(word)
    return found


def lacking(kind: Kind, matched: Mapping[str, str]) -> list[str]:
    """Columns that a kind needs and a file has not; a contract stands for its three."""
    lacks = [column.name for column in kind.columns if _must(column) and column.name not in matched]
    if kind.column("contract") is not None:
        three = [name for name in ("expiration", "strike", "right") if name not in matched]
        lacks = [name for name in lacks if name not in ("expiration", "strike", "right")]
        if "contract" not in matched:
            lacks += three
    return lacks


def _must(column: Column) -> bool:
    return column.needed or column.key


def named_kind(path: Path) -> str | None:
    """The kind that a file's name begins with, chains-2026-09-08.parquet for instance."""
    word = plain_word(path.name.split(".")[0])
    return next((kind for kind in KINDS if word == kind or word.startswith(f"{kind}_")), None)


def guess_kind(path: Path, theirs: Sequence[str]) -> str:
    """The kind of a file: by its name (chains-2026-09-08.parquet), else that whose columns it has. Raises CannotMatch."""
    named = named_kind(path)
    if named:
        return named
    fits = []
    for kind in KINDS.values():
        matched = match_columns(kind, theirs)
        # Keys alone tell nothing.
        if not lacking(kind, matched) and any(column.name in matched for column in kind.columns if not column.key):
            fits.append((len(matched), kind.name))
    if not fits:
        kinds = ", ".join(KINDS)
        raise CannotMatch(
            f"What {path.name} holds cannot be told by its name or columns: say one of {kinds}.", path.name[:80]
        )
    most = max(count for count, _ in fits)
    best = [name for count, name in fits if count == most]
    if len(best) > 1:
        raise CannotMatch(f"{path.name} may hold {' or '.join(best)}: say which.", path.name[:80])
    return best[0]
