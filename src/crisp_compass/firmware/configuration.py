"""``cc_config.h``: every value of this drive with its unit in its name, and beside it what it is, how sure it is and where it is from."""

from __future__ import annotations

import math
from collections.abc import Iterator

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import settled_value
from crisp_compass.course.open_loop import stepping_current, watches
from crisp_compass.course.waypoints.commutation import hall_edges
from crisp_compass.firmware.entries import Entry, Group, number, origin, periods, whole
from crisp_compass.firmware.plan import Plan, whole_delay
from crisp_compass.firmware.speed_entries import braking, homing, limits, position, speed, weakening
from crisp_compass.plant.control.rotor_field import FOLLOWS, REST, SLIP_RATE, TELLS
from crisp_compass.plant.control.rotor_observer import FOLLOWED, FORCED_MOST, LEAST, LOOKS, STANDS
from crisp_compass.plant.control.watching import LEAVES
from crisp_compass.plant.parameters import START_COLUMNS
from crisp_compass.safe_text import c_float
from crisp_compass.sensorless.injection import KNOWN_ALREADY, POLE_SURE, SLACK


def configuration(plan: Plan) -> list[Group]:
    """Return the groups of the configuration header that this kind of firmware takes."""
    made = (
        ("Period", _period), ("Motor, as the firmware believes it", _motor), ("Current", _current), ("Speed", speed), ("Position", position), ("Homing", homing), ("Limits", limits), ("Braking", braking), ("Field weakening", weakening),
        ("Bridge", _bridge), ("Angle", _angle), ("Rotor's field", _rotor), ("Volts over frequency", _hertz), ("Stepping", _stepping), ("Estimator", _estimator),
        ("Start", _start), ("Without a sensor", _observer), ("Injection", _injection),
    )  # fmt: skip
    groups = [Group(title, tuple(make(plan))) for title, make in made]
    return [g for g in groups if g.entries]


def _period(plan: Plan) -> Iterator[Entry]:
    c = plan.drive.control
    yield number("TS_S", c.ts, f"cc_step's period: {1 / c.ts:.6g} Hz")
    if plan.kind not in ("hertz", "stepping") or plan.context["moves"]:
        yield whole("SPEED_DIVIDER", c.speed_divider, "periods to a speed step", unsigned=True)
    else:
        yield whole("SPEED_DIVIDER", 1, "the ramp runs every period", unsigned=True)
    yield number(
        "DELAY_S",
        c.delay_samples * c.ts,
        f"from sampling to the middle of the voltage's time: {c.delay_samples:g} periods",
    )


def _motor(plan: Plan) -> Iterator[Entry]:
    b, c = plan.bench, plan.drive.control
    if plan.kind != "armature":
        yield whole("POLE_PAIRS", plan.drive.machine.pole_pairs, unsigned=True)
    yield number(
        "R_OHM", c.r, origin(b, "resistance.resistance", "of a phase" if plan.windings == 3 else "of a winding")
    )
    if plan.kind in ("magnet", "sensorless", "rotor", "hertz"):
        said = (
            "leakage, seen from the stator"
            if plan.kind in ("rotor", "hertz")
            else origin(b, "inductance.ld", "along the magnet")
        )
        yield number("LD_H", c.ld, said)
        yield number(
            "LQ_H", c.lq, said if plan.kind in ("rotor", "hertz") else origin(b, "inductance.lq", "across it")
        )
    if plan.kind == "sensorless":
        yield number("SALIENCY_H", plan.drive.estimator.ld - plan.drive.estimator.lq, "LD - LQ")
    if plan.kind in ("magnet", "sensorless"):
        yield number("PSI_WB", c.psi, origin(b, "flux.flux_linkage", "flux linkage of a phase, peak"))
    if plan.kind == "armature":
        yield number("PSI_WB", c.psi, origin(b, "flux.flux_linkage", "Ke in V s/rad, Kt in N m/A: the same number"))


