"""What ``cc_config.h`` says of the speed loop, of what limits the drive, of its bus, and of field weakening."""

from __future__ import annotations

import math
from collections.abc import Iterator

from crisp_compass.bench.entered import presumed
from crisp_compass.course.homing import plan_of as plan_of_homing
from crisp_compass.firmware.entries import Entry, number, origin, periods, whole
from crisp_compass.firmware.homing_vectors import travel_of
from crisp_compass.firmware.plan import Plan
from crisp_compass.motion.homing import STILL
from crisp_compass.plant.control.position import MOST_CATCHING
from crisp_compass.plant.control.watching import LEAVES


def speed(plan: Plan) -> Iterator[Entry]:
    """Give the speed loop: ramp, set-point, feed-forward, gains, filters of the torque current."""
    c = plan.drive.control
    divider = 1.0 if plan.kind in ("hertz", "stepping") else c.speed_divider
    period = c.ts * divider
    yield number("RAMP_STEP_RAD_S", c.ramp * period, f"a step of the ramp of {c.ramp:.6g} rad/s^2")
    if plan.kind == "sensorless" or plan.context["rounded"]:
        yield number("RAMP_RAD_S2", c.ramp)
    share = 1 - math.exp(-c.speed_filter * period) if c.speed_filter > 0 else 1.0
    yield number(
        "SPEED_FILTER_SHARE",
        share,
        f"corner {c.speed_filter / (2 * math.pi):.6g} Hz" if c.speed_filter > 0 else "no filter",
    )
    if plan.context["filtered"]:
        yield number("SET_POINT_KEEPS", math.exp(-c.set_point * period), f"of its lag a speed step: filter of the set-point, Ti = {1 / c.set_point:.6g} s")
        yield number("SET_POINT_LAGS", 1 - c.set_weight, "of that lag is in the reference: the rest passes by")
    if plan.context["rounded"]:
        yield number("SPEED_PERIOD_S", period)
        yield number("JERK_STEP_RAD_S2", c.jerk * period, f"a step of the acceleration: {c.jerk:.6g} rad/s^3, the ramp's within {c.ramp / c.jerk:.6g} s")
        yield number("JERK_STEP_RAD_S", c.jerk * period * period, "what that gains of speed in a step")
    if plan.context["ahead_inertia"]:
        yield number("AHEAD_INERTIA_A_PER_RAD_S", c.ahead_inertia / period, f"ahead of the loop, for a step of the reference: {c.ahead_inertia:.6g} A per rad/s^2")
    if plan.context["ahead_viscous"]:
        yield number("AHEAD_VISCOUS_A_PER_RAD_S", c.ahead_viscous, "ahead of the loop, for viscous friction")
    if plan.context["ahead_coulomb"]:
        yield number("AHEAD_COULOMB_A", c.ahead_coulomb, "ahead of the loop, with the sign of the reference")
    if plan.context["smoothed"]:
        yield number("TORQUE_SHARE", c.torque_share, "of the way that the torque current's low-pass goes a speed step")
    if plan.context["notched"]:
        s = plan.bench.settings.speed_loop
        text = f"notch of the torque current at {s.notch_hz:.6g} Hz, {s.notch_width:.4g} of that wide, {s.notch_depth:.4g} left"
        for name, value in (("B0", c.notch_b0), ("B1", c.notch_b1), ("B2", c.notch_b2), ("A1", c.notch_a1), ("A2", c.notch_a2)):
            yield number(f"NOTCH_{name}", value, text if name == "B0" else "")
    if plan.context["ranged"]:
        yield number("SLOW_BELOW_RAD_S", c.slow_below, "of the shaft, below which the loop is slower")
        yield number("SLOW_SHARE", c.slow_share, "of its bandwidth there; it grows to all of it at twice that speed")
    yield number("KP_SPEED_A_PER_RAD_S", c.kp_speed, origin(plan.bench, "speed_loop.kp", "").strip("; "))
    yield number(
        "KI_TS_SPEED_A_PER_RAD_S",
        c.ki_speed * period,
        f"Ki = {c.ki_speed:.6g} A/rad, times the speed loop's period of {period:.6g} s",
    )


