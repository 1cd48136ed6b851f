"""Costs and contract facts are declared once: a toy of each, put beside the others, is found wherever they are."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest
from tools import facts

from tests.build import terms
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.record import Record, charged_by
from wolbrin.core.market.costs import Costs, cost_facts
from wolbrin.core.market.terms import Financing, term_facts

# Everything that knows costs is imported after the toys are in.
TOY = """
import json, sys
from typing import Annotated
from pydantic import Field
import wolbrin.core.market.declared as declared
import wolbrin.core.market.terms as terms
class ToyTerms(terms.Terms):
    hue: Annotated[float, declared.Fact("hue", "shades", "how blue it is", "--hue", later=True)] = Field(1.0, gt=0)
terms.Terms = ToyTerms
import wolbrin.core.market.costs as costs
class ToyCosts(costs.Costs):
    toll: Annotated[float, declared.Fact("toll", "account money", "at each bridge", "--toll", "toll {:g}", scaled=True,
                                         later=True)] = Field(0.0, ge=0)
costs.Costs = ToyCosts
from pathlib import Path
from wolbrin.cli.main import build
from wolbrin.core.engine.record import Record
from wolbrin.core.store.settings import Settings
from wolbrin.core.store.project import Project
from tests.build import cross, walk_bars
from tests.core.test_evidence import fresh
from tools import facts, schemas
import typer
one = Record(engine="e", market="M", interval=15, history="h", strategy="s")
out = {"key": one.key, "dear key": one.model_copy(update={"costs": ToyCosts(toll=2)}).key,
       "words": one.model_copy(update={"costs": ToyCosts(toll=2)}).words(),
       "identity": terms.Terms(code="A", tick_size=1, point_value=1).identity(),
       "blue": terms.Terms(code="A", tick_size=1, point_value=1, hue=3).identity(),
       "scaled": ToyCosts(toll=2).scaled(1.5).toll, "dearer": ToyCosts(toll=2).dearer(ToyCosts(toll=3)).toll,
       "page": facts.page(facts.PAGE.read_text()), "schema": schemas.texts()["market.schema.json"],
       "plan": schemas.texts()["portfolio.schema.json"]}
group = typer.main.get_command(build(lambda *_: 0, lambda: Path("/nowhere"), list))
out["options"] = [o for p in group.commands["set"].params for o in p.opts]
project = fresh(Path(sys.argv[1]))
project.save_strategy(cross(), "AAA", 15)
from wolbrin.app.start import application
from wolbrin.app.theme.theme import Theme
from wolbrin.app.session import Session
from wolbrin.app.shell.window import MainWindow
from wolbrin.core.jobs import Engine
app, engine, theme = application(), Engine(1), Theme()
theme.apply()
window = MainWindow(Session(project, engine, theme))
from wolbrin.app.places.markets.page import Looked
from wolbrin.app.places.markets.terms import TermsPage
from wolbrin.app.facts import dear_facts
page = TermsPage(Looked(window.session))
page.fill(project.market("AAA").terms)
out["form"] = [k for k in ("toll", "hue") if k in page.fields]
page.fields["hue"].setText("2.5")
out["read"] = page.read_terms().hue
window.brief._edit_costs(window.brief.costs)
from PySide6.QtWidgets import QDoubleSpinBox
out["brief"] = [b.accessibleName() for w in app.topLevelWidgets() for b in w.findChildren(QDoubleSpinBox)]
out["member"] = [d.key for d in dear_facts()]
window.close()
window.session.stop_all()
engine.close()
project.close()
from typer.testing import CliRunner
ran = CliRunner().invoke(build(lambda *_: 0, lambda: Path("/nowhere"), list),
                         ["set", "-p", sys.argv[1], "-m", "AAA", "--toll", "4", "--hue", "2", "--json"])
out["set"] = ran.stdout
print("\\n" + json.dumps(out))
"""


@pytest.fixture(scope="module")
def told(tmp_path_factory: pytest.TempPathFactory) -> dict[str, object]:
    root = Path(__file__).parents[2]
    ran = subprocess.run([sys.executable, "-c", TOY, str(tmp_path_factory.mktemp("toy") / "p")], capture_output=True,
                         text=True, cwd=root, env={**os.environ, "PYTHONPATH": str(root), "QT_QPA_PLATFORM": "offscreen"})
    assert ran.returncode == 0, ran.stderr[-3000:]
    found: dict[str, object] = json.loads(ran.stdout.splitlines()[-1])
    return found


def test_a_toy_cost_and_a_toy_term_are_found_everywhere(told: dict[str, object]) -> None:
    assert "toll 2" in str(told["words"])
    assert told["scaled"] == 3.0
    assert told["dearer"] == 3.0
    for option in ("--toll", "--hue"):
        assert option in told["options"]  # type: ignore[operator]
    for row in ("| `toll` | toll | account money, at each bridge | 0.0 | `--toll` |", "| `hue` | hue |"):
        assert row in str(told["page"])
    assert '"hue"' in str(told["schema"])
    assert '"toll"' in str(told["plan"])
    assert told["form"] == ["toll", "hue"]
    assert told["read"] == 2.5
    assert "toll" in told["brief"]  # type: ignore[operator]
    assert "toll" in told["member"]  # type: ignore[operator]
    came = json.loads(str(told["set"]))
    assert came["costs"]["AAA"]["toll"] == 4.0
    assert came["terms"]["AAA"]["hue"] == 2.0


def test_what_comes_later_keeps_the_keys_of_what_was_kept_before(told: dict[str, object]) -> None:
    one = Record(engine="e", market="M", interval=15, history="h", strategy="s")
    assert told["key"] == one.key
    assert told["dear key"] != one.key
    plain = str(told["identity"])
    assert "hue" not in plain
    assert "hue" in str(told["blue"])


def test_the_page_of_market_files_is_the_present_one() -> None:
    """docs/market-file.md is written by tools/facts.py."""
    before = facts.PAGE.read_text()
    assert facts.page(before) == before
    assert len(cost_facts()) == 8
    assert all(d.fact.help for d in (*cost_facts(), *term_facts()))


def test_a_record_names_all_costs_and_trading_free_says_so() -> None:
    market = terms(financing=Financing(long=-0.4, short=0.2), conversion_rate=1.1)
    full = Costs(spread_ticks=1, slippage_ticks=0.5, per_contract=2.4, percent=0.01, minimum=3, financing_short=0.1,
                 roll_ticks=2)
    one = Record(engine="e", market="M", interval=15, history="h", strategy="s", costs=full, charged=charged_by(market, full))
    assert ("spread 1 + slippage 0.5 + 2.40 a side + 0.01% + at least 3.00 + financing short 0.1 + roll 2 + financing long "
            "-0.4 of the terms, converted at 1.1") in one.words()
    assert one.key == one.model_copy(update={"charged": {}}).key
    assert "costs free of costs" not in one.words()
    assert Costs.none().free
    assert "free of costs" in one.model_copy(update={"costs": Costs.none(), "charged": {}}).words()


def test_a_brief_without_costs_takes_the_markets_own() -> None:
    market = terms(spread_ticks=2, slippage_ticks=1)
    assert Brief().on(market).paid == Costs.of(market)
    assert Brief(costs=Costs.none()).on(market).paid == Costs.none()
    with pytest.raises(ValueError, match="market's own"):
        _ = Brief().paid