def _current(plan: Plan) -> Iterator[Entry]:
    b, c = plan.bench, plan.drive.control
    if plan.kind == "hertz":
        return
    for axis, kp, ki, share in (("D", c.kp_d, c.ki_d, c.track_d), ("Q", c.kp_q, c.ki_q, c.track_q)):
        if axis == "D" and plan.kind in ("block", "armature"):
            continue
        key = f"current_loop.kp_{axis.lower()}"
        what = (
            "of one phase: half of the pair"
            if plan.kind == "block"
            else "of the armature"
            if plan.kind == "armature"
            else ""
        )
        yield number(f"KP_{axis}_V_PER_A", kp, origin(b, key, what).strip("; "))
        yield number(f"KI_TS_{axis}_V_PER_A", ki * c.ts, f"Ki = {ki:.6g} V/(A s), times the period")
        yield number(
            f"TRACK_{axis}", share, "share of the way that the integrator goes each period at the voltage limit"
        )
    if plan.kind == "armature":
        yield number(
            "DECOUPLE",
            c.decouple,
            "1: the back-EMF is fed forward; 0 where the armature's voltage tells the speed, which would feed itself",
        )
        yield number(
            "COMPENSATION",
            c.compensation,
            "share of R times I taken off the armature's voltage where that tells the speed",
        )
    if plan.kind == "block":
        yield number("ADVANCE_RAD", c.advance, "electrical, ahead of the sector's edge")
        yield number(
            "HALF_EMF_V_PER_RAD_S",
            0.5 * math.sqrt(3) * c.psi * c.decouple,
            "per electrical rad/s: half of what two phases induce",
        )


def _bridge(plan: Plan) -> Iterator[Entry]:
    b, c, pwm = plan.bench, plan.drive.control, plan.bench.settings.pwm
    ways = 2 if pwm.aligned == "centre" else 1
    lost = settled_value(b, "pwm.dead_time_voltage")
    yield number(
        "VOLTS_PER_BUS",
        c.volts_per_bus,
        "the longest vector over the bus: scheme, shortest pulse and sampling window together",
    )
    yield whole(
        "PERIOD_COUNTS", plan.pwm.period_counts, f"reload of the timer at {pwm.timer_hz:.9g} Hz", unsigned=True
    )
    yield whole(
        "DEAD_TIME_COUNTS",
        plan.pwm.dead_time_counts,
        "of the timer's own dead time, at the timer's clock",
        unsigned=True,
    )
    if pwm.min_pulse > 0:
        yield whole(
            "MIN_PULSE_COUNTS",
            math.ceil(pwm.min_pulse * pwm.timer_hz / ways - 1e-9),
            "shortest pulse, in compare counts",
            unsigned=True,
        )
    sample = (
        plan.pwm.period_counts
        if ways == 2
        else max(plan.pwm.period_counts - math.ceil(pwm.sample_time * pwm.timer_hz), 0)
    )
    yield whole(
        "SAMPLE_COUNT",
        sample,
        "where all low switches are on" if ways == 2 else "so that sampling ends with the period",
        unsigned=True,
    )
    if plan.windings == 3:
        volts = lost.value if lost else 0.0
        yield Entry(
            "DEAD_TIME_COMPENSATION",
            "0",
            "1 gives back what the dead time takes; the simulated drive does without, so check it on the bench",
        )
        yield number(
            "DEAD_TIME_SHARE", volts / b.settings.plate.v_bus, f"of the bus that a leg loses: {volts:.4g} V"
        )
        if plan.kind != "sensorless":
            yield number("DEAD_TIME_KNEE_A", plan.drive.inverter.knee, "current above which all of it is lost")


