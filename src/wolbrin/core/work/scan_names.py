"""What the rows of a scan say, in words and as rules, and its answer in one sentence."""

from __future__ import annotations

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import UserError
from wolbrin.core.measures.wording import number
from wolbrin.core.rules.model import RANKED, Row, Strategy
from wolbrin.core.scan.reader import RowReader
from wolbrin.core.scan.told import move_text, node_text, pair_text, strategy_of
from wolbrin.core.search.ingredients import ROWS, Node
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.scan_results import Line, ScanResult

NEAR = 0.9  # of the strongest t: of those so near it the plainest is named
PLAIN = ("weekday", "month", "clock", "week", "session", "price", "average", "led")


class ScanNames:
    """Names the rows of one scan; read from the histories it was made on, when first asked for."""

    def __init__(self, footing: Footing, result: ScanResult) -> None:
        self.footing, self.result = footing, result
        self._readers: dict[int, RowReader | None] = {}
        self._held: dict[tuple[int, int], Node | None] = {}

    def history(self, place: int) -> Prepared | None:
        """The history of a place; None where it is not what it was."""
        market, interval = self.result.request.places[place]
        try:
            return self.footing.prepared(market, interval, self.result.records[place].history)
        except UserError:
            return None

    def _reader(self, place: int) -> RowReader | None:
        if place not in self._readers:
            history = self.history(place)
            made = None
            if history is not None:
                first, stop = history.bars.range_of(self.result.records[place].span)
                made = RowReader(history, self.result.request.pantry(place), first, stop)
            self._readers[place] = made
        return self._readers[place]

    def node(self, place: int, row: int) -> Node | None:
        """A row as a condition; None where it cannot be read any more."""
        key = place, row
        if key not in self._held:
            reader, f = self._reader(place), self.result.places[place]
            self._held[key] = None if reader is None or f.code[row] < 0 else reader.node(int(f.code[row]), int(f.at[row]))
        return self._held[key]

    def nodes(self, line: Line) -> tuple[Node, ...]:
        """The rows of a line: one, or those of a pair. Raises UserError where they cannot be read any more."""
        found = [self.node(line.place, n) for n in (line.number, line.holds) if n >= 0]
        if any(n is None for n in found):
            raise UserError("the history has changed since this scan", self.result.request.title, "Run the scan again.")
        return tuple(n for n in found if n is not None)

    def words(self, line: Line) -> str:
        """A line's row or pair in words; the title of its ingredient where it cannot be read any more."""
        try:
            nodes = self.nodes(line)
        except UserError:
            titles, f = self.result.titles[line.place], self.result.places[line.place]
            return titles[int(f.code[line.number]) >> ROWS] if f.code[line.number] >= 0 else "a row"
        return pair_text(*nodes) if len(nodes) == 2 else node_text(nodes[0])

    def move(self, line: Line) -> str:
        """A line and what price does after it."""
        return move_text(self.words(line), line.side, line.horizon, line.state)

    def strategy(self, line: Line) -> Strategy:
        """A strategy that begins from a line."""
        text = self.words(line)
        name = f"{text[:60].rstrip(' ,')}, {'long' if line.side > 0 else 'short'}"
        return strategy_of(self.nodes(line), line.side, line.horizon, self.result.request.flat, name, line.state)


def _plain(line: Line, names: ScanNames) -> bool:
    """Whether a line reads plainly: one row on prices, the session, an average, the clock or another market, as it stands
    now, with one setting at most."""
    f, result = names.result.places[line.place], names.result
    key = result.keys[line.place][int(f.code[line.number]) >> ROWS]
    if line.holds >= 0 or key.partition(":")[0] not in PLAIN:
        return False
    node = names.node(line.place, line.number)
    rows = () if node is None else (node,) if isinstance(node, Row) else node.leaves
    settings = 0
    for row in rows:
        if row.when != "now" or row.back:
            return False
        for operand in row.asked:
            if getattr(operand, "interval", None) is not None:
                return False
            settings += bool(getattr(operand, "ago", 0))
            settings += len(getattr(operand, "settings", ()) or ())
        settings += row.compare in RANKED
    return bool(rows) and settings <= 1


def leader(result: ScanResult, names: ScanNames) -> Line:
    """The line that is named first: of those beyond luck within nine tenths of the strongest the strongest that reads
    plainly, else the strongest of all."""
    beyond = result.beyond()
    strongest = max(beyond, key=lambda x: x.t)
    plain = [x for x in beyond if x.t >= NEAR * strongest.t and _plain(x, names)]
    return max(plain, key=lambda x: x.t) if plain else strongest


def ordered(result: ScanResult, names: ScanNames) -> list[Line]:
    """The lines of a scan as they are shown: the one that is named first, then those beyond luck, then the others."""
    lines = result.lines()
    if not result.beyond():
        return lines
    first = leader(result, names)
    return [first, *(x for x in lines if x is not first)]


def sentence(result: ScanResult, names: ScanNames) -> str:
    """The answer of a scan in one sentence; what it is waiting for while there is none."""
    lines = result.lines()
    if not result.answered:
        return f"{number(result.rows)} of {number(result.total)} rows so far; luck is told once all were looked at"
    hurdles = result.hurdles()
    several = len(result.places) > 1
    if not lines:
        return f"None of {number(result.rows)} rows fires often enough to tell anything"

    def where(line: Line) -> str:
        return f" on {result.request.places[line.place][0]}" if several else ""

    beyond = result.beyond()
    if not beyond:
        best = max(lines, key=lambda x: x.t - hurdles[x.group])
        return (f"Nothing here moves price more than luck does (the strongest row {number(best.t, 1)}; luck reaches "
                f"{number(hurdles[best.group], 1)})")
    best = leader(result, names)
    single, more = result.counted()
    pairs = sum(x.holds >= 0 for x in beyond)
    count = (f"{'At least ' if more else ''}{number(single)} of {number(result.rows)} rows" if single
             else f"{number(pairs)} pair{'' if pairs == 1 else 's'} among the strongest of {number(result.rows)} rows")
    with_pairs = f", and {number(pairs)} pairs of them," if single and pairs else ""
    verb = "moves" if single + pairs == 1 else "move"
    strength = f"t {number(best.t, 1)}; luck reaches {number(hurdles[best.group], 1)}"
    return f"{count}{with_pairs} {verb} price more than luck does; {names.move(best)}{where(best)}, first ({strength})"
