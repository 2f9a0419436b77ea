"""Which screens would answer otherwise if another source were preferred: they are run on the market as it is, and on one that has
that source's values in the place of those that are served."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, NamedTuple

import numpy as np
from sqlalchemy import Engine

from flinch.core.arrays import BoolArray
from flinch.core.rules import RuleError
from flinch.features.data.schemas import OtherwiseJob, OtherwiseReply, ScreenOtherwise
from flinch.feeds.files.sources import TOLD, read_others
from flinch.jobs import Handle, Jobs, Work
from flinch.market import Dictionary, Markets, View, load_frame, opened
from flinch.screening.body import StackBody
from flinch.screening.groups import NoSuchGroup, universe
from flinch.screening.run import run_stack
from flinch.screening.starters import STARTERS
from flinch.store.bulk import replace_rows
from flinch.store.databases import Databases
from flinch.store.engine import make_engine
from flinch.store.jobs import UNDER_WAY, Job
from flinch.store.market.models import MarketBase
from flinch.store.owned.kept import SCREENS
from flinch.store.owned.owners import Whose
from flinch.web import with_own

KIND = "otherwise"
_SHOWN = 40
"""Names of a screen that are told, of those that come and of those that go."""


class _Screen(NamedTuple):
    """A screen of names: its key in addresses, its name, whether somebody saved it, and its rules."""

    key: str
    name: str
    saved: bool
    body: StackBody


def begin(jobs: Jobs, market: str, kind: str, source: str, own: tuple[tuple[str, str], ...], owner: int) -> int:
    """Ask for it beside requests; returns the work's number. Raises TooManyJobs."""
    asked = {"market": market, "kind": kind, "source": source, "own": [list(one) for one in own]}
    return jobs.submit(KIND, asked, owner=owner)


def job_told(jobs: Jobs, job: Job) -> OtherwiseJob:
    """How it stands. Raises what it failed with, and JobCancelled."""
    answer = jobs.answer(job)
    told = None if answer is None else OtherwiseReply.model_validate_json(answer)
    return OtherwiseJob(id=job.id, percent=job.percent, stage=job.stage, over=job.state not in UNDER_WAY, told=told)


def otherwise_work(markets: Markets, owned: Engine) -> Work:
    """What does jobs of this kind."""

    def work(handle: Handle) -> str:
        assert handle.owner is not None
        asked: dict[str, Any] = handle.asked
        market, whose = markets.open(str(asked["market"])), Whose(handle.owner, str(asked["market"]))
        own = tuple((key, expression) for key, expression in asked["own"])
        served = market.holder.current()
        kind, source = str(asked["kind"]), str(asked["source"])
        handle.tell(0.05, "laying the other values in their place")
        with _with_others(markets.databases, market.name, kind, source) as (store, values):
            handle.tell(0.3, "reading the market with them")
            frame = load_frame(store) if values else None
            other = None if frame is None else opened(frame, store)
            told = _compared(served, other, owned, whose, with_own(own), handle.tell)
            return OtherwiseReply(values=values, **told).model_dump_json()

    return work


@contextmanager
def _with_others(databases: Databases, market: str, kind: str, source: str) -> Iterator[tuple[Engine, int]]:
    """A database that shows a market as it is, but for a kind, of which it has what a source says otherwise; and how many values
    those are."""
    table = TOLD[kind][0]
    engine = make_engine(databases.market_url(market))
    try:
        rows = read_others(engine, kind, source)
        with databases.beside("otherwise") as url:
            databases.shown(market, url, [one.name for one in MarketBase.metadata.sorted_tables], table.__tablename__)
            store = make_engine(url)
            try:
                if rows.height:
                    replace_rows(store, table, rows)
                yield store, rows.height
            finally:
                store.dispose()
    finally:
        engine.dispose()


def _compared(
    served: View,
    other: View | None,
    owned: Engine,
    whose: Whose,
    dictionary: Dictionary,
    tell: Callable[[float, str], None],
) -> dict[str, Any]:
    screens, changed, unread = _screens(owned, whose), [], 0
    for place, screen in enumerate(screens):
        tell(0.6 + 0.4 * place / len(screens), f"running {screen.name}")
        try:
            before, after = (
                None if view is None else _survivors(view, owned, whose, dictionary, screen.body)
                for view in (served, other)
            )
        except (RuleError, NoSuchGroup):
            unread += 1
            continue
        if before is None or after is None or (before == after).all():
            continue
        symbols = np.array([name.symbol for name in served.frame.names])
        came, went = symbols[after & ~before].tolist(), symbols[before & ~after].tolist()
        changed.append(
            ScreenOtherwise(
                key=screen.key,
                name=screen.name,
                saved=screen.saved,
                names=int(before.sum()),
                came=came[:_SHOWN],
                went=went[:_SHOWN],
                more=max(0, len(came) - _SHOWN) + max(0, len(went) - _SHOWN),
            )
        )
    return {"screens": changed, "looked_at": len(screens), "unread": unread}


def _screens(owned: Engine, whose: Whose) -> list[_Screen]:
    """Saved screens of names, then the ready ones."""
    saved = [row for row in SCREENS.all(owned, whose) if row.body.get("table", "names") == "names"]
    return [
        *[_Screen(str(row.id), row.name, True, _stack(row.body)) for row in saved],
        *[
            _Screen(f"s-{one.key}", one.name, False, _stack(one.body.model_dump()))
            for one in STARTERS
            if one.body.model_dump().get("table", "names") == "names"
        ],
    ]


def _stack(body: dict[str, Any]) -> StackBody:
    return StackBody(**{field: body[field] for field in StackBody.model_fields if field in body})


def _survivors(view: View, owned: Engine, whose: Whose, dictionary: Dictionary, body: StackBody) -> BoolArray:
    found: BoolArray = run_stack(view, dictionary, body, universe(view, owned, whose, body.universe)).result.survivors
    return found
