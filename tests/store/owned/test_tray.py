"""The tray's rows: order, reasons, undo, bounds, and two changes at once."""

import datetime as dt
from concurrent.futures import ThreadPoolExecutor

import pytest
from sqlalchemy import Engine, select
from tests.somebody import somebody

from flinch.store.databases import DEMO
from flinch.store.engine import transaction
from flinch.store.owned.models import Owner, TrayStep
from flinch.store.owned.owners import Whose
from flinch.store.owned.tray import (
    MOST_ENTRIES,
    MOST_STEPS,
    TrayFull,
    add_to_tray,
    change_tray,
    read_tray,
    remove_from_tray,
    undo_tray,
)

NOW = dt.datetime(2026, 9, 9, 20, 0, tzinfo=dt.UTC)
WHY = {"page": "Screen", "words": "all names", "link": "/screen", "values": {"iv30": 41.5, "iv_rank": None}}


@pytest.fixture
def owner(owned: Engine) -> Whose:
    """An owner of the test's own, with nothing to undo."""
    with transaction(owned) as session:
        made = Owner(name=f"tester {dt.datetime.now(dt.UTC).isoformat()}")
        session.add(made)
        session.flush()
        return Whose(made.id, DEMO)


def symbols(tray) -> list[str]:
    return [entry.symbol for entry in tray.entries]


def test_names_keep_their_order_reason_and_moment(owned: Engine, owner: Whose):
    add_to_tray(owned, owner, [("TARNO", WHY)], NOW)
    tray = add_to_tray(owned, owner, [("BELUA", WHY), ("TARNO", WHY), ("KOSVI", WHY)], NOW)
    assert symbols(tray) == ["TARNO", "BELUA", "KOSVI"]
    assert tray.entries[0].why == WHY
    assert tray.entries[0].added_at == NOW
    assert symbols(read_tray(owned, owner)) == symbols(tray)


def test_undo_walks_back_step_by_step(owned: Engine, owner: Whose):
    add_to_tray(owned, owner, [("TARNO", WHY), ("BELUA", WHY)], NOW)
    assert read_tray(owned, owner).undo == "add 2 names"
    assert remove_from_tray(owned, owner, ["TARNO"]).undo == "remove TARNO"
    assert remove_from_tray(owned, owner, None).undo == "clear BELUA"
    assert symbols(undo_tray(owned, owner)) == ["BELUA"]
    tray = undo_tray(owned, owner)
    assert symbols(tray) == ["TARNO", "BELUA"]
    assert tray.entries[0].why == WHY
    assert symbols(undo_tray(owned, owner)) == []
    assert undo_tray(owned, owner).undo is None


def test_a_change_that_changes_nothing_leaves_nothing_to_undo(owned: Engine, owner: Whose):
    assert remove_from_tray(owned, owner, ["TARNO"]).undo is None
    assert remove_from_tray(owned, owner, None).undo is None
    add_to_tray(owned, owner, [("TARNO", WHY)], NOW)
    assert add_to_tray(owned, owner, [("TARNO", WHY)], NOW).undo == "add TARNO"
    assert symbols(undo_tray(owned, owner)) == []


def test_too_many_names_are_refused_and_none_is_added(owned: Engine, owner: Whose):
    full = [(f"N{n:04d}", WHY) for n in range(MOST_ENTRIES)]
    add_to_tray(owned, owner, full[:-1], NOW)
    with pytest.raises(TrayFull):
        add_to_tray(owned, owner, [("TARNO", WHY), ("BELUA", WHY)], NOW)
    assert len(read_tray(owned, owner).entries) == MOST_ENTRIES - 1
    assert len(add_to_tray(owned, owner, [("TARNO", WHY)], NOW).entries) == MOST_ENTRIES


def test_the_history_of_changes_is_bounded(owned: Engine, owner: Whose):
    for _ in range(MOST_STEPS // 2 + 5):
        add_to_tray(owned, owner, [("TARNO", WHY)], NOW)
        remove_from_tray(owned, owner, ["TARNO"])
    with transaction(owned) as session:
        assert len(list(session.scalars(select(TrayStep.id).where(TrayStep.owner_id == owner.owner)))) == MOST_STEPS


def test_changes_at_once_all_arrive(owned: Engine, owner: Whose):
    names = [f"M{n:04d}" for n in range(24)]
    with ThreadPoolExecutor(6) as pool:
        list(pool.map(lambda symbol: add_to_tray(owned, owner, [(symbol, WHY)], NOW), names))
    assert sorted(symbols(read_tray(owned, owner))) == names


def test_owners_do_not_see_each_others_trays(owned: Engine, owner: Whose, empty_tray: None):
    add_to_tray(owned, owner, [("TARNO", WHY)], NOW)
    assert somebody(owned) != owner
    assert "TARNO" not in symbols(read_tray(owned, somebody(owned)))
    assert somebody(owned) == somebody(owned)


def test_undo_takes_back_its_own_owners_change_and_nobody_elses(owned: Engine, owner: Whose, empty_tray: None):
    other = somebody(owned)
    add_to_tray(owned, owner, [("TARNO", WHY)], NOW)
    add_to_tray(owned, other, [("BELUA", WHY), ("KOSVI", WHY)], NOW)
    assert symbols(undo_tray(owned, owner)) == []
    assert symbols(read_tray(owned, other)) == ["BELUA", "KOSVI"]
    assert read_tray(owned, owner).undo is None, "and it does not reach the other's history"
    assert symbols(read_tray(owned, other)) == ["BELUA", "KOSVI"]


def test_what_fails_half_way_leaves_nothing_behind(owned: Engine, owner: Whose):
    add_to_tray(owned, owner, [("TARNO", WHY)], NOW)

    def half_way() -> None:
        with transaction(owned) as session:
            session.query(TrayStep).filter(TrayStep.owner_id == owner.owner).delete()
            session.flush()
            raise RuntimeError("half way")

    with pytest.raises(RuntimeError, match="half way"):
        half_way()
    assert read_tray(owned, owner).undo is not None


def test_what_comes_stands_behind_what_is_there(owned: Engine, owner: Whose):
    add_to_tray(owned, owner, [("KOSVI", WHY), ("TARNO", WHY)], NOW)
    assert symbols(add_to_tray(owned, owner, [("BELUA", WHY)], NOW)) == ["KOSVI", "TARNO", "BELUA"]


def test_a_full_tray_may_be_replaced_by_another_full_one(owned: Engine, owner: Whose):
    def full(letter: str) -> dict:
        return {f"{letter}{n:04d}": WHY for n in range(MOST_ENTRIES)}

    change_tray(owned, owner, "replace", full("A"), NOW)
    assert symbols(change_tray(owned, owner, "replace", full("B"), NOW)) == list(full("B"))
