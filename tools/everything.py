"""Everything that can be asked of a bench, as one list: whatever the models accept, each gives a finite answer or a Refusal."""

from __future__ import annotations

import math
import re
import traceback
import warnings
from collections.abc import Callable, Iterator
from dataclasses import fields, is_dataclass
from pathlib import Path
from typing import Any

import numpy as np

from crisp_compass.bench.entered import edits, presumed_for, standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.profile import make_profile
from crisp_compass.bench.store import dump_bench
from crisp_compass.course.block import block_constant, waveform
from crisp_compass.course.bridge import plan_bench_pwm, usable_voltage
from crisp_compass.course.captures import headline_of
from crisp_compass.course.circuit import hertz_law, wrong_rotor
from crisp_compass.course.course import headline, state_of, waiting_text
from crisp_compass.course.drive import build_drive
from crisp_compass.course.envelope import LEVELS, plane_of
from crisp_compass.course.gain_trials import advise, predicted_step, trial_rows
from crisp_compass.course.heat import heat_outlook
from crisp_compass.course.homing import homing_of
from crisp_compass.course.known import CONSTANTS, side_by_side
from crisp_compass.course.load_side import as_load, moved
from crisp_compass.course.number_formats import format_picture, read_picture
from crisp_compass.course.observed import choices, lowest_speed
from crisp_compass.course.open_loop import steps_open, watches
from crisp_compass.course.open_points import next_bearing, open_points, stale_effect
from crisp_compass.course.outer_loop import outer_loop
from crisp_compass.course.pulses import input_of, pulses_of
from crisp_compass.course.pwm_outlook import (
    bench_command_map,
    carrier_picture,
    dead_time_picture,
    scheme_rows,
)
from crisp_compass.course.repeats import repeats_mean
from crisp_compass.course.resonance import effect
from crisp_compass.course.sensorless import firmware_of
from crisp_compass.course.speed_design import armature_droop, design_speed, sensor_lowest_speed
from crisp_compass.course.speed_formats import read_speed, speed_forms
from crisp_compass.course.torque_mode import torque_currents
from crisp_compass.course.torque_speed import weakening_outlook
from crisp_compass.course.waypoints import KINDS, WAYPOINTS
from crisp_compass.course.waypoints.commutation import known_halls
from crisp_compass.course.waypoints.current_loop import current_values, design_current
from crisp_compass.course.waypoints.mechanics import torque_constant_of
from crisp_compass.course.waypoints.plate import plate_outlook, plate_values
from crisp_compass.course.waypoints.pwm import pwm_values
from crisp_compass.course.waypoints.speed_loop import speed_values
from crisp_compass.course.waypoints.start_up import design_start
from crisp_compass.course.waypoints.start_up import propose as start_proposal
from crisp_compass.errors import Refusal
from crisp_compass.firmware.folder import files_of
from crisp_compass.firmware.plan import plan_of
from crisp_compass.firmware.played import Vectors
from crisp_compass.motion.arithmetic import reversal
from crisp_compass.preparation.interference import judge_spikes
from crisp_compass.preparation.sensor_cable import identify_cable
from crisp_compass.preparation.stepper_leads import connected, pairs
from crisp_compass.preparation.supply import supply_outlook
from crisp_compass.preparation.wiring import consequence
from crisp_compass.record.content import content_of
from crisp_compass.record.formats import FORMS, export_settings
from crisp_compass.record.pdf import write_pdf
from crisp_compass.record.report import write_report
from crisp_compass.studies.block import block_outlook
from crisp_compass.studies.braking_outlook import braking_of
from crisp_compass.studies.climb import climb_of
from crisp_compass.studies.cycle import cycle_of
from crisp_compass.studies.estimators import estimator_outlook
from crisp_compass.studies.failed_start import cause_likelihoods
from crisp_compass.studies.hall_edges import default_edge_speed, edge_cost
from crisp_compass.studies.hertz import hertz_outlook
from crisp_compass.studies.home_run import home_outlook
from crisp_compass.studies.injection import injection_outlook
from crisp_compass.studies.lead_orders import expect_orders, turn_round
from crisp_compass.studies.low_speed import low_speed_outlook
from crisp_compass.studies.move import move_outlook
from crisp_compass.studies.observed_run import observed_run
from crisp_compass.studies.speed_outlook import figures, filters_cost
from crisp_compass.studies.speed_trial import follow, try_speed_loop
from crisp_compass.studies.start import start_outlook
from crisp_compass.studies.start_map import Cell, study_of
from crisp_compass.studies.step_prediction import predict_current_step, pwm_picture
from crisp_compass.studies.stepped_move import stepped_outlook
from crisp_compass.studies.untuned_drive import untuned_drive
from crisp_compass.studies.watched_move import watch_outlook
from crisp_compass.studies.zero_search import align_outlook
from crisp_compass.views import view_of
from crisp_compass.views.envelope import contours
from crisp_compass.views.heat import outlook_panes
from crisp_compass.views.heat import said as heat_said
from crisp_compass.views.resonance import loop_pane