def _angle(plan: Plan) -> Iterator[Entry]:
    b = plan.bench
    if plan.kind == "stepping":
        return
    if plan.sensor == "encoder":
        counts = settled_value(b, "commutation.counts_per_rev")
        per_rev = round(counts.value if counts else b.settings.sensor.counts_per_rev)
        yield whole("COUNTS_PER_REV", per_rev, "at x4")
        rise = f"1: counts rise when the motor turns {'A-B-C' if plan.windings == 3 else 'forward'}"
        if settled_value(b, "commutation.direction") is None:
            rise += "; PRESUMED: turn the shaft forward by hand and look that they do, or the loop runs away"
        yield whole("DIRECTION", encoder_sense(b), rise)
        yield number(
            "ZERO_OFFSET_RAD",
            encoder_zero(b),
            origin(b, "commutation.zero_offset", "electrical angle at count 0, the middle of the index pulse"),
        )
        if plan.kind == "armature":
            yield whole("POLE_PAIRS", 1, unsigned=True)
        period = plan.drive.control.ts * plan.drive.control.speed_divider
        yield number("SPEED_OF_COUNT_RAD_S", 2 * math.pi / per_rev / period, "of the shaft: one count a speed step")
    if plan.sensor == "halls":
        edges, sectors = hall_tables(b)
        yield Entry(
            "HALL_EDGE_RAD",
            "{ " + ", ".join(c_float(e) for e in edges) + " }",
            "lower edge of each sector, electrical, 0 where the rotor's flux lies along phase A, rising A-B-C",
        )
        yield Entry(
            "HALL_SECTOR",
            "{ " + ", ".join(str(s) for s in sectors) + " }",
            "by code 4*hall_1 + 2*hall_2 + hall_3; -1 never occurs",
        )


def encoder_sense(bench: Bench) -> int:
    """Return 1 or −1: which way counts run when the field turns forward."""
    if watches(bench):
        return 1 if bench.settings.stepping.counts == "with" else -1
    found = settled_value(bench, "commutation.direction")
    return -1 if found is not None and found.value < 0 else 1


def encoder_zero(bench: Bench) -> float:
    """Return the electrical angle [rad] at count 0."""
    found = settled_value(bench, "commutation.zero_offset")
    return found.value if found is not None else 0.0


def hall_tables(bench: Bench) -> tuple[list[float], list[int]]:
    """Return the sectors' lower edges [rad], ascending, and the sector of each of the eight codes, −1 where there is none."""
    settled = bench.settled["commutation"]
    edges = hall_edges(bench)
    assert settled.halls is not None
    assert edges is not None
    sectors = [-1] * 8
    ordered = sorted(settled.halls.states.items(), key=lambda item: item[1].from_deg % 360)
    for k, (code, _) in enumerate(ordered):
        sectors[int(code)] = k
    return [float(e) for e in edges], sectors


def _rotor(plan: Plan) -> Iterator[Entry]:
    b, c = plan.bench, plan.drive.control
    if plan.kind not in ("rotor", "hertz"):
        return
    yield number("ROTOR_RATE_PER_S", c.rotor_rate, "one over the rotor's time constant")
    yield number("I_FLUX_A", c.i_flux, origin(b, "circuit.magnetizing_current", "magnetizing current, peak"))
    if plan.kind == "rotor":
        yield number("LM_H", c.lm, origin(b, "circuit.magnetizing_inductance", "magnetizing"))
        yield number(
            "R_ROTOR_OHM", c.rotor_rate * c.lm, origin(b, "circuit.rotor_resistance", "seen from the stator")
        )
        yield number(
            "FLUX_STEP_SHARE", 1 - math.exp(-c.rotor_rate * c.ts), "of the way that the flux goes in a period"
        )
        yield number(
            "FLUX_SHARE_OF_V",
            c.flux_share,
            "of the voltage; a flux that would take more is weakened as one over the speed",
        )
        if plan.context["field_off"]:
            yield periods(plan, "FIELD_OFF", c.field_off, "at rest, until the field is let go")
            yield number("FIELD_OFF_RAD_S", REST, "speed that counts as rest")


def _hertz(plan: Plan) -> Iterator[Entry]:
    c = plan.drive.control
    if plan.kind != "hertz":
        return
    yield number("BOOST_V", c.boost, "peak of a phase, at rest")
    yield number("VOLTS_PER_RAD_VS", c.volts_per_rad, "per electrical rad/s")
    yield number("SLIP_SHARE", c.slip_share, "of the slip that is compensated")
    yield number("SLIP_STEP_SHARE", SLIP_RATE * c.ts, f"of the way in a period: a filter of {SLIP_RATE:g} 1/s")
    yield number("FOLLOWS", FOLLOWS, "part of the line's flux below which the rotor follows no more")
    yield number("TELLS", TELLS, "times the magnetizing current's drop, from where that can be told")


