"""Functions compiled in different processes and kept: each still does what it says when they are loaded together, and when what
it calls has changed since."""

import subprocess
import sys
from pathlib import Path

from flinch.core.compiled import source_stamp

MODULE = """
import sys
import numpy as np
from {place} import njit

for _ in range(int(sys.argv[1])):
    njit(lambda x: x + 1)(1.0)

@njit(cache=True)
def ordered(values):
    return np.sort(values)

@njit(cache=True)
def places(values):
    return np.argsort(values)
"""
SHOW = "import kept, numpy as np; v = np.array([3.0, 1.0, 2.0]); print({calls})"


def run(folder: Path, *names: str, before: int = 0) -> list[float]:
    """What functions make of 3, 1, 2 in a process of their own that has compiled so many others `before`."""
    calls = ", ".join(f"*kept.{name}(v)" for name in names)
    done = subprocess.run(
        [sys.executable, "-c", SHOW.format(calls=calls), str(before)], cwd=folder, capture_output=True, text=True, check=True,
        env={"PYTHONPATH": f"{Path(__file__).parents[2] / 'src'}:{folder}", "NUMBA_CACHE_DIR": str(folder / "kept")},
    )  # fmt: skip
    return [float(word) for word in done.stdout.split()]


def test_a_kept_sort_stays_a_sort_beside_a_kept_argsort(tmp_path: Path):
    """After three others the helper of the one gets the number that the helper of the other has: with numba's own counting the
    second answer is 3, 1, 2."""
    (tmp_path / "kept.py").write_text(MODULE.format(place="flinch.core.compiled"))
    assert run(tmp_path, "places", before=3) == [1, 2, 0]
    assert run(tmp_path, "ordered") == [1, 2, 3]
    assert run(tmp_path, "places", "ordered") == [1, 2, 0, 1, 2, 3]


OUTER = """
from flinch.core.compiled import njit
from flinch_kept import part

@njit(cache=True)
def whole(values):
    return values + part()
"""
INNER = """
from flinch.core.compiled import njit

@njit(cache=True)
def part():
    return {number}.0
"""
ROOT = "import flinch.core.compiled as c, pathlib; c.source_stamp.__wrapped__.__defaults__ = (pathlib.Path.cwd(),)"


def test_a_kept_function_follows_what_it_calls(tmp_path: Path):
    """Its own file stays as it is; what it calls, in a package of its own, does not."""
    inner = tmp_path / "flinch_kept" / "inner.py"
    inner.parent.mkdir()
    (inner.parent / "__init__.py").write_text("from flinch_kept.inner import part")
    (tmp_path / "kept.py").write_text(OUTER)
    (tmp_path / "sitecustomize.py").write_text(ROOT)
    for number in (1, 20):
        inner.write_text(INNER.format(number=number))
        assert run(tmp_path, "whole") == [3 + number, 1 + number, 2 + number]


def test_the_stamp_of_a_source_counts_what_it_may_call_and_no_more(tmp_path: Path):
    def stamp() -> str:
        source_stamp.cache_clear()
        return source_stamp(tmp_path / "flinch" / "a.py", tmp_path)

    (tmp_path / "flinch" / "core").mkdir(parents=True)
    for name, text in {
        "a.py": "from flinch.core import (\n    x,\n)\n",
        "core/__init__.py": "from flinch.core.b import x\n",
        "core/b.py": "import flinch.core.c\nnjit",
        "core/c.py": "import flinch.a\nnjit",
        "core/d.py": "njit",
        "core/e.py": "",
    }.items():
        (tmp_path / "flinch" / name).write_text(text)
    first = stamp()
    for name, counts in {
        "a.py": True,
        "core/c.py": True,
        "core/b.py": True,
        "core/d.py": False,
        "core/e.py": False,
    }.items():
        before = stamp()
        file = tmp_path / "flinch" / name
        file.write_text(file.read_text() + "\n# changed")
        assert (stamp() != before) == counts, name
    assert stamp() != first
