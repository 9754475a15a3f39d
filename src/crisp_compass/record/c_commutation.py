"""Hall tables, edge angles, encoder offsets and signs as C, with their conventions beside them."""

from __future__ import annotations

import math
from collections.abc import Mapping

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.records import HallRecord

_PAIRS = ("A+B-", "A+C-", "B+C-", "B+A-", "C+A-", "C+B-")


def c_halls(halls: HallRecord) -> list[str]:
    """Return the hall tables as macros, indexed by code."""
    center, ahead, back = (["-1.0f"] * 8 for _ in range(3))
    forward, reverse = (["-1"] * 8 for _ in range(2))
    for code, sector in halls.states.items():
        k = int(code)
        center[k] = f"{sector.center_deg % 360:.3f}f"
        ahead[k], back[k] = f"{sector.from_deg % 360:.3f}f", f"{sector.to_deg % 360:.3f}f"
        pair = _PAIRS.index(sector.drive)
        forward[k], reverse[k] = str(pair), str((pair + 3) % 6)
    errors = ", ".join(f"{e:.3f}f" for e in halls.edge_errors_deg)

    def table(name: str, values: list[str]) -> str:
        return f"#define CC_HALL_{name} {{ {', '.join(values)} }}"

    return [
        f"#define CC_HALL_SPACING_DEG ({halls.spacing_deg})",
        "/* Index of every table: 4*hall_1 + 2*hall_2 + hall_3. Electrical degrees; 0 where the rotor's flux lies along",
        " * phase A, rising A-B-C. -1: this code does not occur, switch off. */",
        table("CENTER_DEG", center),
        "/* Angle of the edge just passed when the code appears: turning A-B-C, and turning A-C-B. */",
        table("EDGE_AHEAD_DEG", ahead),
        table("EDGE_BACK_DEG", back),
        "/* Distance of the six edges from the best even grid, rising from the first edge at or above 0. */",
        f"#define CC_HALL_EDGE_ERROR_DEG {{ {errors} }}",
        "/* Six-step pair for torque A-B-C and for torque A-C-B: 0 A+B-, 1 A+C-, 2 B+C-, 3 B+A-, 4 C+A-, 5 C+B-. */",
        table("FORWARD_PAIR", forward),
        table("REVERSE_PAIR", reverse),
    ]


def c_encoder(values: Mapping[str, Quantity]) -> list[str]:
    """Return the encoder's angle as a macro over a count, with what it rests on said beside it."""
    if not {"counts_per_rev", "direction", "zero_offset"} <= set(values):
        return []
    sense = "rise" if values["direction"].value > 0 else "fall"
    degrees = math.degrees(values["zero_offset"].value)
    return [
        f"/* Counts are at x4 and {sense} when the motor turns A-B-C; count 0 at the middle of the index pulse (or where the",
        f" * absolute encoder reads 0), where theta_e is {degrees:.3f} degrees. theta_e in rad, not wrapped: */",
        "#define CC_COMMUTATION_THETA_E(count) (CC_COMMUTATION_ZERO_OFFSET_RAD + (float)(CC_COMMUTATION_DIRECTION) * CC_PLATE_POLE_PAIRS \\",
        "    * 6.2831853f * (float)(count) / CC_COMMUTATION_COUNTS_PER_REV)",
    ]
