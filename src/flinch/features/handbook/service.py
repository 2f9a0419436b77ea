"""The catalogue as it is published, and the user's own entries in it."""

from __future__ import annotations

import keyword
from collections.abc import Iterable

from flinch.core.rules import (
    FUNCTIONS,
    GROUPS,
    METRICS,
    STRUCTURE_GROUPS,
    STRUCTURE_METRICS,
    TICKET_GROUPS,
    TICKETS,
    Metric,
    Node,
    RuleError,
    Vocabulary,
    intraday_vocabulary,
    series_keys,
    structure_vocabulary,
    ticket_vocabulary,
)
from flinch.core.rules.nodes import WHOLE_HISTORY
from flinch.features.handbook.schemas import (
    CheckReply,
    CheckRequest,
    FunctionEntry,
    Handbook,
    MetricEntry,
    OwnMetric,
    OwnMetricDraft,
)
from flinch.market import Dictionary
from flinch.screening.own_words import with_own
from flinch.store.owned.models import OwnMetric as Row
from flinch.web import Problem, UserError

OWN_GROUP = "your own"


def handbook(dictionary: Dictionary, own: Iterable[Row]) -> Handbook:
    """Every metric, own ones last, what tickets and structures have beside them, and every function."""
    intraday = set(intraday_vocabulary().names())
    entries = [_entry(metric, dictionary.daily, metric.key in intraday) for metric in METRICS.values()]
    entries += [_own_entry(dictionary, row) for row in own]
    functions = [
        FunctionEntry(name=f.name, group=f.group, signature=f.signature, definition=f.definition, example=f.example)
        for f in FUNCTIONS.values()
    ]
    return Handbook(
        groups=[*GROUPS, OWN_GROUP],
        metrics=entries,
        ticket_groups=list(TICKET_GROUPS),
        tickets=[_entry(metric, ticket_vocabulary(), False) for metric in TICKETS.values()],
        structure_groups=list(STRUCTURE_GROUPS),
        structures=[_entry(metric, structure_vocabulary(), False) for metric in STRUCTURE_METRICS.values()],
        functions=functions,
    )


def _entry(metric: Metric, vocabulary: Vocabulary, intraday: bool) -> MetricEntry:
    node = vocabulary.read(metric.key).node
    needs = _needs(node)
    things = STRUCTURE_METRICS if vocabulary is structure_vocabulary() else TICKETS
    sources = list(dict.fromkeys((things if key in vocabulary.momentary else METRICS)[key].source for key in needs))
    if metric.source and metric.source not in sources:
        sources.append(metric.source)
    return MetricEntry(
        key=metric.key,
        label=metric.label,
        short=metric.short,
        unit=metric.unit,
        group=metric.group,
        definition=metric.definition,
        formula=metric.formula,
        source="; ".join(sources),
        scale=metric.scale,
        decimals=metric.decimals,
        kind=metric.kind,
        needs=needs,
        sessions=_sessions(node),
        intraday=intraday,
        own=None,
    )


def _own_entry(dictionary: Dictionary, row: Row) -> MetricEntry:
    try:
        node = dictionary.daily.read(row.key).node
        needs, sessions = _needs(node), _sessions(node)
    except RuleError:
        needs, sessions = [], None
    return MetricEntry(
        key=row.key,
        label=row.label,
        short=row.label[:12],
        unit=row.unit,
        group=OWN_GROUP,
        definition="A metric of your own.",
        formula=row.expression,
        source="; ".join(dict.fromkeys(METRICS[key].source for key in needs)),
        scale="linear",
        decimals=row.decimals,
        kind="number",
        needs=needs,
        sessions=sessions,
        intraday=False,
        own=row.id,
    )


def _needs(node: Node) -> list[str]:
    """Read metrics that an expression is made of; a series of one's own is called by the metric that it stands for."""
    return sorted({key.partition("@")[0] for key in series_keys(node)})


def _sessions(node: Node) -> int | None:
    return None if node.reach >= WHOLE_HISTORY else node.reach + 1


def check(dictionary: Dictionary, request: CheckRequest) -> CheckReply:
    """Read a text and say what it is, or what is wrong with it."""
    try:
        node = dictionary.read(request.text, request.bars).node
    except RuleError as error:
        return CheckReply(
            kind=None, sessions=None, message=error.message, start=error.start, end=error.end, nearest=error.nearest
        )
    return CheckReply(kind=node.kind, sessions=_sessions(node), message=None, start=0, end=0, nearest=[])


def require_sound(draft: OwnMetricDraft, own: list[Row], id: int | None) -> None:
    """Refuse a metric whose name or expression will not do, or that another own metric could then not do without."""
    key = draft.key

    def refuse(message: str, where: str, nearest: list[str] | None = None) -> UserError:
        return UserError(Problem(type="bad_metric", message=message, where=where, nearest=nearest or []))

    if not key.isidentifier() or not key.isascii() or key != key.lower() or keyword.iskeyword(key):
        raise refuse("A name has small letters, digits and _, and begins with a letter: like my_ratio.", "key")
    if key in METRICS or key in TICKETS or key in STRUCTURE_METRICS or key in FUNCTIONS:
        raise refuse(f"{key} is in the catalogue already. Choose another name.", "key")
    others = {row.key: row.expression for row in own if row.id != id}
    renamed = next((row.key for row in own if row.id == id and row.key != key), None)
    words = with_own(tuple((others | {key: draft.expression}).items()))
    try:
        node = words.daily.metric(key)
    except RuleError as error:
        raise refuse(error.message, f"expression, character {error.start + 1}", error.nearest) from None
    if node is None or node.kind != "number":
        raise refuse("An own metric is a number. if_else(condition, 1, 0) makes one of a condition.", "expression")
    for other in others:
        try:
            words.daily.read(other)
        except RuleError as error:
            about = f" It is called {renamed} there." if renamed and renamed in others[other] else ""
            raise refuse(f"{other} could then not be computed: {error.message}{about}", "expression") from None


def as_reply(row: Row, dictionary: Dictionary) -> OwnMetric:
    """An own metric, with what is wrong with it by now."""
    problem = None
    try:
        dictionary.daily.read(row.key)
    except RuleError as error:
        problem = error.message
    return OwnMetric(
        id=row.id,
        version=row.version,
        key=row.key,
        label=row.label,
        unit=row.unit,
        expression=row.expression,
        decimals=row.decimals,
        problem=problem,
    )
