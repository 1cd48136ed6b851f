"""Zone and end of the bar: which clock a file's stamps are in, in which zone the market's sessions stay put, and whether
bars carry the time of their open or of their close."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from wolbrin.core.market.findings import Answer, Finding
from wolbrin.core.market.intervals import DAILY
from wolbrin.core.market.likely.forex import USUAL as CURRENCY_CLOCKS
from wolbrin.core.market.likely.forex import days_against, is_currency_week, readings
from wolbrin.core.market.likely.week import (
    USUAL,
    ZONES,
    Counts,
    Week,
    count_bars,
    local_share,
    roundness,
    rules_of,
    usual_edges,
    week_in,
)
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import NS_A_DAY, NS_A_MINUTE
from wolbrin.core.market.terms import MINUTES_A_DAY, WEEKDAYS, SessionRule, minutes_of
from wolbrin.core.market.zones import BROKER, EASTERN_EUROPE, NEW_YORK, clock_words, known_clock, shifts_between, to_local

CLEAR = 12.0  # nats over all weeks by which one zone must beat another
FILE_ZONES = ("UTC", NEW_YORK, "Europe/Oslo", "Europe/London", "America/Chicago", BROKER, EASTERN_EUROPE)


@dataclass(frozen=True)
class Clock:
    """zone: of the file's stamps (only where they do not tell it). stamp: end of the bar they carry. week: the schedule in
    the market's zone; None for daily bars. findings: on all of it."""

    zone: str
    stamp: str
    week: Week | None
    findings: tuple[Finding, ...]

    @property
    def asked(self) -> tuple[str, ...]:
        """Clocks among which the user is asked to choose; empty where the bars decide."""
        return tuple(a.value for f in self.findings if f.ask and f.option == "--zone" for a in f.answers)


def _first(raw: Raw, zone: str) -> str:
    utc = raw.time[0] * 2 - to_local(raw.time[:1], zone)[0]
    return str(np.datetime64(int(utc), "ns").astype("datetime64[m]")).replace("T", " ") + " UTC"


def find_clock(raw: Raw, told: bool, zone: str | None = None, stamp: str | None = None, end: str = "",
               offsets: tuple[int, ...] = (), pair: bool = False) -> Clock:
    """Judge the stamps of bars.

    Args:
        raw: bars, read as if their stamps were opens in UTC. told: the stamps are UTC. zone, stamp: what the user has said.
        end: which end the header names. offsets: minutes from UTC that stamps named. pair: a currency pair.
    """
    if raw.interval >= DAILY:
        return Clock(zone or "UTC", stamp or "open", None, (
            Finding("sessions", "none", "Daily rows do not show hours; they are dated by the day they name."),))
    zones = tuple(dict.fromkeys([*([zone] if zone else []), *ZONES]))
    counts = count_bars(raw, zones)
    file_zone, week, findings = _zones(raw, counts, zones, told, zone, offsets, pair, stamp or end or None)
    stamp, week, about = _end(raw, week, stamp, end, pair)
    return Clock(file_zone, stamp, week, (*findings, about))


def _changes(raw: Raw) -> bool:
    """Whether the history spans a change of daylight-saving time with some weeks on either side."""
    margin = 10 * 86_400 * 10**9
    return any(shifts_between(z, int(raw.time[0]) + margin, int(raw.time[-1]) - margin)
               for z in ("Europe/Oslo", "America/New_York"))


def _best(weeks: list[Week], counts: Counts) -> Week:
    """The least blurred schedule; of those that are alike the one with usual opens and closes, then the first."""
    least = min(w.score for w in weeks)
    alike = [w for w in weeks if (w.score - least) * counts.weeks < CLEAR]
    return max(alike, key=usual_edges)


