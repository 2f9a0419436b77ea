"""How the house is built, where the tools do not look: no circles, no imports hidden in functions, no kernel of forty numbers."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

import grimp

PROJECT = Path(__file__).resolve().parents[1]
MOST_ARGUMENTS = 15
LATE = ("flinch.cli", "flinch.demo")
"""They answer before anything heavy is imported."""


def sources() -> Iterator[tuple[str, ast.Module]]:
    for path in sorted((PROJECT / "src").rglob("*.py")):
        name = ".".join(path.relative_to(PROJECT / "src").with_suffix("").parts).removesuffix(".__init__")
        yield name, ast.parse(path.read_text())


def circles(imports: dict[str, set[str]]) -> list[set[str]]:
    """Groups that reach themselves (Tarjan 1972)."""
    place: dict[str, int] = {}
    low: dict[str, int] = {}
    stack: list[str] = []
    found = []

    def visit(one: str) -> None:
        place[one] = low[one] = len(place)
        stack.append(one)
        for other in imports[one]:
            if other not in place:
                visit(other)
                low[one] = min(low[one], low[other])
            elif other in stack:
                low[one] = min(low[one], place[other])
        if low[one] == place[one]:
            group = set(stack[stack.index(one) :])
            del stack[stack.index(one) :]
            if len(group) > 1:
                found.append(group)

    for one in imports:
        if one not in place:
            visit(one)
    return found


def test_the_search_for_circles_finds_one():
    assert circles({"a": {"b"}, "b": {"c"}, "c": {"b"}, "d": {"a"}}) == [{"b", "c"}]


def test_no_module_leads_back_to_itself():
    graph = grimp.build_graph("flinch", cache_dir=None)
    modules = set(graph.modules)
    assert len(modules) > 250
    # A package gathers its names from its own modules, which is no use of them.
    imports = {
        name: {other for other in graph.find_modules_directly_imported_by(name) if not other.startswith(f"{name}.")}
        for name in modules
    }
    assert circles(imports) == []


def test_no_file_of_the_interface_leads_back_to_itself():
    files = {path for path in (PROJECT / "ui/src").rglob("*.ts*") if not path.name.endswith((".d.ts", ".test.ts"))}
    roots = {str(path.relative_to(PROJECT / "ui/src").with_suffix("")): path for path in files}

    def named(by: Path, told: str) -> str | None:
        base = Path(told.removeprefix("@/")) if told.startswith("@/") else None
        if told.startswith("."):
            base = (by.parent / told).resolve().relative_to((PROJECT / "ui/src").resolve())
        return str(base) if base is not None and str(base) in roots else None

    imports = {
        name: {
            found
            # What is loaded later, and what is only a type, waits for nobody.
            for told in re.findall(r'^import (?!type )[^;]*?from "([^"]+)"', path.read_text(), re.M)
            if (found := named(path, told))
        }
        for name, path in roots.items()
    }
    assert sum(map(len, imports.values())) > 300
    assert circles(imports) == []


def test_no_import_of_ours_hides_in_a_function():
    hidden = [
        (name, inner.lineno)
        for name, tree in sources()
        if name not in LATE
        for outer in ast.walk(tree)
        if isinstance(outer, ast.FunctionDef | ast.AsyncFunctionDef)
        for inner in ast.walk(outer)
        if isinstance(inner, ast.ImportFrom) and (inner.module or "").startswith("flinch")
    ]
    assert hidden == []


def test_functions_take_records_and_not_columns_of_numbers():
    long = {
        f"{name}.{function.name}": count
        for name, tree in sources()
        for function in ast.walk(tree)
        if isinstance(function, ast.FunctionDef | ast.AsyncFunctionDef)
        if (count := len([*function.args.posonlyargs, *function.args.args, *function.args.kwonlyargs])) > MOST_ARGUMENTS
    }
    assert long == {}


def test_no_kernel_writes_to_a_place_that_has_no_name():
    """`out[18]` says nothing: a record or a named place does. Small places stand for a few parts of one thing."""
    nameless = [
        (name, target.lineno)
        for name, tree in sources()
        if ".migrations." not in name
        for node in ast.walk(tree)
        if isinstance(node, ast.Assign)
        for aimed in node.targets
        for target in ast.walk(aimed)
        if isinstance(target, ast.Subscript) and isinstance(target.slice, ast.Constant)
        if isinstance(target.slice.value, int) and target.slice.value > 5
    ]
    assert nameless == []
