"""Long computation stops when it is told to, and what is too costly is refused before it begins."""

import threading

import numpy as np
import pytest
from tests.waiting import comes, until

from flinch.core.interrupt import Budget, TooCostly, checkpoint, spend, stopped_by, within
from flinch.core.rules import Panel, daily_vocabulary, evaluate
from flinch.web.lane import Lane, LaneFull


def test_a_checkpoint_asks_the_question_in_force_and_none_outside():
    checkpoint()

    def stop() -> None:
        raise RuntimeError("stop")

    with pytest.raises(RuntimeError, match="stop"), stopped_by(stop):
        checkpoint()
    checkpoint()


def panel(names: int = 600) -> Panel:
    close = 100 * np.exp(np.cumsum(0.02 * np.random.default_rng(1).normal(size=(names, 300)), axis=1))
    return Panel(names, 300, {"close": close}, {})


def test_rules_stop_between_their_parts_in_every_thread():
    asked = []

    def stop_at_third() -> None:
        asked.append(threading.get_ident())
        if len(asked) >= 3:
            raise TimeoutError

    node = daily_vocabulary().read("close > mean(close, 20) + std(close, 30)").node
    with pytest.raises(TimeoutError), stopped_by(stop_at_third):
        evaluate([node], panel(), 0, 300)


def test_a_budget_is_spent_before_anything_is_computed():
    vocabulary = daily_vocabulary()
    node = vocabulary.read("close > mean(close, 100)").node
    with within(Budget(10.0)) as _:
        evaluate([node], panel(), 0, 300)
    with pytest.raises(TooCostly) as told, within(Budget(1e-6)):
        evaluate([node], panel(), 0, 300)
    assert told.value.seconds > told.value.most == 1e-6
    with within(Budget(1.0)):
        spend(0.6)
        with pytest.raises(TooCostly):
            spend(0.6)
        spend(0.4)
    spend(1e9)


def test_the_lane_lets_the_cheapest_go_first_and_bounds_who_waits():
    lane = Lane(width=1, most=3)
    order: list[str] = []
    inside, go = threading.Event(), threading.Event()

    def work(name: str, cost: float) -> None:
        with lane.turn(cost, lambda: None):
            order.append(name)
            if name == "first":
                inside.set()
                comes(go)

    threads = [threading.Thread(target=work, args=("first", 9.0))]
    threads[0].start()
    assert comes(inside)
    for name, cost in (("dear", 5.0), ("cheap", 1.0), ("middling", 3.0)):
        threads.append(threading.Thread(target=work, args=(name, cost)))
        threads[-1].start()
    until(lambda: len(lane._waiting) == 3)
    with pytest.raises(LaneFull), lane.turn(0.0, lambda: None):
        pass
    go.set()
    for thread in threads:
        thread.join()
    assert order == ["first", "cheap", "middling", "dear"]


def test_who_is_gone_leaves_the_lane_to_others():
    lane = Lane(width=1, most=5)

    def gone() -> None:
        raise ConnectionError

    with lane.turn(1.0, lambda: None):
        with pytest.raises(ConnectionError), lane.turn(0.0, gone):
            pass
        assert lane._waiting == []
    with lane.turn(1.0, lambda: None):
        pass
