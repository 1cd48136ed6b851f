"""Other markets that rules read, compared with later moves of the one they trade; what leads too much must be answered."""

from __future__ import annotations

from dataclasses import dataclass

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.record import markets_in, others_read
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.market.bars import Bars
from wolbrin.core.market.leads import Lead, lead_of
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.database import now
from wolbrin.core.store.project import Project
from wolbrin.core.work.footing import Footing

_KNOWN: dict[tuple[str, str], tuple[Lead | None, Lead | None]] = {}  # by hashes of bars
MOST_KNOWN = 512


@dataclass(frozen=True)
class Led:
    """How a market that rules read goes before the traded one, and after it. answer: what somebody said of it, "" for
    nothing."""

    other: str
    traded: str
    before: Lead | None
    after: Lead | None
    answer: str = ""

    @property
    def open(self) -> bool:
        """Whether it leads more than any market does, and nobody answered for that."""
        return self.before is not None and self.before.beyond and not self.answer

    @property
    def words(self) -> str:
        """What is to be told, "" for nothing."""
        out = []
        if self.before is not None and self.before.beyond:
            out.append(self.before.words(self.other, self.traded))
        if self.after is not None and self.after.beyond:
            out.append(f"{self.after.words(self.traded, self.other)}: the bars of {self.other} are old news")
        return "; ".join(out)


def leads_of(footing: Footing, strategy: Strategy, history: Prepared, answers: dict[str, str]) -> list[Led]:
    """Each other market that some rules read, in training."""
    return [_led(footing, market, history.bars, answers.get(market, ""))
            for market in sorted(markets_in(others_read(strategy, history.columns)))]


def leads_between(footing: Footing, other: str, traded: str, interval: int) -> Led:
    """How one market goes before another in training. Raises WolbrinError where one is not there."""
    answers = {o: said for o, t, said in footing.ground.answers if t == traded}
    return _led(footing, other, footing.histories.prepared(traded, interval).bars, answers.get(other, ""))


def _led(footing: Footing, other: str, traded: Bars, answer: str) -> Led:
    try:
        bars = footing.histories.prepared(other, traded.interval).bars
    except WolbrinError:
        bars = footing.histories.base(other)  # such as daily ones: sessions are compared
    before, after = _both(bars, traded)
    return Led(other, traded.terms.code, before, after, answer)


def _both(other: Bars, traded: Bars) -> tuple[Lead | None, Lead | None]:
    key = other.hash, traded.hash
    if key not in _KNOWN:
        if len(_KNOWN) >= MOST_KNOWN:
            _KNOWN.clear()
        _KNOWN[key] = lead_of(other, traded), lead_of(traded, other)
    return _KNOWN[key]


def asked_of(led: Led) -> str:
    """What has to be answered, and how."""
    return (f"{led.words[:1].upper()}{led.words[1:]}: that is more than any market shows, and most often a file that is "
            f"stamped wrongly or holds what came later. Look at the bars of {led.other} (time zone, stamps, session); if it "
            f"is right all the same, say why: `wolbrin holdout --lead {led.other}:{led.traded} --because ...`, or in Proving")


def answer_lead(project: Project, other: str, traded: str, because: str) -> None:
    """Answer for a market that leads another. It stands in every record of rules that read it.

    Raises:
        UserError: nothing is said, or a market is not there.
    """
    for code in (other, traded):
        project.market(code)
    if not because.strip():
        raise UserError("an answer says why", f"{other}:{traded}", "Write how it can be that one goes before the other.")
    with project.transaction() as db:
        db.execute("INSERT INTO answers (created, about, answer) VALUES (?, ?, ?) ON CONFLICT (about) DO UPDATE SET answer = "
                   "excluded.answer, created = excluded.created", (now(), f"lead {other} {traded}", because.strip()[:300]))
        db.execute("UPDATE candidates SET stands = NULL WHERE market = ?", (traded,))
    project.held.forget()
