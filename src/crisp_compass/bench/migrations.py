"""Bringing older bench files up, one format after the other; each step speaks the names of its time."""

from __future__ import annotations

from typing import Any

from crisp_compass.bench.plate import PLATES
from crisp_compass.bench.readings import TYPED

#: Names that format 5 says otherwise.
RENAMED = {"kv_school": "kv_convention", "kt_school": "kt_convention"}
#: Fields that settling was made from in format 4, and those that could be presumed.
_SETTLED: dict[str, tuple[str, ...]] = {
    "plate": ("pole_pairs", "v_bus", "rated_current", "current_base", "top_speed", "inertia", "viscous", "coulomb", "counts_per_rev"),
    "pwm": ("timer_hz", "carrier_hz", "aligned", "dead_time", "min_pulse", "scheme", "loop_divider", "updates", "shunts", "settling", "sample_time"),
    "current_loop": ("method", "bandwidth_hz", "damping", "delay_samples"),
    "speed_loop": ("method", "a", "bandwidth_hz", "filter_hz", "divider", "ramp", "lowest_speed"),
}  # fmt: skip
_PRESUMED: dict[str, tuple[str, ...]] = {
    "plate": ("pole_pairs", "v_bus", "rated_current", "top_speed", "counts_per_rev", "mains_hz", "steps_per_turn"),
    "pwm": ("timer_hz", "carrier_hz", "dead_time", "settling", "sample_time", "r_switch", "t_on", "t_off"),
    "current_loop": ("i_base", "v_base", "bits"),
}


def brought_up(data: dict[str, Any], version: int) -> dict[str, Any]:
    """Return the content of a bench file of an older format as the newest says it."""
    if version == 1:
        data = _from_format_1(data)
    data = _typed_into_checks(data)
    if version < 4:
        data = _from_format_3(data)
    if version < 5:
        data = {**_from_format_4(data), "format": 5}
    if version < 6:
        data = {**_from_format_5(data), "format": 6}
    return data


def _from_format_5(data: dict[str, Any]) -> dict[str, Any]:
    """Format 6 takes full scales from bus and trip level where nobody entered them; before, 40 A and 60 V were presumed whatever they are."""
    settings, entered = data.get("settings"), data.get("entered")
    loop = settings.get("current_loop") if isinstance(settings, dict) else None
    if not isinstance(settings, dict) or not isinstance(loop, dict):
        return data
    said = entered.get("current_loop", ()) if isinstance(entered, dict) else ()
    kept = {k: v for k, v in loop.items() if (k, v) not in (("i_base", 40.0), ("v_base", 60.0)) or (isinstance(said, list) and k in said)}
    return {**data, "settings": {**settings, "current_loop": kept}}


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
    levers, settled = data.get("levers"), data.get("settled")
    if not isinstance(levers, dict) or not isinstance(settled, dict):
        return data
    plate = levers.get("plate")
    if isinstance(plate, dict) and plate.get("inertia") == 1e-4 and "plate" not in settled:
        levers = {**levers, "plate": {k: v for k, v in plate.items() if k != "inertia"}}
    fresh, entered = dict(settled), {}
    for topic, fields in _SETTLED.items():
        entry, page = settled.get(topic), levers.get(topic, {})
        if not isinstance(entry, dict) or not isinstance(page, dict):
            continue
        then = {f: page[f] for f in fields if f in page}
        values = entry.get("values")
        if topic == "plate" and isinstance(values, dict):  # what was settled stands, whatever the fields say now
            kept = {k: q["value"] for k, q in values.items() if k in fields and isinstance(q, dict) and "value" in q}
            then |= {**kept, "current_base": "peak"} if "rated_current" in kept else kept
        fresh[topic] = {**entry, "levers": then}
        entered[topic] = [f for f in _PRESUMED.get(topic, ()) if f in fields]
    return {**data, "levers": levers, "settled": fresh, "entered": entered}


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
    if kind == "staircase" and "through the bridge" in str(
        evidence.get("method", "")
    ):  # nothing else tells it in these files
        kind = "bridge_staircase"
    if kind == "coast" and "trapezoid_factor" not in held:
        kind = "running"
    if kind == "encoder" and "bits" in held:
        kind = "absolute"
    return {**{k: v for k, v in evidence.items() if k != "slot"}, "kind": kind}


def _renamed(data: dict[str, Any], names: dict[str, str]) -> dict[str, Any]:
    return {names.get(k, k): v for k, v in data.items()}


