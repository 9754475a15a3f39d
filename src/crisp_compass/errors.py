"""The one exception for input that cannot be used; it writes its own sentence."""

from __future__ import annotations

import re


class Refusal(Exception):  # noqa: N818 - a refusal is an answer, not a malfunction
    """Input was refused: what is wrong, where, and what would help.

    Parameters
    ----------
    problem
        What was found, in plain words, without a full stop.
    remedy
        What is needed or what to do about it; may be empty.
    where
        File or option at fault; filled in by whoever knows it.
    code
        A word by which a caller may act on it, e.g. ``channels`` where a capture's channels have other names. Nobody acts on the
        words of the problem.
    field
        The field at fault as ``topic.name``, where it is one of the bench's.
    """

    def __init__(self, problem: str, remedy: str = "", *, where: str = "", code: str = "", field: str = "") -> None:
        super().__init__(problem)
        self.problem = problem
        self.remedy = remedy
        self.where = where
        self.code = code
        self.field = field

    def __reduce__(self) -> tuple[object, ...]:
        return _refusal, (self.problem, self.remedy, self.where, self.code, self.field)

    def at(self, where: str) -> Refusal:
        """Return the same refusal, with the place named if it was not known before."""
        return (
            self if self.where else Refusal(self.problem, self.remedy, where=where, code=self.code, field=self.field)
        )

    @property
    def sentence(self) -> str:
        """One line: place, problem and remedy."""
        text = self.problem + (f"; {self.remedy}" if self.remedy else "")
        text = re.sub(r"[^\S\u00a0\u2007\u202f]+", " ", text).strip()  # a no-break blank within a number stays
        return f"{self.where}: {text}." if self.where else f"{text}."

    def __str__(self) -> str:
        return self.sentence


def _refusal(problem: str, remedy: str, where: str, code: str, field: str) -> Refusal:
    return Refusal(problem, remedy, where=where, code=code, field=field)