def _stepping(plan: Plan) -> Iterator[Entry]:
    if plan.kind != "stepping":
        return
    c, current = plan.drive.control, stepping_current(plan.bench)
    step = 0.5 * math.pi / c.microsteps
    middle = 0.5 * step if c.microsteps == 1.0 else 0.0
    yield number("STEP_CURRENT_A", current, "length of the vector that is turned, peak")
    if plan.context["idles"]:
        yield number("IDLE_CURRENT_A", current * c.idle_share, f"while it stands: {100 * c.idle_share:.3g} %")
        yield periods(plan, "IDLE_AFTER", c.idle_after)
    yield whole("MICROSTEPS", c.microsteps, "entries of the current table a full step", unsigned=True)
    yield number("MIDDLE_RAD", middle, "of the first entry: full steps have both windings on")
    yield whole("FIELD_MIDDLE", middle / (2 * math.pi) * 2**32, "the same, 2^32 a turn", unsigned=True)
    yield number(
        "FIELD_OF_SPEED",
        plan.drive.machine.pole_pairs * c.ts / (2 * math.pi) * 2**32,
        "2^32 of a turn a period, per rad/s of the shaft",
    )
    if plan.context["watches"]:
        yield from _watching(plan)


def _watching(plan: Plan) -> Iterator[Entry]:
    """Give what an encoder watches a stepped field with, in entries of the current table and steps of the profile."""
    c, s, count = plan.drive.control, plan.bench.settings.stepping, plan.count
    per_step = c.ts * c.speed_divider
    yield whole("COUNTS_PER_REV", plan.drive.sensing.counts_per_rev, "of the encoder, at x4")
    yield whole("DIRECTION", encoder_sense(plan.bench), "1: counts rise when the field turns forwards; look that they do, or every move is taken for lost")
    yield whole("ENTRIES_PER_REV", round(2 * math.pi / count), "of the current table, in a turn of the shaft")
    yield number("LOST_ENTRIES", c.lost_limit / count, f"between field and shaft, from which on steps are lost: {s.lost_after:.4g} full steps")
    yield whole("SETTLE_STEPS", max(math.ceil(c.settle / per_step - 0.5), 1), f"of the profile for which the field stands before a move is begun anew: {c.settle:.4g} s", unsigned=True)
    yield whole("CORRECTIONS", c.corrections, "times that it is begun anew, until it is a fault", unsigned=True)
    yield number("SLOWER", c.slower, "of the acceleration for each of them")
    if plan.context["stands"]:
        yield number("WINDOW_COUNTS", c.window / count, f"standing window at the end of a move, entries: {c.window:.6g} rad")
        yield number("WINDOW_OUT_COUNTS", LEAVES * c.window / count, "at which a shaft that stands is moved again")


def _estimator(plan: Plan) -> Iterator[Entry]:
    if plan.kind != "sensorless":
        return
    o = plan.drive.estimator
    share = o.filter * o.ts / (1 + o.filter * o.ts)
    yield number("EST_KP_TS", o.kp * o.ts, f"phase-locked loop: Kp = {o.kp:.6g} 1/s, times the period")
    yield number("EST_KI_TS", o.ki * o.ts, f"Ki = {o.ki:.6g} 1/s^2, times the period")
    yield number("EST_SHARE", share, f"of the way that the back-EMF's filter goes in a period: {o.filter:.6g} rad/s")
    yield number("EST_SLOW", 0.25 * share)
    yield number(
        "EST_CATCH", o.catch * o.ts / (1 + o.catch * o.ts), "of the loop's lag that is taken up in a period"
    )
    if plan.context["by_flux"]:
        yield number(
            "EST_PULL", min(o.correction * o.ts, 1.0), "of the way that the flux's length is pulled in a period"
        )
    yield number(
        "EST_OFFSET_SHARE", o.offset, "of the electrical speed at which a constant error of the voltage is learned"
    )
    yield number("EST_FLOOR_V", o.floor, "least back-EMF of a valid angle")
    yield number("EST_LENGTH", o.length, "by how much its length may be off, over what flux and speed say")
    yield number("EST_SPREAD_RAD", o.spread, "most phase error, rms")
    yield number("EST_HOLD_RAD", o.hold, "turning through which all of that must hold")


