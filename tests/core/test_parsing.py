"""A parser that fails because another thread parses is asked again."""

from __future__ import annotations

import ast
from pathlib import Path

import numpy as np
import pytest

from flinch.core.parsing import parsed
from flinch.core.rules import daily_vocabulary
from flinch.market.columns import map_columns


class Failing:
    """Fails so often, whatever it is asked, then does what it should."""

    def __init__(self, what, times: int) -> None:
        self.what, self.left = what, times

    def __call__(self, *given, **named):
        self.left -= 1
        if self.left >= 0:
            raise SystemError("AST constructor recursion depth mismatch (before=42, after=39)")
        return self.what(*given, **named)


def test_it_is_asked_again_and_what_is_wrong_with_the_text_is_told():
    assert parsed(Failing(lambda: 7, 3)) == 7
    with pytest.raises(SyntaxError):
        parsed(Failing(lambda: ast.parse("1 +"), 2))
    with pytest.raises(SystemError):
        parsed(Failing(lambda: 7, 1_000))


def test_rules_are_read_and_files_are_mapped_all_the_same(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    np.save(tmp_path / "close.npy", np.arange(3.0))
    with monkeypatch.context() as patch:
        patch.setattr(np, "load", Failing(np.load, 2))
        assert map_columns(tmp_path)["close"].tolist() == [0, 1, 2]
    with monkeypatch.context() as patch:
        patch.setattr(ast, "parse", Failing(ast.parse, 2))
        assert daily_vocabulary().read("close > 3.25").node is not None
