"""What the terms page does with cost sets and files: adding, removing and using sets, loading and saving terms."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from PySide6.QtWidgets import QFileDialog

from wolbrin.app.places.markets.page import Page, choose
from wolbrin.core.errors import WolbrinError
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.terms import Terms, load_terms
from wolbrin.core.store.settings import CONTRACT_COSTS
from wolbrin.core.written import write_text


class TermsActs(Page):
    _before: Terms | None

    def add(self: Any) -> None:
        """A new cost set, at first as the one that is shown."""
        name, before = self.new_name.text().strip(), self._before
        if before is None or not name:
            self.fault.setText("Write a name for the new cost set first.")
            self.new_name.setFocus()
            return
        if name in self.session.settings.sets_of(before):
            self.fault.setText(f'There is a cost set "{name}" already.')
            return
        try:
            costs = self.read_costs()
        except WolbrinError as err:
            self.fault.setText(err.sentence())
            return
        self._change_sets(with_set(self.session.settings.cost_sets, before.code, name, costs), f"add cost set {name}")
        self.new_name.clear()
        choose(self.which, name)
        self._fill_costs()
        self.edited()

    def remove_set(self: Any) -> None:
        assert self._before is not None
        name, code = self.which.currentData(), self._before.code
        sets = {c: {n: v for n, v in every.items() if (c, n) != (code, name)}
                for c, every in self.session.settings.cost_sets.items()}
        self._change_sets(sets, f"remove cost set {name}")

    def _change_sets(self: Any, after: dict[str, dict[str, Costs]], words: str) -> None:
        s, before = self.session, self.session.settings.cost_sets

        def put(sets: dict[str, dict[str, Costs]]) -> None:
            s.change_settings(cost_sets=dumped(sets))
            self._before = None
            self.activate()

        s.do(words, lambda: put(after), lambda: put(before))

    def use_set(self: Any) -> None:
        """Let the brief use the set that is shown."""
        assert self._before is not None
        s, code, name = self.session, self._before.code, self.which.currentData() or CONTRACT_COSTS
        chosen = {k: v for k, v in s.settings.cost_set.items() if k != code} | ({code: name} if name else {})
        s.change_settings(cost_set=chosen)
        self._fill_costs()

    def load(self: Any) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Load contract terms", "", "JSON (*.json)")
        if path:
            self.load_from(Path(path))

    def load_from(self: Any, path: Path) -> None:
        """Fill the form from a terms file; nothing is kept before Save."""
        before = self._before
        read = self.session.attempt(lambda: load_terms(path))
        if read is not None and before is not None:
            self.fill(read.model_copy(update={"code": before.code}))
            self._before = before
            self.edited()

    def export(self: Any) -> None:
        assert self._before is not None
        path, _ = QFileDialog.getSaveFileName(self, "Save contract terms", f"market-{self._before.code.lower()}.json",
                                              "JSON (*.json)")
        if path:
            self.export_to(Path(path))

    def export_to(self: Any, path: Path) -> None:
        assert self._before is not None
        text = self._before.model_dump_json(indent=2) + "\n"
        self.session.attempt(lambda: write_text(path, text))


def with_set(sets: dict[str, dict[str, Costs]], code: str, name: str, costs: Costs) -> dict[str, dict[str, Costs]]:
    return {**sets, code: {**sets.get(code, {}), name: costs}}


def dumped(sets: dict[str, dict[str, Costs]]) -> dict[str, Any]:
    return {code: {name: json.loads(c.model_dump_json()) for name, c in every.items()} for code, every in sets.items()}