def _start(plan: Plan) -> Iterator[Entry]:
    if plan.kind != "sensorless":
        return
    s, c = plan.drive.start, plan.drive.control
    waits, early = whole_delay(plan)
    yield whole("HISTORY", waits + 2, "voltages that are remembered")
    yield number("EARLY_SHARE", early, "part of a period for which the voltage before still stands")
    yield periods(plan, "CATCH", s.catch, "zero current first, to find a motor that turns")
    yield periods(plan, "WAIT", s.wait, "after the last row, until the start has failed")
    if plan.context["retries"]:
        yield whole("RETRIES", s.retries, "tries after the first that failed", unsigned=True)
    yield periods(plan, "BLEND", max(s.blend, c.ts), "in which i_d fades after hand-over")
    yield periods(plan, "LOST", s.lost, "without a valid estimate until the drive trips")
    yield number(
        "AHEAD_LEAST_RAD", s.ahead_least, "lead of the forced field over the rotor at hand-over, electrical, at least"
    )
    yield number("AHEAD_MOST_RAD", s.ahead_most, "and at most")
    yield number("DEAD_TIME_V", s.dead_voltage, "what the estimator takes off each leg against its current")
    yield number("DEAD_TIME_KNEE_A", plan.drive.inverter.knee, "current above which all of it is lost")
    if plan.context["low_speed"]:
        yield number("LOW_CURRENT_A", s.low_current, "at a forced angle where the estimate is worth nothing")
        yield number("LOW_DOWN_RAD_S", s.low_down, "speed of the shaft below which the angle is forced again")
        yield number("LOW_UP_RAD_S", s.low_up, "and above which the estimate may take over")
    if not plan.context["injects"]:
        rows = start_rows(plan)
        yield whole("START_ROWS", len(rows))
        told = ", ".join("{ " + ", ".join(c_float(x) for x in r[:4]) + f", {round(r[4])} }}" for r in rows)
        yield Entry(
            "START_ROW_LIST",
            "{ " + told + " }",
            "A, rad/s of the shaft at its end, periods, turn of the field at its begin in rad, whether the estimate may take over",
        )


def start_rows(plan: Plan) -> list[tuple[float, float, float, float, float]]:
    """Return the rows of the start: current [A], speed at the end [rad/s], duration [periods], turn of the field at the begin [rad, electrical],
    and whether the estimate may take over. A later row at rest stands a quarter turn on: it pulls a rotor away that stood against the first."""
    cells, found = plan.drive.start.rows, []
    for k in range(int(plan.drive.start.used)):
        current, speed, span, may = cells[k * START_COLUMNS : (k + 1) * START_COLUMNS]
        found.append(
            (
                current,
                speed,
                max(span / plan.drive.control.ts, 1.0),
                0.5 * math.pi if k > 0 and speed == 0.0 else 0.0,
                may,
            )
        )
    return found