NOWHERE = Path("/nonexistent")
#: A text that shows a figure gone wrong.
BROKEN = re.compile(r"(?<![A-Za-z])(?:nan|-?inf)(?![A-Za-z])")


def _bench_design(bench: Bench) -> Any:
    return current_values(bench, design_current(bench))


def _speed_design(bench: Bench) -> Any:
    found = design_speed(bench)
    return speed_values(bench, found), sensor_lowest_speed(bench, found), figures(bench, found, None), filters_cost(bench, found)


def _resonance(bench: Bench) -> Any:
    view = view_of(KINDS["resonance"])
    return effect(bench, None), view.said(bench, None, None), loop_pane(bench)


def _envelope(bench: Bench) -> Any:
    found = plane_of(bench)
    return found, contours(found.map_speed, found.map_torque, found.efficiency, LEVELS)


def _pwm(bench: Bench) -> Any:
    figures = plan_bench_pwm(bench)
    return (
        pwm_values(figures),
        pwm_picture(bench, figures.loop_hz, figures.v_limit),
        dead_time_picture(bench, figures),
    )


def _step(bench: Bench) -> Any:
    return predict_current_step(bench, design_current(bench))


def _edges(bench: Bench) -> Any:
    halls = known_halls(bench)
    if halls is None:
        raise Refusal("no halls")
    edges = np.sort([s.from_deg for s in halls.states.values()])
    return edge_cost(bench, edges, bench.settings.commutation.edge_speed or default_edge_speed(bench)).ripple


def _connections(bench: Bench) -> Any:
    plate, s = bench.settings.plate, bench.settings.stepping
    return connected(
        getattr(plate, "r", None), getattr(plate, "inductance", None), plate.rated_current, s.given, s.leads
    )


def _watched(bench: Bench) -> Any:
    if not watches(bench):
        raise Refusal("nothing watches")
    return watch_outlook(bench)


