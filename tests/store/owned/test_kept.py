"""What users keep, in the store: names taken once, removals undone, and changes at once that follow each other."""

import datetime as dt
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

import pytest
from sqlalchemy import Engine, delete
from tests.somebody import somebody

from flinch.store.databases import DEMO
from flinch.store.engine import transaction
from flinch.store.owned.kept import BASKETS, SCREENS, Kept, NameTaken, TooMany, plain, record_look
from flinch.store.owned.models import Basket, Owner, SavedScreen, ScreenLook
from flinch.store.owned.owners import Whose

NOW = dt.datetime(2026, 9, 9, 19, 45, tzinfo=dt.UTC)


@pytest.fixture
def owner(owned: Engine) -> Iterator[Whose]:
    yield somebody(owned)
    with transaction(owned) as session:
        for table in (ScreenLook, SavedScreen, Basket):
            session.execute(delete(table))


@pytest.fixture
def stranger(owned: Engine) -> Iterator[Whose]:
    with transaction(owned) as session:
        other = Owner(name="a stranger")
        session.add(other)
        session.flush()
        number = other.id
    yield Whose(number, DEMO)
    with transaction(owned) as session:
        for table in (SavedScreen, Basket):
            session.execute(delete(table).where(table.owner_id == number))
        session.delete(session.get_one(Owner, number))


def basket(name: str, *symbols: str) -> dict:
    return {"name": name, "symbols": list(symbols), "changed_at": plain(NOW)}


def screen(name: str) -> dict:
    return {"name": name, "description": "", "tags": [], "body": {}, "changed_at": plain(NOW)}


def test_kept_things_come_by_name_and_belong_to_their_owner(owned: Engine, owner: Whose, stranger: Whose):
    for name in ("b", "a", "Ä", "☕"):
        BASKETS.save(owned, owner, basket(name, "TARNO"))
    theirs = BASKETS.save(owned, stranger, basket("a", "BELUA"))
    assert theirs is not None
    names = [row.name for row in BASKETS.all(owned, owner)]
    assert names == sorted(names)
    assert BASKETS.one(owned, owner, theirs.id) is None
    assert BASKETS.save(owned, owner, basket("mine now"), theirs.id) is None
    assert not BASKETS.remove(owned, owner, theirs.id, NOW)
    assert not BASKETS.restore(owned, owner, theirs.id)
    held = BASKETS.one(owned, stranger, theirs.id)
    assert held is not None
    assert (held.name, held.symbols) == ("a", ["BELUA"])


def test_a_refused_change_changes_nothing(owned: Engine, owner: Whose):
    first = BASKETS.save(owned, owner, basket("one", "TARNO"))
    second = BASKETS.save(owned, owner, basket("two", "BELUA"))
    assert first is not None
    assert second is not None
    with pytest.raises(NameTaken) as told:
        BASKETS.save(owned, owner, basket("one", "HELMU"), second.id)
    assert told.value.id == first.id
    held = BASKETS.one(owned, owner, second.id)
    assert held is not None
    assert (held.name, held.symbols) == ("two", ["BELUA"])


def test_there_is_a_bound_and_restoring_keeps_to_it(owned: Engine, owner: Whose):
    few = Kept(Basket, "name", 2)
    first = few.save(owned, owner, basket("one"))
    few.save(owned, owner, basket("two"))
    with pytest.raises(TooMany):
        few.save(owned, owner, basket("three"))
    assert first is not None
    few.remove(owned, owner, first.id, NOW)
    few.save(owned, owner, basket("three"))
    with pytest.raises(TooMany):
        few.restore(owned, owner, first.id)
    assert [row.name for row in few.all(owned, owner)] == ["three", "two"]


def test_of_many_who_want_a_name_at_once_one_gets_it(owned: Engine, owner: Whose):
    def attempt(_: int) -> bool:
        try:
            SCREENS.save(owned, owner, screen("the same"))
        except NameTaken:
            return False
        return True

    with ThreadPoolExecutor(6) as pool:
        got = list(pool.map(attempt, range(12)))
    assert got.count(True) == 1
    assert [row.name for row in SCREENS.all(owned, owner)] == ["the same"]


def test_looks_go_with_their_screen(owned: Engine, owner: Whose):
    saved = SCREENS.save(owned, owner, screen("watched"))
    assert saved is not None
    days = [dt.date(2026, 9, day) for day in (3, 4, 8)]

    def look(day: dt.date, name: str, hours: int) -> ScreenLook | None:
        return record_look(
            owned, saved.id, DEMO, day, NOW + dt.timedelta(days=hours), [name], NOW + dt.timedelta(hours=hours)
        )

    for hours, day in enumerate(days):
        before = look(day, f"N{hours}", hours)
        assert (before and before.session) == (days[hours - 1] if hours else None)
    # Gone back to an earlier session: the newest look counts, not that of the newest session; and the same session's, too.
    before = look(days[0], "X", 9)
    assert before is not None
    assert before.session == days[2]
    before = look(days[0], "Y", 10)
    assert before is not None
    assert (before.session, before.symbols, before.moment) == (days[0], ["X"], plain(NOW + dt.timedelta(days=9)))
    assert look(days[2], "Z", 11) is not None
    with transaction(owned) as session:
        session.delete(session.get_one(SavedScreen, saved.id))
    with transaction(owned) as session:
        assert session.get(ScreenLook, (saved.id, DEMO, days[0])) is None
