"""What was found out about a file or a market without being told: the value, the reason, how sure, what else it may be."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Answer:
    """One possible answer to a question. means: what it would mean on the first rows."""

    value: str
    means: str = ""


@dataclass(frozen=True)
class Finding:
    """One guess. what: of what. value: in words. why: a sentence. sure: whether the data decides it.

    ask: the guess changes the bars themselves, or all money, and the data does not decide it, so the user is asked. option:
    the option of the command line that answers. answers: what it may be, the guess first.
    """

    what: str
    value: str
    why: str
    sure: bool = True
    ask: bool = False
    option: str = ""
    answers: tuple[Answer, ...] = ()

    def sentence(self) -> str:
        """The guess and its reason."""
        return f"{self.what}: {self.value}. {self.why}"
