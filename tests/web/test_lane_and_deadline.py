"""The lane of costly work and the end of a request, by themselves: order, bounds, and who is gone."""

from __future__ import annotations

import threading
import time

import pytest
from flask import Flask, g
from tests.waiting import PATIENCE, comes, until

from flinch.core.interrupt import DeadlineReached, TooCostly, checkpoint, spend
from flinch.web.lane import SECONDS, SPENT_SECONDS, CallerGone, Lane, LaneFull, begin_request, end_request
from flinch.web.lane import give_up_when_late_or_alone as give_up


def nobody_asks() -> None:
    """Work that may take as long as it likes."""


def for_ever() -> None:
    """Checkpoints ask twenty times a second."""
    while True:
        checkpoint()


def start(lane: Lane, cost: float, done: list[float], go_on: threading.Event, begun: threading.Event | None = None):
    def work() -> None:
        with lane.turn(cost, nobody_asks):
            if begun is not None:
                begun.set()
            assert comes(go_on)
            done.append(cost)

    thread = threading.Thread(target=work)
    thread.start()
    return thread


def test_what_costs_least_goes_first_and_of_equal_ones_the_first():
    lane, done, go_on, begun = Lane(1, 10), [], threading.Event(), threading.Event()
    threads = [start(lane, 9.0, done, go_on, begun)]
    assert comes(begun), "what is under way is not interrupted for another"
    for waiting, cost in enumerate((5.0, 1.0, 3.0, 1.5), 1):
        threads.append(start(lane, cost, done, go_on))
        until(lambda waiting=waiting: len(lane._waiting) == waiting)
    go_on.set()
    for thread in threads:
        thread.join(PATIENCE)
    assert done == [9.0, 1.0, 1.5, 3.0, 5.0]
    assert (lane._running, lane._waiting) == (0, [])


def test_so_many_at_once_and_so_many_waiting():
    lane, go_on, begun = Lane(2, 1), threading.Event(), [threading.Event(), threading.Event()]
    done: list[float] = []
    threads = [start(lane, 1.0, done, go_on, one) for one in begun]
    assert all(map(comes, begun)), "two work side by side"
    threads.append(start(lane, 2.0, done, go_on))
    until(lambda: len(lane._waiting) == 1)
    with pytest.raises(LaneFull), lane.turn(0.5, nobody_asks):
        raise AssertionError("nobody works who does not wait")
    assert LaneFull().wait == 2
    assert LaneFull().status == 503
    go_on.set()
    for thread in threads:
        thread.join(PATIENCE)
    with lane.turn(0.0, nobody_asks):
        assert lane._running == 1, "the lane is free again"


def test_who_gives_up_while_waiting_or_working_leaves_the_lane_to_others():
    lane, go_on, begun = Lane(1, 5), threading.Event(), threading.Event()

    def gone() -> None:
        raise CallerGone

    done: list[float] = []
    thread = start(lane, 1.0, done, go_on, begun)
    assert comes(begun)
    with pytest.raises(CallerGone), lane.turn(0.1, gone):
        raise AssertionError("it was never its turn")
    assert lane._waiting == []
    go_on.set()
    thread.join(PATIENCE)
    with pytest.raises(CallerGone), lane.turn(0.1, gone):
        for_ever()
    assert lane._running == 0
    with pytest.raises(ZeroDivisionError), lane.turn(0.1, nobody_asks):
        raise ZeroDivisionError
    assert lane._running == 0


@pytest.fixture
def app() -> Flask:
    return Flask(__name__)


def test_a_request_has_a_deadline_and_something_to_spend(app: Flask):
    with app.test_request_context("/"):
        before = time.monotonic()
        begin_request()
        assert SECONDS - 1 < g.deadline - before <= SECONDS + 1
        give_up()
        spend(SPENT_SECONDS - 0.1)
        with pytest.raises(TooCostly):
            spend(0.2)
        g.deadline = time.monotonic() - 0.001
        with pytest.raises(DeadlineReached):
            give_up()
        end_request()
        spend(1e9)  # nothing is in force after the request
        end_request()
    give_up()  # and nobody is asked outside one


def test_a_caller_who_is_gone_is_not_worked_for(app: Flask):
    for gone in (True, False):
        with app.test_request_context("/", environ_overrides={"waitress.client_disconnected": lambda gone=gone: gone}):
            begin_request()
            if gone:
                with pytest.raises(CallerGone):
                    give_up()
            else:
                give_up()
            end_request()
