"""How the portfolio trades: its account, sizes and limits, on the face of the place."""

from __future__ import annotations

from PySide6.QtCore import QSignalBlocker
from PySide6.QtWidgets import QComboBox, QDoubleSpinBox, QLineEdit, QWidget

from wolbrin.app.parts import Choice, column, label, link, row, spin
from wolbrin.app.places.portfolio.state import PortfolioState
from wolbrin.core.portfolio.plan import LossLimit
from wolbrin.core.portfolio.weights import OWN, SCHEMES

SIZE = ("How much is traded in all, counted in members at their own size: 0 is as many as there are, so that at equal "
        "weights each trades its own size. Whole contracts are rounded down.")
SHARES = ("member", "market", "family", "side")


def loss_text(limit: LossLimit | None) -> str:
    """A daily limit as it is written."""
    return "" if limit is None else f"{limit.amount:g}{'%' if limit.percent else ''}"


def loss_of(text: str) -> dict[str, object] | str | None:
    """What was written: nothing, money, or percent; a sentence where it is none of these."""
    text = text.strip().replace(",", "")
    if not text:
        return None
    try:
        return {"amount": float(text.rstrip("% ")), "percent": text.endswith("%")}
    except ValueError:
        return f'"{text}" is no loss; write money such as 500, or percent such as 2%.'


class SettingsRow(QWidget):
    """Two rows of settings."""

    def __init__(self, state: PortfolioState) -> None:
        super().__init__()
        self.state = state
        self.capital = spin(50_000, 1, 1e12, 0, 5_000)
        self.account = Choice([("one account", True), ("an account each", False)], True, "Account")
        self.weights = QComboBox()
        for one in SCHEMES:
            self.weights.addItem(one.title, one.key)
        self.weights.addItem("own", OWN)
        self.whole = spin(0, 0, 1e6, 2, 1)
        self.follow = Choice([("fixed", "none"), ("follow monthly", "monthly"), ("in steps", "steps")], "none", "Sizes")
        self.step = spin(10, 0.1, 1000, 1, 5)
        self.step.setSuffix("%")
        self.loss = QLineEdit()
        self.loss.setPlaceholderText("none")
        self.most = {key: spin(0, 0, 100, 0, 5) for key in SHARES}
        for box, name, width in ((self.capital, "Capital", 96), (self.whole, "Size of the whole", 76),
                                 (self.step, "Step of equity", 66), *((b, f"Most of one {k}", 58) for k,
                                                                      b in self.most.items())):
            box.setAccessibleName(name)
            box.setMaximumWidth(width)
            box.setKeyboardTracking(False)
        for box in self.most.values():
            box.setSuffix("%")
            box.setSpecialValueText("any")
        self.whole.setSpecialValueText("all")
        self.whole.setToolTip(SIZE)
        self.weights.setAccessibleName("Weights")
        self.loss.setAccessibleName("Daily loss limit of the account")
        self.loss.setMaximumWidth(64)
        self.zone = QComboBox()
        self.zone.setAccessibleName("Time zone of the account")
        self.zone.setToolTip("Whose calendar days and months the account's daily loss and sizes go by")
        self.zone.setMaximumWidth(130)
        self.zone.activated.connect(lambda _: state.change(zone=self.zone.currentText()))
        self.all_trade = link("so that all trade", state.size_for_all, tip="The smallest size at which every member trades "
                              "at least its smallest lot")
        self.setLayout(column(
            row(label("capital", "muted"), self.capital, self.account, label("weights", "muted"), self.weights,
                label("size", "muted"), self.whole, self.all_trade, None, label("days in", "muted"), self.zone),
            row(label("sizes", "muted"), self.follow, self.step, label("daily loss", "muted"), self.loss,
                label("most of one:", "muted"), *(part for k in SHARES for part in (label(k, "muted"), self.most[k])), None),
            spacing=4))
        self.capital.valueChanged.connect(lambda v: state.change(capital=float(v)))
        self.account.chosen.connect(lambda v: state.change(one_account=v))
        self.weights.activated.connect(self._weigh)
        self.whole.valueChanged.connect(lambda v: state.change(size=float(v) or None))
        self.follow.chosen.connect(lambda v: state.change(resize=v))
        self.step.valueChanged.connect(lambda v: state.change(step=float(v)))
        self.loss.editingFinished.connect(self._limit)
        for box in self.most.values():
            box.valueChanged.connect(self._limits)
        state.planned.connect(self.show_plan)

    def _weigh(self) -> None:
        key = str(self.weights.currentData())
        if key == OWN:
            self.state.change(weights=OWN)
        else:
            self.state.use_scheme(key)

    def _limit(self) -> None:
        found = loss_of(self.loss.text())
        if isinstance(found, str):
            self.state.session.note(found, "caution")
            self.show_plan()
        elif self.loss.text().strip() != loss_text(self.state.plan.limit):
            self.state.change(limit=found)

    def _limits(self) -> None:
        limits = {k: box.value() / 100 or None for k, box in self.most.items()}
        key = self.state.plan.weights
        if self.state.change(limits=limits) and key != OWN:
            self.state.use_scheme(key)

    def show_plan(self) -> None:
        """Show the portfolio's settings."""
        plan = self.state.plan
        boxes: list[tuple[QDoubleSpinBox, float]] = [(self.capital, self.state.capital), (self.whole, plan.size or 0.0),
                                                     (self.step, plan.step)]
        boxes += [(box, 100 * (getattr(plan.limits, key) or 0.0)) for key, box in self.most.items()]
        for box, value in boxes:
            with QSignalBlocker(box):
                box.setValue(value)
        zones = dict.fromkeys(["UTC", plan.zone, *(m.terms.time_zone for m in self.state.session.project.markets())])
        if [self.zone.itemText(i) for i in range(self.zone.count())] != list(zones):
            self.zone.clear()
            self.zone.addItems(list(zones))
        self.zone.setCurrentText(plan.zone)
        self.account.set(plan.one_account)
        self.follow.set(plan.resize)
        self.step.setEnabled(plan.resize == "steps")
        self.weights.setCurrentIndex(max(0, self.weights.findData(plan.weights)))
        self.loss.setText(loss_text(plan.limit))
