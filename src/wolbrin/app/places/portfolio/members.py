"""The members of the portfolio: how much of each, and what each adds."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QSignalBlocker, Signal
from PySide6.QtWidgets import QCheckBox, QGridLayout, QLineEdit, QSizePolicy, QWidget

from wolbrin.app.facts import dear_facts, fact_spin, title_of
from wolbrin.app.parts import column, label, row, spin
from wolbrin.app.places.portfolio.settings import loss_of, loss_text
from wolbrin.app.places.portfolio.state import PortfolioState
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.figures.portfolios import MEMBERS
from wolbrin.core.market.costs import Costs
from wolbrin.core.measures.wording import number, percent
from wolbrin.core.portfolio.plan import Member

NAN = float("nan")


@dataclass(frozen=True)
class Line:
    """A member as it is shown. at: place in the plan; on: place among those that trade, -1 for none."""

    at: int
    on: int
    known: bool  # what came of it; else it is being traded, off, or cannot be
    member: Member
    share: float
    contracts: float
    net: float
    profit: float
    risk: float
    average: float
    trades: float
    stands: str


class MembersView(QWidget):
    """A table of members, and the fields of the chosen one."""

    chosen = Signal(int)

    def __init__(self, state: PortfolioState) -> None:
        super().__init__()
        self.state = state

        def told(line: Line, text: str) -> str:
            return "\u2026" if state.trading and line.on >= 0 and not line.known else text

        self.table = Table([
            Column("no.", lambda r: r.at, lambda r: str(r.on + 1) if r.on >= 0 else "off", "right", 34,
                   tint=lambda r: None if r.on >= 0 else "muted", figure=MEMBERS["member.number"]),
            Column("member", lambda r: r.member.name, lambda r: f"{r.member.name} {r.member.market}", width=92,
                   hover=lambda r: f"{r.member.name} on {r.member.market}: {r.stands}"),
            Column("share", lambda r: r.share, lambda r: percent(r.share, 1), "right", 64, figure=MEMBERS["member.share"]),
            Column("contracts", lambda r: r.contracts, lambda r: told(r, number(r.contracts, 2)), "right", 66,
                   figure=MEMBERS["member.contracts"]),
            Column("net", lambda r: r.net, lambda r: told(r, number(r.net, sign=True)), "right", 70,
                   tint=lambda r: "gain" if r.net > 0 else "loss" if r.net < 0 else None, figure=MEMBERS["member.net"]),
            Column("profit", lambda r: r.profit, lambda r: told(r, percent(r.profit)), "right", 54,
                   figure=MEMBERS["member.profit"], rank=3),
            Column("risk", lambda r: r.risk, lambda r: told(r, percent(r.risk)), "right", 50, figure=MEMBERS["member.risk"],
                   rank=1),
            Column("corr.", lambda r: r.average, lambda r: told(r, number(r.average, 2)), "right", 52,
                   figure=MEMBERS["member.average"], rank=2),
            Column("first", lambda r: r.member.priority, lambda r: str(r.member.priority), "right", 38,
                   figure=MEMBERS["member.priority"], rank=4),
            Column("stands", lambda r: r.stands, width=60)], state.session.theme, "Members")
        self.name = label("Choose a member to change it.", "muted")
        self.name.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.on = QCheckBox("trades")
        self.share = spin(0, 0, 1e6, 1, 5)
        self.share.setSuffix("%")
        self.contracts = spin(0, 0, 1e9, 2, 1)
        self.contracts.setSpecialValueText("by share")
        self.priority = spin(1, 1, 1000, 0, 1)
        self.loss = QLineEdit()
        self.loss.setPlaceholderText("none")
        self.own = QCheckBox("own costs")
        self.facts = dear_facts()
        self.costs = {d.key: fact_spin(d) for d in self.facts}
        for box, name, width in ((self.share, "Share", 76), (self.contracts, "Contracts", 84), (self.priority, "Priority",
                                                                                                52),
                                 *((self.costs[d.key], f"Own costs: {title_of(d)}", 60) for d in self.facts)):
            box.setAccessibleName(name)
            box.setMaximumWidth(width)
            box.setKeyboardTracking(False)
        self.loss.setAccessibleName("Daily loss limit of the member")
        self.loss.setMaximumWidth(60)
        self.editor = QWidget()
        self.editor.setLayout(column(
            row(self.on, label("share", "muted"), self.share, label("contracts", "muted"), self.contracts,
                label("first", "muted"), self.priority, None),
            row(label("daily loss", "muted"), self.loss, self.own, None),
            self._cost_grid(), spacing=3))
        self.editor.setEnabled(False)
        self.setLayout(column(self.table, self.name, self.editor, spacing=4))
        self.on.toggled.connect(lambda v: self._set(on=v))
        self.share.valueChanged.connect(lambda v: self._set(share=float(v) / 100))
        self.contracts.valueChanged.connect(lambda v: self._set(contracts=float(v) or None))
        self.priority.valueChanged.connect(lambda v: self._set(priority=int(v)))
        self.loss.editingFinished.connect(self._limit)
        self.own.toggled.connect(self._own_costs)
        for box in self.costs.values():
            box.valueChanged.connect(self._own_costs)
        self.table.chosen.connect(self._choose)
        self.at = -1

    def _cost_grid(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(3)
        for at, d in enumerate(self.facts):
            grid.addWidget(label(d.fact.short or d.fact.title, "muted"), at // 3, 2 * (at % 3))
            grid.addWidget(self.costs[d.key], at // 3, 2 * (at % 3) + 1)
        grid.setColumnStretch(6, 1)
        return grid

    def _choose(self, line: Line) -> None:
        self.at = line.at
        self.show_member()
        self.chosen.emit(line.at)

    def _set(self, **fields: object) -> None:
        if 0 <= self.at < len(self.state.plan.members):
            self.state.change_member(self.at, **fields)

    def _limit(self) -> None:
        found = loss_of(self.loss.text())
        if isinstance(found, str):
            self.state.session.note(found, "caution")
            self.show_member()
        elif 0 <= self.at < len(self.state.plan.members) and self.loss.text().strip() != loss_text(
                self.state.plan.members[self.at].limit):
            self._set(limit=found)

    def _own_costs(self) -> None:
        on = self.own.isChecked()
        for box in self.costs.values():
            box.setEnabled(on)
        at, plan = self.at, self.state.plan
        old = plan.members[at].costs if 0 <= at < len(plan.members) else None
        made = (old or Costs()).model_copy(update={k: box.value() for k, box in self.costs.items()})
        self._set(costs=made.model_dump() if on else None)

    def show_member(self) -> None:
        """Show the fields of the chosen member."""
        plan = self.state.plan
        there = 0 <= self.at < len(plan.members)
        self.editor.setEnabled(there)
        if not there:
            self.name.setText("Choose a member to change it.")
            return
        m = plan.members[self.at]
        self.name.setText(f"{m.name} on {m.market}")
        self.name.setToolTip(self.name.text())
        costs = m.costs or self._project_costs(m.market)
        shares = dict(zip([i for i, x in enumerate(plan.members) if x.on], plan.split.tolist()))
        boxes = [(self.share, 100 * shares.get(self.at, m.share)), (self.contracts, m.contracts or 0.0),
                 (self.priority, m.priority), *((self.costs[d.key], d.of(costs)) for d in self.facts)]
        for box, value in boxes:
            with QSignalBlocker(box):
                box.setValue(value)
        for check, value in ((self.on, m.on), (self.own, m.costs is not None)):
            with QSignalBlocker(check):
                check.setChecked(value)
        for box in self.costs.values():
            box.setEnabled(m.costs is not None)
        self.loss.setText(loss_text(m.limit))

    def _project_costs(self, market: str) -> Costs:
        s = self.state.session
        entry = next((m for m in s.project.markets() if m.terms.code == market), None)
        return s.settings.costs_of(entry.terms) if entry is not None else Costs.none()

    def show_lines(self) -> None:
        """Show all members with what each adds, as far as that is known."""
        state, told = self.state, self.state.told
        plan, lines, on = state.plan, [], -1
        if told is not None and [m.key for m in told.played.plan.on] != [m.key for m in plan.on]:
            told = None  # of other members: they are being traded
        shares = plan.split.tolist()
        for at, m in enumerate(plan.members):
            on += m.on
            known = told is not None and m.on and on < len(told.played.parts)
            stands = state.standing[at] if at < len(state.standing) else ""
            if known and told is not None:
                p, sizes = told.parts, told.played.rounding
                lines.append(Line(at, on, True, m, shares[on], float(sizes.whole[on]), float(p.net[on]), float(p.share[on]),
                                  float(p.risk[on]), float(p.average[on]), float(len(told.played.runs[on])), stands))
            else:
                lines.append(Line(at, on if m.on else -1, False, m, shares[on] if m.on else NAN, NAN, NAN, NAN, NAN, NAN, NAN,
                                  stands))
        self.table.set_records(lines)
        self.show_member()
