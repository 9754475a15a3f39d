"""Rows of a start sequence as the firmware takes them: C and JSON."""

from __future__ import annotations

import json
from collections.abc import Sequence

from crisp_compass.safe_text import c_comment, c_float
from crisp_compass.sensorless.start import HEADER, Row, as_table

#: What every reader of the rows must know, since numbers alone do not say it.
_MEANING = (
    "Within a quarter of its duration the current goes to current_a (phase peak), along a field that turns from the speed before to end_speed_rpm.",
    "field_turn_deg (electrical) is put on the field's angle at a row's begin: a second alignment pulls a rotor away that stood against the first.",
    "estimator 1: from here on the loop may close, once the estimate is valid, turns the right way, and the field leads it by no more than was allowed.",
)


def field_turns(rows: Sequence[Row]) -> list[float]:
    """Return by how much [deg, electrical] the field turns on at the begin of each row: a quarter for each alignment after the first."""
    return [90.0 if k and row.speed == 0.0 else 0.0 for k, row in enumerate(rows)]


def rows_c(rows: Sequence[Row], note: str) -> str:
    """Return the rows as a constant array of a struct."""
    lines = [
        f"/* {c_comment(note)}",
        *(f" * {text}" for text in _MEANING),
        " */",
        "typedef struct { float current_a, end_speed_rpm, duration_s, running_time_s, field_turn_deg; int estimator; } cc_start_row_t;",
        f"static const cc_start_row_t CC_START_ROWS[{len(rows)}] = {{",
    ]
    lines += [
        f"    {{ {', '.join(c_float(x) for x in (*row[:4], turn))}, {row[4]} }},"
        for row, turn in zip(as_table(rows), field_turns(rows), strict=True)
    ]
    return "\n".join([*lines, "};", ""])


def rows_json(rows: Sequence[Row]) -> str:
    """Return the rows as JSON."""
    made = [
        {**dict(zip(HEADER, row, strict=True)), "field_turn_deg": turn}
        for row, turn in zip(as_table(rows), field_turns(rows), strict=True)
    ]
    return json.dumps({"rows": made, "meaning": list(_MEANING)}, indent=2) + "\n"
