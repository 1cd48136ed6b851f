"""What is said when a project is opened: what cannot be read, what it would like to run, what was interrupted."""

from __future__ import annotations

from wolbrin.app.session import Session
from wolbrin.core import kept_kernels
from wolbrin.core.errors import Door
from wolbrin.core.jobs import single

WHY = Door("What is wrong", "aside")


def tell_opening(session: Session) -> None:
    """Say all of it; the last has the strip, so the gravest comes last."""
    _waiting(session)
    _interrupted(session)
    if told := session.project.found_again:
        session.note(f"{told[:1].upper()}{told[1:]}.", "caution")
    kept_kernels.said = session.on_ui(lambda text: session.note(text, "caution"))
    _aside(session)
    if words := session.project.read_words:
        session.note(words, "error")


def _aside(session: Session) -> None:
    """What cannot be read; whatever else turns out to be unreadable is told when it does."""
    aside = session.project.aside
    if aside.found:
        names = list(aside.found)
        more = f" and {len(names) - 3} more" if len(names) > 3 else ""
        session.note(f"Left aside, since it cannot be read: {'; '.join(names[:3])}{more}. All else works.", "error", WHY)
    told = session.on_ui(lambda wrong: _verified(session, wrong))
    session.start(single("Verify the database", session.project.verify, told), "threads", quiet=True)
    aside.told = session.on_ui(
        lambda what, wrong: session.note(f"Left aside: {what}, since it cannot be read.", "error", WHY))


def _verified(session: Session, wrong: str) -> None:
    if wrong:
        folder = session.project.folder
        session.note(f"This project's database is damaged in places ({wrong}). Close the window; `wolbrin check {folder} "
                     "--recover` copies what can be read into a new one, --restore puts the newest copy back.", "error")


def _waiting(session: Session) -> None:
    """What code the project brings that this user has not confirmed; none of it runs."""
    found = session.project.own.waiting()
    if found:
        session.note(f"This project brings own indicators that you have not confirmed: {', '.join(found[:5])}. They run only "
                     "after you have read and confirmed them, on Rules.", "caution")


def _interrupted(session: Session) -> None:
    """What was running when the program ended under it, with the way to go on."""
    found = session.dossiers.searches.interrupted()
    if found:
        more = f"; {len(found) - 1} more before it" if len(found) > 1 else ""
        session.note(f"{found[0].title} was interrupted after {found[0].tried:,} were tried{more}. All of it is kept.",
                     "caution", Door("Go on", "go on"))
