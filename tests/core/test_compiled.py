"""Functions compiled in different processes and kept: each still does what it says when they are loaded together."""

import subprocess
import sys
from pathlib import Path

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
