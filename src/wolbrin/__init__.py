"""Wolbrin: a workbench for developing, proving and combining intraday strategies.

`import wolbrin as wb` loads nothing heavy and no window; each name below is read when it is first used (docs/python.md).
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from wolbrin.core.market.costs import Costs
    from wolbrin.face.histories import bars, market
    from wolbrin.face.projects import project
    from wolbrin.face.runs import backtest, monte_carlo, strategy
    from wolbrin.face.searches import discover, study, sweep, walk_forward
    from wolbrin.face.together import overlap, portfolio

__version__ = "0.1.0"
__all__ = ["Costs", "backtest", "bars", "discover", "market", "monte_carlo", "overlap", "portfolio", "project", "strategy",
           "study", "sweep", "walk_forward"]


def _costs(name: str) -> Any:
    from wolbrin.core.market import costs  # late
    return getattr(costs, name)


def _histories(name: str) -> Any:
    from wolbrin.face import histories  # late
    return getattr(histories, name)


def _runs(name: str) -> Any:
    from wolbrin.face import runs  # late
    return getattr(runs, name)


def _searches(name: str) -> Any:
    from wolbrin.face import searches  # late
    return getattr(searches, name)


def _together(name: str) -> Any:
    from wolbrin.face import together  # late
    return getattr(together, name)


def _projects(name: str) -> Any:
    from wolbrin.face import projects  # late
    return getattr(projects, name)


_WHERE: dict[str, Callable[[str], Any]] = {
    "Costs": _costs, "bars": _histories, "market": _histories, "backtest": _runs, "monte_carlo": _runs, "strategy": _runs,
    "discover": _searches, "study": _searches, "sweep": _searches, "walk_forward": _searches, "overlap": _together,
    "portfolio": _together, "project": _projects}


def __getattr__(name: str) -> Any:
    if name not in _WHERE:
        raise AttributeError(f"wolbrin has no {name}; it has {', '.join(__all__)}")
    return _WHERE[name](name)


def __dir__() -> list[str]:
    return sorted([*__all__, "__version__"])