def _zones(raw: Raw, counts: Counts, zones: tuple[str, ...], told: bool, zone: str | None,
           offsets: tuple[int, ...], pair: bool, stamp: str | None) -> tuple[str, Week, tuple[Finding, ...]]:
    if told or zone:
        file_zone = "UTC" if told else str(zone)
        weeks = [week_in(counts, z, file_zone) for z in zones]
        how = Finding("stamps are in", "UTC" if told else clock_words(file_zone),
                      "They tell their offset from UTC." if told else "As you said.")
        best = _best(weeks, counts)
        york = next(w for w in weeks if w.zone == NEW_YORK)
        if pair and is_currency_week(york) and (york.score - best.score) * counts.weeks < CLEAR:
            # Of a pair the same bars give the same sessions, whatever their stamps tell.
            return file_zone, york, (how, _currency_week())
        likely = [w for w in weeks if not offsets or _has_offsets(raw, w.zone, offsets)]
        own = _best(likely, counts) if likely else best
        if (own.score - best.score) * counts.weeks < CLEAR:
            best = own
        # The file's own zone where no other is clearly better.
        written = next((w for w in weeks if w.zone == file_zone), None)
        if written is not None and (written.score - best.score) * counts.weeks < CLEAR and not offsets:
            best = written
        return file_zone, best, (how, _session_zone(best, weeks, counts, _changes(raw), offsets))
    if pair:
        found_pair = _pair(raw, counts, stamp)
        if found_pair is not None:
            return found_pair
    fixed = week_in(counts, "UTC", "UTC")  # as written
    pairs = [week_in(counts, z, f) for f in FILE_ZONES for z in zones if f != z]
    names = [f for f in FILE_ZONES for z in zones if f != z]
    as_utc = [w for w, f in zip(pairs, names) if f == "UTC"]
    best = _best(as_utc, counts)
    gain = (fixed.score - best.score) * counts.weeks
    other = min(pairs, key=lambda w: w.score)
    if gain > CLEAR and (best.score - other.score) * counts.weeks < CLEAR:
        away = _fixed_distance(counts, [w for w in as_utc if (w.score - best.score) * counts.weeks < CLEAR])
        if away is not None:
            clock, best = away
            answers = tuple(Answer(f, f"the first bar begins at {_first(raw, f)}") for f in (clock, "UTC"))
            found = Finding("stamps are in", clock, f"Read so, sessions begin and end at times known for {best.zone}; read "
                            "as UTC they would not.", False, True, "--zone", answers)
            return clock, best, (found, _session_zone(best, as_utc, counts, True, ()))
        found = Finding("stamps are in", "UTC", f"Read so, sessions stay put in {best.zone} across changes of "
                        "daylight-saving time; as they are written they move by an hour twice a year.")
        return "UTC", best, (found, _session_zone(best, as_utc, counts, True, ()))
    if (fixed.score - other.score) * counts.weeks > CLEAR:
        alike = [(w, f) for w, f in zip(pairs, names) if (w.score - other.score) * counts.weeks < CLEAR]
        alike.sort(key=lambda p: -usual_edges(p[0]))
        week, file_zone = alike[0]
        found = Finding("stamps are in", file_zone, f"Read so, sessions stay put in {week.zone}; other zones of the same "
                        "daylight-saving rule would do as well.", False, True, "--zone",
                        tuple(Answer(f, f"the first bar begins at {_first(raw, f)}")
                              for f in list(dict.fromkeys(f for _, f in alike))[:5]))
        return file_zone, week, (found, _session_zone(week, [w for w, _ in alike], counts, True, ()))
    spans = _changes(raw)
    if spans and _always(fixed) and not _skips_hours(raw):
        found = Finding("stamps are in", "UTC", "Bars stand at every hour, also at those that a clock with daylight-saving "
                        "time skips in spring.")
        return "UTC", fixed, (found, Finding("sessions keep the clock of", "UTC", "The market never closes."))
    broker = week_in(counts, NEW_YORK, BROKER)
    known = [z for z in USUAL if _all_usual(replace(fixed, zone=z))]  # where a market is known to open and close so
    as_read = known[0] if len(known) == 1 else BROKER if not known and _all_usual(broker) else "UTC"
    why = ("Sessions stay put in the clock of the file, across changes of daylight-saving time too: it is the market's own "
           "clock, and the file does not say which that is." if spans else
           "The file does not say its zone, and it spans no change of daylight-saving time that would show it.")
    answers = tuple(Answer(z, f"the first bar begins at {_first(raw, z)}")
                    for z in dict.fromkeys((as_read, *known, "UTC", "Europe/London", "Europe/Oslo", NEW_YORK,
                                            "America/Chicago",
                                            BROKER, EASTERN_EUROPE)))
    if as_read == BROKER:
        return as_read, broker, (Finding("stamps are in", as_read, why, False, True, "--zone", answers),
                                 Finding("sessions keep the clock of", NEW_YORK, "As the stamps are read.", False))
    found = Finding("stamps are in", as_read, why, False, True, "--zone", answers)
    return as_read, replace(fixed, zone=as_read), (
        found, Finding("sessions keep the clock of", as_read, "As the stamps are read.", False))


