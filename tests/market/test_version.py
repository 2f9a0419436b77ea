"""What a version keeps: made once, and not lost because whoever asked for it gave up."""

import threading
from concurrent.futures import ThreadPoolExecutor

import pytest
from tests.waiting import comes

from flinch.core.interrupt import DeadlineReached, checkpoint, stopped_by
from flinch.market import Version, View
from flinch.market.version import BeingRead
from flinch.web.lane import CallerGone


@pytest.fixture
def version(market: View) -> Version:
    return Version(market.frame)


def never() -> None:
    raise AssertionError("it is made a second time")


def test_what_all_need_goes_on_when_whoever_asked_gives_up(version: Version):
    go_on = threading.Event()

    def made() -> str:
        comes(go_on)
        checkpoint()  # of nobody: the one who asked is gone
        return "made"

    def late() -> None:
        raise DeadlineReached(12.0)

    with stopped_by(late), pytest.raises(BeingRead, match="again by itself") as refused:
        version.share(("all",), made, 1)
    assert (refused.value.status, refused.value.wait) == (503, 2)

    def gone() -> None:
        raise CallerGone

    with stopped_by(gone), pytest.raises(CallerGone):
        version.share(("all",), never, 1)
    assert not version.has("all")
    with ThreadPoolExecutor(3) as pool:
        waiting = [pool.submit(version.share, ("all",), never, 1) for _ in range(3)]
        go_on.set()
        assert [each.result() for each in waiting] == ["made"] * 3
    assert version.has("all")


def test_what_failed_is_told_to_all_who_wait_and_made_afresh_for_the_next(version: Version):
    go_on = threading.Event()

    def fails() -> str:
        comes(go_on)
        raise OSError("no room")

    with ThreadPoolExecutor(2) as pool:
        waiting = [pool.submit(version.share, ("all",), fails, 1) for _ in range(2)]
        go_on.set()
        for each in waiting:
            with pytest.raises(OSError, match="no room"):
                each.result()
    assert version.share(("all",), lambda: 7, 1) == 7


def test_who_waits_for_the_work_of_another_request_can_give_up(version: Version):
    begun, go_on = threading.Event(), threading.Event()

    def slow() -> int:
        begun.set()
        comes(go_on)
        return 1

    def late() -> None:
        raise DeadlineReached(12.0)

    with ThreadPoolExecutor(1) as pool:
        first = pool.submit(version.keep, ("mine", 1), slow, 2)
        comes(begun)
        with stopped_by(late), pytest.raises(DeadlineReached):
            version.keep(("mine", 1), never, 2)
        go_on.set()
        assert first.result() == 1
    assert version.keep(("mine", 1), never, 2) == 1


@pytest.mark.parametrize("way", ["keep", "share"])
def test_of_keys_that_begin_alike_the_newest_asked_for_are_kept(version: Version, way: str):
    ask = getattr(version, way)
    for number in (1, 2):
        ask(("some", number), lambda number=number: number, 2)
    assert ask(("some", 1), never, 2) == 1
    assert ask(("some", 3), lambda: 3, 2) == 3
    assert ask(("some", 1), never, 2) == 1
    assert ask(("some", 2), lambda: "again", 2) == "again"
