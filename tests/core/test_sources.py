"""Sources in a project: import to treatment, cost sets, spans, two sources compared, continuous futures, migration."""

from __future__ import annotations

import datetime as dt
import json
import sqlite3
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from tests.build import cross, instants, terms, walk_bars
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Span, make_bars
from wolbrin.core.market.contracts import Month, Rule, adjusted, join_months
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.importing.files import pieces
from wolbrin.core.market.importing.guess import guess
from wolbrin.core.market.importing.layout import Layout, make_layout
from wolbrin.core.market.importing.read import Reader
from wolbrin.core.market.intervals import Interval
from wolbrin.core.market.likely.clock import Clock
from wolbrin.core.market.likely.terms_of import likely_terms
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.terms import Terms
from wolbrin.core.market.treatment import Treatment
from wolbrin.core.market.two_sources import compare_sources
from wolbrin.core.market.words import worth_lines
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store import schema
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import OwnSpan, Settings
from wolbrin.core.store.sources import intervals_for
from wolbrin.core.study.answers import StudyAnswer, TrialAnswer
from wolbrin.core.work.importing import take_in, take_in_all
from wolbrin.core.work.markets import compare, count_bars, join_contracts
from wolbrin.core.work.sweep_answer import SweepAnswer
from wolbrin.core.work.sweep_sets import ParameterSet

LAYOUT = Layout(columns=("time", "open", "high", "low", "close", "volume"))
BARS = walk_bars(3_000, seed=11, code="AAA")
RAW = Raw.of(BARS)


@pytest.fixture
def project(tmp_path: Path) -> Project:
    made = Project.create(tmp_path / "p", Settings(training_first=dt.date(2024, 1, 1), holdout_first=dt.date(2024, 12, 1),
                                                   last=dt.date(2025, 1, 1)))
    made.add_market(BARS.terms, BARS, "first")
    return made


def test_a_source_grows_and_the_market_follows_the_one_it_is_tested_on(project: Project) -> None:
    half = RAW.take(slice(0, 2_000))
    made, joined = take_in(project, BARS.terms, "second", half, keep="old", origin="a.csv", layout=LAYOUT)
    assert (made.rows, joined.added) == (2_000, 2_000)
    assert project.market("AAA").source == "first", "a further source does not change what is tested"
    files = set(project.history_folder.iterdir())
    made, joined = take_in(project, BARS.terms, "second", RAW, keep="old", origin="b.csv", layout=LAYOUT)
    assert (made.rows, joined.added, joined.same) == (3_000, 1_000, 2_000)
    assert made.origin == "a.csv; b.csv"
    assert len(list(project.history_folder.iterdir())) == len(files), "the old file is gone"
    project.sources.activate("AAA", "second")
    assert project.base("AAA").hash == BARS.hash
    with pytest.raises(UserError, match="tested on"):
        project.sources.remove("AAA", "second")
    source = project.sources.get("AAA", "first")
    project.sources.remove("AAA", "first")
    project.sources.restore(source)
    assert len(project.base("AAA", "first")) == 3_000


def test_treatment_is_recorded_and_results_name_it(project: Project) -> None:
    before = backtest(project.prepared("AAA", 15), cross(), Brief()).record()
    flat = RAW.high == RAW.low
    assert flat.any()
    file = project.history_folder / project.sources.get("AAA", "first").file
    kept = file.read_bytes()
    project.sources.treat("AAA", "first", Treatment(no_range="leave out"))
    after = backtest(project.prepared("AAA", 15), cross(), Brief()).record()
    assert before.history != after.history
    assert len(project.base("AAA")) == 3_000 - flat.sum()
    assert project.market("AAA").bars == 3_000 - flat.sum()
    past = project.sources.treatments("AAA", "first")
    assert past[0]["hash"] == project.base("AAA").hash
    assert "no-range bars left out" in past[0]["words"]
    project.sources.treat("AAA", "first", Treatment())
    assert backtest(project.prepared("AAA", 15), cross(), Brief()).record() == before
    assert file.read_bytes() == kept, "the rows as they came are untouched"
    reopened = Project(project.folder)
    assert len(reopened.sources.treatments("AAA", "first")) == 2


