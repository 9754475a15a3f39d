"""The guide: a short text for every page of the course, what it is for, what to do with the hands, what to look at, what goes wrong. Markdown files that ship with the program; no Qt."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from crisp_compass.course.waypoint import Waypoint
from crisp_compass.course.waypoints import WAYPOINTS

FOLDER = Path(__file__).parent / "pages"


@dataclass(frozen=True)
class Chapter:
    """The text of one page: its waypoint's ``key`` and ``section``, its ``place`` in the folder, ``title`` and markdown ``text``."""

    key: str
    section: str
    place: str
    title: str
    text: str

    @property
    def body(self) -> str:
        """The text without its title."""
        return self.text.partition("\n")[2].strip()


@dataclass(frozen=True)
class Hit:
    """Where something was found: the chapter, and the line it stands in without its marks."""

    chapter: Chapter
    line: str


def place_of(waypoint: Waypoint, section: str) -> str:
    """Return where the text of a section lies, without its ending: ``speed_loop/torque-mode``."""
    name = section or waypoint.name
    return f"{waypoint.key}/{re.sub(r'[^a-z0-9]+', '-', name.lower()).strip('-')}"


@cache
def chapters() -> tuple[Chapter, ...]:
    """Return every chapter, in the order of the course."""
    found = []
    for waypoint in WAYPOINTS:
        for section in waypoint.sections:
            place = place_of(waypoint, section.name)
            text = (FOLDER / f"{place}.md").read_text(encoding="utf-8")
            found.append(Chapter(waypoint.key, section.name, place, text.partition("\n")[0].removeprefix("# "), text=text))
    return tuple(found)


def chapter_of(key: str, section: str) -> Chapter:
    """Return the chapter of a page."""
    return next(c for c in chapters() if (c.key, c.section) == (key, section))


def chapter_at(place: str) -> Chapter | None:
    """Return the chapter at a place of the folder; None where there is none."""
    return next((c for c in chapters() if c.place == place), None)


def plain(line: str) -> str:
    """Return a line of markdown without its marks."""
    line = re.sub(r"\[([^\]]+)\]\([^)]+\)", r"\1", line)
    return re.sub(r"[*`]", "", re.sub(r"^(#+|-|>|\d+\.)\s+", "", line.strip()))


def search(words: str, most: int = 40) -> list[Hit]:
    """Return the lines in which all ``words`` stand, titles first; of a chapter without such a line the first with one of them, where the whole chapter has all."""
    wanted = words.lower().split()
    if not wanted:
        return []
    titles, lines, whole = [], [], []
    for chapter in chapters():
        told = [plain(line) for line in chapter.text.splitlines() if line.strip()]
        if all(w in chapter.title.lower() for w in wanted):
            titles.append(Hit(chapter, told[1] if len(told) > 1 else ""))
            continue
        there = [line for line in told if all(w in line.lower() for w in wanted)]
        if there:
            lines.append(Hit(chapter, there[0]))
        elif all(w in chapter.text.lower() for w in wanted):
            whole.append(Hit(chapter, next(line for line in told if wanted[0] in line.lower())))
    return [*titles, *lines, *whole][:most]
