"""What the firmware tells over a serial line: the channels of its frames, in C and as a description that `drive record` reads."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from crisp_compass.drive.description import Description, Entry
from crisp_compass.firmware.plan import Plan

#: Frames a second at most that are proposed: a line of 921,600 baud carries them.
_RATE = 2000.0


@dataclass(frozen=True)
class Channel:
    """One value of a frame: its name, type and unit, the signal it is, and the C expression it comes from."""

    name: str
    type: str
    unit: str
    signal: str | None
    source: str


def channels(plan: Plan) -> list[Channel]:
    """Return what this kind of firmware tells."""
    found = [Channel("speed_reference", "float32", "rad/s", "speed_ref", source="d->speed.reference")]
    if plan.kind not in ("hertz", "stepping"):
        found.insert(0, Channel("speed", "float32", "rad/s", "speed", source="d->speed.seen"))
        found.append(Channel("current_q_reference", "float32", "A", "i_q_ref", source="d->current_ref.q"))
    if plan.windings == 1:
        found.append(Channel("armature_current", "float32", "A", "i_m", source="in->i_a[0]"))
    else:
        found += [Channel("current_a", "float32", "A", "i_a", source="in->i_a[0]"), Channel("current_b", "float32", "A", "i_b", source="in->i_a[1]")]
    found.append(Channel("bus", "float32", "V", "v_bus", source="in->v_bus"))
    found.append(Channel("fault", "uint16", "", None, source="d->fault"))
    return found


def every(plan: Plan) -> int:
    """Return how many periods lie between two frames."""
    return max(int(1.0 / plan.drive.control.ts / _RATE + 0.999), 1)


def description(plan: Plan) -> Description:
    """Return the stream as `drive record` and the window take it."""
    entries = tuple(Entry(name=c.name, type=c.type, unit=c.unit, signal=c.signal, table="input", access="r") for c in channels(plan))  # type: ignore[arg-type]
    return Description(
        name=f"telemetry of {plan.bench.name}"[:120], protocol="stream", stream="frames", period_s=plan.drive.control.ts * every(plan), baud=921600, telemetry=entries
    )


def context(plan: Plan) -> dict[str, Any]:
    """Return what the templates take."""
    told = channels(plan)
    size = 3 + sum(2 if c.type == "uint16" else 4 for c in told) + 2
    return {
        "telemetry": told, "telemetry_bytes": size + 2, "telemetry_every": every(plan), "telemetry_rate": (size + 2) / (plan.drive.control.ts * every(plan)),
        "telemetry_reads": any("in->" in c.source for c in told),
    }  # fmt: skip


def as_json(plan: Plan) -> str:
    """Return the description as the text of its file."""
    data = description(plan).model_dump(exclude_none=True)
    for lot in ("parameters", "commands", "faults"):
        del data[lot]
    data["telemetry"] = [{k: v for k, v in e.items() if v not in ("",) and v is not False} for e in data["telemetry"]]
    return json.dumps(data, indent=1, ensure_ascii=False) + "\n"
