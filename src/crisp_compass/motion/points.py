"""A table of points: where to go, how fast, how long to stay, and what comes next; as text that spreadsheets take, checked row by row.

Rows count from 1. ``follows`` 0 ends the table, None goes on to the row below (the last one ends). A table that runs in a ring is one cycle up to where it comes back.
"""

from __future__ import annotations

import csv
import io
import math
import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from crisp_compass.errors import Refusal

#: Rows at most.
MOST = 500
#: Columns by key: their head, the unit of a plain figure, and what stands there.
COLUMNS: dict[str, tuple[str, str, str]] = {
    "target": ("target", "turn", "place, or way from where it stands"), "way": ("kind", "", "to a place, or by a way"), "speed": ("speed", "rpm", "while it moves; as settled if empty"),
    "accel": ("acceleration", "rad/s²", "from and to rest; as settled if empty"), "dwell": ("dwell", "s", "for which it stays"), "follows": ("next", "", "row that comes next; 0 ends; the row below if empty"),
    "torque": ("torque limit", "N·m", "while it moves; the drive's if empty"), "branch": ("branch", "", "input and row, 2:7: where input 2 is on after the dwell, row 7 comes next"),
}  # fmt: skip
#: Inputs that a row may look at.
INPUTS = 8
_BRANCH = re.compile(r"(\d+)\s*[:>]\s*(\d+)$")
_BARE = re.compile(r"[+\-−]?[\d.,]+(e[+\-]?\d+)?$", re.IGNORECASE)
_HEAD = re.compile(r"[\s_]*\[(?P<unit>[^\]]*)\]\s*$")


@dataclass(frozen=True)
class Row:
    """One row: ``target`` [rad], ``way`` ``to`` or ``by``, ``speed`` [rad/s] and ``accel`` [rad/s²] (None: as settled), ``dwell`` [s], ``follows``, limit of the ``torque`` [N·m, None: the drive's], and ``branch``: an input from 1 and the row that comes next where it is on (0: the end)."""

    target: float
    way: str = "to"
    speed: float | None = None
    accel: float | None = None
    dwell: float = 0.0
    follows: int | None = None
    torque: float | None = None
    branch: tuple[int, int] | None = None


def read_table(text: str, read: Callable[[str, str], float]) -> list[Row]:
    """Return the rows of a text with commas, semicolons or tabs, with or without a head.

    ``read`` turns a cell and the unit that a plain figure in it has into SI. Raises Refusal naming row and column; nothing is taken then.
    """
    lines = [line for line in text.lstrip("\ufeff").splitlines() if line.strip() and not line.lstrip().startswith("#")]
    if not lines:
        raise Refusal("the table is empty", "a row needs a target")
    separator = next((c for c in "\t;" if c in lines[0]), ",")
    cells = list(csv.reader(io.StringIO("\n".join(lines)), delimiter=separator))
    keys, units = list(COLUMNS), {k: unit for k, (_, unit, _) in COLUMNS.items()}
    heads = {head: k for k, (head, _, _) in COLUMNS.items()}
    first = [_HEAD.sub("", c).strip().lower() for c in cells[0]]
    if any(name in heads for name in first):
        unknown = next((c for c, name in zip(cells[0], first, strict=True) if name not in heads), None)
        if unknown is not None:
            raise Refusal(f"column “{unknown.strip()[:30]}” is none of {', '.join(heads)}", "name the columns so")
        keys = [heads[name] for name in first]
        for key, told in zip(keys, cells[0], strict=True):
            found = _HEAD.search(told)
            units[key] = found["unit"].strip() if found else units[key]
        cells = cells[1:]
    if len(cells) > MOST:
        raise Refusal(f"the table has {len(cells)} rows", f"up to {MOST} are taken")
    if not cells:
        raise Refusal("the table has a head and no row", "a row needs a target")
    return [_row(number, dict(zip(keys, row, strict=False)), units, read) for number, row in enumerate(cells, 1)]


