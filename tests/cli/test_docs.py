"""README and docs against the program: every option they name exists, every option there is stands on a page, every command
of a block is one, every formula and every piece of Python can be read, and the tutorial runs from files to an opened
portfolio."""

from __future__ import annotations

import ast
import re
import shlex
from pathlib import Path
from typing import Any

import pytest
import typer
from tools.options import page
from typer.testing import CliRunner

from wolbrin.cli.main import build
from wolbrin.core.rules.script import parse_strategy

ROOT = Path(__file__).parents[2]
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]
BLOCK = re.compile(r"```(\w*)\n(.*?)```", re.DOTALL)
APP = build(lambda *_: 0, lambda: Path("/nowhere"), list)
GROUP: Any = typer.main.get_command(APP)


TOOLS = "".join(p.read_text() for p in (ROOT / "tools").glob("*.py"))  # programs beside ours, that pages name too


def commands_in(text: str) -> list[list[str]]:
    """Command lines of a block, joined where they go on, without remarks."""
    lines = text.replace("\\\n", " ").splitlines()
    words = [shlex.split(line, comments=True) for line in lines if re.match(r"\s*(?:\.venv/bin/)?wolbrin\b", line)]
    return [w[1:] for w in words]


def command_of(words: list[str]) -> tuple[Any, list[str]]:
    """The command that words call, and its arguments."""
    found: Any = GROUP
    rest = list(words)
    while rest and hasattr(found, "commands") and rest[0] in found.commands:
        found = found.commands[rest.pop(0)]
    return found, rest


def options_of(command: Any) -> set[str]:
    own = {n for p in command.params for n in (*p.opts, *p.secondary_opts) if n.startswith("-")}
    return own | {"--help"} | {o for inner in getattr(command, "commands", {}).values() for o in options_of(inner)}


def blocks(kind: str) -> list[tuple[str, str]]:
    return [(f"{path.name} {i}", m[2]) for path in PAGES for i,
            m in enumerate(BLOCK.finditer(path.read_text())) if m[1] == kind]


@pytest.mark.parametrize(("where", "text"), blocks("") + blocks("sh"))
def test_commands_of_blocks_are_commands_with_such_options(where: str, text: str) -> None:
    for words in commands_in(text):
        command, rest = command_of(words)
        if command is GROUP:
            assert rest == [] or rest[0].isupper() or rest[0] in ("--demo", "desk"), (where, words)
            continue
        made = command.make_context(" ".join(words), rest, resilient_parsing=False)
        assert made is not None, (where, words)


@pytest.mark.parametrize("path", PAGES, ids=lambda p: p.name)
def test_options_that_pages_name_are_there(path: Path) -> None:
    text = BLOCK.sub("", path.read_text())
    every = options_of(GROUP)
    for quoted in re.findall(r"`([^`]+)`", text):
        named = re.findall(r"(?<![\w-])--[a-z][a-z-]+", quoted)
        called = re.match(r"(?:\.venv/bin/)?wolbrin ([a-z][a-z -]*)", quoted)
        known = options_of(command_of(called[1].split())[0]) | options_of(GROUP.commands.get(called[1].split()[0],
                                                                                             GROUP)) if (
            called and called[1].split()) else every
        for option in named:
            assert option in known or option == "--demo" or f'"{option}"' in TOOLS, (path.name, quoted)


def test_every_option_stands_on_its_page() -> None:
    """docs/options.md is written by tools/options.py."""
    assert (ROOT / "docs" / "options.md").read_text() == page()


def test_rows_of_the_command_page_name_options_of_their_command() -> None:
    for line in (ROOT / "docs" / "command-line.md").read_text().splitlines():
        cells = line.split(" | ")
        called = re.match(r"\| `([a-z][a-z-]*)", line)
        if called is None or called[1] not in GROUP.commands:
            continue
        known = options_of(GROUP.commands[called[1]])
        for option in re.findall(r"`(--[a-z][a-z-]+)", cells[1] if len(cells) > 1 else ""):
            assert option in known, (called[1], option)


@pytest.mark.parametrize(("where", "text"), blocks("python"))
def test_python_and_formulas_of_pages_can_be_read(where: str, text: str) -> None:
    ast.parse(text)
    if where.startswith("formulas.md"):
        assert parse_strategy(text).name


def test_links_lead_to_files() -> None:
    for path in PAGES:
        for target in re.findall(r"\]\(([^)#\s]+)", path.read_text()):
            assert target.startswith("http") or (path.parent / target).exists(), (path.name, target)


def test_the_tutorial_runs_from_files_to_an_opened_portfolio(demo_master: Path, tmp_path: Path,
                                                             monkeypatch: pytest.MonkeyPatch) -> None:
    """Every command of the page, in its order, as a reader would give it."""
    monkeypatch.chdir(tmp_path)
    (tmp_path / "files").mkdir()
    history = next((demo_master / "history").glob("NPW__*.parquet"))
    (tmp_path / "files" / "NPW.parquet").write_bytes(history.read_bytes())
    said = ""
    for block in BLOCK.finditer((ROOT / "docs" / "tutorial.md").read_text()):
        for words in commands_in(block[2]):
            made = CliRunner().invoke(APP, words)
            assert made.exit_code == 0, (words, made.output, made.exception)
            said = made.output
    assert "portfolio trio" in said, "the opening is in the book"
