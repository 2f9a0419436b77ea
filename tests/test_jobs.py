"""Long work: told of while it runs, stopped when somebody says so, taken up again after a restart, and nobody else's business."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor

import pytest
from sqlalchemy import Engine, delete, update
from tests.waiting import PATIENCE, comes, until

from flinch.core.interrupt import TooCostly, checkpoint, spend
from flinch.errors import FlinchError
from flinch.jobs import (
    Handle,
    JobCancelled,
    JobFailed,
    Jobs,
    NoSuchJob,
    TooManyJobs,
    Unexpected,
    told_as_job,
)
from flinch.store import jobs as rows
from flinch.store.engine import transaction
from flinch.store.errors import DatabaseAway
from flinch.store.jobs import JobTable
from flinch.store.market.models import MarketJob
from flinch.store.owned.models import OwnedJob
from flinch.store.owned.owners import owner_called


@pytest.fixture
def me(owned: Engine) -> int:
    return owner_called(owned, "somebody with jobs")


@pytest.fixture
def table(owned: Engine) -> Iterator[JobTable]:
    yield JobTable(owned, OwnedJob)
    with transaction(owned) as session:
        session.execute(delete(OwnedJob))


class Gate:
    """Work that waits until it is let through, and asks now and then whether it should go on."""

    def __init__(self) -> None:
        self.open, self.began = threading.Event(), threading.Semaphore(0)
        self.inside = self.most = 0

    def work(self, handle: Handle) -> str:
        handle.tell(0.25, "at the gate")
        self.inside += 1
        self.most = max(self.most, self.inside)
        self.began.release()
        try:
            while not self.open.wait(0.01):
                checkpoint()
        finally:
            self.inside -= 1
        return f"{handle.asked['what']} for {handle.owner}"


@pytest.fixture
def gate() -> Iterator[Gate]:
    made = Gate()
    yield made
    made.open.set()


@pytest.fixture
def running(table: JobTable, gate: Gate) -> Iterator[Callable[[], Jobs]]:
    made: list[Jobs] = []

    def start() -> Jobs:
        made.append(Jobs(table, {"gate": gate.work}, ThreadPoolExecutor(2)))
        return made[-1]

    yield start
    gate.open.set()
    for jobs in made:
        jobs.close()


def test_a_job_tells_how_far_it_is_and_then_what_came_of_it(running, gate: Gate, table: JobTable, me: int):
    jobs = running()
    number = jobs.submit("gate", {"what": "bread"}, owner=me)
    assert comes(gate.began)
    job = jobs.look(number, me)
    assert (job.state, job.percent, job.stage) == ("running", 25, "at the gate")
    assert jobs.answer(job) is None
    told = table.one(number)
    assert told is not None
    assert (told.state, told.percent, told.stage) == ("running", 25, "at the gate"), "a row says so too"
    gate.open.set()
    assert jobs.answer(jobs.look(number, me, wait=PATIENCE)) == f"bread for {me}"
    other = Jobs(table, {})
    assert other.answer(other.look(number, me)) == f"bread for {me}", "after a restart the row still answers"


def test_what_is_cancelled_stops_whether_it_runs_or_waits(running, gate: Gate, table: JobTable, me: int):
    jobs = running()
    numbers = [jobs.submit("gate", {"what": str(i)}, owner=me) for i in range(3)]
    assert comes(gate.began)
    assert comes(gate.began)
    for number in (numbers[2], numbers[0]):
        jobs.cancel(number, me)
        job = jobs.look(number, me, wait=PATIENCE)
        assert job.state == "cancelled"
        with pytest.raises(JobCancelled):
            jobs.answer(job)
        row = table.one(number)
        assert row is not None
        assert row.state == "cancelled"
    gate.open.set()
    assert jobs.answer(jobs.look(numbers[1], me, wait=PATIENCE)) == f"1 for {me}", "the other one goes on"
    jobs.cancel(numbers[1], me)
    assert jobs.look(numbers[1], me).state == "done", "what is over stays as it is"


def test_the_same_asked_for_twice_is_one_job_until_it_is_over(running, gate: Gate, me: int, owned: Engine):
    jobs = running()
    first = jobs.submit("gate", {"what": "bread"}, owner=me)
    assert jobs.submit("gate", {"what": "bread"}, owner=me) == first
    assert jobs.submit("gate", {"what": "salt"}, owner=me) != first
    somebody = owner_called(owned, "somebody else with jobs")
    assert jobs.submit("gate", {"what": "bread"}, owner=somebody) != first
    gate.open.set()
    jobs.look(first, me, wait=PATIENCE)
    assert jobs.submit("gate", {"what": "bread"}, owner=me) != first


def test_one_owners_job_is_nobody_elses(running, gate: Gate, table: JobTable, me: int, owned: Engine):
    jobs = running()
    number = jobs.submit("gate", {"what": "bread"}, owner=me)
    somebody = owner_called(owned, "somebody else with jobs")
    for ask in (
        lambda: jobs.look(number, somebody),
        lambda: jobs.cancel(number, somebody),
        lambda: jobs.look(9**9, me),
    ):
        with pytest.raises(NoSuchJob):
            ask()
    gate.open.set()
    assert jobs.look(number, me, wait=PATIENCE).state == "done"


def test_a_failure_is_told_as_the_request_would_have_been(table: JobTable, me: int):
    class Odd(FlinchError):
        status, kind, where = 418, "odd", "rules"

        def __init__(self) -> None:
            super().__init__("This is odd. Make it even.")
            self.nearest = ["even"]

    def refuse(handle: Handle) -> str:
        raise Odd

    def costly(handle: Handle) -> str:
        spend(1e6)
        return ""

    def broken(handle: Handle) -> str:
        raise ZeroDivisionError

    jobs = Jobs(table, {"refuse": refuse, "costly": costly, "broken": broken})
    found = {}
    for kind in ("refuse", "costly", "broken"):
        number = jobs.submit(kind, {}, owner=me)
        for asked in (jobs, Jobs(table, {})):
            with pytest.raises(JobFailed) as caught:
                asked.answer(jobs.look(number, me, wait=PATIENCE))
            found[kind] = caught.value
    jobs.close()
    odd = found["refuse"]
    assert (odd.status, odd.kind, odd.where, odd.nearest) == (418, "odd", "rules", ["even"])
    assert str(odd) == "This is odd. Make it even."
    assert found["costly"].kind == TooCostly.kind, "a job has a budget as a request has"
    assert (found["broken"].status, str(found["broken"])) == (500, str(Unexpected()))


def test_no_more_wait_than_may(running, gate: Gate, me: int):
    jobs = running()
    for i in range(20):
        jobs.submit("gate", {"what": i}, owner=me)
    with pytest.raises(TooManyJobs):
        jobs.submit("gate", {"what": "one more"}, owner=me)


def test_who_finds_no_room_is_refused_before_anything_is_read(running, gate: Gate, me: int):
    jobs = running()

    def asks_for(what: int) -> Callable[[dict], bool]:
        return lambda asked: asked["what"] == what

    for i in range(19):
        jobs.submit("gate", {"what": i}, owner=me)
    jobs.require_room(me, asks_for(99))
    jobs.submit("gate", {"what": 19}, owner=me)
    with pytest.raises(TooManyJobs):
        jobs.require_room(me, asks_for(99))
    jobs.require_room(me, asks_for(7))  # it is under way
    with pytest.raises(TooManyJobs):
        jobs.require_room(None, asks_for(7))  # of somebody else


def test_work_lies_behind_requests(table: JobTable, me: int):
    """The thread of jobs, and those that it begins, yield to others, which are as they were."""

    def mine() -> int:
        return os.getpriority(os.PRIO_PROCESS, threading.get_native_id())

    told: list[int] = []

    def work(_: Handle) -> str:
        helper = threading.Thread(target=lambda: told.append(mine()))
        helper.start()
        helper.join()
        told.append(mine())
        return "{}"

    before = mine()
    jobs = Jobs(table, {"tell": work})
    number = jobs.submit("tell", {}, owner=me)
    until(lambda: jobs.look(number, me, 1.0).state == "done")
    jobs.close()
    assert told == [max(before, 2)] * 2
    assert mine() == before


def test_what_a_process_leaves_under_way_the_next_one_takes_up(running, gate: Gate, table: JobTable, me: int):
    first = running()
    number = first.submit("gate", {"what": "bread"}, owner=me)
    assert comes(gate.began)
    waiting = table.begin("gate", {"what": "salt"}, owner=me)
    unknown = table.begin("of an older Flinch", {}, owner=me)
    first.close()
    left = table.one(number)
    assert left is not None
    assert left.state == "running", "ending is not cancelling"
    second = running()
    second.take_up()
    gate.open.set()
    assert second.answer(second.look(number, me, wait=PATIENCE)) == f"bread for {me}"
    assert second.answer(second.look(waiting, me, wait=PATIENCE)) == f"salt for {me}"
    with pytest.raises(JobCancelled):
        second.answer(second.look(unknown, me))
    assert table.under_way() == []


def test_rows_of_jobs_that_are_over_do_not_pile_up(table: JobTable, me: int, monkeypatch: pytest.MonkeyPatch):
    monkeypatch.setattr(rows, "_KEPT", 3)
    alive = table.begin("x", {}, owner=me)
    over = []
    for _ in range(6):
        over.append(table.begin("x", {}, owner=me))
        table.end(over[-1], "done", "answer")
    table.begin("x", {}, owner=me)
    assert [table.one(number) is not None for number in over] == [False] * 3 + [True] * 3
    assert table.one(alive) is not None, "what is under way stays"


def test_what_is_over_is_not_told_otherwise(table: JobTable, me: int):
    number = table.begin("x", {}, owner=me)
    assert table.tell(number, 40, "half")
    table.end(number, "cancelled")
    assert not table.tell(number, 90, "nearly")
    table.end(number, "done", "late")
    job = table.one(number)
    assert job is not None
    assert (job.state, job.percent, job.answer) == ("cancelled", 40, None)


def test_work_of_this_process_is_told_as_a_job_and_can_be_cancelled_elsewhere(engine: Engine):
    table = JobTable(engine, MarketJob)

    def newest() -> rows.Job:
        with transaction(engine) as session:
            number = session.query(MarketJob).order_by(MarketJob.id.desc()).first().id
        job = table.one(number)
        assert job is not None
        return job

    with told_as_job(table, "count", {"to": 3}) as tell:
        tell(0.5, "half-way")
        assert (newest().state, newest().percent, newest().stage) == ("running", 50, "half-way")
    assert (newest().state, newest().percent) == ("done", 100)

    def fail() -> None:
        with told_as_job(table, "count", {}):
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        fail()
    assert newest().state == "failed"

    def be_cancelled() -> None:
        with told_as_job(table, "count", {}) as tell:
            with transaction(engine) as session:
                session.execute(update(MarketJob).where(MarketJob.id == newest().id).values(state="cancelled"))
            tell(0.5, "half-way")

    with pytest.raises(JobCancelled):
        be_cancelled()
    assert newest().state == "cancelled"


def test_while_the_database_is_away_a_job_is_done_without_a_row(
    running, gate: Gate, table: JobTable, me: int, monkeypatch: pytest.MonkeyPatch
):
    jobs, other = running(), table.begin("gate", {}, owner=me)

    def away(*_: object, **__: object) -> None:
        raise DatabaseAway

    with monkeypatch.context() as patch:
        for name in ("begin", "tell", "end", "one"):
            patch.setattr(table, name, away)
        gate.open.set()
        number = jobs.submit("gate", {"what": "bread"}, owner=me)
        assert jobs.answer(jobs.look(number, me, wait=PATIENCE)) == f"bread for {me}"
    assert table.one(number) is None
    assert [job.id for job in table.under_way()] == [other], "nothing is left over for the next start"


def test_one_job_at_a_time_unless_told_otherwise(table: JobTable, gate: Gate, me: int):
    jobs = Jobs(table, {"gate": gate.work})
    numbers = [jobs.submit("gate", {"what": i}, owner=me) for i in range(2)]
    assert comes(gate.began)
    assert jobs.look(numbers[1], me).state == "waiting"
    gate.open.set()
    assert [jobs.look(number, me, wait=PATIENCE).state for number in numbers] == ["done", "done"]
    assert gate.most == 1
    jobs.close()


def test_the_database_may_be_away_while_a_job_runs(
    running, gate: Gate, table: JobTable, me: int, monkeypatch: pytest.MonkeyPatch
):
    jobs = running()
    number = jobs.submit("gate", {"what": "bread"}, owner=me)
    assert comes(gate.began)

    def away(*_: object) -> None:
        raise FlinchError("away")

    with monkeypatch.context() as patch:
        patch.setattr(table, "end", away)
        patch.setattr(table, "tell", away)
        gate.open.set()
        assert jobs.answer(jobs.look(number, me, wait=PATIENCE)) == f"bread for {me}", "who waits is told"
