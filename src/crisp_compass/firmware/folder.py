"""The folder of firmware: every file of it, for one bench."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from crisp_compass.bench.models import Bench
from crisp_compass.course.homing import plan_of as plan_of_homing
from crisp_compass.course.points import rows_of
from crisp_compass.course.position import move_of
from crisp_compass.errors import Refusal
from crisp_compass.firmware.configuration import configuration
from crisp_compass.firmware.cost import FIXED, cost_of, verdict
from crisp_compass.firmware.entries import Entry
from crisp_compass.firmware.fixed import (
    controller,
    cordic,
    estimator,
    has_period,
    has_servo,
    period,
    scale_note,
    servo,
)
from crisp_compass.firmware.homing_vectors import homing_rows
from crisp_compass.firmware.plan import Plan, plan_of
from crisp_compass.firmware.played import Vectors
from crisp_compass.firmware.render import SourceFile, render
from crisp_compass.firmware.telemetry import as_json
from crisp_compass.firmware.telemetry import context as telemetry_context
from crisp_compass.firmware.vectors import all_vectors
from crisp_compass.motion.homing import method_of
from crisp_compass.safe_text import c_comment, c_float
from crisp_compass.studies.cycle import row_limit

#: What every kind takes, in the order of the README.
_COMMON = ("cc_drive", "cc_speed", "cc_modulation", "cc_telemetry")
_HEADERS = ("cc_config", "cc_math", "cc_hardware")
_PART_TEXT = {
    "cc_current": "current controller", "cc_angle": "angle and speed from the sensor", "cc_estimator": "angle from voltages and currents",
    "cc_weakening": "current against the magnet beyond the speed that the voltage reaches", "cc_injection": "axis and pole at standstill", "cc_position": "profile of a move and position loop", "cc_points": "table of points, and what runs it", "cc_homing": "the place found again", "cc_block": "which two legs, and their voltage", "cc_rotor": "flux, slip and the limits of torque",
    "cc_hertz": "voltage and frequency along the ramp", "cc_stepping": "the field, its current table, both windings' currents", "cc_watch": "an encoder that watches that the shaft follows",
}  # fmt: skip
_CALLS = {
    "magnet": "`sinf`, `cosf` and `sqrtf` once each, at the voltage limit and beyond more", "sensorless": "`sinf` and `cosf` three times each, `atan2f` once, `sqrtf` twice, and more at hand-over",
    "block": "`floorf`", "rotor": "`sinf` and `cosf` twice each and `sqrtf` three times", "hertz": "`sinf` and `cosf` twice each and `sqrtf` once",
    "armature": "no function of the mathematical library",
    "observed": "`sinf` and `cosf` three times each, `atan2f` once, `sqrtf` four times, and more where the loops close and let go",
    "stepping": "`sinf` and `cosf` once each",
}  # fmt: skip


def firmware_folder(bench: Bench, when: str) -> list[SourceFile]:
    """Return all files of the folder; raises Refusal naming what the bench lacks."""
    plan = plan_of(bench)
    return files_of(plan, all_vectors(plan), when)


def files_of(plan: Plan, vectors: list[Vectors], when: str) -> list[SourceFile]:
    """Return all files of the folder of a plan with its vectors."""
    context = _context(plan, vectors)
    files = [
        SourceFile(name, render(template, plan.bench, when, context), own=name.startswith("hardware/"))
        for name, template in _templates(plan, context["fixed_sources"])
    ]
    files.append(SourceFile("telemetry.json", as_json(plan)))
    if plan.context["homes"]:
        files.append(SourceFile("vectors/homing.csv", homing_rows(plan)))
    return [*files, *(SourceFile(f"vectors/{v.name}.csv", v.text) for v in vectors)]


def sources_of(plan: Plan) -> list[str]:
    """Return the C files that make the drive."""
    parts = [*_COMMON, *plan.context["parts"], *(("cc_start",) if plan.kind == "sensorless" else ()), *(("cc_observer",) if plan.context["observed"] else ()), *(("cc_points",) if plan.context["points"] else ()), *(("cc_homing",) if plan.context["homes"] else ())]
    return [f"src/{part}.c" for part in parts]


def _fixed(plan: Plan) -> dict[str, Any]:
    """Return what the whole-number files are made from, which there are, and why one is left out."""
    found: dict[str, Any] = {"fixed_sources": [], "fixed_lacks": [], "est": None, "period": None, "servo": None}
    lacks = {"period": "fixed", "servo": "period"}
    for wanted, key, part, make in (
        (plan.kind in ("magnet", "sensorless", "rotor"), "fixed", "cc_current_fixed", controller),
        (plan.kind in ("magnet", "sensorless") and has_period(plan), "period", "cc_period_fixed", period),
        (plan.kind == "magnet" and has_period(plan) and has_servo(plan), "servo", "cc_drive_fixed", servo),
        (plan.kind == "sensorless" and not plan.context["injects"], "est", "cc_estimator_fixed", estimator),
    ):
        if wanted and (key not in lacks or found.get(lacks[key])):
            try:
                found[key] = make(plan)
            except Refusal as refusal:
                found["fixed_lacks"].append(refusal.sentence)
            else:
                found["fixed_sources"].append(f"src/{part}.c")
    if found["fixed_sources"]:
        found["fixed_sources"].append("src/cc_fixed_math.c")
    return {**found, **cordic(), "scale_note": scale_note(plan)}


def _fixed_costs(plan: Plan) -> dict[str, int]:
    """Return what the whole-number parts of this plan take, those that it has."""
    there = _fixed(plan)
    needs = {"current controller, Cortex-M0": ("fixed",), "whole drive by an encoder, Cortex-M0": ("servo",), "estimator and period, Cortex-M4": ("est", "period")}
    flux = "estimator by flux, Cortex-M4" if plan.context["by_flux"] else "estimator by back-EMF, Cortex-M4"
    needs[flux] = ("est",)
    return {name: FIXED[name] for name, parts in needs.items() if all(there.get(p) for p in parts)}


def left_out(plan: Plan) -> list[str]:
    """Return why whole-number files are left out of the folder, a sentence each."""
    return list(_fixed(plan)["fixed_lacks"])


def _templates(plan: Plan, fixed: list[str]) -> Iterator[tuple[str, str]]:
    sources = [*sources_of(plan), *fixed]
    for name in (
        "README.md", "CMakeLists.txt", "DEVIATIONS.md", *(f"include/{h}.h" for h in _HEADERS),
        *(s.replace("src/", "include/")[:-1] + "h" for s in sources), *sources, "hardware/cc_hardware.c", "examples/main_timer.c", "pc/cc_plant.h",
        "pc/cc_plant.c", "pc/main.c", "vectors/run_vectors.c",
    ):  # fmt: skip
        yield name, name


def _context(plan: Plan, vectors: list[Vectors]) -> dict[str, Any]:
    start = vectors[0]
    return {
        **plan.context,
        **_fixed(plan),
        **telemetry_context(plan),
        "point_rows": _points(plan) if plan.context["points"] else [], **(_homing(plan) if plan.context["homes"] else {}), "groups": configuration(plan), "plant": list(_plant(plan)), "vectors": [v.name for v in vectors] + (["homing"] if plan.context["homes"] else []), "sources": sources_of(plan), "supply": _double(plan.drive.inverter.v_supply),
        "target": c_float(plan.bench.settings.run.speed), "expected": _double(plan.bench.settings.run.speed if plan.kind == "stepping" else start.speed), "seconds": _double(start.seconds), "name": c_comment(plan.bench.name), "cost": cost_of(plan), "fixed_costs": _fixed_costs(plan), "verdict": verdict(plan),
        "kind_text": plan.called, "part_text": _PART_TEXT, "calls_text": _CALLS["observed" if plan.context["observed"] else plan.kind],
        "shared_text": "cc_step is the only function that belongs into an interrupt.", "rows": sum(v.text.count("\n") - 1 for v in vectors),
    }  # fmt: skip


def _homing(plan: Plan) -> dict[str, Any]:
    """Return what the homing's templates take."""
    home = plan_of_homing(plan.bench)
    sought = {"index": "the index alone", "home-switch": "the home switch", "negative-limit": "the negative limit switch", "positive-limit": "the positive limit switch", "negative-stop": "the negative hard stop, by the current against it", "positive-stop": "the positive hard stop, by the current against it"}.get(home.reference, "nothing")
    return {
        "home_method": method_of(home), "home_text": f"{sought}{' and the index beyond its edge' if home.index else ''}", "home_switch": home.reference != "index" and not home.stops, "home_stop": home.stops, "home_leaves": home.leaves, "home_index": home.index, "home_closed": plan.bench.settings.homing.contact == "closed",
        "home_scan": f"{home.scan:g}",
    }  # fmt: skip


