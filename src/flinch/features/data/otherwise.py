"""Which screens would answer otherwise if another source were preferred: they are run on the market as it is, and on one that has
that source's values in the place of those that are served."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, NamedTuple

import numpy as np
import polars as pl
from sqlalchemy import Engine

from flinch.core.rules import RuleError
from flinch.features.data.schemas import OtherwiseJob, OtherwiseReply, ScreenOtherwise
from flinch.feeds.files.sources import TOLD, read_others
from flinch.jobs import Handle, Jobs, Work
from flinch.market import Markets, View, load_frame, opened
from flinch.screening.body import StackBody
from flinch.screening.groups import NoSuchGroup, universe
from flinch.screening.own_words import with_own
from flinch.screening.run import run_stack
from flinch.screening.starters import STARTERS
from flinch.store.bulk import replace_rows
from flinch.store.databases import Databases
from flinch.store.engine import make_engine
from flinch.store.jobs import UNDER_WAY, Job
from flinch.store.market.models import MarketBase
from flinch.store.market.writing import Busy
from flinch.store.owned.kept import SCREENS
from flinch.store.owned.owners import Whose

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
        # The engine of pages gives up after seconds; this may take longer.
        engine = make_engine(markets.databases.market_url(market.name))
        rows = read_others(engine, kind, source)
        engine.dispose()
        if not rows.height:
            return OtherwiseReply(values=0, looked_at=0, unread=0, screens=[]).model_dump_json()
        handle.tell(0.05, "laying the other values in their place")
        with _with_others(markets.databases, market.name, TOLD[kind][0], rows) as store:
            handle.tell(0.3, "reading the market with them")
            frame = load_frame(store)
            if frame is None:
                raise Busy

            def survivors(view: View, body: StackBody) -> list[str]:
                start = universe(view, owned, whose, body.universe)
                left = run_stack(view, with_own(own), body, start).result.survivors
                return [view.name(row).symbol for row in np.flatnonzero(left).tolist()]

            told = _compared(served, opened(frame, store), _screens(owned, whose), survivors, handle.tell)
            return told.model_copy(update={"values": rows.height}).model_dump_json()

    return work


@contextmanager
def _with_others(databases: Databases, market: str, table: type[MarketBase], rows: pl.DataFrame) -> Iterator[Engine]:
    """A database that shows a market as it is, but for a table, which has some rows in the place of its own."""
    with databases.beside("otherwise") as url:
        databases.shown(market, url, [one.name for one in MarketBase.metadata.sorted_tables], table.__tablename__)
        store = make_engine(url)
        try:
            replace_rows(store, table, rows)
            yield store
        finally:
            store.dispose()


def _compared(
    served: View,
    other: View,
    screens: list[_Screen],
    survivors: Callable[[View, StackBody], list[str]],
    tell: Callable[[float, str], None],
) -> OtherwiseReply:
    changed, unread = [], 0
    for place, screen in enumerate(screens):
        tell(0.6 + 0.4 * place / len(screens), f"running {screen.name}")
        try:
            before, after = (survivors(view, screen.body) for view in (served, other))
        except (RuleError, NoSuchGroup):
            unread += 1
            continue
        came, went = sorted(set(after) - set(before)), sorted(set(before) - set(after))
        if came or went:
            changed.append(
                ScreenOtherwise(
                    key=screen.key,
                    name=screen.name,
                    saved=screen.saved,
                    names=len(before),
                    came=came[:_SHOWN],
                    went=went[:_SHOWN],
                    more=max(0, len(came) - _SHOWN) + max(0, len(went) - _SHOWN),
                )
            )
    return OtherwiseReply(values=0, looked_at=len(screens), unread=unread, screens=changed)


def _screens(owned: Engine, whose: Whose) -> list[_Screen]:
    """Saved screens of names, then the ready ones."""
    saved = [(str(row.id), row.name, True, row.body) for row in SCREENS.all(owned, whose)]
    ready = [(f"s-{one.key}", one.name, False, one.body.model_dump()) for one in STARTERS]
    return [
        _Screen(key, name, own, StackBody.within(body))
        for key, name, own, body in (*saved, *ready)
        if body.get("table", "names") == "names"
    ]
