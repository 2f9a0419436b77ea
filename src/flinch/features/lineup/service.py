"""A group of names side by side on one volatility axis, against a baseline and against each other."""

from __future__ import annotations

import numpy as np
from sqlalchemy import Engine

from flinch.core.arrays import FloatArray, IntArray
from flinch.core.rules import Node, RuleError
from flinch.core.volatility import return_correlations
from flinch.features.lineup.schemas import (
    MOST_NAMES,
    Axis,
    Callout,
    CorrelationRequest,
    Correlations,
    FundPart,
    Lineup,
    LineupRequest,
    LineupRow,
    Tie,
)
from flinch.market import PLAIN, Dictionary, View
from flinch.screening.columns import Described, describe
from flinch.screening.groups import members
from flinch.store.owned.owners import Whose

_BASELINES = {
    "yesterday": ("lag(({x}), 1)", "the session before"),
    "mean21": ("mean(({x}), 21)", "its mean of 21 sessions"),
    "mean252": ("mean(({x}), 252)", "its mean of 252 sessions"),
    "hv": ("hv21", "historical volatility, 21 sessions"),
    "forecast": ("forecast_vol", "forecast volatility, 21 sessions"),
}
_TIES = 5


def lineup(
    view: View,
    engine: Engine,
    whose: Whose,
    dictionary: Dictionary,
    own: dict[str, Described],
    request: LineupRequest,
) -> Lineup:
    """The names of a group as of a session; raises NoSuchGroup and RuleError."""
    rows = np.flatnonzero(members(view, engine, whose, request.source))[:MOST_NAMES]
    metric = _number(dictionary, request.metric, "metric")
    if request.baseline == "own":
        text, words = request.own, ""
    else:
        pattern, words = _BASELINES[request.baseline]
        text = pattern.format(x=request.metric)
    baseline = _number(dictionary, text, "baseline")
    nodes = {
        "value": metric,
        "baseline": baseline,
        "percentile": _number(dictionary, f"rank_pct(({request.metric}), 252)", "metric"),
        "deviations": _number(dictionary, f"zscore(({request.metric}), 252)", "metric"),
        "x": _number(dictionary, request.x, "x"),
        "y": _number(dictionary, request.y, "y"),
    }
    figures = {key: view.column(node).values[rows] for key, node in nodes.items()}
    with np.errstate(invalid="ignore", divide="ignore"):
        figures["change"] = figures["value"] - figures["baseline"]
        figures["ratio"] = np.where(figures["baseline"] > 0, figures["value"] / figures["baseline"], np.nan)
    axis = _axis(request.metric, own, metric)
    why = [view.reasons(node) for node in (metric, baseline)]
    listed = [
        LineupRow(
            symbol=view.name(row).symbol,
            company=view.name(row).company,
            **{key: float(values[i]) for key, values in figures.items()},
            reason=why[0].get(int(row)) or why[1].get(int(row)),
        )
        for i, row in enumerate(rows)
    ]
    kind, _, detail = request.source.partition(":")
    described = _axis(text, own, baseline)
    return Lineup(
        source=request.source,
        session=view.today,
        newest=view.is_newest,
        metric=axis,
        baseline=described.model_copy(update={"label": words}) if words else described,
        x=_axis(request.x, own, nodes["x"]),
        y=_axis(request.y, own, nodes["y"]),
        rows=listed,
        callouts=_callouts(view, rows, figures, axis, words or described.label),
        fund=_fund(view, view.row(detail)) if kind == "members" else None,
    )


def _number(dictionary: Dictionary, text: str, field: str) -> Node:
    """A text that must be a number; the error says which field it stands in."""
    try:
        node = dictionary.read(text).node
    except RuleError as error:
        raise RuleError(f"{field}: {error.message}", error.start, error.end, error.nearest) from None
    if node.kind != "number":
        raise RuleError(f"{field}: this is a {node.kind}, not a number. Choose a number to line up.", 0, len(text))
    return node


def _axis(text: str, own: dict[str, Described], node: Node) -> Axis:
    described = describe(text.strip(), own, node.kind)
    return Axis(expression=text, label=described.label, unit=described.unit, decimals=described.decimals)