def _said(clock: str) -> str:
    """A clock in words before what it would mean, where its name does not say it."""
    return "" if clock_words(clock) == clock else f"{clock_words(clock)}: "


def _currency_week() -> Finding:
    return Finding("sessions keep the clock of", NEW_YORK, "The week of currencies begins and ends at 17:00 there.")


def _pair(raw: Raw, counts: Counts, stamp: str | None) -> tuple[str, Week, tuple[Finding, ...]] | None:
    """Of a currency pair: the clock under which its week is that of currencies; None where there is none."""
    found = readings(counts, raw.interval, stamp, CLEAR)
    if not found:
        return _nowhere(raw, counts)
    best = found[0]
    why = "Read so, the week begins and ends at 17:00 in New York, as that of currencies does, in summer and in winter."
    if len(found) == 1:
        return best.clock, best.week, (Finding("stamps are in", clock_words(best.clock), why), _currency_week())
    others = " or ".join(clock_words(r.clock) for r in found[1:])
    why = (f"Read so, the week begins and ends at 17:00 in New York, as that of currencies does; read as {others} it does "
           "too, since the rows that may be looked at hold none of the weeks in which these clocks differ.")
    answers = tuple(Answer(r.clock, f"{_said(r.clock)}the first bar begins at {_first(raw, r.clock)}") for r in found)
    return best.clock, best.week, (Finding("stamps are in", clock_words(best.clock), why, False, True, "--zone", answers),
                                   _currency_week())


def _nowhere(raw: Raw, counts: Counts) -> tuple[str, Week, tuple[Finding, ...]] | None:
    """Of a currency pair that trades day and night on most days and in no clock keeps the week of currencies: which days
    speak against each. None where it trades by other hours."""
    busy = local_share(counts, "UTC").reshape(7, -1) > 0.5
    if np.sum(busy.mean(axis=1) > 0.9) < 3 or busy.all():
        return None
    answers = []
    for clock in CURRENCY_CLOCKS:
        days = days_against(raw.time, clock)
        some = ", ".join(str(d) for d in days[:3].astype("datetime64[D]")) + (" ..." if len(days) > 3 else "")
        answers.append((len(days), Answer(clock, f"{_said(clock)}{len(days):,} days have bars while currencies are "
                                          f"closed{f' ({some})' if some else ''}")))
    answers.sort(key=lambda a: a[0])
    best = answers[0][1].value
    why = ("In no clock does the week begin and end at 17:00 in New York, as that of currencies does: the stamps may be "
           "wrong, or change their clock within the file.")
    return best, week_in(counts, NEW_YORK, best), (
        Finding("stamps are in", clock_words(best), why, False, True, "--zone", tuple(a for _, a in answers)),
        _currency_week())


def _all_usual(week: Week) -> bool:
    """Whether all opens and closes of a schedule are ones that its zone is known for."""
    known = USUAL.get(week.zone, ())
    return bool(week.rules) and len(week.rules) <= 3 and all(e in known for r in week.rules for e in (r.open, r.close))


def _fixed_distance(counts: Counts, weeks: list[Week]) -> tuple[str, Week] | None:
    """A clock at another fixed distance from UTC under which all opens and closes are known ones, where they are not as UTC.

    Args:
        weeks: schedules that stay put where stamps are read as UTC.
    """
    if any(_all_usual(w) for w in weeks):
        return None
    for hours in (2, 3, 1, -5, -6, 8, 9, *range(-12, 15)):
        if hours:
            clock = known_clock(f"UTC{hours:+d}")
            for w in weeks:
                moved = week_in(counts, w.zone, clock)
                if _all_usual(moved):
                    return clock, moved
    return None