def limits(plan: Plan) -> Iterator[Entry]:
    """Give what trips it, and what may be asked for."""
    c = plan.drive.control
    for name, value, field, what in (
        ("I_LIMIT_A", c.i_limit, "i_limit", "peak, of what may be asked for"), ("I_TRIP_A", c.i_trip, "i_trip", "peak, of the vector as read"),
        ("V_MIN_V", c.v_min, "v_min", "least bus"),
    ):  # fmt: skip
        said = "; PRESUMED: nobody has entered it" if presumed(plan.bench, "run", field) else ""
        yield number(name, value, what + said)
    if plan.context["v_max"]:
        yield number("V_MAX_V", c.v_max, "highest bus")
    if plan.context["rolls"]:
        yield number("DRAG_CANCEL_A", c.roll, "added while a torque is held, to hide friction and cogging, peak")
        if not plan.context["rolls_forward"]:
            yield number("DRAG_FULL_RAD_S", c.roll_knee, "of the shaft, from which on it is added fully, the way that the shaft turns")
    if plan.context["speed_trip"]:
        yield number("SPEED_TRIP_RAD_S", c.speed_trip, "of the shaft, as it is seen here")
    if plan.context["overload"]:
        yield number("I_CONTINUOUS_A", c.i_continuous, "peak, of the vector, that may flow for ever")
        what = f"above that one's square, until it trips: {plan.bench.settings.run.overload_time:.4g} s at the limit"
        yield number("I2T_A2S", c.i2t, what)
    if plan.bench.settings.run.temp_trip is not None:
        yield number("TEMP_TRIP_DEGC", plan.bench.settings.run.temp_trip, "of the sensor that cc_hw_angle reads")
    if plan.context["stalls"]:
        yield periods(plan, "STALL", c.stall_time)


def braking(plan: Plan) -> Iterator[Entry]:
    """Give the brake resistor's levels and the fold-back."""
    c = plan.drive.control
    if plan.context["chops"]:
        yield number("BRAKE_ON_V", c.brake_on, "bus above which the brake resistor is switched on, fault or not")
        yield number("BRAKE_OFF_V", c.brake_off, "and below which it is off again")
    if plan.context["folds"]:
        yield number("FOLD_END_V", c.fold_end, "bus at which nothing of the braking torque is left")
        yield number("FOLD_PER_V", 1.0 / (c.fold_end - c.fold_start), f"of it a volt below; all of it below {c.fold_start:.6g} V")
    if plan.context["lows"]:
        yield number("LOW_END_V", c.low_end, "bus at which nothing of the driving torque is left")
        yield number("LOW_PER_V", 1.0 / (c.low_start - c.low_end), f"of it a volt above; all of it from {c.low_start:.6g} V on")
    if plan.context["power"]:
        yield number("POWER_KT_NM_PER_A", c.power_kt, "torque constant, by which power is limited")
        if plan.context["power_from"]:
            yield number("POWER_FROM_W", c.power_from, "that the speed loop takes from the bus at most")
            yield number("POWER_FROM_ROOT", 4.0 * c.power_r * c.power_from, f"4 R' P, with R' = {c.power_r:.6g} ohm of copper a current squared")
        if plan.context["power_into"]:
            yield number("POWER_INTO_W", c.power_into, "that it gives back to the bus at most")
            yield number("POWER_INTO_ROOT", 4.0 * c.power_r * c.power_into, "4 R' P")


