"""Settings of the firmware that are entered and not settled: what the simulated drive runs with is handed over, too.

A setting that only the simulation knew would be a lie in the header. Each says which firmware takes it; the test of settings walks them.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from crisp_compass.bench.entered import standing
from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import settled_value
from crisp_compass.course.block import in_blocks
from crisp_compass.course.bus import brake_levels, fold_levels, low_levels
from crisp_compass.course.drive import can_brake, overloads, sees_speed, weakening_current
from crisp_compass.course.homing import plan_of as plan_of_homing
from crisp_compass.course.observed import BELOW, forced_current, observes
from crisp_compass.course.observed import hand_over as closing_speed
from crisp_compass.course.open_loop import closes_loops, full_step, stepping_current, steps_open, watches
from crisp_compass.course.position import count_of, holds_position, moves
from crisp_compass.course.sensorless import by_injection, without_sensor
from crisp_compass.course.speed_design import ahead_of_the_loop, armature_tells
from crisp_compass.course.torque_mode import drag_cancel
from crisp_compass.errors import Refusal
from crisp_compass.motion.arithmetic import gear
from crisp_compass.motion.homing import method_of
from crisp_compass.motor import family_of


@dataclass(frozen=True)
class Handed:
    """One setting: ``topic`` and ``name`` as in the bench file, its ``value`` in SI with ``unit``, and what it is."""

    topic: str
    name: str
    value: float
    unit: str
    text: str


def _armature(bench: Bench) -> bool:
    return armature_tells(bench)


def _forced(bench: Bench) -> bool:
    return without_sensor(bench) and not by_injection(bench)


def _always(_: Bench) -> bool:
    return True


_SETTINGS: tuple[tuple[str, str, str, str, Callable[[Bench], bool]], ...] = (
    ("run", "i_limit", "A", "current limit, peak", _always),
    ("run", "i_trip", "A", "trip level, peak", _always),
    ("run", "v_min", "V", "least bus voltage", _always),
    ("run", "v_max", "V", "highest bus voltage", _always),
    ("run", "speed_trip", "rad/s", "speed at which it trips, mechanical, as the firmware sees it", sees_speed),
    ("run", "i_continuous", "A", "current that may flow for ever, peak", overloads),
    ("run", "overload_time", "s", "for which the current limit may flow until it trips", overloads),
    ("run", "stall_time", "s", "full current at standstill until it trips", lambda b: not steps_open(b)),
    ("run", "temp_trip", "degC", "temperature at which it trips", _always),
    ("current_loop", "delay_samples", "", "whole delay of the loop in sampling periods: the voltage is turned on by what the rotor turns meanwhile", closes_loops),
    ("current_loop", "advance", "rad", "advance of the commutation, electrical", in_blocks),
    ("speed_loop", "compensation", "", "share of R times I that is taken off the armature's voltage", lambda b: _armature(b) and closes_loops(b)),
    ("start_up", "catch", "s", "zero current first, to find a motor that turns", without_sensor),
    ("start_up", "ahead", "rad", "lead of the forced current over the rotor at hand-over, at most, electrical", _forced),
    ("start_up", "wait", "s", "after the last row, until the start has failed", without_sensor),
    ("start_up", "retries", "", "tries after the first that failed", without_sensor),
    ("start_up", "blend", "s", "in which i_d fades after hand-over", without_sensor),
    ("start_up", "lost", "s", "without a valid estimate until the drive trips", without_sensor),
)  # fmt: skip


def _integral_time(bench: Bench) -> float | None:
    kp, ki = settled_value(bench, "speed_loop.kp"), settled_value(bench, "speed_loop.ki")
    time = kp.value / ki.value if kp and ki and ki.value > 0 else None
    return time if time is None or time < 1e9 else None  # what lags for longer is no filter


def _around_the_loop(bench: Bench, ti: float) -> list[Handed]:
    """Return what stands ahead of the speed loop and behind it, as far as it is set."""
    s, found = bench.settings.speed_loop, []
    if s.set_point == "filtered":
        found.append(Handed("speed_loop", "set_point_time", ti, "s", text="time constant of the filter of the speed's reference"))
        if s.set_weight:
            found.append(Handed("speed_loop", "set_point_weight", s.set_weight, "", text="share of the reference that passes by its filter"))
    if s.rounding:
        found.append(Handed("speed_loop", "rounding", s.rounding, "s", text="in which the ramp's acceleration builds and fades"))
    told = {
        "inertia": ("ahead_inertia", "A/(rad/s²)", "asked for ahead of the loop for the reference's acceleration, peak"),
        "viscous_friction": ("ahead_viscous", "A/(rad/s)", "asked for ahead of the loop for viscous friction, peak"),
        "coulomb_friction": ("ahead_coulomb", "A", "asked for ahead of the loop for friction, with the sign of the reference, peak"),
    }
    found += [Handed("speed_loop", told[k][0], v, *told[k][1:]) for k, v in ahead_of_the_loop(bench).items()]
    if s.slow_below:
        found += [
            Handed("speed_loop", "slow_below", s.slow_below, "rad/s", text="mechanical speed below which the loop is slower, full from twice of it on"),
            Handed("speed_loop", "slow_share", s.slow_share, "", text="share of the bandwidth there: Kp times it, Ki times its square"),
        ]
    if s.low_pass_hz:
        found.append(Handed("speed_loop", "torque_low_pass", s.low_pass_hz, "Hz", text="corner of the low-pass of the torque current"))
    if s.notch_hz:
        found += [
            Handed("speed_loop", "notch", s.notch_hz, "Hz", text="frequency of the notch in the torque current"),
            Handed("speed_loop", "notch_width", s.notch_width, "", text="of the notch over its frequency"),
            Handed("speed_loop", "notch_depth", s.notch_depth, "", text="share that is left at its frequency"),
        ]
    return found


def _gear(bench: Bench) -> list[Handed]:
    """Return the gear of whole numbers from pulses to counts, where a way for a pulse is entered."""
    if not moves(bench) or steps_open(bench) or bench.settings.motion.pulse_way is None:
        return []
    count = count_of(bench)
    try:
        found = gear(2 * math.pi / count, 2 * math.pi / bench.settings.motion.pulse_way, bench.settings.motion.gear_most)
    except Refusal:
        return []
    return [Handed("motion", "gear_up", float(found.up), "", text="counts of the encoder for the pulses below"), Handed("motion", "gear_down", float(found.down), "", text="pulses of the command for the counts above")]


def _homing(bench: Bench) -> list[Handed]:
    """Return what the place is found again with; nothing where this motor cannot be homed so."""
    if not moves(bench) or bench.settings.homing.reference == "here":
        return []
    try:
        home = plan_of_homing(bench)
    except Refusal:
        return []
    return [
        *((Handed("homing", "contact", float(bench.settings.homing.contact == "closed"), "", text="the switch's contact at rest: 1 closed, 0 open"),) if home.reference in ("home-switch", "negative-limit", "positive-limit") else ()),
        Handed("homing", "method", float(method_of(home)), "", text="homing method of IEC 61800-7-201, object 6098h" if not home.stops else "homing method, the maker's own: a hard stop"),
        *(() if home.stops or home.reference == "index" else (Handed("homing", "fast", home.fast, "rad/s", text="mechanical speed while the switch is sought"),)), Handed("homing", "slow", home.slow, "rad/s", text="mechanical speed at which the place is found"),
        Handed("homing", "travel", bench.settings.homing.travel, "rad", text="of the shaft, after which it gives up"),
        *((Handed("homing", "push", home.push, "A", text="peak against the stop, above which it is taken for found"), Handed("homing", "hold", home.hold, "s", text="for which that must last")) if home.stops else ()),
    ]  # fmt: skip


def handed_settings(bench: Bench) -> list[Handed]:
    """Return what this bench's firmware is set with besides the settled values, as settled where a settled value holds it."""
    bench = standing(bench)
    found = [
        Handed(topic, name, float(getattr(getattr(bench.settings, topic), name)), unit, text=text)
        for topic, name, unit, text, takes in _SETTINGS
        if takes(bench) and getattr(getattr(bench.settings, topic), name) is not None  # an empty limit is none
    ]
    if (levels := brake_levels(bench)) is not None:
        found += [
            Handed("bus", "brake_on", levels[0], "V", text="bus above which the brake resistor is switched on"),
            Handed("bus", "brake_off", levels[1], "V", text="bus below which it is switched off"),
        ]
    if sees_speed(bench) and (fold := fold_levels(bench)) is not None:
        found += [
            Handed("bus", "fold_start", fold[0], "V", text="bus from which braking torque is taken back"),
            Handed("bus", "fold_end", fold[1], "V", text="bus at which nothing of it is left"),
        ]
    if sees_speed(bench) and (low := low_levels(bench)) is not None:
        found += [
            Handed("bus", "low_start", low[0], "V", text="bus below which driving torque is taken back"),
            Handed("bus", "low_end", low[1], "V", text="bus at which nothing of it is left"),
        ]
    found += [
        Handed("bus", name, value, "W", text=text)
        for name, text in (("power_from", "that the speed loop takes from the bus at most"), ("power_into", "that it gives back to the bus at most"))
        if sees_speed(bench) and (value := getattr(bench.settings.bus, name)) is not None
    ]
    if cancel := drag_cancel(bench):
        found.append(Handed("run", "drag_cancel", cancel["roll"], "A", text="added while a torque is held, to hide friction and cogging, peak"))
        if cancel["roll_knee"]:
            found.append(Handed("run", "drag_full", cancel["roll_knee"], "rad/s", text="mechanical speed from which it is added fully, the way that the shaft turns"))
    if (weakening := weakening_current(bench)) is not None:
        found.append(Handed("run", "weakening", weakening, "A", text="most current against the magnet for field weakening, peak"))
    if bench.settings.run.on_fault == "brake" and can_brake(bench):
        found.append(Handed("run", "brake_on_fault", 1.0, "", text="a fault, but too much current, shorts the windings"))
    if closes_loops(bench) and not steps_open(bench) and (ti := _integral_time(bench)):
        found += _around_the_loop(bench, ti)
    if not closes_loops(bench):  # no current loop, and yet the voltage is turned on by the delay
        delay = bench.settings.current_loop.delay_samples
        found.append(
            Handed(
                "pwm", "delay_samples", delay, "", text="delay in sampling periods that the turning voltage is ahead by"
            )
        )
    s, hand_over = bench.settings.start_up, settled_value(bench, "start_up.hand_over")
    if _forced(bench) and s.low_current and hand_over is not None:
        found += [
            Handed("start_up", "low_current", s.low_current, "A", text="at a forced angle where the estimate is worth nothing, peak"),
            Handed("start_up", "low_down", s.low_share * hand_over.value, "rad/s", text="mechanical speed below which the angle is forced again"),
        ]  # fmt: skip
    if observes(bench):
        up = closing_speed(bench)
        found += [
            Handed("circuit", "hand_over", up, "rad/s", text="mechanical speed above which the loops close on the flux, without a sensor"),
            Handed("circuit", "low_down", BELOW * up, "rad/s", text="mechanical speed below which the angle is forced again"),
            Handed("circuit", "forced_current", forced_current(bench), "A", text="turned at a forced angle there, peak"),
        ]
    if closes_loops(bench) and family_of(bench).own_circuit and bench.settings.circuit.field_off is not None:
        found.append(Handed("circuit", "field_off", bench.settings.circuit.field_off, "s", text="at rest, until the field is let go"))
    found += _homing(bench)
    found += _gear(bench)
    if steps_open(bench):
        stepping = bench.settings.stepping
        found += [
            Handed("stepping", "current", stepping_current(bench), "A", text="length of the vector that is turned, peak"),
            Handed(
                "stepping", "microsteps", float(stepping.microsteps), "", text="entries of the current table a full step"
            ),
            Handed("stepping", "ramp", stepping.ramp, "rad/s²", text="of the field, mechanical"),
            Handed("stepping", "idle", stepping.idle, "", text="share of the current after half a second at rest"),
        ]
    if watches(bench) and holds_position(bench):
        w = bench.settings.stepping
        found += [
            Handed("stepping", "counts", 1.0 if w.counts == "with" else -1.0, "", text="sign of the encoder's counts as the field turns forwards"),
            Handed("stepping", "lost_after", w.lost_after * full_step(bench), "rad", text="between field and shaft, from which on steps are lost"),
            Handed("stepping", "corrections", float(w.corrections), "", text="times that a move is begun anew after lost steps, until it is a fault"),
            Handed("stepping", "slower", w.slower, "", text="share of the acceleration for each time it is begun anew"),
            Handed("stepping", "settle", w.settle, "s", text="for which the field stands before it is begun anew"),
            Handed("stepping", "on_lost", float(w.on_lost == "hold"), "", text="what that fault does: 0 the bridge is off, 1 the field holds the shaft"),
        ]
    return found
