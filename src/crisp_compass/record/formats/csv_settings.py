"""Settings as CSV, a value a row."""

from __future__ import annotations

import csv
import io

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import stale_inputs
from crisp_compass.record.formats.form import Form, own_settled
from crisp_compass.record.handed import handed_settings
from crisp_compass.safe_text import csv_cell


def _csv(bench: Bench) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["topic", "name", "value", "unit", "u", "low95", "high95", "stale", "reason"])
    for topic, settled in own_settled(bench).items():
        stale = "yes" if stale_inputs(bench, topic) else "no"
        said = f"data sheet, not measured: {settled.reason}" if settled.origin == "data-sheet" else settled.reason
        for name, q in settled.values.items():
            low, high = q.interval95 or ("", "")
            doubt = "" if q.u is None else repr(q.u)
            row = [topic, name, repr(q.value), q.unit, doubt, low, high, stale, said]
            writer.writerow([row[0], row[1], row[2], *(csv_cell(c) for c in row[3:])])
        if settled.halls:
            for code, sector in settled.halls.states.items():
                for part, angle in (
                    ("from", sector.from_deg),
                    ("center", sector.center_deg),
                    ("to", sector.to_deg),
                ):
                    row = [topic, f"hall_{code}_{part}", f"{angle:.3f}", "deg", "", "", "", stale, sector.drive]
                    writer.writerow(row)
    for h in handed_settings(bench):
        stale = "yes" if h.topic in bench.settled and stale_inputs(bench, h.topic) else "no"
        writer.writerow([h.topic, h.name, repr(h.value), h.unit, "", "", "", stale, h.text])
    return out.getvalue()


FORM = Form("csv", "CSV", ".csv", "settings", place=3, write=_csv)
