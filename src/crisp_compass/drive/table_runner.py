"""A table of points on the simulated drive: one row, once through, or cycle after cycle, as the firmware runs it."""

from __future__ import annotations

import math
from collections.abc import Callable

from crisp_compass.bench.models import Bench
from crisp_compass.course.points import rows_of
from crisp_compass.course.position import move_of
from crisp_compass.drive.port import Token
from crisp_compass.drive.simulated import SimulatedDrive
from crisp_compass.errors import Refusal
from crisp_compass.motion.points import Row, order_of
from crisp_compass.studies.cycle import row_limit


class TableRunner:
    """Asks a drive for row after row. ``row`` runs now, from 0, None where none does; ``offs`` holds how far the shaft was off [rad] at the end of each cycle."""

    def __init__(self, bench: Bench) -> None:
        self._bench, self._rows = bench, rows_of(bench)
        self.row: int | None = None
        self.cycles = 0
        self.offs: list[float] = []
        self._only = self._again = False
        self._place = self._stayed = 0.0

    def start(self, drive: SimulatedDrive, token: Token, row: int = 0, *, only: bool = False, again: bool = False) -> None:
        """Begin at a row: ``only`` this one, or the table, ``again`` and again where it ends; raises Refusal for a table that leads nowhere or a void token."""
        if not self._rows:
            raise Refusal("the table is empty", "add a row on the section Points, or take a place as one")
        if not 0 <= row < len(self._rows):
            raise Refusal(f"there is no row {row + 1}", f"rows 1 to {len(self._rows)} are there")
        order_of(self._rows)
        self._only, self._again, self._place = only, again, drive.asked_place
        self._go(drive, token, row)

    def _go(self, drive: SimulatedDrive, token: Token, row: int) -> None:
        r, usual = self._rows[row], move_of(self._bench)
        self._place = self._place + r.target if r.way == "by" else r.target
        drive.within(r.speed or usual.speed, r.accel or usual.accel, row_limit(self._bench, r, math.inf))
        drive.move_to(token, self._place)
        self.row, self._stayed = row, 0.0

    def step(self, drive: SimulatedDrive, token: Token, seconds: float, inputs: Callable[[int], bool]) -> None:
        """Look once, ``seconds`` after the last time, at the drive and the ``inputs`` (from 1); goes on where the row has arrived and stayed."""
        if self.row is None:
            return
        self._stayed = self._stayed + seconds if drive.arrived else 0.0
        r = self._rows[self.row]
        if self._stayed <= r.dwell:
            return
        if self._only:
            self.row = None
            return
        after = _next(r, self.row, inputs)
        if after is None or after >= len(self._rows):
            after = 0
        if after <= self.row:  # the end of a cycle, or back into its ring
            self.cycles += 1
            self.offs.append(self._place - drive.place)
            if not self._again:
                self.row = None
                return
        self._go(drive, token, after)


def _next(row: Row, at: int, inputs: Callable[[int], bool]) -> int | None:
    """Return the row that comes next, from 0; None at the end."""
    told = row.branch[1] if row.branch is not None and inputs(row.branch[0]) else row.follows
    if told is None:
        return at + 1
    return told - 1 if told > 0 else None