def _row(number: int, cells: dict[str, str], units: dict[str, str], read: Callable[[str, str], float]) -> Row:
    def taken(key: str) -> float | None:
        text = cells.get(key, "").strip()
        if not text:
            return None
        try:
            base = COLUMNS[key][1]
            return read(f"{text} {units[key]}" if units[key] != base and _BARE.match(text) else text, base)
        except Refusal as refusal:
            raise Refusal(f"row {number}, {COLUMNS[key][0]}: {refusal.problem}", refusal.remedy) from None

    target, way, follows = taken("target"), cells.get("way", "").strip().lower() or "to", cells.get("follows", "").strip()
    if target is None:
        raise Refusal(f"row {number} has no target", "enter where it goes")
    if way not in ("to", "by"):
        raise Refusal(f"row {number}, kind: “{way[:20]}”", "to a place, or by a way")
    if follows and not follows.isdigit():
        raise Refusal(f"row {number}, next: “{follows[:20]}” is no row", "its number, 0 for the end, or nothing")
    dwell = taken("dwell") or 0.0
    speed, accel = taken("speed"), taken("accel")
    for name, value in (("speed", speed), ("acceleration", accel)):
        if value is not None and not value > 0:
            raise Refusal(f"row {number}, {name}: {value:g}", "above zero, or nothing")
    if not 0 <= dwell <= 3600:
        raise Refusal(f"row {number}, dwell: {dwell:g} s", "0 to 3600 s")
    torque, branch = taken("torque"), cells.get("branch", "").strip()
    if torque is not None and not torque > 0:
        raise Refusal(f"row {number}, torque limit: {torque:g}", "above zero, or nothing")
    told = _BRANCH.match(branch) if branch else None
    if branch and (told is None or not 1 <= int(told[1]) <= INPUTS):
        raise Refusal(f"row {number}, branch: “{branch[:20]}” is no input and row", f"2:7 for input 2 and row 7; inputs 1 to {INPUTS}")
    return Row(target, way, speed, accel, dwell=dwell, follows=int(follows) if follows else None, torque=torque, branch=(int(told[1]), int(told[2])) if told else None)


def write_table(rows: Iterable[Row]) -> str:
    """Return the text of a table, turns and rpm."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow([f"{head} [{unit}]" if unit else head for head, unit, _ in COLUMNS.values()])
    for r in rows:
        speed = "" if r.speed is None else f"{r.speed * 30 / math.pi:.9g}"
        writer.writerow([f"{r.target / (2 * math.pi):.12g}", r.way, speed, "" if r.accel is None else f"{r.accel:.9g}", f"{r.dwell:.9g}", "" if r.follows is None else r.follows, "" if r.torque is None else f"{r.torque:.9g}", "" if r.branch is None else f"{r.branch[0]}:{r.branch[1]}"])
    return out.getvalue()


@dataclass(frozen=True)
class Order:
    """The rows as they run: indices from 0, and whether the last leads back into them (a ring) instead of ending."""

    rows: tuple[int, ...]
    ring: bool


def order_of(rows: Sequence[Row]) -> Order:
    """Return in which order the rows run from the first, up to the end or to where they come back; raises Refusal for a next row that is not there."""
    for number, row in enumerate(rows, 1):
        if row.follows is not None and row.follows > len(rows):
            raise Refusal(f"row {number} goes on to row {row.follows}, and there are {len(rows)}", "a row that is there, 0, or nothing")
        if row.branch is not None and row.branch[1] > len(rows):
            raise Refusal(f"row {number} branches to row {row.branch[1]}, and there are {len(rows)}", "a row that is there, or 0 for the end")
    at, seen = 0, []
    while at < len(rows) and at not in seen:
        seen.append(at)
        follows = rows[at].follows
        at = at + 1 if follows is None else follows - 1
        if at < 0:
            return Order(tuple(seen), False)
    return Order(tuple(seen), at < len(rows))


def reached(rows: Sequence[Row]) -> set[int]:
    """Return the rows, from 0, that can be reached from the first, whatever the inputs are."""
    found: set[int] = set()
    waits = [0] if rows else []
    while waits:
        at = waits.pop()
        if at in found or not 0 <= at < len(rows):
            continue
        found.add(at)
        row = rows[at]
        waits += [at + 1 if row.follows is None else row.follows - 1, *(() if row.branch is None else (row.branch[1] - 1,))]
    return found


def places(rows: Sequence[Row], order: Order, start: float = 0.0) -> list[tuple[float, float]]:
    """Return from and to [rad] of every row in its order, begun at ``start`` [rad]."""
    at, found = start, []
    for index in order.rows:
        row = rows[index]
        end = row.target if row.way == "to" else at + row.target
        found.append((at, end))
        at = end
    return found
