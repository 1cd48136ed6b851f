"""One condition as lines that read as sentences, groups inside groups, every part editable in place."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QSize, QTimer
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QSpinBox, QVBoxLayout, QWidget

from wolbrin.app.parts import Choice, Popup, button, clear, label, link, row
from wolbrin.app.places.rules.naming import Tick
from wolbrin.app.places.rules.operand import Context, operand_link
from wolbrin.core.rules.model import (
    BANDED,
    COMPARISONS,
    RANKED,
    UNARY,
    Condition,
    FieldOperand,
    IndicatorOperand,
    NumberOperand,
    Row,
)
from wolbrin.core.rules.words import in_time_words, node_words

Path = tuple[int, ...]
Node = Row | Condition
MATCHES = [("all of", "all"), ("any of", "any"), ("at least", "at least"), ("not", "none")]
LATER = "\u22ef"
INDENT = 14


def node_at(root: Condition, path: Path) -> Node:
    found: Node = root
    for i in path:
        found = found.rows[i]  # type: ignore[union-attr]
    return found


def with_node(root: Condition, path: Path, node: Node | None) -> Condition:
    """The condition with the node at `path` replaced, or removed where it is None."""
    if not path:
        assert isinstance(node, Condition)
        return node
    rows = list(root.rows)
    if len(path) == 1:
        rows[path[0]:path[0] + 1] = [] if node is None else [node]
    else:
        inner = rows[path[0]]
        assert isinstance(inner, Condition)
        rows[path[0]] = with_node(inner, path[1:], node)
    return root.model_copy(update={"rows": tuple(rows)})


class NodePopup(Popup):
    """What a row or group adds in time, and what can be done with it as a whole."""

    def __init__(self, editor: ConditionEditor, path: Path) -> None:
        super().__init__(editor)
        node = node_at(editor.condition, path)
        name = f"{editor.title} {'group' if isinstance(node, Condition) else 'row'}"
        self._editor, self._path = editor, path
        self.when = Choice([("now", "now"), ("held for", "held"), ("within", "within")], node.when, f"{name} in time")
        self.when.chosen.connect(lambda v: self._change(when=v))
        self.body.addWidget(self.when)
        self._number("bars", f"{name} bars", node.for_bars, 1, "for_bars", "of the last")
        self._number("bars ago", f"{name} bars ago", node.back, 0, "back", "as it was")
        if isinstance(node, Row) and node.compare in RANKED:
            self._number("bars", f"{name} looked over", node.over, 1, "over", "looked over")
        acts = [button("Up", lambda: self._move(-1)), button("Down", lambda: self._move(1)),
                button("Repeat", self._repeat, tip="The same row once more")]
        if isinstance(node, Condition):
            acts.append(button("Ungroup", self._ungroup))
        else:
            acts.append(button("Group", self._group, tip="Put this row into a group of its own"))
        self.body.addLayout(row(*acts, spacing=5))

    def _number(self, unit: str, name: str, value: int, low: int, field: str, title: str) -> None:
        box = QSpinBox()
        box.setRange(low, 5000)
        box.setValue(value)
        box.setSuffix(f" {unit}")
        box.setAccessibleName(name)
        tick = Tick(box, name, self._editor.context.naming, lambda: self._change(**{field: tick.value()}))
        tick.setText("sweep")
        tick.show_value(value)
        title_label = label(title, "muted")
        title_label.setFixedWidth(74)
        self.body.addLayout(row(title_label, box, tick, None))

    def _change(self, **changes: Any) -> None:
        node = node_at(self._editor.condition, self._path)
        self._editor.put(self._path, node.model_copy(update=changes), "condition in time")

    def _siblings(self) -> list[Node]:
        parent = node_at(self._editor.condition, self._path[:-1])
        assert isinstance(parent, Condition)
        return list(parent.rows)

    def _arrange(self, rows: list[Node], text: str) -> None:
        parent = node_at(self._editor.condition, self._path[:-1])
        self._editor.put(self._path[:-1], parent.model_copy(update={"rows": tuple(rows)}), text)
        self.close()

    def _move(self, by: int) -> None:
        rows, at = self._siblings(), self._path[-1]
        if 0 <= at + by < len(rows):
            rows[at], rows[at + by] = rows[at + by], rows[at]
            self._arrange(rows, "order of rows")

    def _repeat(self) -> None:
        rows = self._siblings()
        rows.insert(self._path[-1], rows[self._path[-1]])
        self._arrange(rows, "repeat a row")

    def _group(self) -> None:
        rows = self._siblings()
        rows[self._path[-1]] = Condition(match="any", rows=(rows[self._path[-1]],))
        self._arrange(rows, "group a row")

    def _ungroup(self) -> None:
        rows = self._siblings()
        group = rows[self._path[-1]]
        assert isinstance(group, Condition)
        rows[self._path[-1]:self._path[-1] + 1] = group.rows
        self._arrange(rows, "ungroup rows")


class ConditionEditor(QWidget):
    """Shows a condition; `changed` is called with the edited one. Read-only ones (a mirrored side) show words only."""

    def __init__(self, title: str, changed: Callable[[Condition, str], None], context: Context) -> None:
        super().__init__()
        self.title = title
        self.context = context
        self._changed = changed
        self.condition = Condition()
        self.editable = True
        self._box = QVBoxLayout(self)
        self._box.setContentsMargins(0, 0, 0, 0)
        self._box.setSpacing(3)

    @property
    def bare(self) -> bool:
        """Whether nothing is laid out yet."""
        return not self._box.count()

    def show_condition(self, condition: Condition, editable: bool = True) -> None:
        self.condition, self.editable = condition, editable
        clear(self._box)
        self._box.addLayout(self._head((), condition, editable))
        if not condition.rows:
            self._box.addWidget(label("never" if not editable else "no row yet, so it never fires", "small"))
        self._lines((), condition, editable)

    def _lines(self, path: Path, group: Condition, editable: bool) -> None:
        for i, one in enumerate(group.rows):
            at = (*path, i)
            if not editable:
                if one.on:
                    self._box.addWidget(label(node_words(one), "small", wrap=True))
            elif isinstance(one, Condition):
                self._box.addLayout(self._head(at, one, True))
                self._lines(at, one, True)
            else:
                self._box.addLayout(self._line(at, one))

    def sizeHint(self) -> QSize:
        return self._box.sizeHint()

    # Changing

    def put(self, path: Path, node: Node | None, text: str) -> None:
        """Replace or remove one node; the model refuses what cannot be, and then all stays."""
        after = with_node(self.condition, path, node)
        self._changed(after, f"{text}, {self.title}")

    def add_row(self, path: Path = ()) -> None:
        """Append a sensible first row: close crosses above its average."""
        self.append(path, Row(compare="crosses above", right=IndicatorOperand(indicator="ema", params={"length": 20})))

    def add_group(self, path: Path = ()) -> None:
        """Append a group of any of two rows."""
        above = Row(compare="above", right=IndicatorOperand(indicator="ema", params={"length": 20}))
        rises = Row(compare="rises")
        self.append(path, Condition(match="any", rows=(above, rises)))

    def append(self, path: Path, node: Node) -> None:
        group = node_at(self.condition, path)
        assert isinstance(group, Condition)
        self.put(path, group.model_copy(update={"rows": (*group.rows, node)}), "add to")

    # Lines

    def _name(self, path: Path, what: str = "row") -> str:
        return f"{self.title} {what} {'.'.join(str(i + 1) for i in path)}"

    def _switch(self, path: Path, node: Node, what: str) -> QCheckBox:
        on = QCheckBox()
        on.setChecked(node.on)
        on.setToolTip(f"Switch this {what} on or off")
        on.setAccessibleName(f"{self._name(path, what)} on")
        on.toggled.connect(lambda v: self.put(path, node_at(self.condition, path).model_copy(update={"on": v}), "switch"))
        return on

    def _time_link(self, path: Path, node: Node, what: str) -> QWidget:
        words = in_time_words(node).strip(" ,") or LATER
        made = link(words, role="part" if words != LATER else "link", tip=f"{self._name(path, what)}: in time, order, groups")
        made.clicked.connect(lambda: NodePopup(self, path).open_under(made))
        return made

    def _head(self, path: Path, group: Condition, editable: bool) -> QHBoxLayout:
        """The first line of a group, or of the whole condition."""
        name = self._name(path, "group") if path else self.title
        if not editable:
            return row(label(self.title, "muted"), None)
        line = row(spacing=7, margins=(INDENT * max(0, len(path) - 1), 0, 0, 0))
        if path:
            line.addWidget(self._switch(path, group, "group"))
        else:
            line.addWidget(label(self.title, "muted"))
        if path or len(group.rows) > 1 or group.match != "all":
            match = QComboBox()
            match.addItems([text for text, _ in MATCHES])
            match.setCurrentIndex([v for _, v in MATCHES].index(group.match))
            match.setAccessibleName(f"{name} joined by")
            match.currentIndexChanged.connect(lambda i: self.put(path, node_at(self.condition, path).model_copy(
                update={"match": MATCHES[i][1]}), "joined by"))
            line.addWidget(match)
        if group.match == "at least":
            least = QSpinBox()
            least.setRange(1, 40)
            least.setValue(group.least)
            least.setAccessibleName(f"{name} at least")
            least.valueChanged.connect(lambda v: self.put(path, node_at(self.condition, path).model_copy(
                update={"least": v}), "at least"))
            line.addWidget(least)
        if path:
            line.addWidget(self._time_link(path, group, "group"))
        line.addStretch(1)
        line.addWidget(link("+ row", lambda: self.add_row(path), tip=f"Add a row to {name}"))
        line.addWidget(link("+ group", lambda: self.add_group(path), tip=f"Add a group to {name}"))
        if path:
            line.addWidget(link("\u00d7", lambda: self.put(path, None, "remove a group"), tip=f"Remove {name}"))
        return line

    def _line(self, path: Path, one: Row) -> QHBoxLayout:
        name = self._name(path)

        def replace(**changes: Any) -> None:
            # Known here before it is told: the line stays as it is while its popup is open.
            node = node_at(self.condition, path).model_copy(update=changes)
            self.condition = with_node(self.condition, path, node)
            self.put(path, node, "edit a row")

        left = operand_link(one.left, f"{name} left", lambda o: replace(left=o), self, self.context,
                            None if one.compare in UNARY else one.right)
        compare = QComboBox()
        compare.addItems(list(COMPARISONS))
        compare.setCurrentText(one.compare)
        compare.setAccessibleName(f"{name} comparison")
        compare.currentTextChanged.connect(lambda text: self._compared(path, text))
        line = row(self._switch(path, one, "row"), left, compare, spacing=7,
                   margins=(INDENT * (len(path) - 1), 0, 0, 0))
        if one.compare not in UNARY:
            line.addWidget(operand_link(one.right, f"{name} right", lambda o: replace(right=o), self, self.context,
                                        one.left))
        if one.compare == "between" and one.upper is not None:
            line.addWidget(label("and", "muted"))
            line.addWidget(operand_link(one.upper, f"{name} upper", lambda o: replace(upper=o), self, self.context,
                                        one.left))
        if one.compare in RANKED:
            line.addWidget(label(f"of {one.over}", "muted"))
        line.addWidget(self._time_link(path, one, "row"))
        line.addStretch(1)
        line.addWidget(link("\u00d7", lambda: self.put(path, None, "remove a row"), tip=f"Remove {name}"))
        return line

    def _compared(self, path: Path, text: str) -> None:
        """Another comparison: give it sides that it can compare with."""
        one = node_at(self.condition, path)
        assert isinstance(one, Row)
        right = one.right
        changes: dict[str, Any] = {"compare": text, "upper": None}
        if text in UNARY:
            changes["right"] = NumberOperand()
        elif text in BANDED:
            banded = isinstance(right, IndicatorOperand) and right.indicator in ("bands", "keltner", "donchian")
            changes["right"] = right if banded else IndicatorOperand(indicator="bands", output="upper")
        elif text == "between":
            changes["upper"] = IndicatorOperand(indicator="bands", output="upper") if isinstance(
                one.left, FieldOperand) else NumberOperand(value=100.0)
            if isinstance(one.left, FieldOperand):
                changes["right"] = IndicatorOperand(indicator="bands", output="lower")
        elif text.startswith("ranks"):
            changes["right"] = NumberOperand(value=80.0 if text.endswith("above") else 20.0)
            changes["over"] = 100
        if text not in RANKED:
            changes["over"] = Row.model_fields["over"].default
        # The line is laid out anew once this signal is done.
        QTimer.singleShot(0, self, lambda: self.put(path, one.model_copy(update=changes), "comparison"))