def _has_offsets(raw: Raw, zone: str, offsets: tuple[int, ...]) -> bool:
    some = raw.time[np.linspace(0, len(raw) - 1, min(200, len(raw))).astype(int)]
    seen = set(((to_local(some, zone) - some) // NS_A_MINUTE).tolist())
    return seen <= set(offsets)


def _session_zone(best: Week, weeks: list[Week], counts: Counts, spans: bool, offsets: tuple[int, ...]) -> Finding:
    alike = [w.zone for w in weeks if (w.score - best.score) * counts.weeks < CLEAR and w.zone != best.zone]
    if offsets and len(offsets) > 1:
        return Finding("sessions keep the clock of", best.zone, "Its offsets from UTC are those that the stamps name.")
    if not spans:
        return Finding("sessions keep the clock of", best.zone,
                       "The history spans no change of daylight-saving time that would show the zone.", False)
    if not alike:
        return Finding("sessions keep the clock of", best.zone, "In no other zone do opens and closes stay put so well.")
    return Finding("sessions keep the clock of", best.zone,
                   "Opens and closes stay put there across changes of daylight-saving time, as they do in "
                   f"{', '.join(alike[:3])}; the sessions are the same instants.")


def shifted(rules: tuple[SessionRule, ...], minutes: int) -> tuple[SessionRule, ...]:
    """Rules some minutes earlier. A session that so begins on the day before moves there."""
    spans = []
    for r in rules:
        for d in r.days:
            base = WEEKDAYS.index(d) * MINUTES_A_DAY
            spans.append(((base + r.open_minute - minutes) % (7 * MINUTES_A_DAY), r.close_minute - r.open_minute))
    return rules_of(sorted((a, a + n) for a, n in spans))


def _end(raw: Raw, week: Week, stamp: str | None, end: str, pair: bool) -> tuple[str, Week, Finding]:
    """Which end of the bar the stamps carry, and the schedule under that."""
    late = replace(week, rules=shifted(week.rules, raw.interval))
    if stamp or end or raw.interval == 0:
        chosen = stamp or end or "open"
        why = "As you said." if stamp else "Ticks carry their own time." if raw.interval == 0 else "The file names it."
        return chosen, late if chosen == "close" else week, Finding("bars are stamped at", f"the {chosen}", why)
    a, b = (0.0, 0.0) if _always(week) else (_merit(week, raw.interval), _merit(late, raw.interval))
    rules = week.rules if a >= b else late.rules
    chosen = "open" if a >= b else "close"
    edges = "; ".join(f"{r.open} to {r.close}" for r in rules[:2])
    sure = abs(a - b) >= 1.5
    if sure:
        why = f"So sessions run from {edges}; the other way they would begin and end at odd times."
    else:
        other = "; ".join(f"{r.open} to {r.close}" for r in (late if chosen == "open" else week).rules[:2])
        why = f"Sessions would run from {edges}, or, the other way, from {other}; both are round."
    if _always(week):
        why = "The market never closes, so nothing shows which end of the bar they name."
    answers = () if sure else (
        Answer("open", f"sessions {'; '.join(f'{r.open} to {r.close}' for r in week.rules[:2])}"),
        Answer("close", f"sessions {'; '.join(f'{r.open} to {r.close}' for r in late.rules[:2])}"))
    found = Finding("bars are stamped at", f"the {chosen}", why, sure, not sure, "--stamp", answers)
    return chosen, week if chosen == "open" else late, found


def _always(week: Week) -> bool:
    """Whether the market never closes."""
    return bool(week.rules) and sum(len(r.days) * (r.close_minute - r.open_minute) for r in week.rules) >= 7 * MINUTES_A_DAY


def _skips_hours(raw: Raw) -> bool:
    """Whether the hour that is skipped in spring, in any zone known here, is missing in the file's clock."""
    missing = []
    for zone in ("Europe/Oslo", "Europe/London", "America/New_York", "Australia/Sydney"):
        for at in shifts_between(zone, int(raw.time[0]) + NS_A_DAY, int(raw.time[-1]) - NS_A_DAY):
            before, after = (int(to_local(np.array([t], np.int64), zone)[0]) for t in (at - 1, at))
            if after > before + 1:
                a, b = np.searchsorted(raw.time, (before + 1, after))
                missing.append(a == b)
    return any(missing)


def _merit(week: Week, minutes: int) -> float:
    """Mean roundness of opens and closes, with usual ones of the zone counting a little."""
    if not week.rules:
        return 0.0
    known = {r: len(r.days) for r in week.rules}
    total = sum(known.values())
    return sum((roundness(r.open) + roundness(r.close)) * n for r, n in known.items()) / total + min(
        1.0, usual_edges(week) / 6) * (minutes < 60) * 0.5 + (1.6 if _fx_week(week) else 0.0)


def _fx_week(week: Week) -> bool:
    """The week of currencies: Sunday to Friday 17:00 in New York. Common practice, no source."""
    return week.zone == "America/New_York" and bool(week.rules) and all(
        minutes_of(r.open) in (1020, 1080) and minutes_of(r.close) == 1020 for r in week.rules)