def test_a_failed_import_leaves_nothing(project: Project) -> None:
    outside = Raw(15, RAW.time + 12 * 3600 * 10**9 * 7, *RAW.prices, RAW.volume).take(slice(0, 3))
    before = sorted(p.name for p in project.history_folder.iterdir())
    good = RAW.take(slice(0, 50))
    closed = BARS.terms.model_copy(update={"closed": tuple(f"{m:02d}-{d:02d}" for m in range(1, 13) for d in range(1, 29))})
    with pytest.raises(UserError):
        take_in_all(project, closed, [("one", good), ("two", outside)], keep="old", origin="x", layout=LAYOUT)
    assert sorted(p.name for p in project.history_folder.iterdir()) == before
    assert [s.name for s in project.sources.of("AAA")] == ["first"]


def test_ticks_are_kept_and_give_bars_by_activity(project: Project) -> None:
    rng = np.random.default_rng(4)
    time = instants(1, 15)[0] + np.sort(rng.integers(0, 8 * 3600 * 10**9, 5_000))
    price = np.round(100 + np.cumsum(rng.normal(0, 0.02, 5_000)), 2)
    ticks = Raw(0, time, price, price, price, price, np.ones(5_000))
    layout = LAYOUT.model_copy(update={"columns": ("time", "price", "volume"), "build": 5})
    made, _ = take_in(project, terms(code="TIC"), "feed", ticks, keep="old", origin="t", layout=layout)
    assert (made.kind, made.interval) == ("ticks", 5)
    assert project.market("TIC").minutes == 5
    inside = count_bars(project, made, Interval("ticks", 100).code)
    assert 40 <= inside <= 50
    again, joined = take_in(project, terms(code="TIC"), "feed", ticks, keep="old", origin="t", layout=layout)
    assert (joined.added, again.rows) == (0, 5_000)
    run = backtest(project.prepared("TIC", Interval("range", 10).code), cross(), Brief())
    assert run.record().interval == Interval("range", 10).code
    assert DAILY_LAST in intervals_for(made)


DAILY_LAST = 1440


def test_spans_limits_and_cost_sets_reach_the_brief(project: Project) -> None:
    base = project.settings
    id = project.save_strategy(cross(), "AAA", 15)
    project.set_own_span(id, OwnSpan(last=dt.date(2024, 1, 31)))
    assert project.settings.of(project.strategy(id).own).training == Span(dt.date(2024, 1, 1), dt.date(2024, 1, 31))
    variant = project.save_strategy(cross(name="Other"), "AAA", 15, parent=id)
    assert project.strategy(variant).own == project.strategy(id).own, "a variant inherits it, whatever its name"
    for last, word in ((dt.date(2024, 12, 1), "holdout begins"), (dt.date(2023, 1, 1), "holds no day")):
        with pytest.raises(UserError, match=word):
            project.set_own_span(id, OwnSpan(last=last))
    quick = Settings(**base.model_dump() | {"most_months": 1})
    assert quick.training == Span(dt.date(2024, 11, 1), dt.date(2024, 11, 30))
    few = Settings(**base.model_dump() | {"most_bars": 200}).brief(BARS.terms)
    run = backtest(project.prepared("AAA", 15), cross(), few)
    assert run.last - run.first == 200
    with pytest.raises(ValueError, match="not both"):
        Settings(most_bars=100, most_months=3)
    dear = Costs(slippage_ticks=7, financing_long=-2.0)
    sets = Settings(cost_sets={"AAA": {"stressed": dear}}, cost_set={"AAA": "stressed"})
    assert sets.brief(BARS.terms).costs == dear
    assert sets.costs_of(BARS.terms, "") == Costs.of(BARS.terms)
    assert Settings.model_validate({"costs": {"AAA": {"slippage_ticks": 3}}}).costs_of(BARS.terms).slippage_ticks == 3