QUICK: dict[str, Callable[[Bench], Any]] = {
    "plate": plate_values, "plate outlook": plate_outlook, "supply": supply_outlook, "pwm": _pwm, "current": _bench_design,
    "speed": _speed_design, "resonance": _resonance, "drive": build_drive, "trial drive": untuned_drive, "usable": usable_voltage,
    "carrier": carrier_picture, "schemes": scheme_rows, "command": bench_command_map,
    "weakening": weakening_outlook, "format": format_picture, "read": read_picture, "trials": lambda b: advise(b, trial_rows(b)),
    "rotor": lambda b: wrong_rotor(b, b.settings.circuit.rotor_error), "hertz law": hertz_law,
    "block": lambda b: (waveform(b), block_constant(b)), "outer loop": outer_loop, "droop": armature_droop,
    "leads": lambda b: (pairs(b.settings.stepping.ohms, b.settings.stepping.leads), _connections(b)),
    "torque constant": torque_constant_of, "open points": open_points, "bearing": next_bearing,
    "states": lambda b: [(state_of(b, waypoint), headline(b, waypoint), waiting_text(b, waypoint)) for waypoint in WAYPOINTS],
    "stale": lambda b: [stale_effect(b, t) for t in b.settled], "edited": lambda b: [edits(b, t) for t in b.settled],
    "presumed": lambda b: [presumed_for(b, t) for t in b.settled], "standing": standing,
    "sources": lambda b: [(side_by_side(b, c), repeats_mean(b, c)) for c in CONSTANTS], "cable": lambda b: identify_cable(b.cable),
    "spikes": judge_spikes, "wiring": consequence, "turn round": turn_round, "tables": lambda b: content_of(b, NOWHERE, "now"),
    "evidence": lambda b: [headline_of(e) for items in b.evidence.values() for e in items],
    "heat": lambda b: (heat_outlook(b), outlook_panes(b), heat_said(b, None, None)), "envelope": _envelope, "load side": lambda b: (moved(b), as_load(b)),
    "speed formats": lambda b: (speed_forms(b), read_speed(b)), "observed": lambda b: (lowest_speed(b), choices(b)), "torque": lambda b: torque_currents(b, 1.0),
    "exports": lambda b: [export_settings(b, f) for f in FORMS], "firmware": lambda b: files_of(plan_of(b), [Vectors("start", "", 0.0, 0.1, ())], "now"), "profile": make_profile,
    "start": design_start, "start firmware": firmware_of, "start proposal": start_proposal,
    "homing": homing_of, "pulses": lambda b: (pulses_of(b), reversal(input_of(b), pulses_of(b).rate)), "cycle": cycle_of,
    "dump": dump_bench, "html": lambda b: write_report(b, NOWHERE, "now"),
}  # fmt: skip
SLOW: dict[str, Callable[[Bench], Any]] = {
    "speed trial": try_speed_loop, "follow": follow, "braking": braking_of, "step": _step, "predicted step": predicted_step, "align": align_outlook, "orders": expect_orders, "edges": _edges,
    "pdf": lambda b: write_pdf(b, NOWHERE, "now"), "six-step": block_outlook, "hertz": hertz_outlook, "observed run": observed_run,
    "start outlook": start_outlook, "estimators": estimator_outlook, "climb": climb_of, "low speed": low_speed_outlook,
    "injection": injection_outlook, "move": lambda b: stepped_outlook(b) if steps_open(b) else move_outlook(b), "watched": _watched, "home run": home_outlook,
    "failed start": lambda b: cause_likelihoods(b, draws=1), "start map": lambda b: study_of(b)(Cell((("ramp", 2.0), ("load", 0.2)), 2), 1),
}  # fmt: skip
#: Results in which a missing or infinite figure is an answer: no crossover, a motor that never gets there. Their texts are whole.
_MAY_LACK = {
    "weakening",
    "resonance",
    "speed trial",
    "follow",
    "braking",
    "heat",
    "envelope",
    "load side",
    "observed run",
    "observed",
    "pwm",
    "current",
    "speed",
    "format",
    "speed formats",
    "read",
    "trials",
    "schemes",
    "orders",
    "edges",
    "step",
    "align",
    "outer loop",
    "injection",
    "start outlook",
    "homing",
    "pulses",
    "cycle",
    "move",
    "watched",
    "home run",
}


def run_all(bench: Bench, *, slow: bool = False) -> Iterator[tuple[str, str]]:
    """Ask everything; yield the name and the fault of each answer that is neither finite nor a Refusal."""
    for name, function in {**QUICK, **(SLOW if slow else {})}.items():
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            try:
                answer = function(bench)
            except Refusal as refusal:
                if BROKEN.search(refusal.sentence):
                    yield name, f"broken sentence: {refusal.sentence}"
                continue
            except Exception as error:
                at = traceback.extract_tb(error.__traceback__)[-1]
                yield name, f"{type(error).__name__} at {Path(at.filename).name}:{at.lineno}: {str(error)[:160]}"
                continue
        fault = _broken(answer, name not in _MAY_LACK)
        if fault:
            yield name, fault


def _broken(answer: Any, finite: bool) -> str:
    """Return what of an answer is not a finite figure or a whole sentence; empty if nothing."""
    if isinstance(answer, float):
        return "" if math.isfinite(answer) or not finite else f"{answer}"
    if isinstance(answer, str):
        found = BROKEN.search(answer)
        return f"“{answer[max(found.start() - 60, 0) : found.end() + 20]}”" if found else ""
    if isinstance(answer, np.ndarray):
        return "" if answer.dtype.kind != "f" or finite is False or np.isfinite(answer).all() else "array not finite"
    if isinstance(answer, dict):
        answer = list(answer.values())
    elif hasattr(answer, "model_dump"):
        answer = list(answer.model_dump().values())
    elif is_dataclass(answer) and not isinstance(answer, type):
        answer = [getattr(answer, f.name) for f in fields(answer)]
    if isinstance(answer, list | tuple):
        return next((fault for a in answer if (fault := _broken(a, finite))), "")
    return ""
