"""Why a value is missing, in words, for many names at once."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from flinch.core.arrays import BoolArray, IntArray
from flinch.core.rules.evaluate import Panel, evaluate
from flinch.core.rules.functions import FUNCTIONS, Truth
from flinch.core.rules.nodes import WHOLE_HISTORY, Node

_STANDINGS = ("rank_pct", "range_pct")
_OWN_REASONS = {
    "/": "it would be divided by zero",
    "positive": "not above zero",
    "sqrt": "the root of a number below zero",
    "log": "the logarithm of zero or less",
    "gap_below": "no gap is open below",
    "gap_above": "no gap is open above",
    "rsi": "no change in the window",
}


def explain(
    node: Node, panel: Panel, session: int, rows: IntArray, listed_from: IntArray, why: Mapping[str, Mapping[str, str]]
) -> dict[int, str]:
    """Say why an expression has no value.

    Parameters
    ----------
    node
        The expression.
    panel
        The market.
    session
        Index of the session asked for.
    rows
        Names without a value there, shape (n,).
    listed_from
        First session of every name, shape (names,).
    why
        For each series that is read: the reason by kind of name, and "" for all others.

    Returns
    -------
    A sentence without a full stop for each of `rows`: that of the first part that is missing.
    """
    if not rows.size:
        return {}
    kinds = panel.texts.get("kind", np.full(panel.names, ""))
    out: dict[int, str] = {}
    _Why(panel, listed_from, why, kinds).ask(node, session, rows, out)
    return out


class _Why:
    def __init__(
        self, panel: Panel, listed_from: IntArray, why: Mapping[str, Mapping[str, str]], kinds: np.ndarray
    ) -> None:
        self.panel = panel
        self.listed_from = listed_from
        self.why = why
        self.kinds = kinds

    def known(self, node: Node, first: int, end: int, rows: IntArray) -> BoolArray:
        """Whether a part has a value in the sessions from `first` up to `end`, shape (rows, sessions)."""
        value = evaluate([node], self.panel.only(rows), first, end)[0]
        if isinstance(value, Truth):
            return value.yes | value.no
        if node.kind == "text":
            return np.asarray(value != "", dtype=bool)[:, None]
        known: BoolArray = np.isfinite(np.asarray(value, np.float64))
        return known

    def ask(self, node: Node, session: int, rows: IntArray, out: dict[int, str]) -> None:
        """Answer for all `rows`, whose value of `node` at `session` is missing."""
        if node.op == "series":
            # Somebody's own series is called by the metric that it stands for.
            reasons = self.why.get(str(node.settings[0]).partition("@")[0], {})
            for row in rows:
                if self.listed_from[row] > session:
                    out[int(row)] = "not listed yet"
                else:
                    out[int(row)] = reasons.get(str(self.kinds[row])) or reasons.get("") or "no value in this session"
            return
        for child in node.children:
            if not rows.size:
                return
            lost = ~self.known(child, session, session + 1, rows)[:, -1]
            self.ask(child, session, rows[lost], out)
            rows = rows[~lost]
        if rows.size:
            self._own(node, session, rows, out)

    def _own(self, node: Node, session: int, rows: IntArray, out: dict[int, str]) -> None:
        """All parts have a value in this session: it is an earlier one, or the arithmetic."""
        function = FUNCTIONS.get(node.op)
        reach = function.reach(*node.settings) if function else 0
        if not reach:
            reason = _OWN_REASONS.get(node.op, "there is no value here")
            out.update({int(row): reason for row in rows})
            return
        whole = reach >= WHOLE_HISTORY
        first = max(0, session - reach)
        counts = np.min([self.known(c, first, session + 1, rows).sum(axis=1) for c in node.children], axis=0)
        needed = reach + 1
        for row, seen in zip(rows, counts, strict=True):
            since = session - max(int(self.listed_from[row]), 0) + 1
            if node.op in _STANDINGS:
                least = min(60, int(node.settings[0]))
                text = f"{seen} sessions observed, {least} are needed" if seen < least else "all its values are equal"
            elif node.op == "sessions_since":
                text = "it has not happened within the history"
            elif whole:
                text = "the history since the listing, or since a missing session, is too short"
            elif since < needed:
                text = f"{since} sessions since the listing, {needed} are needed" if self.listed_from[row] > 0 else (
                    f"the history begins {since} sessions ago, {needed} are needed"
                )  # fmt: skip
            elif seen < needed:
                gone = needed - int(seen)
                text = f"{'one' if gone == 1 else gone} of the last {needed} sessions {'is' if gone == 1 else 'are'} missing"
            else:
                text = _OWN_REASONS.get(node.op, "there is no value here")
            out[int(row)] = text
