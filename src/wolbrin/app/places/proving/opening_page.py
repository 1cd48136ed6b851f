"""The plan of an opening: families, ways to open them, and with what chance anything stands, before a sealed bar is read."""

from __future__ import annotations

from PySide6.QtWidgets import QButtonGroup, QRadioButton, QWidget

from wolbrin.app.parts import button, clear, column, label, row
from wolbrin.app.places.proving.gate_page import WIDTH
from wolbrin.app.places.proving.state import ProvingState
from wolbrin.core.measures.wording import number
from wolbrin.core.proving.opening_plan import Choice, Plan, told

MOST = 8  # families that are listed
SOME = (6, 3, 1)  # numbers of the strongest families that are told
YEAR = 252.0


def _percent(chance: float) -> str:
    return f"{number(100 * chance)}%"


class OpeningPage(QWidget):
    def __init__(self, state: ProvingState) -> None:
        super().__init__()
        self.state = state
        self.setFixedWidth(WIDTH)
        self.title = label("", "heading")
        self.says = label("", "small", wrap=True)
        self.families = column(spacing=3)
        self.ways = column(spacing=3)
        self.more = label("", "small", wrap=True)
        self.group = QButtonGroup(self)
        self.open = button("Open", state.open_holdout, main=True, tip="Counted, and final (Ctrl+H)")
        self.leave = button("Leave it sealed", state.leave_sealed, tip="Nothing was opened")
        self.setLayout(column(self.title, self.says, label("Ways to open", "heading"), self.ways,
                              row(self.open, self.leave, None), label("Families", "heading"), self.families, self.more,
                              None, spacing=6, margins=(12, 0, 0, 0)))

    def show_plan(self, plan: Plan) -> None:
        self.title.setText(f"Opening {plan.number}, planned")
        self.says.setText(f"{told(plan)}{' ' + self.state.before if self.state.before else ''} Nothing is opened yet.")
        self._families(plan)
        self._ways(plan)
        years = [f"{d / YEAR:.1f} years: {_percent(chance)}" for d, chance in plan.longer]
        weak = " As it is, this opening would hardly tell an edge from none." if plan.weak else ""
        now = f"{plan.sealed / YEAR:.1f} years now"
        self.more.setText(f"With other lengths of sealed days ({now}), {'; '.join(years)}.{weak}")

    def _families(self, plan: Plan) -> None:
        clear(self.families)
        for at, f in enumerate(plan.families[:MOST], 1):
            bet, others = plan.bets[f.representative], len(f.members) - 1
            alike = f" and {number(others)} like it" if others else ""
            words = label(f"{at}. {bet.name} on {bet.market}{alike}; t {number(bet.t, 1)}, {number(bet.expected, 1)} without "
                          "selection", "small", wrap=True)
            words.setToolTip("\n".join(plan.bets[i].name for i in f.members[:40]))
            self.families.addWidget(words)
        if len(plan.families) > MOST:
            self.families.addWidget(label(f"and {number(len(plan.families) - MOST)} more", "small"))

    def _ways(self, plan: Plan) -> None:
        clear(self.ways)
        for old in self.group.buttons():
            self.group.removeButton(old)
        most = max((c.families for c in plan.choices), default=0)
        for c in self._worth_telling(plan):
            made = QRadioButton(self._words(c, most))
            made.setToolTip(self._tip(c))
            made.setChecked(c.key == self.state.choice)
            made.toggled.connect(lambda on, c=c: self._chosen(c, most) if on else None)
            self.group.addButton(made)
            self.ways.addWidget(made)
        chosen = plan.choice(self.state.choice)
        if chosen is not None:
            self._chosen(chosen, most)

    @staticmethod
    def _worth_telling(plan: Plan) -> list[Choice]:
        """The proposed way, both for all families, and the better one for some numbers of the best."""
        most = max((c.families for c in plan.choices), default=0)
        out = [c for i, c in enumerate(plan.choices) if i == 0 or c.families == most]
        for m in SOME:
            several = [c for c in plan.choices if c.families == m < most and c not in out]
            if several and all(c.families != m for c in out):
                out.append(max(several, key=lambda c: c.chance))
        return out

    def _words(self, c: Choice, most: int) -> str:
        which = ("the only family" if most == 1 else "the strongest family" if c.families == 1 else
                 "both families" if c.families == most == 2 else f"{'all' if c.families == most else 'best'} {c.families}")
        how = ", together first" if c.whole else ", each by itself" if c.families > 1 else ""
        return f"{which}{how}: {_percent(c.chance)}"

    def _tip(self, c: Choice) -> str:
        whole = f"all together need a t of {number(c.t_whole, 2)}, " if c.whole else ""
        return (f"{whole}the best family a t of {number(c.t_best, 2)}. Chance that anything stands "
                f"{_percent(c.chance)}, that a family does {_percent(c.family)}; {number(c.expected, 1)} on average.")

    def _chosen(self, c: Choice, most: int) -> None:
        self.state.choose(c.key)
        self.open.setText(f"Open {'the family' if c.families == 1 else f'{c.families} families'}")
