"""What a served drive lets whom write: one place for every refusal."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import Enum

from crisp_compass.drive.description import Entry, within
from crisp_compass.drive.registers import physical

#: A shaft slower than this counts as standing, rad/s.
AT_REST = 0.5
#: What asks for the present place as zero; 1 seeks.
HERE_ASKED = 2
_MOVES_IT = ("test", "auto_tune", "home")


class Denial(Enum):
    """Why a request is refused."""

    ADDRESS = "address"
    LIMITS = "limits"
    STATE = "state"


@dataclass(frozen=True)
class Situation:
    """Who asks a drive in which state: armed, by somebody else, ``speed`` [rad/s], whether it is ``kept`` from arming by a fault or an input, ``stopping`` after it was let go, in a test, in an
    auto-tune; routines that it knows, and whether it can seek its place."""

    armed: bool
    by_others: bool
    speed: float
    kept: bool
    stopping: bool
    testing: bool
    tuning: bool
    routines: tuple[int, ...]
    seeks: bool

    @property
    def turns(self) -> bool:
        """Whether the shaft turns."""
        return abs(self.speed) > AT_REST


def denied(entry: Entry, raw: float, now: Situation) -> Denial | None:
    """Tell why a raw number may not be written, or None where it may."""
    if not entry.writable:
        return Denial.ADDRESS
    if not math.isfinite(raw) or not within(entry, physical(entry, raw)):
        return Denial.LIMITS
    name = entry.name
    if name in ("stop", "inputs"):  # switches are nobody's
        return None
    if now.by_others:
        return Denial.STATE
    asks = name in ("speed", "place") or (name in _MOVES_IT and raw != 0)
    if asks and (not now.armed or now.tuning or (now.testing and name != "test")):
        return Denial.STATE
    if raw == 0:
        return None
    if name == "home" and raw != HERE_ASKED and not now.seeks:
        return Denial.LIMITS
    barred = {
        "home": raw == HERE_ASKED and now.turns,  # it would be another place a moment later
        "auto_tune": int(raw) not in now.routines or now.turns, "hold": now.turns, "arm": now.kept or (now.stopping and abs(now.speed) > 2 * AT_REST),
        "restart": now.armed or now.turns, "restore": now.armed or now.turns,
    }  # fmt: skip
    return Denial.STATE if barred.get(name, False) else None
