"""Reading formulas: Python's syntax, parsed by `ast`, walked by a whitelist; nothing is ever evaluated as code."""

from __future__ import annotations

import ast
import warnings
from typing import Any, NoReturn, TypeVar

from pydantic import ValidationError

from wolbrin.core.errors import UserError
from wolbrin.core.faults import first_fault
from wolbrin.core.indicators.catalogue import BY_KEY, PRICE_FIELDS
from wolbrin.core.rules import language, slips, times
from wolbrin.core.rules.language import Names, nearest, spelled
from wolbrin.core.rules.model import Condition, Row
from wolbrin.core.rules.named import calculate, named
from wolbrin.core.rules.operands import (
    CombinedOperand,
    CustomOperand,
    FieldOperand,
    IndicatorOperand,
    NumberOperand,
    Operand,
    PositionOperand,
)

LONGEST = 4_000
MOST_NODES = 3_000
Node = Row | Condition
M = TypeVar("M")
_COMPARE = {ast.Gt: "above", ast.Lt: "below", ast.GtE: "at or above", ast.LtE: "at or below", ast.Eq: "equals"}
_JOIN = {ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/"}
_MODIFIERS = ("held", "within", "ago", "off")
_CONDITIONS = {*language.COMPARING, *language.TURNING, *language.EXTREMES, *language.RANKS, *language.BANDS,
               *language.GROUPS, *_MODIFIERS}


class FormulaError(UserError):
    """A fault in a formula. line (from 1) and column (from 0) say where, length how much of it."""

    def __init__(self, what: str, line: int, column: int, length: int = 1) -> None:
        super().__init__(what, f"line {line}, character {column + 1}", "Correct it there.")
        self.line, self.column, self.length = line, column, max(1, length)

    def __reduce__(self) -> tuple[type, tuple[str, int, int, int]]:  # type: ignore[override]
        return type(self), (self.what, self.line, self.column, self.length)


def tree_of(text: str, longest: int = LONGEST, statements: bool = False) -> tuple[ast.AST, int]:
    """Parse a text of bounded size; returns the tree and how many characters its first line was moved.

    An expression may go over several lines.
    """
    if len(text) > longest:
        raise FormulaError(f"this is longer than {longest:,} characters", 1, 0)
    moved = 0 if statements else 1
    shown, (text, wrong) = text, times.as_numbers(text)
    if wrong is not None:
        before = shown[:wrong[0]]
        raise FormulaError(f"{wrong[1]} is no time of day", before.count("\n") + 1, wrong[0] - (before.rfind("\n") + 1),
                           len(wrong[1]))
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            tree = ast.parse(text if statements else f"({text}\n)", mode="exec" if statements else "eval")
    except SyntaxError as err:
        line, column = err.lineno or 1, (err.offset or 1) - 1
        if line == 1:
            column -= moved
        lines = shown.split("\n") or [""]
        if moved and "never closed" in err.msg:
            line, column = _unclosed(lines)
        if line > len(lines):
            line, column = len(lines), len(lines[-1])
        column = max(0, min(column, len(lines[line - 1])))
        raise FormulaError(slips.in_line(lines[line - 1]) or f"this cannot be read: {err.msg}", line, column) from None
    except (RecursionError, MemoryError, ValueError):
        raise FormulaError("this is nested too deeply, or holds a character that cannot be read", 1, 0) from None
    if sum(1 for _ in ast.walk(tree)) > MOST_NODES:
        raise FormulaError("this has too many parts", 1, 0)
    return tree, moved


def _unclosed(lines: list[str]) -> tuple[int, int]:
    """Where the innermost bracket stands that nothing closes."""
    open_: list[tuple[int, int]] = []
    for number, line in enumerate(lines, 1):
        for column, sign in enumerate(line):
            if sign in "([{":
                open_.append((number, column))
            elif sign in ")]}" and open_:
                open_.pop()
    return open_[-1] if open_ else (1, 0)


class Reader:
    """Turns the nodes of one text into the model."""

    def __init__(self, text: str, names: Names, moved: int = 0) -> None:
        self._lines = text.split("\n")
        self._names = names
        self._moved = moved
        self._known = language.words(names)

    def fail(self, node: ast.AST, what: str) -> NoReturn:
        line, byte = getattr(node, "lineno", 1), getattr(node, "col_offset", 0)
        raw = self._lines[line - 1] if line <= len(self._lines) else ""
        byte -= self._moved if line == 1 else 0
        column = len(raw.encode()[:max(0, byte)].decode(errors="ignore"))
        end = getattr(node, "end_col_offset", byte + 1) if getattr(node, "end_lineno", line) == line else byte + 1
        raise FormulaError(what, line, min(column, len(raw)), end - getattr(node, "col_offset", 0))

    def make(self, node: ast.AST, kind: type[M], /, **fields: Any) -> M:
        """A model, its refusals told at this node."""
        try:
            return kind(**fields)
        except ValidationError as err:
            self.fail(node, first_fault(err)[1])

    # Numbers

    def is_number(self, node: ast.AST) -> bool:
        """Whether an expression holds numbers and parameters only."""
        if isinstance(node, ast.Constant):
            return isinstance(node.value, int | float) and not isinstance(node.value, bool)
        if isinstance(node, ast.Name):
            return node.id in self._names.parameters
        if isinstance(node, ast.UnaryOp):
            return isinstance(node.op, ast.USub) and self.is_number(node.operand)
        if isinstance(node, ast.BinOp):
            return self.is_number(node.left) and self.is_number(node.right)
        return (isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "round"
                and len(node.args) == 1 and not node.keywords and self.is_number(node.args[0]))

    def number(self, node: ast.AST, whole: bool = False) -> float:
        """A number, named where parameters take part."""
        if not self.is_number(node):
            self.fail(node, "a number belongs here")
        text = ast.unparse(node)
        try:
            value = calculate(text, self._names.parameters)
        except ValueError as err:
            self.fail(node, str(err))
        if whole and not value.is_integer():
            self.fail(node, f"a whole number belongs here, not {value:g}")
        plain: float = int(value) if whole else value
        return named(plain, text) if any(isinstance(n, ast.Name) and n.id != "round" for n in ast.walk(node)) else plain

    def text(self, node: ast.AST) -> str:
        if not isinstance(node, ast.Constant) or not isinstance(node.value, str):
            self.fail(node, "a text in quotation marks belongs here")
        return node.value

    # Operands

    def operand(self, node: ast.AST) -> Operand:
        """A value that can be compared."""
        if self.is_number(node):
            return self.make(node, NumberOperand, value=self.number(node))
        if isinstance(node, ast.Name):
            return self._name(node)
        if isinstance(node, ast.BinOp):
            return self._arithmetic(node)
        if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
            inner = self.operand(node.operand)
            if isinstance(inner, FieldOperand | IndicatorOperand | CustomOperand):
                return inner.model_copy(update={"times": -inner.times})
            return self.make(node, CombinedOperand, join="-", left=NumberOperand(), right=inner)
        if isinstance(node, ast.Attribute):
            return self._output(node)
        if isinstance(node, ast.Call):
            return self._call(node)
        if isinstance(node, ast.BoolOp | ast.Compare):
            self.fail(node, "a value belongs here, not a condition")
        self._stranger(node)

    def _stranger(self, node: ast.AST) -> NoReturn:
        """Refuse a form that the language does not have, and say what it has."""
        hint = slips.of_node(node)
        self.fail(node, f"this is not part of the formula language; {hint}" if hint else
                  "this is not part of the formula language")

    def _unknown(self, node: ast.AST, name: str, what: str = "") -> NoReturn:
        """Refuse a name that is not known, and say how it is written here."""
        hint = slips.of_name(name, self._known)
        self.fail(node, f'there is no {what}"{name}"' + (f": {hint}" if hint else nearest(name, self._known)))

    def _name(self, node: ast.Name) -> Operand:
        if node.id in PRICE_FIELDS:
            return FieldOperand(field=node.id)
        if node.id in language.STATES:
            return PositionOperand(state=node.id)
        if node.id in BY_KEY:
            self.fail(node, f"{node.id} is called with brackets: {language.signature(BY_KEY[node.id])}")
        if node.id in self._known:
            self.fail(node, f"{node.id} is a function: {self._known[node.id].signature}")
        self._unknown(node, node.id)

    def _arithmetic(self, node: ast.BinOp) -> Operand:
        join = _JOIN.get(type(node.op))
        if join is None:
            self.fail(node, slips.of_node(node) or "only + - * and / are known")
        left, right = self.operand(node.left), self.operand(node.right)
        if (join == "*" and isinstance(left, NumberOperand)
                and isinstance(right, FieldOperand | IndicatorOperand | CustomOperand) and right.times == 1.0):
            return right.model_copy(update={"times": left.value})
        return self.make(node, CombinedOperand, join=join, left=left, right=right)

    def _output(self, node: ast.Attribute) -> Operand:
        call = node.value
        if not (isinstance(call, ast.Call) and isinstance(call.func, ast.Name) and call.func.id in BY_KEY):
            self.fail(node, "a dot names the output of an indicator, as in bands(20, 2).upper")
        entry = BY_KEY[call.func.id]
        outs = {spelled(o.key): o.key for o in entry.outputs}
        if node.attr not in outs:
            self.fail(node, f'{entry.key} has no output "{node.attr}"; it has {", ".join(outs)}')
        return self._indicator(call, outs[node.attr])

    def _call(self, node: ast.Call) -> Operand:
        if not isinstance(node.func, ast.Name):
            self._stranger(node)
        name = node.func.id
        if name == "ago":
            self._count(node, 2)
            inner = self.operand(node.args[0])
            if isinstance(inner, NumberOperand | PositionOperand) or inner.ago:
                self.fail(node, "ago() stands directly around a series, once")
            return self._again(node, inner, ago=self.number(node.args[1], True))
        if name == "series":
            return self._series(node)
        if name == "own":
            return self._own(node)
        if name in BY_KEY:
            entry = BY_KEY[name]
            if len(entry.outputs) > 1:
                self.fail(node, f"say which output of {name}: {', '.join('.' + spelled(o.key) for o in entry.outputs)}")
            return self._indicator(node, entry.outputs[0].key)
        if name in _CONDITIONS:
            self.fail(node, f"a value belongs here; {name}() is a condition")
        if name in PRICE_FIELDS:
            self.fail(node, f"{name} has no brackets; the bar before is ago({name}, 1)")
        self._unknown(node, name, "function ")

    def _again(self, node: ast.AST, model: Any, **changes: Any) -> Any:
        return self.make(node, type(model), **({f: getattr(model, f) for f in type(model).model_fields} | changes))

    def _count(self, node: ast.Call, least: int, most: int | None = None) -> None:
        most = least if most is None else most
        if node.keywords or not least <= len(node.args) <= most or any(isinstance(a, ast.Starred) for a in node.args):
            name = node.func.id  # type: ignore[attr-defined]
            self.fail(node, f"it is written {self._known[name].signature}")

    def _series(self, node: ast.Call) -> Operand:
        if len(node.args) != 1 or not node.keywords:
            self.fail(node, f"it is written {self._known['series'].signature}")
        inner = self.operand(node.args[0])
        if (not isinstance(inner, FieldOperand | IndicatorOperand | CustomOperand) or inner.ago or inner.times != 1.0
                or inner.interval is not None or inner.market is not None):
            self.fail(node, "series() stands directly around a price or an indicator")
        changes: dict[str, Any] = {}
        for word in node.keywords:
            if word.arg == "interval":
                changes["interval"] = int(self.number(word.value, True))
            elif word.arg == "market":
                changes["market"] = self.text(word.value)
            else:
                self.fail(node, f"series() knows interval and market, not {word.arg}")
        return self._again(node, inner, **changes)

    def _own(self, node: ast.Call) -> Operand:
        if len(node.args) not in (1, 2):
            self.fail(node, f"it is written {self._known['own'].signature}")
        name = self.text(node.args[0])
        words = {self._keyword(node, w): w.value for w in node.keywords}
        digest, turns = self._names.own.get(name, (None, "unsigned"))
        if len(node.args) == 2:
            digest, turns = self.text(node.args[1]), "unsigned"
        if "turns" in words:
            turns = self.text(words.pop("turns"))
        if digest is None:
            self.fail(node, f'there is no confirmed own indicator "{name}"{nearest(name, self._names.own)}')
        params = {key: self.number(value) for key, value in words.items()}
        return self.make(node, CustomOperand, name=name, digest=digest, turns=turns, params=params)

    def _keyword(self, node: ast.AST, word: ast.keyword) -> str:
        if word.arg is None:
            self.fail(node, "** is not part of the formula language")
        return word.arg

    def _indicator(self, node: ast.Call, output: str) -> Operand:
        entry = BY_KEY[node.func.id]  # type: ignore[attr-defined]
        shape = language.signature(entry)
        arguments = list(node.args)
        fields: dict[str, Any] = {"indicator": entry.key, "output": output}
        if arguments and not self.is_number(arguments[0]):
            fields["of"] = self._source(arguments.pop(0), entry.takes_field, shape)
        keys = [p.key for p in entry.params]
        if len(arguments) > len(keys):
            self.fail(arguments[len(keys)], f"too many settings: {shape}")
        params = {key: self.number(one) for key, one in zip(keys, arguments)}
        for word in node.keywords:
            key = self._keyword(node, word)
            if key == "of" and "of" not in fields:
                fields["of"] = self._source(word.value, entry.takes_field, shape)
            elif key in keys and key not in params:
                params[key] = self.number(word.value)
            else:
                self.fail(word.value, f'{entry.key} has no setting "{key}", or it stands twice: {shape}')
        return self.make(node, IndicatorOperand, params=params, **fields)

    def _source(self, node: ast.AST, takes: bool, shape: str) -> Any:
        if not takes:
            self.fail(node, f"it reads whole bars, not a series: {shape}")
        return node.id if isinstance(node, ast.Name) and node.id in PRICE_FIELDS else self.operand(node)

    # Conditions

    def condition(self, node: ast.AST) -> Node:
        """A row, or a group of rows."""
        if isinstance(node, ast.BoolOp):
            match = "all" if isinstance(node.op, ast.And) else "any"
            return self.make(node, Condition, match=match, rows=tuple(self.condition(v) for v in node.values))
        if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
            return self.make(node, Condition, match="none", rows=(self.condition(node.operand),))
        if isinstance(node, ast.Compare):
            return self._compare(node)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in _CONDITIONS:
            return self._rule(node, node.func.id)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id not in self._known:
            self._unknown(node, node.func.id, "function ")
        if isinstance(node, ast.Name) and node.id not in self._known:
            self._unknown(node, node.id)
        hint = slips.of_node(node) if isinstance(node, ast.Tuple | ast.IfExp | ast.Subscript | ast.BinOp) else ""
        self.fail(node, hint or "a condition belongs here: compare a value, as in close > open")

    def _compare(self, node: ast.Compare) -> Node:
        sides = [node.left, *node.comparators]
        if len(node.ops) == 2 and all(isinstance(op, ast.LtE) for op in node.ops):
            return self.make(node, Row, left=self.operand(sides[1]), compare="between", right=self.operand(sides[0]),
                             upper=self.operand(sides[2]))
        rows = []
        for left, op, right in zip(sides, node.ops, sides[1:]):
            compare = _COMPARE.get(type(op))
            if compare is None:
                self.fail(node, "compare with > < >= <= or ==; for \"not equal\" write not a == b")
            rows.append(self.make(node, Row, left=self.operand(left), compare=compare, right=self.operand(right)))
        return rows[0] if len(rows) == 1 else self.make(node, Condition, match="all", rows=tuple(rows))

    def _rule(self, node: ast.Call, name: str) -> Node:
        if name in language.GROUPS:
            arguments = list(node.args)
            fields: dict[str, Any] = {"match": language.GROUPS[name]}
            if name == "at_least":
                if not arguments:
                    self.fail(node, f"it is written {self._known[name].signature}")
                fields["least"] = self.number(arguments.pop(0), True)
            if node.keywords:
                self.fail(node, f"it is written {self._known[name].signature}")
            return self.make(node, Condition, rows=tuple(self.condition(a) for a in arguments), **fields)
        if name in _MODIFIERS:
            return self._modified(node, name)
        if name in language.TURNING:
            self._count(node, 1, 2)
            row = self.make(node, Row, left=self.operand(node.args[0]), compare=language.TURNING[name])
            if len(node.args) == 1:
                return row
            return self._again(node, row, when="held", for_bars=self.number(node.args[1], True))
        fields = {}
        if name in language.EXTREMES:
            self._count(node, 1, 2)
            fields["compare"] = language.EXTREMES[name]
            rest = node.args[1:]
        else:
            self._count(node, 2, 3 if name in language.RANKS else 2)
            fields["compare"] = (language.RANKS | language.BANDS | language.COMPARING)[name]
            fields["right"] = self._band(node.args[1]) if name in language.BANDS else self.operand(node.args[1])
            rest = node.args[2:]
        if rest:
            fields["over"] = self.number(rest[0], True)
        return self.make(node, Row, left=self.operand(node.args[0]), **fields)

    def _band(self, node: ast.AST) -> Operand:
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in BY_KEY:
            outs = [o.key for o in BY_KEY[node.func.id].outputs]
            return self._indicator(node, "upper" if "upper" in outs else outs[0])
        return self.operand(node)

    def _modified(self, node: ast.Call, name: str) -> Node:
        self._count(node, 1 if name == "off" else 2)
        inner = self.condition(node.args[0])
        if name == "off":
            if not inner.on:
                self.fail(node, "it is switched off already")
            return inner.model_copy(update={"on": False})
        bars = self.number(node.args[1], True)
        if not inner.on or inner.back or (name != "ago" and inner.when != "now"):
            inner = self.make(node, Condition, rows=(inner,))
        changes = {"back": bars} if name == "ago" else {"when": name, "for_bars": bars}
        return self._again(node, inner, **changes)


def parse_condition(text: str, names: Names | None = None) -> Condition:
    """A condition from its formula; an empty text is an empty condition. Raises FormulaError with the position."""
    if not text.strip():
        return Condition()
    tree, moved = tree_of(text)
    reader = Reader(text, names or Names(), moved)
    try:
        made = reader.condition(tree.body)  # type: ignore[attr-defined]
        return made if isinstance(made, Condition) and made.on else reader.make(tree, Condition, rows=(made,))
    except RecursionError:
        raise FormulaError("this is nested too deeply", 1, 0) from None


def parse_operand(text: str, names: Names | None = None) -> Operand:
    """A value from its formula. Raises FormulaError with the position."""
    tree, moved = tree_of(text)
    try:
        return Reader(text, names or Names(), moved).operand(tree.body)  # type: ignore[attr-defined]
    except RecursionError:
        raise FormulaError("this is nested too deeply", 1, 0) from None
