"""A portfolio as JSON and as text."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from wolbrin.cli.common import console, measures_table
from wolbrin.core.measures.wording import number, percent, worded
from wolbrin.core.portfolio.chances import LOSSES, RISKS
from wolbrin.core.portfolio.contributions import Change
from wolbrin.core.portfolio.told import Told
from wolbrin.core.portfolio.weighing import Table
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import Kept
from wolbrin.core.work.standing import Standings

PARTS_SHOWN = 5
REFUSED_SHOWN = 200


def changes_answer(changes: Sequence[Change]) -> list[dict[str, Any]]:
    return [{"name": c.name, "figures": c.figures, "fault": c.fault} for c in changes]


def weights_answer(table: Table, names: Sequence[str]) -> dict[str, Any]:
    """Schemes beside each other."""
    return {"recommended": table.recommended, "why": table.why, "p_best": table.p_best, "fits": table.fits,
            "schemes": [{"key": r.key, "title": r.title, "weights": dict(zip(names, r.weights.tolist())),
                         "risk": dict(zip(names, r.risk.tolist())), "sharpe": r.sharpe, "net": r.net, "drawdown": r.drawdown,
                         "return_drawdown": r.return_drawdown, "turnover": r.turnover, "p": r.p} for r in table.rows]}


def answer(project: Project, told: Told, kept: Sequence[Kept], chosen: str) -> dict[str, Any]:
    """Everything about a portfolio that was traded."""
    made, parts, c = told.played, told.parts, told.chances
    standings, sizes, labels = Standings(project), made.rounding, labels_of(kept)
    members = [{"id": k.id, "name": k.candidate.name, "market": k.candidate.market, "stands": standings.of(k).stands,
                "tried": k.candidate.tried, "share": float(made.plan.shares[i]), "scale": float(made.scales[i]),
                "contracts_asked": float(sizes.asked[i]), "contracts": float(sizes.whole[i]), "priority": m.priority,
                "net": float(parts.net[i]), "of_profit": float(parts.share[i]), "of_risk": float(parts.risk[i]),
                "average_correlation": float(parts.average[i]), "trades": len(made.runs[i]), "record": told.records[i]}
               for i, (k, m) in enumerate(zip(kept, made.plan.on))]
    refused = [{"member": labels[r.member], "at": r.at, "side": r.side, "reason": r.reason}
               for r in made.refused[:REFUSED_SHOWN]]
    return {"chosen": chosen, "name": made.plan.name, "plan": made.plan, "capital": made.capital,
            "members": [k.id for k in kept], "candidates": members, "effective_bets": told.bets, "measures": told.figures,
            "parts": dict(zip(labels, told.each)), "cautions": told.cautions, "lost_by_rounding": sizes.lost,
            "trades": len(made.entries), "refused": len(made.refused), "refusals": refused, "ruined": made.ruined,
            "drawdowns": [{"from": f.begin, "trough": f.trough, "depth": f.depth, "each": dict(zip(labels, f.each.tolist()))}
                          for f in parts.falls],
            "margin": {"hours": told.use.margin, "positions": told.use.positions,
                       "tightest": [vars(t) for t in told.use.tightest]},
            "buy_and_hold": float(told.holding[-1]) if len(told.holding) else 0.0,
            "monte_carlo": {"ruin": dict(zip(map(str, LOSSES), c.ruin.tolist())),
                            "capital": dict(zip(map(str, RISKS), c.capital.tolist())), "drawdown_median": c.drawdown[0],
                            "drawdown_95": c.drawdown[1], "block": c.block, "growth_optimal": c.optimal}}


def labels_of(kept: Sequence[Kept]) -> list[str]:
    """Members by id and name."""
    return [f"{k.id} {k.candidate.name}" for k in kept]


def show(told: Told, kept: Sequence[Kept], chosen: str) -> None:
    """The same for people."""
    made = told.played
    console.print(f"{len(kept)} members ({chosen}), worth {number(told.bets, 1)} bets; capital {number(made.capital)}, "
                  f"{made.plan.words()}.", markup=False)
    labels = labels_of(kept)
    figures = {"portfolio": told.figures} | dict(list(zip(labels, told.each))[:PARTS_SHOWN])
    console.print(measures_table("The whole and its members", figures))
    sizes = made.rounding
    for i, label in enumerate(labels):
        console.print(f"{label:<28} share {number(100 * float(made.plan.shares[i]), 1):>6}%  contracts "
                      f"{number(float(sizes.whole[i]), 2):>7}  of profit {percent(float(told.parts.share[i]), 1):>7}  of "
                      "risk "
                      f"{percent(float(told.parts.risk[i]), 1):>7}", markup=False)
    c = told.chances
    console.print(f"Days drawn anew: drawdown {number(c.drawdown[0])} in the middle, {number(c.drawdown[1])} in 5 of 100; "
                  f"capital for a risk of 10%: {number(float(c.capital[-1]))}; the fastest growth of the past was at "
                  f"{number(c.optimal, 1)} times this size, a ceiling.", markup=False)
    for text in told.cautions:
        console.print(text, markup=False)


def show_changes(title: str, told: Told, changes: Sequence[Change]) -> None:
    """What remains without each, or comes with each."""
    console.print(title, markup=False)
    rows = [("as it is", told.figures, ""), *((c.name, c.figures, c.fault) for c in changes)]
    for name, figures, fault in rows:
        console.print(f"  {name:<28} net {worded('net', figures['net']):>10}  drawdown "
                      f"{worded('max_drawdown', figures['max_drawdown']):>9}  ret/dd "
                      f"{worded('return_drawdown', figures['return_drawdown']):>6}  Sharpe "
                      f"{worded('sharpe', figures['sharpe']):>6} {fault}", markup=False)


def show_weights(table: Table, names: Sequence[str]) -> None:
    """Schemes beside each other."""
    console.print("Weights, walked forward inside training:", markup=False)
    for r in table.rows:
        mark = "\u2192" if r.key == table.recommended else " "
        shares = " ".join(f"{100 * w:.0f}" for w in r.weights.tolist())
        console.print(f"{mark} {r.title:<22} Sharpe {number(r.sharpe, 2):>6}  ret/dd {number(r.return_drawdown, 2):>6}  p "
                      f"{number(r.p, 2):>5}  shares in % {shares}", markup=False)
    console.print(table.why, markup=False)
