"""`wolbrin shelf`: list, filter, show, mark, group, compare, export and import candidates."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import typer

from wolbrin.cli.common import (
    INTERVAL,
    JSON,
    PROJECT,
    code_of,
    console,
    emit,
    error_console,
    finite,
    open_project,
    pick,
    run,
    told,
)
from wolbrin.cli.meant import filters_of
from wolbrin.core.errors import UserError
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.search.clusters import LIKE
from wolbrin.core.store.brought import bring, unknown_tried
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.store.views import SavedView, remove_view, save_view, views
from wolbrin.core.store.wanted import NUMBERS, TEXTS, Wanted
from wolbrin.core.work.discover_answer import ShelfAnswer, row_of
from wolbrin.core.work.grouping import MOST_BESIDE, beside, group_job
from wolbrin.core.work.shelving import as_json, export_candidates, shelve_job
from wolbrin.core.work.standing import restand

NAMES = typer.Argument(..., help="Ids or names of candidates.")


def ids_of(project: Project, names: list[str]) -> list[int]:
    """Ids of named candidates."""
    return [k.id for k in pick(project, names)]


def add(app: typer.Typer, demo: Callable[[], Path]) -> None:
    group = typer.Typer(help="List, filter, show, mark, group, compare, export and import candidates.", no_args_is_help=True)
    app.add_typer(group, name="shelf")

    @group.command("list")
    def list_(project: Path | None = PROJECT,
              filter: list[str] = typer.Option([], "--filter", "-f", help='Such as "profit_factor>=1.5", "family:session".'),
              rules: str = typer.Option("", "--rules", help="Words that the rules in plain English hold, such as RSI."),
              tag: str = typer.Option("", "--tag", help="Only those with this tag."),
              starred: bool = typer.Option(False, "--starred", help="Only those with a star."),
              search: int | None = typer.Option(None, "--search", help="Only what this search kept."),
              view: str | None = typer.Option(None, "--view", help="A view saved in the window or with --save-view."),
              save: str | None = typer.Option(None, "--save-view", help="Keep these filters and this order under a name."),
              forget: str | None = typer.Option(None, "--remove-view", help="Forget a saved view."),
              sort: str = typer.Option("id", "--sort", help="What to sort by."),
              down: bool = typer.Option(False, "--down", help="Largest first."),
              limit: int = typer.Option(50, "--limit", min=1, max=1_000_000, help="At most so many."),
              json: bool = JSON) -> None:
        """Candidates with where each stands."""
        with told():
            opened = open_project(project, demo)
            if sort not in (*TEXTS, *NUMBERS, *SUMMARY):
                raise UserError(f'nothing is called "{sort}"', "--sort",
                                f"Choose among {', '.join([*TEXTS, *NUMBERS, *SUMMARY])}.")
            restand(opened)
            shelf, asked = Shelf(opened), filters_of(filter)
            if rules:
                asked["words"] = f"{asked.get('words', '')} {rules}".strip()
            if tag:
                asked["tags"] = f"{asked.get('tags', '')} {tag}".strip()
            wanted = Wanted(sort, down, asked, search=search, starred=starred)
            if forget is not None:
                remove_view(opened, forget)
            if view is not None:
                kept = views(opened)
                if view not in kept:
                    raise UserError(f'there is no view "{view}"', "--view", f"There are {', '.join(kept) or 'none'}.")
                wanted = kept[view].wanted
            if save is not None:
                save_view(opened, save, SavedView(sort=wanted.sort, down=wanted.down, filters=dict(wanted.filters),
                                                  starred=wanted.starred))
            ids = shelf.ids(wanted)
            rows = [row_of(line, record) for line, record in shelf.lines_with_records(ids[:limit])]
            answer = ShelfAnswer(total=shelf.count(), shown=len(ids), candidates=tuple(rows))
        if json:
            emit(answer)
            return
        for c in rows:
            marks = ("\u2605 " if c.star else "") + " ".join(f"#{t}" for t in c.tags)
            console.print(f"{c.id:>6}  {c.name} on {c.market} {c.interval}: {c.stands}; net "
                          f"{worded('net', c.measures['net'] or 0.0)}, t {worded('t_daily', c.measures['t_daily'] or 0.0)}, "
                          f"{c.tried:,} tried {marks}".rstrip(), markup=False)
        console.print(f"{len(rows):,} of {answer.shown:,} shown, {answer.total:,} on the Shelf.", markup=False)

    @group.command("show")
    def show(names: list[str] = NAMES, project: Path | None = PROJECT, json: bool = JSON) -> None:
        """Candidates in words, with their record."""
        with told():
            kept = pick(open_project(project, demo), names)
            data = [{"id": k.id} | as_json(k) for k in kept]
        if json:
            emit({"candidates": data})
            return
        for k, d in zip(kept, data):
            c = k.candidate
            console.print(f"{k.id}  {c.name} on {c.market}, from {c.origin}, {c.tried:,} tried", markup=False, style="bold")
            console.print(d["words"], markup=False)
            console.print(c.record.words(), markup=False)
            if k.marks.notes:
                console.print(k.marks.notes, markup=False)

    @group.command("tag")
    def tag(names: list[str] = NAMES, project: Path | None = PROJECT,
            add_: list[str] = typer.Option([], "--add", help="A tag to add."),
            remove: list[str] = typer.Option([], "--remove", help="A tag to take away."),
            star: bool | None = typer.Option(None, "--star/--no-star", help="Give a star, or take it away."),
            note: str | None = typer.Option(None, "--note", help="Write this note beside them."),
            rename: str | None = typer.Option(None, "--rename", help="Another name, for a single one.")) -> None:
        """Tag, star, note and rename candidates."""
        with told():
            opened = open_project(project, demo)
            ids, shelf = ids_of(opened, names), Shelf(opened)
            if rename is not None and len(ids) != 1:
                raise UserError("only one candidate at a time can be renamed", "--rename", "Name one.")
            with opened.transaction():
                shelf.add_tags(ids, add_)
                shelf.add_tags(ids, remove, remove=True)
                if star is not None:
                    shelf.star(ids, star)
                for id in ids if note is not None else ():
                    shelf.note(id, note or "")
                if rename is not None:
                    shelf.rename(ids[0], rename)
        console.print(f"{len(ids):,} marked.", markup=False)

    @group.command("remove")
    def remove(names: list[str] = NAMES, project: Path | None = PROJECT) -> None:
        """Take candidates off the Shelf; their verdicts and what was tried stay."""
        with told():
            opened = open_project(project, demo)
            ids = ids_of(opened, names)
            Shelf(opened).remove(ids)
        console.print(f"{len(ids):,} removed.", markup=False)

    @group.command("export")
    def export(folder: Path = typer.Argument(..., help="A folder, made where it is not there."),
               names: list[str] = typer.Argument(None, help="Ids or names; all when left out."),
               project: Path | None = PROJECT) -> None:
        """Write candidates as files with their record, one each."""
        with told():
            written = export_candidates(pick(open_project(project, demo), names or []), folder)
        console.print(f"{len(written):,} files in {folder}.", markup=False)

    @group.command("import")
    def import_(paths: list[Path] = typer.Argument(..., help="Strategy or candidate files, or folders of them."),
                project: Path | None = PROJECT,
                market: str | None = typer.Option(None, "--market", "-m", help="For files that name no market here."),
                interval: str = typer.Option("15", "--interval", "-i", help=INTERVAL),
                tried: int | None = typer.Option(None, "--tried", min=1, help="How many alternatives were tried for each "
                                                 "bare strategy; without it that is unknown, and it cannot stand."),
                json: bool = JSON) -> None:
        """Read strategy files, test each under the present brief, and put them on the Shelf."""
        with told():
            opened = open_project(project, demo)
            entries = opened.markets()
            if not entries:
                raise UserError("this project holds no market yet", str(opened.folder), "Import history first.")
            job, result = shelve_job(opened, paths, opened.market(market).code if market else entries[0].code,
                                     code_of(interval), tried=tried)
            run(job, "threads")
        if json:
            emit({"ids": result.ids, "already": result.already, "faults": result.faults, "tried_unknown": result.unknown})
        else:
            console.print(result.words, markup=False)
            for fault in result.faults:
                error_console.print(fault, markup=False)

    @group.command("tried")
    def tried_(number: int = typer.Argument(..., min=1, help="How many alternatives were tried for each, before they came "
                                            "here."),
               names: list[str] = typer.Argument(None, help="Ids or names; all that came without it when left out."),
               project: Path | None = PROJECT, json: bool = JSON) -> None:
        """Say how many were tried for candidates that came from bare files; it counts on their market."""
        with told():
            opened = open_project(project, demo)
            several = [k for k in pick(opened, names or []) if unknown_tried(opened, k.candidate.strategy)]
            for k in several:
                bring(opened, k.candidate.strategy, k.candidate.market, k.candidate.interval, number)
        if json:
            emit({"ids": [k.id for k in several], "tried": number})
        else:
            console.print(f"{len(several):,} candidates: {number:,} tried for each.", markup=False)

    @group.command("group")
    def group_(project: Path | None = PROJECT,
               like: float = typer.Option(LIKE, "--like", callback=finite, min=0.1, max=1,
                                          help="Correlation from which two behave alike."),
               json: bool = JSON) -> None:
        """Group candidates by how their results move together, however they are written."""
        with told():
            opened = open_project(project, demo)
            run(group_job(opened, like), "threads")
            shelf = Shelf(opened)
            lines = [line for line in shelf.lines(shelf.ids(Wanted(sort="cluster"))) if line.marks.cluster]
        found: dict[int, list[int]] = {}
        for line in lines:
            found.setdefault(line.marks.cluster or 0, []).append(line.id)
        if json:
            emit({"clusters": [{"cluster": n, "candidates": ids} for n, ids in found.items()]})
            return
        names = {line.id: line.name for line in lines}
        for n, ids in found.items():
            console.print(f"{n}: {len(ids):,}, such as {names[ids[0]]}", markup=False)

    @group.command("compare")
    def compare(names: list[str] = NAMES, project: Path | None = PROJECT, json: bool = JSON) -> None:
        """Two to six candidates side by side: rules, measures, correlation of daily results."""
        with told():
            kept = pick(open_project(project, demo), names)
            if not 2 <= len(kept) <= MOST_BESIDE:
                raise UserError(f"{len(kept)} candidates are named", "compare", f"Name 2 to {MOST_BESIDE}.")
            made = beside(kept)
        if json:
            emit({"candidates": [{"id": k.id, "name": k.candidate.name, "measures": k.candidate.summary,
                                  "words": [{"line": line, "differs": d} for line, d in zip(words, differs)],
                                  "record": k.candidate.record}
                                 for k, words, differs in zip(made.kept, made.words, made.differs)],
                  "correlation": made.correlation})
            return
        for k, words, differs in zip(made.kept, made.words, made.differs):
            console.print(f"{k.id}  {k.candidate.name}", markup=False, style="bold")
            for line, own in zip(words, differs):
                console.print(f"  {'*' if own else ' '} {line}", markup=False)
        for key in SUMMARY:
            console.print(f"{key:<18}" + "".join(f"{worded(key, k.candidate.summary.get(key, float('nan'))):>14}"
                                                 for k in made.kept), markup=False)
        for i, k in enumerate(made.kept):
            console.print(f"{'correlation ' + str(k.id):<18}" + "".join(f"{number(v, 2):>14}"
                                                                       for v in made.correlation[i].tolist()), markup=False)