def _observer(plan: Plan) -> Iterator[Entry]:
    if not plan.context["observed"]:
        return
    o, s, c, p = plan.drive.estimator, plan.drive.start, plan.drive.control, plan.drive.machine.pole_pairs
    waits, early = whole_delay(plan)
    yield whole("HISTORY", waits + 2, "voltages that are remembered")
    yield number("EARLY_SHARE", early, "part of a period for which the voltage before still stands")
    yield number("OBS_PULL", min(o.correction * c.ts, 1.0), "of the way that the flux's length is pulled in a period")
    yield number("OBS_KP_TS", o.kp * c.ts, f"phase-locked loop: Kp = {o.kp:.6g} 1/s, times the period")
    yield number("OBS_KI_TS", o.ki * c.ts, f"Ki = {o.ki:.6g} 1/s^2, times the period")
    yield number("OBS_SHARE", min(o.filter * c.ts, 1.0), "of the way that the measure of evenness goes in a period")
    yield number("OBS_LEAST_WB", LEAST * c.lm * c.i_flux, "least flux that is divided by")
    yield number("OBS_STANDS_WB", STANDS * c.lm * c.i_flux, "flux from which the shaft is turned")
    yield number("OBS_SPREAD_RAD", o.spread, "most error of angle and length, rms, of a flux that looks right")
    yield number("OBS_LOOKS_RAD_S", LOOKS * p * s.low_up, "electrical, least turning of such a one")
    yield number("OBS_FOLLOWED", FOLLOWED, "part of the forced speed that the rotor must follow with")
    yield number("OBS_HOLD_RAD", o.hold, "turning through which all of that must hold")
    yield number("LOW_CURRENT_A", s.low_current, "turned at a forced angle, peak")
    yield number("LOW_UP_RAD_S", s.low_up, "of the shaft, above which the loops close on the flux")
    yield number("LOW_DOWN_RAD_S", s.low_down, "below which they let go")
    yield number("FORCED_MOST_RAD_S", FORCED_MOST * s.low_up, "the fastest forced speed")
    yield number("LOW_RAMP_STEP_RAD_S", min(c.ramp, s.low_ramp) * c.ts * c.speed_divider, f"a step of the ramp at a forced angle, of {min(c.ramp, s.low_ramp):.6g} rad/s^2")
    yield periods(plan, "FIELD", 5.0 / c.rotor_rate, "at most, to build the field")
    yield periods(plan, "WAIT", s.wait, "above the closing speed, until the start has failed")
    yield periods(plan, "LOST", s.lost, "of a flux that looks wrong, until the drive trips")
    yield number("DEAD_TIME_V", s.dead_voltage, "what the observer takes off each leg against its current")


def _injection(plan: Plan) -> Iterator[Entry]:
    if not plan.context["injects"]:
        return
    j, o = plan.drive.injected, plan.drive.estimator
    slow = min(0.5 * j.natural * o.ts, 1.0)
    for name, value, text in (
        ("VOLTS_V", j.volts, "that alternate along d"), ("MEAN_PER_H", j.mean, "(1/LD + 1/LQ)/2"), ("HALF_PER_H", j.half, "(1/LD - 1/LQ)/2"),
        ("KP_TS", 2 * j.natural * o.ts, ""), ("KI_TS", j.natural**2 * o.ts, ""), ("SLOW", slow, ""), ("QUICK", min(8 * slow, 1.0), ""),
        ("FADES_RAD_S", j.fades, "electrical, below which injection alone tells the angle"), ("GONE_RAD_S", j.gone, "above which the back-EMF alone does"),
        ("SPREAD_RAD", j.spread, ""), ("SLACK", SLACK, ""), ("SETTLE_S", j.settle, "within the spread before the axis counts as found"),
        ("POLE_A", j.pole_current, "along the axis, one way and the other"), ("POLE_S", j.pole_time, "each"),
        ("POLE_SURE", POLE_SURE, "standard errors that the two poles must differ by"), ("KNOWN_RAD", KNOWN_ALREADY * o.hold, ""),
    ):  # fmt: skip
        yield number(f"INJ_{name}", value, text)
    yield periods(plan, "INJ_SETTLE", j.settle)
    yield periods(plan, "INJ_POLE", j.pole_time, "of that current, one way")
    yield periods(plan, "INJ_POLE_BOTH", 2 * j.pole_time, "both ways")
    for name, share in (("FIRST", 0.5), ("KEEP", 1.0), ("SECOND", 1.5)):
        half = "each half settles before it counts" if name != "KEEP" else "what the first half counted is kept"
        yield whole(f"INJ_POLE_{name}", share * j.pole_time / o.ts, half, unsigned=True)
