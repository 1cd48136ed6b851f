"""Writes docs/options.md: every command with its options, as `--help` has them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import typer

from wolbrin.cli.main import build

HEAD = """# Options of all commands

Written by `tools/options.py` from the commands themselves. What they mean together: [command-line.md](command-line.md).
"""


def _rows(command: Any) -> list[str]:
    out = []
    for p in command.params:
        if p.name == "help" or getattr(p, "hidden", False):
            continue
        names = f"`{str(p.name).upper()}`" if p.param_type_name == "argument" else ", ".join(
            f"`{n}`" for n in (*p.opts, *p.secondary_opts))
        words = (getattr(p, "help", "") or "").replace("|", "\\|")
        usual = p.default if isinstance(p.default, str | int | float) and not isinstance(p.default, bool) and p.default != "" else None
        if isinstance(p.default, tuple | list) or callable(p.default):
            usual = None
        out.append(f"| {names} | {words}{f' Usual: {usual}.' if usual is not None else ''} |")
    return out


def page() -> str:
    """The whole page."""
    group = typer.main.get_command(build(lambda *_: 0, lambda: Path("/nowhere"), list))
    parts = [HEAD]

    def add(name: str, command: Any) -> None:
        if hasattr(command, "commands"):
            for inner in sorted(command.commands):
                add(f"{name} {inner}", command.commands[inner])
            if not getattr(command, "invoke_without_command", False):
                return
        rows = _rows(command)
        words = (command.help or "").strip().splitlines()
        parts.append(f"## {name}\n\n{words[0] if words else ''}\n" + ("\n| option | |\n|---|---|\n" + "\n".join(rows) + "\n" if rows
                                                                      else ""))

    for name in sorted(group.commands):
        add(name, group.commands[name])
    return "\n".join(parts)


if __name__ == "__main__":
    (Path(__file__).parents[1] / "docs" / "options.md").write_text(page())