def test_two_sources_are_compared_and_the_difference_splits_exactly(project: Project) -> None:
    close = RAW.close.copy()
    close[::50] += 0.02
    high = np.maximum(RAW.high, close)
    high[700] += 6.0
    other = Raw(15, RAW.time, RAW.open, high, RAW.low, close, RAW.volume).take(np.flatnonzero(np.arange(3_000) % 97 != 5))
    take_in(project, BARS.terms, "second", other, keep="old", origin="o", layout=LAYOUT)
    project.update_settings(Settings(**project.settings.model_dump() | {
        "cost_sets": {"AAA": {"dear": Costs(slippage_ticks=2, per_contract=3).model_dump()}}}))
    project.sources.set_cost_set("AAA", "second", "dear")
    made = compare(project, "AAA", "first", "second", cross(), 15)
    p, r = made.prices, made.runs
    assert (p.both, p.only_first, p.only_second) == (len(other), 3_000 - len(other), 0)
    assert np.count_nonzero(p.ticks) == np.count_nonzero(np.isin(other.time, RAW.time[::50]))
    assert all(a.ticks == 2 for a in p.apart)
    assert p.spikes_second.tolist() == [int(RAW.time[700])]
    assert r is not None
    assert r.difference == pytest.approx(r.data + r.costs)
    span = Span(dt.date(2024, 1, 8), dt.date(2024, 11, 30))
    alone = [backtest(project.prepared("AAA", 15, n), cross(), Brief(span, c)) for n, c in
             (("first", Costs()), ("second", Costs(slippage_ticks=2, per_contract=3)))]
    assert r.first_net == pytest.approx(alone[0].profits.sum())
    assert r.second_net == pytest.approx(alone[1].profits.sum())
    assert r.count("both") + r.count("first only") == len(alone[0])
    assert r.count("both") + r.count("second only") == len(alone[1])
    same = compare(project, "AAA", "first", "first", cross(), 15)
    assert same.prices.alike == 1.0
    assert same.runs is not None
    assert (same.runs.difference, same.runs.count("both")) == (0.0, len(alone[0]))
    with pytest.raises(UserError, match="no common span"):
        compare_sources(BARS.take(100), make_bars(BARS.terms, 15, RAW.time[2_000:], tuple(
            x[2_000:] for x in RAW.prices), RAW.volume[2_000:]))


# Continuous futures

def month(name: str, days: list[str], closes: list[float], volumes: list[float]) -> Month:
    time = np.array([np.datetime64(f"{d}T09:00", "ns").astype(np.int64) for d in days])
    price = np.array(closes)
    return Month(name, Raw(60, time, price - 1, price + 1, price - 2, price, np.array(volumes, float), None,
                           np.array(volumes, float) * 10))


DAYS = ["2024-03-04", "2024-03-05", "2024-03-06", "2024-03-07", "2024-03-08", "2024-03-11"]
MARCH = month("2024-03", DAYS[:5], [100, 101, 102, 103, 104], [50, 50, 20, 10, 5])
JUNE = month("2024-06", DAYS[1:], [106, 107, 108, 110, 111], [5, 30, 40, 50, 60])


@pytest.mark.parametrize(("rule", "closes", "rolled"), [
    # Worked by hand. Volume of June first exceeds March's on 6 March, so the roll is on 7 March; on 6 March the closes
    # are 107 and 102: March is lifted by 5, or multiplied by 107/102.
    (Rule("volume", "unadjusted"), [100, 101, 102, 108, 110, 111], "2024-03-07"),
    (Rule("volume", "difference"), [105, 106, 107, 108, 110, 111], "2024-03-07"),
    (Rule("volume", "ratio"), [104.9, 105.95, 107, 108, 110, 111], "2024-03-07"),
    # Open interest of 6 March is published on the 7th, so the roll is on the 8th.
    (Rule("open interest", "difference"), [105, 106, 107, 108, 110, 111], "2024-03-08"),
    # One trading date before March's last bar, 8 March, is 7 March; before an expiry on the 7th it is the 6th.
    (Rule("days before the last", "difference", 1), [105, 106, 107, 108, 110, 111], "2024-03-07"),
    (Rule("dates", "difference", dates=(dt.date(2024, 3, 8),)), [105, 106, 107, 108, 110, 111], "2024-03-08")])
def test_contract_months_join_as_worked_by_hand(rule: Rule, closes: list[float], rolled: str) -> None:
    made = join_months([JUNE, MARCH], terms(tick_size=0.05), rule)
    seams = [(r.time, r.difference, r.ratio) for r in made.rolls]
    market = terms(tick_size=0.05)
    whole = adjusted(made.raw, market, seams, rule.adjust, int(made.raw.time[-1]) + 1)
    np.testing.assert_allclose(whole.close, closes, rtol=0, atol=1e-9)
    # Seen from before the roll nothing has moved yet, and what follows is moved instead.
    sealed = adjusted(made.raw, market, seams, rule.adjust, made.rolls[0].time)
    before = sealed.time < made.rolls[0].time
    np.testing.assert_array_equal(sealed.close[before], made.raw.close[before])
    if rule.adjust == "difference":
        np.testing.assert_allclose(np.diff(sealed.close), np.diff(whole.close), atol=1e-9)
    assert str(made.rolls[0].date) == rolled
    assert (made.rolls[0].left, made.rolls[0].entered, made.rolls[0].difference) == ("2024-03", "2024-06", 5.0)
    assert made.month.tolist().count(0) == closes.index(108 if rolled == "2024-03-07" else 110)


