"""Settings as JSON."""

from __future__ import annotations

import json

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import stale_inputs
from crisp_compass.course.position import moves
from crisp_compass.record.content import HALL_CONVENTION
from crisp_compass.record.formats.form import Form, own_settled
from crisp_compass.record.handed import handed_settings


def _json(bench: Bench) -> str:
    data = {
        "bench": bench.name,
        "settings": {
            topic: {
                "values": {n: q.model_dump(mode="json", exclude_none=True) for n, q in s.values.items()},
                "reason": s.reason,
                "when": s.when,
                "stale": bool(stale_inputs(bench, topic)),
                "origin": s.origin,
                **({"halls": {**s.halls.model_dump(mode="json"), "convention": HALL_CONVENTION}} if s.halls else {}),
            }
            for topic, s in own_settled(bench).items()
        },
        "firmware": {f"{h.topic}.{h.name}": {"value": h.value, "unit": h.unit, "text": h.text} for h in handed_settings(bench)},
        **({"points": [p.model_dump(mode="json", exclude_none=True) for p in bench.points]} if bench.points and moves(bench) else {}),
    }
    return json.dumps(data, indent=2, ensure_ascii=False) + "\n"


FORM = Form("json", "JSON", ".json", "settings", place=2, write=_json)
