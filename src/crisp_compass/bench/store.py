"""Loading and saving bench files: atomic, readable, never overwriting what could not be read."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from crisp_compass.bench.entered import PRESUMABLE, SETTLES
from crisp_compass.bench.models import FORMAT, Bench
from crisp_compass.bench.readings import TYPED
from crisp_compass.errors import Refusal
from crisp_compass.files import read_text, shortened, sweep, write_atomically


def load_bench(path: Path | str) -> Bench:
    """Read a bench file; raises Refusal for missing, damaged or newer files (which stay untouched)."""
    where = str(path)
    sweep(Path(path))
    return read_bench(parse_json(read_text(Path(path)), where, "bench file"), where)


def parse_json(text: str, where: str, what: str) -> Any:
    """Return what a JSON text of ours holds; raises Refusal where it is damaged or says a thing twice."""
    untouched = "restore an earlier copy; the file was not changed"

    def once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
        found = dict(pairs)
        if len(found) < len(pairs):
            keys = [k for k, _ in pairs]
            double = next(k for k in keys if keys.count(k) > 1)
            raise Refusal(f"the {what} is damaged (“{shortened(double)}” stands there twice)", untouched, where=where)
        return found

    try:
        return json.loads(text, object_pairs_hook=once)
    except json.JSONDecodeError as error:
        raise Refusal(f"line {error.lineno}: the {what} is damaged ({error.msg})", untouched, where=where) from None
    except RecursionError:
        raise Refusal(f"the {what} is damaged (nested too deeply)", untouched, where=where) from None
    except ValueError:  # Python refuses to read integers of thousands of digits
        raise Refusal(f"the {what} is damaged (a number of thousands of digits)", untouched, where=where) from None


def read_bench(data: Any, where: str) -> Bench:
    """Return the bench that parsed JSON holds, older formats brought up; raises Refusal naming what is wrong."""
    if not isinstance(data, dict) or "format" not in data:
        raise Refusal("this is no bench file (it has no “format”)", where=where)
    version = data["format"]
    if not isinstance(version, int) or isinstance(version, bool) or version < 1:
        raise Refusal(
            f"the format “{shortened(version)}” is unknown", "open it with the program that wrote it", where=where
        )
    if version > FORMAT:
        raise Refusal(
            f"the bench has format {shortened(version)}, this program knows up to {FORMAT}",
            "open it with a newer version; the file was not changed",
            where=where,
        )
    if version < 5:
        data = _from_format_4(data)
    if version == 1:
        data = _from_format_1(data)
    data = _typed_into_checks(data)
    if version < 4:
        data = _from_format_3(data)
    if version < FORMAT:
        data = {**data, "format": FORMAT}
    try:
        return Bench.model_validate(data)
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(shortened(part, 40) for part in first["loc"])
        message = shortened(first["msg"].removeprefix("Value error, "), 160)
        raise Refusal(
            f"the bench file is damaged at {place}: {message[:1].lower()}{message[1:]}",
            "correct it there or restore an earlier copy; the file was not changed",
            where=where,
        ) from None


#: Names that format 5 says otherwise.
RENAMED = {"kv_school": "kv_convention", "kt_school": "kt_convention", "depth": "modulation_depth"}


#: Kinds of capture by waypoint and what format 4 called their slot.
_KINDS = {
    "resistance": {"": "staircase"},
    "inductance": {"": "steps", "d": "steps_d", "q": "steps_q", "angle": "lcr_angle", "current": "saturation"},
    "flux": {"": "coast"},
    "mechanics": {"": "run_up"},
    "commutation": {"": "halls", "encoder": "encoder", "align": "alignment", "poles": "pole_search"},
    "pwm": {"command": "command"},
    "current_loop": {"step": "current_step"},
}


def _with_kind(topic: str, evidence: dict[str, Any]) -> dict[str, Any]:
    slot, estimates = evidence.get("slot", ""), evidence.get("estimates")
    kind = _KINDS.get(topic, {}).get(slot, str(slot)) if isinstance(slot, str) else slot
    held = estimates if isinstance(estimates, dict) else {}
    if kind == "coast" and "trapezoid_factor" not in held:
        kind = "running"
    if kind == "encoder" and "bits" in held:
        kind = "absolute"
    return {**{k: v for k, v in evidence.items() if k != "slot"}, "kind": kind}


def _renamed(data: dict[str, Any], old: str, new: str) -> dict[str, Any]:
    return {new if k == old else k: v for k, v in data.items()}


def _from_format_4(data: dict[str, Any]) -> dict[str, Any]:
    """Format 5 says settings, conventions, auto-tune and kinds of capture; comes first, so that what brings older files up
    speaks of those."""
    data = _renamed(data, "levers", "settings")
    settings, settled, evidence = data.get("settings"), data.get("settled"), data.get("evidence")
    if isinstance(evidence, dict):
        data["evidence"] = {
            topic: [_with_kind(topic, e) if isinstance(e, dict) else e for e in items]
            if isinstance(items, list)
            else items
            for topic, items in evidence.items()
        }
    if isinstance(settings, dict):
        settings = _renamed(settings, "learned", "auto_tune")
        for topic in ("plate", "pwm"):
            page = settings.get(topic)
            if isinstance(page, dict):
                settings[topic] = {RENAMED.get(k, k): v for k, v in page.items()}
        data["settings"] = settings
    if isinstance(settled, dict):
        data["settled"] = {
            t: _renamed(e, "levers", "settings") if isinstance(e, dict) else e for t, e in settled.items()
        }
    return data


def _from_format_1(data: dict[str, Any]) -> dict[str, Any]:
    """Format 2 lets loops rest on the mechanics, for which the plate's figures stand in until they are measured."""
    names = {"plate.inertia": "mechanics.inertia", "plate.viscous": "mechanics.viscous_friction"}
    settled = data.get("settled")
    if isinstance(settled, dict):
        fresh = {}
        for topic, entry in settled.items():
            rests = entry.get("rests_on") if isinstance(entry, dict) else None
            moved = {"rests_on": {names.get(k, k): v for k, v in rests.items()}} if isinstance(rests, dict) else {}
            fresh[topic] = {**entry, **moved} if moved else entry
        data = {**data, "settled": fresh}
    return data


