"""Rows of a start sequence as the firmware takes them: C and JSON."""

from __future__ import annotations

import json
from collections.abc import Sequence

from crisp_compass.safe_text import c_comment, c_float
from crisp_compass.sensorless.start import HEADER, Row, as_table


def rows_c(rows: Sequence[Row], note: str) -> str:
    """Return the rows as a constant array of a struct."""
    lines = [
        f"/* {c_comment(note)} */",
        "/* current A (phase peak), speed at the end of the row rpm, duration s, running time s, estimator may take over */",
        "typedef struct { float current_a, end_speed_rpm, duration_s, running_time_s; int estimator; } start_row_t;",
        f"static const start_row_t START_ROWS[{len(rows)}] = {{",
    ]
    lines += [f"    {{ {', '.join(c_float(x) for x in row[:4])}, {row[4]} }}," for row in as_table(rows)]
    return "\n".join([*lines, "};", ""])


def rows_json(rows: Sequence[Row]) -> str:
    """Return the rows as JSON."""
    return json.dumps({"rows": [dict(zip(HEADER, row, strict=True)) for row in as_table(rows)]}, indent=2) + "\n"