def test_what_is_to_be_known_of_a_joined_future_is_told() -> None:
    """Days before a given expiry; ratios leave the grid, differences may lead below zero."""
    told = Rule("days before the last", "difference", 1, expiries=(("2024-03", dt.date(2024, 3, 7)),))
    made = join_months([JUNE, MARCH], terms(tick_size=0.05), told)
    assert (str(made.rolls[0].date), made.notes) == ("2024-03-06", ())
    assert "fall between ticks" in join_months([JUNE, MARCH], terms(tick_size=0.05), Rule("volume", "ratio")).notes[0]
    high = month("2024-03", DAYS[:5], [2, 3, 4, 5, 6], [50, 50, 20, 10, 5])
    sunk = month("2024-06", DAYS[1:], [1.2, 1.3, 0.5, 0.6, 0.7], [5, 30, 40, 50, 60])
    assert "at or below zero" in join_months([high, sunk], terms(tick_size=0.05), Rule("volume")).notes[0]


def test_months_that_cannot_be_joined_are_told() -> None:
    market = terms()
    for months, rule, word in (([MARCH], Rule(), "two contract months"), ([MARCH, JUNE], Rule("dates"), "no date is given"),
                               ([MARCH, month("2024-09", DAYS[5:], [1], [1])], Rule(), "no common trading date"),
                               ([MARCH, Month("x", BARS_60)], Rule(), "different bar intervals")):
        with pytest.raises(UserError, match=word):
            join_months(months, market, rule)


BARS_60 = Raw.of(walk_bars(50, minutes=15))


def test_rolls_are_kept_shown_and_cost_what_the_cost_set_says(project: Project) -> None:
    """Holding over one roll at 4 ticks a contract costs exactly that, and nothing where it is not held over."""
    late = Raw(15, RAW.time, *(p + 0.5 for p in RAW.prices), RAW.volume)
    months = [("AAA-2024-02", RAW.take(slice(0, 700))), ("AAA-2024-05", late.take(slice(300, 1_500)))]
    take_in_all(project, BARS.terms, months, keep="old", origin="m", layout=LAYOUT, months=True)
    assert [s.name for s in project.sources.of("AAA")] == ["first", "2024-02", "2024-05"]
    made, notes = join_contracts(project, "AAA", ["2024-02", "2024-05"], Rule(days=2), "continuous")
    assert "counted from the last bar of 2024-02" in notes[0]
    assert made.kind == "continuous"
    assert made.rolls[0][1:4] == ("2024-02", "2024-05", pytest.approx(0.5))
    bars = project.base("AAA", "continuous")
    assert bars.rolls == (made.rolls[0][0],)
    held = cross(flat_by_session_end=False)
    ready = project.prepared("AAA", 15, "continuous")
    free = backtest(ready, held, Brief())
    paid = backtest(ready, held, Brief(costs=Costs(roll_ticks=4)))
    cost = free.profits - paid.profits
    over = (free.entry_time < bars.rolls[0]) & (free.exit_time >= bars.rolls[0])
    assert over.sum() == 1
    np.testing.assert_allclose(cost[over], 4.0 * free.tick_value)
    np.testing.assert_array_equal(cost[~over], 0.0)
    assert paid.trades_f[over, k.F_FINANCING][0] == 4.0 * free.tick_value
    hold = [measure(Facts.of(r), ("buy_and_hold",))["buy_and_hold"] for r in (free, paid)]
    assert hold[0] - hold[1] == pytest.approx(4.0 * free.tick_value)


def test_a_roll_lies_between_the_last_bar_of_a_month_and_the_first_of_the_next() -> None:
    """Worked by hand: bought before it and sold at the new month's first open pays the roll; bought there does not."""
    day = np.array([np.datetime64(f"2024-01-0{d}T08:00", "ns").astype(np.int64) for d in (8, 9)])
    time = np.concatenate([d + np.arange(4) * 900 * 10**9 for d in day])
    price = np.full(8, 100.0)
    bars = replace(make_bars(terms(), 15, time, (price, price + 1, price - 1, price)), rolls=(int(time[4]),))
    ready = Prepared.of(bars)
    start, end = ready.nights
    rolls = [(x >> 32).tolist() for x in (start, end)]
    assert rolls == [[0, 0, 0, 0, 1, 1, 1, 1], [0, 0, 0, 0, 1, 1, 1, 1]]


