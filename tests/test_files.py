"""Files beside requests: told of while they are written, stopped, bounded, and nobody else's."""

from __future__ import annotations

import gc
import threading
import time
import weakref
from collections.abc import Callable, Iterator
from contextlib import nullcontext
from pathlib import Path

import pytest
from tests.waiting import PATIENCE, comes, until

from flinch.files import _KEPT, _KEPT_SECONDS, _WAITING, Files, NoRoom, Write
from flinch.jobs import WAITING, JobCancelled, NoSuchJob, TooManyJobs, Unexpected, Waiting


@pytest.fixture
def files() -> Iterator[Files]:
    made = Files()
    yield made
    made.close()
    assert made._folder is None or not made._folder.exists(), "everything goes with it"


def test_nothing_lies_about_before_a_file_is_asked_for(files: Files):
    assert files._folder is None


def writes(text: str, *between: Callable[[], object]) -> Write:
    def work(path: Path, tell: Callable[[float], None]) -> None:
        path.write_text("half")
        for place, wait in enumerate(between):
            tell((place + 1) / (len(between) + 1))
            wait()
            tell((place + 1) / (len(between) + 1))
        path.write_text(text)

    return Write(work, "text/plain", "attachment")


def whole(files: Files, number: int, owner: int = 1) -> str:
    asked = files.look(number, owner, PATIENCE)
    assert asked.path is not None
    return asked.path.read_text()


def test_one_is_told_of_while_it_is_written_and_handed_over_when_whole(files: Files):
    begun, go_on = threading.Event(), threading.Event()
    number = files.begin(1, writes("whole", lambda: (begun.set(), comes(go_on))))
    comes(begun)
    asked = files.look(number, 1)
    assert (asked.percent, asked.path) == (50, None), "half a file is nobody's"
    go_on.set()
    assert whole(files, number) == "whole"
    assert files.look(number, 1).mimetype == "text/plain"
    assert whole(files, number) == "whole", "and again, while it is kept"


def test_what_a_file_was_written_from_is_let_go_of(files: Files):
    """Its rows hold a version of the market: it must not stay as long as the file does."""

    class Version:
        pass

    def asked(fails: bool) -> tuple[weakref.ref[Version], int]:
        held = Version()

        def work(path: Path, tell: Callable[[float], None]) -> None:
            path.write_text(str(held))
            if fails:
                raise JobCancelled

        return weakref.ref(held), files.begin(1, Write(work, "text/plain", "attachment"))

    for fails in (False, True):
        held, number = asked(fails)
        with nullcontext() if not fails else pytest.raises(JobCancelled):
            files.look(number, 1, PATIENCE)
        until(lambda held=held: gc.collect() >= 0 and held() is None, "the end of the version")


def test_another_owner_neither_sees_nor_stops_it(files: Files):
    number = files.begin(1, writes("mine"))
    for ask in (files.look, files.cancel):
        with pytest.raises(NoSuchJob):
            ask(number, 2)
        with pytest.raises(NoSuchJob):
            ask(number + 1, 1)
    assert whole(files, number) == "mine"


def test_one_that_is_stopped_leaves_nothing(files: Files):
    begun, go_on = threading.Event(), threading.Event()
    number = files.begin(1, writes("never", lambda: (begun.set(), comes(go_on))))
    comes(begun)
    files.cancel(number, 1)
    go_on.set()
    with pytest.raises(JobCancelled):
        files.look(number, 1, PATIENCE)
    folder = files._folder
    assert folder is not None
    until(lambda: not list(folder.iterdir()))
    done = files.begin(1, writes("done"))
    assert whole(files, done) == "done"
    files.cancel(done, 1)
    assert not list(folder.iterdir()), "let go of"
    with pytest.raises(NoSuchJob):
        files.look(done, 1)


@pytest.mark.parametrize(("error", "told"), [(OSError(28, "No space left"), NoRoom), (KeyError("ours"), Unexpected)])
def test_one_that_fails_says_so_and_leaves_nothing(files: Files, error: Exception, told: type[Exception]):
    def fail() -> None:
        raise error

    number = files.begin(1, writes("never", fail))
    with pytest.raises(told):
        files.look(number, 1, PATIENCE)
    assert not list(files._folder.iterdir())
    assert whole(files, files.begin(1, writes("next"))) == "next"


def test_ten_wait_and_no_more(files: Files):
    go_on = threading.Event()
    numbers = [files.begin(1, writes(str(n), lambda: comes(go_on))) for n in range(_WAITING)]
    with pytest.raises(TooManyJobs):
        files.begin(1, writes("one too many"))
    go_on.set()
    assert [whole(files, number) for number in numbers] == [str(n) for n in range(_WAITING)]


def test_the_newest_are_kept_for_an_hour(files: Files, monkeypatch: pytest.MonkeyPatch):
    numbers = []
    for n in range(_KEPT + 3):
        numbers.append(files.begin(1, writes(str(n))))
        whole(files, numbers[-1])
    kept = [n for n, number in enumerate(numbers) if number in files._files]
    assert kept == list(range(2, _KEPT + 3)), "those before the last twenty went when the next was asked for"
    later = time.monotonic() + _KEPT_SECONDS + 1
    monkeypatch.setattr("flinch.files.time.monotonic", lambda: later)
    newest = files.begin(1, writes("newest"))
    assert whole(files, newest) == "newest"
    assert list(files._files) == [newest]


def test_few_wait_at_once_and_the_others_are_answered():
    waiting, never = Waiting(2), threading.Event()
    inside = [threading.Thread(target=waiting.wait, args=(never, PATIENCE)) for _ in range(2)]
    for thread in inside:
        thread.start()
    until(lambda: waiting._places._value == 0)
    waiting.wait(never, PATIENCE)  # comes back at once, or the test ends here
    never.set()
    for thread in inside:
        thread.join()
    assert waiting._places._value == 2, "each gives its place back"
    assert WAITING._places._initial_value < 32, "fewer than the server has workers"


def test_a_long_file_keeps_no_short_one_waiting_and_is_the_same_while_it_is_under_way():
    files, go_on = Files(), threading.Event()

    def slow(path: Path, tell: Callable[[float], None]) -> None:
        comes(go_on)
        path.write_text("all of it")

    def quick(path: Path, tell: Callable[[float], None]) -> None:
        path.write_text("a row")

    try:
        first = files.begin(1, Write(slow, "text/plain", "", long="all"))
        assert files.begin(1, Write(slow, "text/plain", "", long="all")) == first
        others = {
            files.begin(2, Write(slow, "text/plain", "", long="all")),
            files.begin(1, Write(slow, "text/plain", "", long="a")),
        }
        assert len(others | {first}) == 3, "of somebody else, or of something else, it is another one"
        short = files.begin(1, Write(quick, "text/plain", ""))
        until(lambda: files.look(short, 1).path is not None, "the short one, while the long one is under way")
        assert files.look(first, 1).path is None
        go_on.set()
        until(lambda: files.look(first, 1).path is not None, "the long one")
        again = files.begin(1, Write(slow, "text/plain", "", long="all"))
        assert again not in (first, *others), "what is over is written anew"
    finally:
        go_on.set()
        files.close()