def position(plan: Plan) -> Iterator[Entry]:
    """Give the position loop and its profile, in counts of the encoder and speed steps."""
    if not plan.context["moves"]:
        return
    c, b = plan.drive.control, plan.bench
    period, count = c.ts * c.speed_divider, plan.count
    if plan.kind == "stepping":
        yield number("MOVE_SPEED_COUNTS", c.move_speed * period / count, f"entries of the current table a step of the profile, at most: {c.move_speed:.6g} rad/s")
        yield number("MOVE_GAIN_COUNTS", c.move_accel * period * period / count, f"of that gained a step, at most: {c.move_accel:.6g} rad/s^2")
        yield whole("MOVE_STEPS", c.move_steps, f"steps whose mean the profile is: {c.move_steps * period:.6g} s", unsigned=True)
        yield number("RAD_S_OF_COUNTS", count / period, "rad/s of the shaft that an entry a step of the profile is")
        yield number("COUNTS_OF_RAD_S", period / count, "the other way")
        yield number("GAIN_OF_RAD_S2", period * period / count, "of the speed, gained a step, that a rad/s^2 is")
        return
    yield number("KV_STEP", c.kv * period, origin(b, "motion.kv", f"Kv = {c.kv:.6g} 1/s, times the speed loop's period"))
    yield number("AHEAD_SHARE", c.ahead_speed, "of the profile's speed, asked for ahead of the loop")
    yield number("MOVE_SPEED_COUNTS", c.move_speed * period / count, f"a speed step, at most: {c.move_speed:.6g} rad/s")
    yield number("MOVE_GAIN_COUNTS", c.move_accel * period * period / count, f"of that gained a step, at most: {c.move_accel:.6g} rad/s^2")
    yield whole("MOVE_STEPS", c.move_steps, f"speed steps whose mean the profile is: {c.move_steps * period:.6g} s", unsigned=True)
    yield number("RAD_S_OF_COUNTS", count / period, "rad/s of the shaft that a count a speed step is")
    yield number("COUNTS_OF_RAD_S", period / count, "the other way")
    yield number("GAIN_OF_RAD_S2", period * period / count, "of the speed, gained a step, that a rad/s^2 is")
    yield number("MOST_CATCHING_RAD_S", MOST_CATCHING * c.move_speed, "that the loop asks for at most, to catch up")
    if plan.context["stands"]:
        yield number("WINDOW_COUNTS", c.window / count, f"standing window at the end of a move: {c.window:.6g} rad")
        yield number("WINDOW_OUT_COUNTS", LEAVES * c.window / count, "at which a shaft that stands is moved again")
    if plan.context["follows"]:
        yield number("FOLLOW_COUNTS", c.follow_limit / count, f"following error at which it trips: {c.follow_limit:.6g} rad")


def homing(plan: Plan) -> Iterator[Entry]:
    """Give how the place is found again."""
    if not plan.context["homes"]:
        return
    home = plan_of_homing(plan.bench)
    sign = home.approach if home.reference == "index" else home.switch_sign
    yield number("HOME_SIGN", sign, "way in which switch or index is sought")
    if home.stops:
        yield number("HOME_PUSH_A", home.push, "peak against the stop, above which it is taken for found")
        yield number("HOME_STILL_RAD_S", STILL * home.slow, "below which the shaft stands")
        yield whole("HOME_HOLD_LOOKS", max(math.ceil(home.hold / home.scan - 1e-9), 1), f"that this must last: {home.hold:.4g} s", unsigned=True)
    elif home.reference != "index":
        yield number("HOME_FAST_RAD_S", home.fast, "while it is sought")
    yield number("HOME_SLOW_RAD_S", home.slow, "at which the place is found")
    yield number("HOME_TRAVEL_COUNTS", travel_of(plan) / plan.count, "after which it gives up")


def weakening(plan: Plan) -> Iterator[Entry]:
    """Give field weakening, where it does."""
    if not plan.context["weakens"]:
        return
    c = plan.drive.control
    asked = plan.bench.settings.run.weakening or 0.0
    kept = f", of {asked:.5g} A asked for: 0.8 of PSI over LD, and what the limit leaves" if c.i_weak < asked else ""
    yield number("I_WEAK_A", c.i_weak, f"peak, most i_d against the magnet{kept}")
    yield number("WEAK_SHARE_OF_V", c.weak_share, "of the voltage limit that i_d keeps the voltage at")
    yield number("WEAK_STEP", c.weak_rate * c.ts * c.speed_divider, "of the way that i_d goes in a speed step")
    yield number("VOLTS_MEAN_SHARE", 1.0 / c.speed_divider, "of the way that the voltage's mean goes in a period")
    yield number("FULL_FLUX_WB", math.hypot(c.psi, c.lq * c.i_limit), "linked at the current limit, about")
