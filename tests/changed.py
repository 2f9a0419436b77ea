"""Which test files depend on what changed since a commit: `python -m tests.changed [COMMIT]`, one a line, `tests` for all."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from collections.abc import Iterable
from functools import cache
from pathlib import Path

import grimp

PROJECT = Path(__file__).resolve().parents[1]
READ = ("docs/", "benchmarks/", "README.md", "LICENSE", ".gitignore")
"""What no code of ours is made of: tests read it that name its folder."""


def changed_since(commit: str) -> list[str]:
    """Paths that differ from a commit, those that are not known yet among them."""
    told = [["git", "diff", "--name-only", commit], ["git", "ls-files", "--others", "--exclude-standard"]]
    lines = [subprocess.run(one, capture_output=True, text=True, check=True, cwd=PROJECT).stdout for one in told]
    return sorted(set("\n".join(lines).split()))


def depending(paths: Iterable[str], project: Path = PROJECT) -> list[str]:
    """Test files that reach one of some changed paths by their imports or by what serves the application to them.

    The interface is reached by the browser's tests; a folder that a test names (documents, benchmarks, sources) by that test.
    What is none of these changes everything.
    """
    files = sorted(path for path in (project / "tests").rglob("test_*.py"))
    changed = [path for path in paths if not path.startswith(READ)]
    sources = {path for path in changed if path.startswith("src/flinch/") and path.endswith(".py")}
    interface = any(path.startswith("ui/") for path in changed)
    own = {path for path in changed if path.startswith("tests/") and path.endswith(".py")}
    shared = {path for path in own if not Path(path).name.startswith("test_")}
    if any(path not in sources and path not in own and not path.startswith("ui/") for path in changed):
        return ["tests"]
    reached = _reached(frozenset(_module(path) for path in sources))
    folders = "|".join(sorted({re.escape(path.split("/")[0]) for path in paths}))
    named = re.compile(rf"""["'](?:{folders})\b""") if folders else None

    def depends(file: Path) -> bool:
        told = str(file.relative_to(project))
        if told in own or (interface and "browser" in file.parts):
            return True
        if named is not None and named.search(file.read_text()):
            return True
        imports = _imports(file, project)
        served = _served(file, project)
        return bool(imports & reached or (served and _serving(project) & reached) or _uses(imports, served, shared))

    return [str(file.relative_to(project)) for file in files if depends(file)]


def _uses(imports: frozenset[str], served: bool, shared: set[str]) -> bool:
    named = {_module(path, "") for path in shared}
    return bool(imports & named) or (served and bool(named))


def _module(path: str, root: str = "src/") -> str:
    return path.removeprefix(root).removesuffix(".py").removesuffix("/__init__").replace("/", ".")


@cache
def _reached(modules: frozenset[str]) -> frozenset[str]:
    graph = grimp.build_graph("flinch", cache_dir=None)
    known = [module for module in modules if module in graph.modules]
    return modules.union(*(graph.find_downstream_modules(module) for module in known))


@cache
def _imports(file: Path, project: Path) -> frozenset[str]:
    """Modules of ours that a file names, by the helpers of tests that it uses too."""
    found: set[str] = set()
    for node in ast.walk(ast.parse(file.read_text())):
        if isinstance(node, ast.ImportFrom) and node.module:
            found |= {node.module, *(f"{node.module}.{alias.name}" for alias in node.names)}
        elif isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
    for name in [name for name in found if name.startswith("tests.")]:
        helper = project / (name.replace(".", "/") + ".py")
        if helper.exists() and helper != file:
            found |= _imports(helper, project)
    return frozenset(name for name in found if name.startswith(("flinch", "tests")))


@cache
def _fixtures(project: Path, folder: Path) -> frozenset[str]:
    """Names of what is shared by the tests of a folder."""
    return frozenset(
        {
            node.name
            for file in (project / "tests").rglob("conftest.py")
            if folder.is_relative_to(file.parent)
            for node in ast.walk(ast.parse(file.read_text()))
            if isinstance(node, ast.FunctionDef)
        }
    )


def _served(file: Path, project: Path) -> bool:
    """Whether its tests take what is shared: the application, the market, a page."""
    wanted = _fixtures(project, file.parent)
    return any(
        argument.arg in wanted
        for node in ast.walk(ast.parse(file.read_text()))
        if isinstance(node, ast.FunctionDef)
        for argument in node.args.args
    )


@cache
def _serving(project: Path) -> frozenset[str]:
    return frozenset().union(*(_imports(file, project) for file in (project / "tests").rglob("conftest.py")))


if __name__ == "__main__":
    print("\n".join(depending(changed_since(sys.argv[1] if len(sys.argv) > 1 else "HEAD"))))
