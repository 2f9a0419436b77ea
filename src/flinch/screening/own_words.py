"""What a user's texts may use beside the catalogue: own metrics and lines."""

from __future__ import annotations

from functools import lru_cache

from sqlalchemy import Engine

from flinch.market import PLAIN_TABLES, Dictionary, Table
from flinch.market.own_lines import LineAt, line_series
from flinch.store.owned.kept import OWN_LINES, OWN_METRICS
from flinch.store.owned.owners import Whose


@lru_cache(maxsize=32)
def with_own(
    formulas: tuple[tuple[str, str], ...], table: Table = "names", lines: tuple[LineAt, ...] = ()
) -> Dictionary:
    """The catalogue, own metrics (key, expression) and lines; kept, so that a text is read once."""
    plain = PLAIN_TABLES[table]
    return plain.extended(dict(formulas), line_series(lines)) if formulas or lines else plain


def words_of(owned: Engine, whose: Whose, table: Table = "names") -> Dictionary:
    """The catalogue, and what an owner has of metrics and lines now."""
    formulas = tuple((metric.key, metric.expression) for metric in OWN_METRICS.all(owned, whose))
    lines = tuple(LineAt(line.symbol, line.price, line.since) for line in OWN_LINES.all(owned, whose))
    return with_own(formulas, table, lines)
