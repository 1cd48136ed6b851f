"""How the house is built: no circles, none hidden; late imports marked and of known heavy packages; lists to add to."""

from __future__ import annotations

import ast
import re
import tomllib
from collections.abc import Iterator
from importlib.metadata import version
from pathlib import Path

import pytest

SOURCE = Path(__file__).parents[2] / "src" / "wolbrin"
# Packages that are slow to load and needed by some only; loaded where they are used, on a line marked "late".
HEAVY = {"numba", "llvmlite", "scipy", "pandas", "pyarrow", "matplotlib", "jinja2", "exchange_calendars", "openpyxl",
         "arch"}
# Lists whose entries are read when they are first used, and what puts the program together.
LISTS = {"app/places/registry.py", "app/places/markets/pages.py", "cli/registry.py", "main.py", "cli/searches.py",
         "cli/new.py", "cli/history.py", "cli/backtest.py", "__init__.py"}


def modules() -> Iterator[tuple[str, ast.Module, list[str]]]:
    for path in sorted(SOURCE.rglob("*.py")):
        text = path.read_text(encoding="utf-8")
        yield str(path.relative_to(SOURCE)), ast.parse(text), text.splitlines()


def imported(node: ast.AST) -> list[str]:
    if isinstance(node, ast.Import):
        return [a.name for a in node.names]
    return [node.module or ""] if isinstance(node, ast.ImportFrom) else []


def test_late_imports_are_marked_and_only_where_they_are_worth_it() -> None:
    """A late import of our own code hides a circle; a heavy package is loaded where it is used, and says so."""
    wrong = []
    for name, tree, lines in modules():
        for function in (n for n in ast.walk(tree) if isinstance(n, ast.FunctionDef | ast.AsyncFunctionDef)):
            for node in ast.walk(function):
                for target in imported(node):
                    line = lines[node.lineno - 1]  # type: ignore[attr-defined]
                    own = target.startswith("wolbrin")
                    if (own and name not in LISTS) or (not own and target.split(".")[0] not in HEAVY) or "# late" not in line:
                        wrong.append(f"{name}:{node.lineno} {line.strip()}")  # type: ignore[attr-defined]
        wrong += [f"{name}: import_module" for line in lines if ("import_module" in line or "__import__" in line) and not
                  name.endswith("own_cage.py")]  # what others may import is its work
    assert wrong == []


def test_no_module_reaches_itself_in_a_circle() -> None:
    """Imports for types only count too: a circle of types is a circle. The window likewise."""
    graph: dict[str, set[str]] = {}
    for name, tree, _ in modules():
        if name.startswith(("core", "app")) and not name.endswith("__init__.py"):
            here = "wolbrin." + name[:-3].replace("/", ".")
            graph[here] = {t for n in ast.walk(tree) for t in imported(n) if t.startswith("wolbrin")}
    done: set[str] = set()

    def walk(module: str, path: tuple[str, ...]) -> None:
        assert module not in path, f"a circle: {' -> '.join((*path[path.index(module):], module))}"
        if module in done or module not in graph:
            return
        for further in sorted(graph[module]):
            walk(further, (*path, module))
        done.add(module)

    for module in sorted(graph):
        walk(module, ())


def test_stated_versions_are_those_it_is_tested_with() -> None:
    """A lower bound that was never run is a guess: each is the release that the locked version belongs to."""
    stated = tomllib.loads((SOURCE.parents[1] / "pyproject.toml").read_text())["project"]
    every = [*stated["dependencies"], *stated["optional-dependencies"]["dev"]]
    for line in every:
        found = re.match(r"([\w-]+)[>=]=([\d.]+)", line)  # what machine code is made with is pinned
        assert found, line
        name, low = found.groups()
        have = version(name).split(".")
        assert have[:len(low.split("."))] == low.split("."), f"{line}, tested with {version(name)}"


@pytest.mark.parametrize("text", ["wolbrin.core.store.project", "wolbrin.core.work.going_on"])
def test_a_listing_loads_nothing_heavy(text: str) -> None:
    import subprocess
    import sys

    code = f"import sys, {text}\nprint([m for m in {sorted(HEAVY)} if m in sys.modules])"
    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert out.stdout.strip() == "[]"


def test_tests_use_what_everybody_may_use() -> None:
    """No test reaches into another object's private parts; a compiled kernel's slow twin is checked under its own name."""
    kernels = {"_next", "_placement", "_episodes", "_cross_lines", "_cross_level"}
    found = []
    for path in sorted(Path(__file__).parents[1].rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Attribute) and re.match(r"_[a-z]", node.attr) and node.attr not in kernels and not (
                    isinstance(node.value, ast.Name) and node.value.id in ("self", "os", "cls")):
                found.append(f"{path.name}:{node.lineno} {node.attr}")
    assert found == []