def test_an_older_project_is_brought_up_and_keeps_its_history(tmp_path: Path, project: Project) -> None:
    """A project of schema 1 knew one source a market."""
    folder = tmp_path / "old"
    (folder / "history").mkdir(parents=True)
    db = sqlite3.connect(folder / "project.sqlite")
    db.executescript(schema.MIGRATIONS[0] + "PRAGMA user_version = 1;")
    row = project.rows("SELECT * FROM markets")[0]
    db.execute(f"INSERT INTO markets VALUES ({','.join('?' * 13)})", tuple(row))
    db.commit()
    db.close()
    source = project.history_folder / row["file"]
    (folder / "history" / row["file"]).write_bytes(source.read_bytes())
    old = Project(folder)
    assert [s.name for s in old.sources.of("AAA")] == ["first"]
    old.update_settings(project.settings)
    assert old.base("AAA").hash == BARS.hash


def test_published_schemas_are_the_present_ones() -> None:
    """docs/schemas is written by tools/schemas.py."""
    folder = Path(__file__).parents[2] / "docs/schemas"
    for name, model in (("market", Terms), ("layout", Layout), ("strategy", Strategy), ("parameters", ParameterSet),
                        ("sweep-answer", SweepAnswer), ("study-answer", StudyAnswer), ("trial-answer", TrialAnswer)):
        assert json.loads((folder / f"{name}.schema.json").read_text()) == model.model_json_schema(), name


def test_terms_of_a_new_market_are_likely_and_its_worth_is_worked_out() -> None:
    price = np.array([1.10005, 1.1001, 1.10015, 1.1003])
    raw = Raw(5, instants(4, 5), price, price, price, price, np.zeros(4))
    clock = Clock("UTC", "open", None, ())
    likely = likely_terms("eurnok", raw, clock, "EUR")
    made, about = likely.terms, likely.findings
    assert likely.assumed == ("lots", "margin", "slippage", "spread")
    assert "point value" in likely_terms("xaueur", raw, clock, "EUR").assumed, "ounces in a lot differ"
    assert (made.kind, made.tick_size, made.point_value, made.quote_currency) == ("currency pair", 0.00005, 100_000.0, "NOK")
    assert worth_lines(made.model_copy(update={"conversion_rate": 0.5}), "EUR") == [
        "1 tick on 1 lot = 2.50 EUR", "1.00 of price on 1 lot = 50,000.00 EUR", "3 ticks on 2 lots = 15.00 EUR"]
    assert {f.what: f.sure for f in about}["costs"] is False
    with pytest.raises(UserError, match="new market"):
        likely_terms("no good", raw, clock, "EUR")


def test_the_dirty_demo_file_shows_every_planted_fault_and_treatment_clears_them(tmp_path: Path) -> None:
    """The shipped file, read without help, against what the generator says it planted."""
    from wolbrin.core.market.importing.fit import fit_to_sessions
    from wolbrin.core.market.quality import report
    from wolbrin.core.market.treatment import treat
    from wolbrin.demo.dirty import dirty_file
    from wolbrin.demo.markets import MARKETS, generate

    market = next(m for m in MARKETS if m.dirty)
    text, planted = dirty_file(generate(market, clean=True))
    path = tmp_path / "cob.csv"
    path.write_text(text)
    found = pieces([path])
    layout = guess(found[0]).layout
    fit = fit_to_sessions(Reader(found, layout).read_all().raw, layout, market.terms, False)
    layout = make_layout(layout.model_dump() | {"zone": fit.zone, "stamp": fit.stamp})
    got = Reader(found, layout).read_all()
    made = report(got.raw, market.terms)

    def times(key: str) -> set[int]:
        return {p.time for p in made.finding(key).places}

    assert got.bad_count == planted.bad_rows
    assert made.finding("repeated").count == planted.repeated
    assert times("contradiction") == set(planted.contradicting)
    assert times("spikes") == set(planted.spikes)
    assert made.finding("flat").count == len(planted.flat)
    assert made.finding("missing").count == len(planted.gap)
    assert made.finding("days").count == planted.missing_days
    assert made.finding("outside").count == planted.outside
    assert times("grid") == set(planted.off_grid)
    assert made.finding("clock").count == 0
    treated = treat(got.raw, market.terms, Treatment(no_range="leave out", spikes="leave out"))
    again = report(Raw.of(treated.bars), market.terms)
    for key in ("repeated", "contradiction", "spikes", "flat", "outside", "grid"):
        assert again.finding(key).count == 0, key
