"""One tree of errors: whatever of ours stands in the way of a request is answered with its own status and words."""

import importlib
import inspect
import pkgutil

from flask import Flask

import flinch
from flinch.core.interrupt import TooCostly
from flinch.core.rules import RuleError
from flinch.errors import FlinchError
from flinch.store.errors import DatabaseAway, DiskFull, OutcomeUnknown
from flinch.web import answer
from flinch.web.lane import LaneFull

OF_THE_COMMAND = {"AlreadyRunning", "CannotMigrate", "CannotStart", "Refused", "ServerFailed"}
"""The start command, and others, tell these on the terminal."""


def test_every_error_of_ours_that_a_request_can_meet_is_in_the_tree():
    found = set()
    for module in pkgutil.walk_packages(flinch.__path__, "flinch."):
        if ".migrations" in module.name or module.name.endswith("__main__"):
            continue
        for name, thing in inspect.getmembers(importlib.import_module(module.name), inspect.isclass):
            if issubclass(thing, Exception) and thing.__module__.startswith("flinch."):
                found.add((name, issubclass(thing, FlinchError)))
    assert {name for name, ours in found if not ours} == OF_THE_COMMAND
    assert len(found) >= 18


def test_an_error_is_answered_with_its_status_words_and_place():
    with Flask(__name__).app_context():
        wrong = answer(RuleError("There is no “prise”.", 4, 9, ["price"]))
        assert wrong.status_code == 422
        assert wrong.json == {
            "type": "bad_rule", "message": "There is no “prise”.", "where": "character 5", "nearest": ["price"], "version": None,
        }  # fmt: skip
        assert answer(LaneFull()).headers["Retry-After"] == "2"
        assert "Retry-After" not in answer(DatabaseAway()).headers
        statuses = {error: answer(error()).status_code for error in (DatabaseAway, OutcomeUnknown, DiskFull, LaneFull)}
        assert list(statuses.values()) == [503, 503, 507, 503]
        assert answer(OutcomeUnknown()).json["type"] == "outcome_unknown"
        assert "3.2 seconds of computing; one request may take 2" in answer(TooCostly(3.21, 2.0)).json["message"]
