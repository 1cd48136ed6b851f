"""Examples in docstrings of the core do what they say."""

from __future__ import annotations

import ast
import doctest
from importlib import import_module
from pathlib import Path

ROOT = Path(__file__).parents[2] / "src"


def test_examples_in_docstrings_hold() -> None:
    """Read from the source, since compiled functions hide theirs."""
    runner, parser = doctest.DocTestRunner(optionflags=doctest.ELLIPSIS), doctest.DocTestParser()
    for path in sorted((ROOT / "wolbrin" / "core").rglob("*.py")):
        text = path.read_text()
        if ">>> " not in text:
            continue
        module = import_module(".".join(path.relative_to(ROOT).with_suffix("").parts))
        for node in ast.walk(ast.parse(text)):
            words = ast.get_docstring(node) if isinstance(node, ast.FunctionDef | ast.ClassDef) else None
            if words and ">>> " in words:
                runner.run(parser.get_doctest(words, dict(vars(module)), node.name, str(path), node.lineno))
    assert runner.tries >= 3
    assert runner.failures == 0
