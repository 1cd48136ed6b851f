"""The demo markets are what docs/demo-data.md says: same bits everywhere, edges where planted, none elsewhere."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import numpy as np
import pytest
from scipy import stats

from tests.build import any_seed, draw_strategy
from tests.core.test_controls import holds_ranges
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.market.bars import Bars, Span, day_number
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.csv_files import read_bars
from wolbrin.core.market.intervals import to_interval
from wolbrin.core.market.sessions import NS_A_MINUTE
from wolbrin.core.market.terms import load_terms
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.portfolio.combine import correlation, daily_matrix
from wolbrin.core.rules.axes import Axis
from wolbrin.core.rules.model import load_strategy
from wolbrin.core.search.folds import Length
from wolbrin.core.search.walked import efficiency
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import Settings
from wolbrin.core.study.shuffle import shuffle, shuffled
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.scan_request import ScanRequest
from wolbrin.core.work.scanning import scan_here
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.walk_reading import walked
from wolbrin.core.work.walk_request import WalkRequest
from wolbrin.core.work.walk_work import WalkWork
from wolbrin.core.work.walking import laid_over
from wolbrin.demo.build import EIDER, PETREL, STRATEGIES, TERN, build_demo, is_complete
from wolbrin.demo.generator import mix, normal, walk
from wolbrin.demo.markets import MARKETS, MISSING_MONTH, Faults, generate, soil

FILES = Path(__file__).parents[2] / "src/wolbrin/demo/files"
HASHES = {line.split()[0]: line.split()[1] for line in (Path(__file__).parent / "hashes.txt").read_text().splitlines()}


@pytest.fixture(scope="module")
def bars() -> dict[str, Bars]:
    return {m.terms.code: generate(m) for m in MARKETS}


@pytest.fixture(scope="module")
def quarter(bars: dict[str, Bars]) -> dict[str, Prepared]:
    return {code: Prepared.of(to_interval(b, 15)) for code, b in bars.items()}


def gross_t(history: Prepared, strategy, span: Span | None = None) -> float:
    """t of the average trade without costs."""
    lots = 0.5 if history.bars.terms.kind == "currency pair" else 1.0
    run = backtest(history, strategy.model_copy(update={"quantity": lots}), Brief(span or Span(), Costs.none()), detail=False)
    return measure(Facts.of(run), ("t",))["t"]


def test_bit_identical_everywhere(bars: dict[str, Bars]) -> None:
    """Digests of all bars, fixed once: any machine must find them again."""
    assert {code: b.hash for code, b in bars.items()} == HASHES


def test_generator_is_exact_integer_and_compiled_alike() -> None:
    """splitmix64's finalizer (Steele, Lea & Flood 2014) in Python's own big integers; py_func equals compiled."""
    def reference(seed: int, a: int, b: int) -> int:
        m = 2**64
        z = (seed + a * 0x9E3779B97F4A7C15 + b * 0xD1B54A32D192ED03) % m
        z = ((z ^ (z >> 30)) * 0xBF58476D1CE4E5B9) % m
        z = ((z ^ (z >> 27)) * 0x94D049BB133111EB) % m
        return z ^ (z >> 31)

    for args in ((1, 2, 3), (2**63, 29_000_000, 3603), (77, 0, 0)):
        assert int(mix(np.uint64(args[0]), args[1], args[2])) == reference(*args)
    draws = np.array([normal(np.uint64(5), i, 0) for i in range(20_000)])
    assert stats.kstest(draws, "norm").pvalue > 1e-4
    n = 300
    args = (np.arange(n) * 5, np.arange(n, dtype=np.int32) // 96, np.arange(n, dtype=np.int32) // 96, np.ones(n),
            MARKETS[0].shape, np.uint64(3), np.uint64(4))
    with np.errstate(over="ignore"):
        slow = walk.py_func(*args)
    for a, b in zip(walk(*args), slow):
        np.testing.assert_array_equal(a, b)


def test_markets_have_the_promised_shape(bars: dict[str, Bars]) -> None:
    assert sum(m.terms.kind == "future" for m in MARKETS) == 6
    assert sum(m.terms.kind == "currency pair" for m in MARKETS) == 4
    for market in MARKETS:
        b = bars[market.terms.code]
        assert b.trading_date[0] <= day_number(dt.date(2016, 1, 5))
        assert b.trading_date[-1] >= day_number(dt.date(2025, 12, 30))
        assert b.left_out == b.off_grid == 0
        inside = np.diff(b.c.astype(float))[np.diff(b.session) == 0]
        assert stats.kurtosis(inside) > 0.5, "fat tails"
        size = np.abs(inside)
        starts = np.append(0, b.day_ends[:-1] + 1)
        ranges = (np.maximum.reduceat(b.h, starts) - np.minimum.reduceat(b.l, starts)).astype(float)
        assert np.corrcoef(ranges[1:], ranges[:-1])[0, 1] > 0.1, "volatility comes in clusters"
        gaps = np.abs(b.o[1:].astype(float) - b.c[:-1])[np.diff(b.session) != 0]
        assert gaps.mean() > 1.5 * size.mean() * (0.3 if market.terms.kind == "currency pair" else 1), "overnight gaps"
        slot = (b.time - b.sessions.open[b.session]) // (5 * NS_A_MINUTE)
        ends = (slot < 6) | (slot > slot.max() - 6)
        middle = np.abs(slot - slot.max() / 2) < 6
        span = (b.h - b.l).astype(float)
        assert span[ends].mean() > 1.3 * span[middle].mean(), "sessions begin and end lively"


def test_planted_edges_are_there(quarter: dict[str, Prepared]) -> None:
    """A breakout earns where directions hold, a fade where prices are pulled back; in every half of the history."""
    halves = (Span(None, dt.date(2020, 12, 31)), Span(dt.date(2021, 1, 1), None))
    for code, strategy in (("NPW", TERN), ("CRB", TERN), ("BBY", EIDER), ("AUDNZD", EIDER)):
        for half in halves:
            assert gross_t(quarter[code], strategy, half) > 3.0, (code, half)


def test_noise_markets_have_no_edge_beyond_chance(quarter: dict[str, Prepared]) -> None:
    """Twelve honest tries on four markets without an edge: no t beyond what twelve draws of a normal reach once in a
    thousand (two-sided, Bonferroni)."""
    limit = stats.norm.ppf(1 - 0.001 / 12 / 2)
    for code in ("ASL", "NOKSEK", "CADCHF", "EURPLN"):
        for strategy in (TERN, EIDER, PETREL):
            assert abs(gross_t(quarter[code], strategy)) < limit, (code, strategy.name)


def random_ts(history: Prepared, seed: int, count: int = 200) -> np.ndarray:
    """t of the average trade, before costs, of random strategies with stops."""
    lots = 0.5 if history.bars.terms.kind == "currency pair" else 1.0
    found = []
    for k in range(count):
        run = backtest(history, draw_strategy(np.random.default_rng((seed, k)), "x", quantity=lots),
                       Brief(costs=Costs.none()),
                       detail=False)
        if len(run) >= 30:
            found.append(measure(Facts.of(run), ("t",))["t"])
    return np.array(found)


def test_random_strategies_earn_nothing_before_costs_on_noise(quarter: dict[str, Prepared]) -> None:
    """On every noise market and on shuffled histories: mean t within 0.1 of 0, 47 to 53% profit, each within three standard
    errors of so many strategies. A path that jumped over stops, or a shuffle that reached too little, shows here."""
    made = {code: random_ts(quarter[code], 3) for code in ("ASL", "NOKSEK", "CADCHF", "EURPLN")}
    for mirrored in (False, True):
        made[f"shuffled {mirrored}"] = np.concatenate([random_ts(shuffle(quarter[code], 5, mirrored), 4, 100)
                                                       for code in ("ASL", "NOKSEK", "CADCHF", "EURPLN")])
    for name, t in made.items():
        room = 3 / np.sqrt(len(t))
        assert abs(t.mean()) < 0.1 + room * t.std(ddof=1), name
        assert abs((t > 0).mean() - 0.5) < 0.03 + room * 0.5, name


def test_controls_of_every_market_keep_the_range_of_its_days_in_ticks(quarter: dict[str, Prepared]) -> None:
    seed = any_seed()
    for flat in (False, True):
        for code, history in quarter.items():
            holds_ranges(history.bars, shuffled(history.bars, seed, True, flat))
            print(code, flat)


def test_a_scan_says_where_there_is_something_and_where_nothing(quarter: dict[str, Prepared]) -> None:
    """What the page of truth says, by fewer rows than the usual scan has; 5 of 100 noise markets may say something."""
    span = Span(Settings().training_first, Settings().training.last)
    said = {}
    for code, history in quarter.items():
        request = ScanRequest(((code, 15),), count=1_500, draws=100, pairs=False)
        said[code] = bool(scan_here([history], [Brief(span, Costs.none())], request).beyond())
    planted = ("NPW", "CRB", "HFR", "BBY", "AUDNZD")
    assert all(said[code] for code in planted)
    assert sum(said[code] for code in said if code not in planted) <= 1


def test_the_dying_edge_dies(quarter: dict[str, Prepared]) -> None:
    died = dt.date(2020, 6, 30)
    assert gross_t(quarter["HFR"], TERN, Span(None, died)) > 4.0
    assert abs(gross_t(quarter["HFR"], TERN, Span(dt.date(2020, 7, 1), None))) < 3.3


def test_what_tuning_promises_carries_over_where_edges_last_and_falls_where_one_dies(
        bars: dict[str, Bars], quarter: dict[str, Prepared], tmp_path: Path) -> None:
    """Walked without costs: efficiency near one on the lasting edge, and on the one that dies until it does."""
    sealed = Settings(training_first=dt.date(2016, 1, 1), holdout_first=dt.date(2025, 12, 1), last=dt.date(2025, 12, 31))
    project = Project.create(tmp_path / "p", sealed)
    rules = TERN
    axes = (Axis("stop.amount", "stop", (1.5, 2.5, 3.5)), Axis("target.amount", "target", (2.0, 3.0, 4.0)))
    found = {}
    for code in ("NPW", "HFR"):
        project.add_market(bars[code].terms, bars[code], "skx")
        brief = Brief(Span(None, dt.date(2025, 11, 30)), Costs.none())
        sweep = SweepRequest(rules, code, 15, axes)
        request = laid_over(quarter[code], brief, WalkRequest(sweep, (Length(24, "months"),), (Length(6, "months"),)))
        work = WalkWork(Footing.of(project), request, brief, "")
        sets = work.sets_on(quarter[code])
        fits = {span: work.fit(span, sets, quarter[code]).fit for span in request.spans}
        found[code] = walked(request, 0, fits, quarter[code], brief).tested
    project.close()
    assert 0.6 < efficiency(found["NPW"]) < 1.4
    dies = dt.date(2020, 7, 1)
    assert 0.6 < efficiency([t for t in found["HFR"] if t.fold.test_last < dies]) < 1.4
    assert efficiency([t for t in found["HFR"] if t.fold.test_first >= dies and t.fit.net > 0]) < 0.35


def test_related_markets_make_related_bets(quarter: dict[str, Prepared]) -> None:
    runs = [backtest(quarter[code], TERN, Brief(costs=Costs.none())) for code in ("NPW", "CRB", "ASL")]
    matrix = correlation(daily_matrix(runs)[1])
    assert matrix[0, 1] > 0.35
    assert abs(matrix[0, 2]) < 0.1


def test_dirty_data_is_dirty_as_written_down(bars: dict[str, Bars]) -> None:
    cob = bars["COB"]
    months = cob.time.view("datetime64[ns]").astype("datetime64[M]")
    assert not (months == np.datetime64(f"{MISSING_MONTH[0]}-{MISSING_MONTH[1]:02d}")).any()
    assert np.count_nonzero(cob.h == cob.l) > 200
    time = np.arange(60_000, dtype=np.int64) * 5 * NS_A_MINUTE
    ticks = np.tile(np.array([100, 110, 90, 105], np.int32), (60_000, 1))
    stays, faults = soil(time, ticks)
    assert isinstance(faults, Faults)
    assert len(faults.spikes) > 0
    assert len(faults.flat) == np.count_nonzero(ticks[:, 1] == ticks[:, 2])
    assert len(faults.removed) == np.count_nonzero(~stays)


def test_the_project_builds_once_and_resumes(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("wolbrin.demo.build.MARKETS", MARKETS[:2])
    folder = tmp_path / "demo"
    assert not is_complete(folder)
    said: list[tuple[str, int, int]] = []
    project = build_demo(folder, lambda *x: said.append(x))
    assert [m.code for m in project.markets()] == ["NPW", "ASL"]
    assert len(project.strategies()) == len(STRATEGIES) == 3
    project.history_path(project.market("ASL")).unlink()
    project.close()
    assert not is_complete(folder)
    build_demo(folder).close()
    assert is_complete(folder)
    assert said[-1][0] == "Demo ready"
    assert said[-1][1] == said[-1][2]


def test_shipped_files_are_good_examples() -> None:
    """The small CSV files, the market file and the strategy file that ship for imports and the command line."""
    terms = load_terms(FILES / "market-npw.json")
    strategy = load_strategy(FILES / "strategy-tern.json")
    read = [read_bars(FILES / name, terms) for name in ("npw-iso.csv", "npw-epoch.csv", "npw-semicolon.csv")]
    for one in read[1:]:
        np.testing.assert_array_equal(one.c, read[0].c)
        np.testing.assert_array_equal(one.time, read[0].time)
    assert len(backtest(to_interval(read[0], 15), strategy, Brief(costs=Costs.none()))) > 3