def _from_format_4(data: dict[str, Any]) -> dict[str, Any]:
    """Format 5 says settings, conventions, auto-tune and kinds of capture; plates are of their family, and the sensor and what
    pages show things at stand apart."""
    data = _renamed(data, {"levers": "settings"})
    settings, settled, evidence = data.get("settings"), data.get("settled"), data.get("evidence")
    if isinstance(evidence, dict):
        data["evidence"] = {
            topic: [_with_kind(topic, e) if isinstance(e, dict) else e for e in items] if isinstance(items, list) else items
            for topic, items in evidence.items()
        }  # fmt: skip
    if isinstance(settled, dict):
        fresh = {t: _renamed(e, {"levers": "settings"}) if isinstance(e, dict) else e for t, e in settled.items()}
        plate = fresh.get("plate")
        if isinstance(plate, dict) and isinstance(plate.get("settings"), dict):
            fresh["plate"] = {
                **plate, "settings": _renamed(plate["settings"], {"counts_per_rev": "sensor.counts_per_rev"}),
            }  # fmt: skip
        data["settled"] = fresh
    if isinstance(settings, dict):
        data |= _apart(_renamed(settings, {"learned": "auto_tune"}), data)
    return data


def _apart(settings: dict[str, Any], data: dict[str, Any]) -> dict[str, Any]:
    """Return settings, other plates and what was entered, with the sensor and the view out of their old places."""
    fresh, entered = dict(settings), data.get("entered")
    others: dict[str, dict[str, Any]] = {}
    for topic, field, of, name in (
        ("plate", "counts_per_rev", "sensor", "counts_per_rev"), ("pwm", "depth", "view", "modulation_depth"),
        ("pwm", "angle", "view", "voltage_angle"), ("commutation", "offset", "view", "wrong_angle"),
    ):  # fmt: skip
        page = fresh.get(topic)
        if isinstance(page, dict) and field in page:
            fresh[topic] = {k: v for k, v in page.items() if k != field}
            fresh[of] = {**fresh.get(of, {}), name: page[field]}
    plate = fresh.get("plate")
    if isinstance(plate, dict):
        plate = _renamed(plate, RENAMED)
        kinds = {"encoder": "absolute" if _reads_words(data) else "incremental"}
        sensor = plate.pop("sensor", None)
        if sensor is not None:
            fresh["sensor"] = {**fresh.get("sensor", {}), "kind": kinds.get(sensor, sensor)}
        fresh["plate"], others = _of_its_family(plate)
    if isinstance(entered, dict) and isinstance(entered.get("plate"), list) and "counts_per_rev" in entered["plate"]:
        rest = [f for f in entered["plate"] if f != "counts_per_rev"]
        entered = {**entered, "plate": rest, "sensor": ["counts_per_rev"]}
    changed = {"settings": fresh} | ({"entered": entered} if entered is not None else {})
    return changed | ({"other_plates": others} if others else {})


def _reads_words(data: dict[str, Any]) -> bool:
    """Tell whether the encoder of an older bench was an absolute one, by its captures."""
    evidence = data.get("evidence")
    items = evidence.get("commutation") if isinstance(evidence, dict) else None
    return isinstance(items, list) and any(isinstance(e, dict) and e.get("kind") == "absolute" for e in items)


def older_profile(plate: dict[str, Any], sensor: object) -> dict[str, Any]:
    """Return plate and sensor of a motor profile that was saved when the plate held both."""
    fresh = _renamed(plate, RENAMED)
    held = dict(sensor) if isinstance(sensor, dict) else {}
    kind, counts = fresh.pop("sensor", None), fresh.pop("counts_per_rev", None)
    held |= {"kind": "incremental" if kind == "encoder" else kind} if kind is not None else {}
    held |= {"counts_per_rev": counts} if counts is not None else {}
    kept, _ = _of_its_family(fresh)
    return {"plate": kept, "sensor": held}


def _of_its_family(plate: dict[str, Any]) -> tuple[dict[str, Any], dict[str, dict[str, Any]]]:
    """Return the plate with the fields that its family has, and what else was said by a family that has it."""
    family = plate.get("family", "sinusoidal")
    own = PLATES.get(family) if isinstance(family, str) else None
    if own is None:
        return plate, {}
    known = {f for model in PLATES.values() for f in model.model_fields}
    kept = {k: v for k, v in plate.items() if k in own.model_fields or k not in known}
    others: dict[str, dict[str, Any]] = {}
    for key, model in PLATES.items():
        if key == "trapezoidal" or model is own:
            continue
        said = {
            k: v for k, v in plate.items()
            if k in model.model_fields and k not in own.model_fields and v is not None and v != model.model_fields[k].default
        }  # fmt: skip
        if said:
            others[key] = said
    return {"family": family, **kept}, others