def _callouts(view: View, rows: IntArray, figures: dict[str, FloatArray], axis: Axis, baseline: str) -> list[Callout]:
    """What stands out, each with its number."""
    out: list[Callout] = []
    unit = f" {axis.unit}" if axis.unit in ("%", "σ", "×") else ""
    points = " points" if axis.unit == "%" else unit
    n = axis.decimals

    def pick(kind: str, key: str, highest: bool, tell: str) -> None:
        values = figures[key] if highest else -figures[key]
        if np.isfinite(values).sum() < 2:
            return
        i = int(np.nanargmax(values))
        numbers = {name: float(column[i]) for name, column in figures.items()}
        words = tell.format(**numbers, against=baseline).replace("-", "\u2212")
        out.append(Callout(kind=kind, symbol=view.name(int(rows[i])).symbol, words=words))

    pick("rose most", "change", True, f"{{change:+.{n}f}}{points} to {{value:.{n}f}}{unit} against {{against}}")
    pick("fell most", "change", False, f"{{change:+.{n}f}}{points} to {{value:.{n}f}}{unit} against {{against}}")
    pick("highest", "value", True, f"{{value:.{n}f}}{unit}")
    pick("lowest", "value", False, f"{{value:.{n}f}}{unit}")
    pick("furthest above its own past", "deviations", True, "{deviations:+.1f} deviations from its year’s mean, above "
         "{percentile:.0f} % of its year")  # fmt: skip
    pick("furthest below its own past", "deviations", False, "{deviations:+.1f} deviations from its year’s mean, above "
         "{percentile:.0f} % of its year")  # fmt: skip
    return out


def _fund(view: View, row: int) -> FundPart:
    def over_time(key: str) -> FloatArray:
        return view.history(PLAIN.read(key).node, row)

    implied, realised = over_time("implied_correlation"), over_time("realised_correlation")
    percentile = float(view.column(PLAIN.read("rank_pct(implied_correlation, 252)").node).values[row])
    return FundPart(
        symbol=view.name(row).symbol,
        sessions=view.sessions,
        implied_correlation=implied.tolist(),
        realised_correlation=realised.tolist(),
        iv30=over_time("iv30").tolist(),
        members_iv30=over_time("members_iv30").tolist(),
        percentile=percentile,
        sentence=_fund_words(view.name(row).symbol, float(implied[view.last]), float(realised[view.last]), percentile),
    )


def _fund_words(symbol: str, implied: float, realised: float, percentile: float) -> str:
    if np.isnan(implied):
        return f"Too few members of {symbol} have an implied volatility to say how alike they are priced to move."
    text = f"{symbol} is priced as if its members moved together by {implied:.2f}"
    if np.isfinite(realised):
        text += f"; over 63 sessions they did by {realised:.2f}"
    if np.isfinite(percentile):
        text += f". That is above {percentile:.0f} % of its year"
    return text + "."


def correlations(view: View, request: CorrelationRequest) -> Correlations:
    """How alike names moved over some sessions; raises UnknownName."""
    rows = [view.row(symbol) for symbol in dict.fromkeys(request.symbols)]
    symbols = [view.name(row).symbol for row in rows]
    matrix = return_correlations(view.frame.close[rows, max(0, view.last - request.sessions) :])
    first, second = np.triu_indices(len(rows), 1)
    values = matrix[first, second]
    known = np.flatnonzero(np.isfinite(values))
    order = known[np.argsort(-values[known], kind="stable")]

    def ties(places: IntArray) -> list[Tie]:
        return [Tie(first=symbols[first[i]], second=symbols[second[i]], correlation=float(values[i])) for i in places]

    strongest, weakest = ties(order[:_TIES]), ties(order[::-1][:_TIES])
    average = float(values[known].mean()) if known.size else None
    if average is None:
        sentence = "No two of these names share 42 sessions."
    else:
        most, least = strongest[0], weakest[0]
        sentence = (
            f"On average {average:.2f}. Most alike: {most.first} and {most.second}, {most.correlation:.2f}. "
            f"Least alike: {least.first} and {least.second}, {least.correlation:.2f}."
        ).replace("-", "\u2212")
    return Correlations(
        symbols=symbols, sessions=request.sessions, matrix=matrix.tolist(), average=average, strongest=strongest,
        weakest=weakest, sentence=sentence,
    )  # fmt: skip