def _from_format_3(data: dict[str, Any]) -> dict[str, Any]:
    """Format 4 knows what was entered, keeps the fields with what was settled, and presumes no inertia.

    In an older file what was settled counts as entered; an inertia that stands at the old default and was never settled is not.
    """
    settings, settled = data.get("settings"), data.get("settled")
    if not isinstance(settings, dict) or not isinstance(settled, dict):
        return data
    plate = settings.get("plate")
    if isinstance(plate, dict) and plate.get("inertia") == 1e-4 and "plate" not in settled:
        settings = {**settings, "plate": {k: v for k, v in plate.items() if k != "inertia"}}
    fresh, entered = dict(settled), {}
    for topic, fields in SETTLES.items():
        entry, page = settled.get(topic), settings.get(topic, {})
        if not isinstance(entry, dict) or not isinstance(page, dict):
            continue
        then = {f: page[f] for f in fields if f in page}
        values = entry.get("values")
        if topic == "plate" and isinstance(values, dict):  # what was settled stands, whatever the fields say now
            kept = {k: q["value"] for k, q in values.items() if k in fields and isinstance(q, dict) and "value" in q}
            then |= {**kept, "current_base": "peak"} if "rated_current" in kept else kept
        fresh[topic] = {**entry, "settings": then}
        entered[topic] = [f for f in PRESUMABLE.get(topic, ()) if f in fields]
    return {**data, "settings": settings, "settled": fresh, "entered": entered}


def _typed_into_checks(data: dict[str, Any]) -> dict[str, Any]:
    """Older files keep typed meter readings in the ledger alone; a check that was recorded or reset later stands."""
    ledger, checks = data.get("ledger"), data.get("checks", {})
    if not isinstance(ledger, list) or not isinstance(checks, dict):
        return data
    checks = dict(checks)
    for line in ledger:
        kind = str(line.get("kind", "")) if isinstance(line, dict) else ""
        quantity, when = (line.get("value"), line.get("when")) if kind in TYPED else (None, None)
        if (
            not isinstance(quantity, dict)
            or not isinstance(when, str)
            or not isinstance(quantity.get("value"), int | float)
        ):
            continue
        key, name = TYPED[kind]
        record = checks.get(key, {"values": {}, "when": ""})
        if not isinstance(record, dict) or not isinstance(record.get("values", {}), dict):
            continue
        if str(record.get("when", "")) < when or record.get("when") == when:
            values = {**record.get("values", {}), name: quantity["value"]}
            checks[key] = {**record, "values": values, "when": max(str(record.get("when", "")), when)}
    return {**data, "checks": checks} if checks else data


def dump_bench(bench: Bench) -> str:
    """Return the file's text: stable key order, indented, ending in a newline."""
    return json.dumps(bench.model_dump(mode="json", exclude_none=True), indent=2, ensure_ascii=False) + "\n"


def save_bench(bench: Bench, path: Path | str) -> None:
    """Write by temporary file and atomic rename; the last good version survives any failure."""
    write_atomically(Path(path), dump_bench(bench))
