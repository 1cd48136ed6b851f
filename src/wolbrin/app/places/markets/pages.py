"""The one list of pages of Markets. A page is made, and its code read, when it is first shown: reading files needs packages
that are slow to load."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QStackedWidget

from wolbrin.app.places.markets.page import Looked, Page


def _quality(looked: Looked) -> Page:
    from wolbrin.app.places.markets.quality import QualityPage  # late
    return QualityPage(looked)


def _treatment(looked: Looked) -> Page:
    from wolbrin.app.places.markets.treatment import TreatmentPage  # late
    return TreatmentPage(looked)


def _terms(looked: Looked) -> Page:
    from wolbrin.app.places.markets.terms import TermsPage  # late
    return TermsPage(looked)


def _span(looked: Looked) -> Page:
    from wolbrin.app.places.markets.span import SpanPage  # late
    return SpanPage(looked)


def _compare(looked: Looked) -> Page:
    from wolbrin.app.places.markets.compare import ComparePage  # late
    return ComparePage(looked)


def _contracts(looked: Looked) -> Page:
    from wolbrin.app.places.markets.contracts import ContractsPage  # late
    return ContractsPage(looked)


def _import(looked: Looked) -> Page:
    from wolbrin.app.places.markets.importing import ImportPage  # late
    return ImportPage(looked)


# Key, title, what makes it.
PAGES: tuple[tuple[str, str, Callable[[Looked], Page]], ...] = (
    ("quality", "Quality", _quality), ("treatment", "Treatment", _treatment), ("terms", "Terms and costs", _terms),
    ("span", "Bars and span", _span), ("compare", "Two sources", _compare), ("contracts", "Contract months", _contracts),
    ("import", "Import", _import))


class Pages(dict[str, Page]):
    """Pages by key, each made when it is first asked for."""

    def __init__(self, looked: Looked, stack: QStackedWidget) -> None:
        super().__init__()
        self._looked, self._stack = looked, stack

    def __missing__(self, key: str) -> Page:
        page = self[key] = next(make for k, _, make in PAGES if k == key)(self._looked)
        self._stack.addWidget(page)
        return page