def _points(plan: Plan) -> list[dict[str, str]]:
    """Return the rows of the table of points as C literals: counts, rad/s, rad/s², periods."""
    found, usual, last = [], move_of(plan.bench), len(plan.bench.points)
    for number, (p, row) in enumerate(zip(plan.bench.points, rows_of(plan.bench), strict=True), 1):
        follows = number + 1 if p.follows is None else p.follows
        found.append({
            "target": str(round(p.target / plan.count)), "speed": c_float(p.speed or usual.speed), "accel": c_float(p.accel or usual.accel), "dwell": str(round(p.dwell / plan.drive.control.ts)),
            "follows": str(follows - 1 if 0 < follows <= last else -1), "by": "1" if p.way == "by" else "0", "limit": c_float(row_limit(plan.bench, row, plan.drive.control.i_limit)) if plan.context["limits_rows"] else "",
            "mask": f"0x{1 << (p.branch[0] - 1):02x}u" if p.branch else "0u", "branch": str(p.branch[1] - 1) if p.branch and 0 < p.branch[1] <= last else "-1",
        })  # fmt: skip
    return found


def _plant(plan: Plan) -> Iterator[Entry]:
    """Return motor, load and supply of the plant on a PC."""
    m, load = plan.drive.machine, plan.drive.load
    figures: dict[str, float] = {"SUPPLY_V": plan.drive.inverter.v_supply, "R_OHM": m.r, "PAIRS": m.pole_pairs}
    if plan.kind in ("magnet", "sensorless", "stepping"):
        figures |= {"LD_H": m.ld, "LQ_H": m.lq, "PSI_WB": m.psi, "BEND_PER_A": m.bend}
    elif plan.kind in ("rotor", "hertz"):
        figures |= {"L_H": m.lq, "LM_H": m.lm, "RR_OHM": m.rr}
    else:
        figures |= {"L_H": m.lq, "PSI_WB": m.psi}
    if plan.kind == "armature":
        figures["DROP_V"] = m.drop + plan.drive.inverter.dead_voltage
    figures |= {
        "INERTIA": load.whole,
        "VISCOUS": load.viscous,
        "COULOMB": load.coulomb,
        "QUADRATIC": load.quadratic,
        "BREAKAWAY": load.breakaway,
    }
    for name, value in figures.items():
        yield Entry(name, f"({_double(value)})")


def _double(value: float) -> str:
    """Return a number as a C literal of type double."""
    text = f"{value:.10g}"
    return text if any(c in text for c in ".e") else f"{text}.0"
