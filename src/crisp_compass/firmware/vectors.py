"""Test vectors: what the simulated drive read and commanded, period by period, as rows that a port of the C replays.

The readings of a row are those of the record whatever the port answers, so a difference does not grow; the compare counts come from the
modulation as computed here, not from the C.
"""

from __future__ import annotations

import math
from collections.abc import Iterator

from crisp_compass.firmware.plan import Plan
from crisp_compass.firmware.played import MOST_ROWS, Moment, Vectors, played
from crisp_compass.plant.parameters import (
    BAD_READING,
    BAD_SENSOR,
    OVER_CURRENT,
    OVER_VOLTAGE,
    TOO_HOT,
    UNDER_VOLTAGE,
)


def all_vectors(plan: Plan) -> list[Vectors]:
    """Return the scenarios of this drive: a start, steps of load and target at and beyond the limits, and faults with their acknowledging."""
    start = start_seconds(plan)
    v, target, ts = plan.drive.inverter.v_supply, plan.bench.settings.run.speed, plan.drive.control.ts
    longest = MOST_ROWS * ts
    heavy = 0.0 if plan.kind == "stepping" else 2.0 * _limit_torque(plan)
    after = min(start, longest * 0.7)
    low = max(0.7 * v, min(1.1 * plan.drive.control.v_min, v))
    back = 0.5 * target if plan.kind == "sensorless" or plan.context["observed"] else -0.5 * target
    short = min(0.12, 0.1 * longest)
    fast = math.copysign(max(_fastest(plan), abs(target)), target)
    found = [
        played(plan, "start", [Moment(0.0, 1, target, 0.0, supply=v)], after),
        played(
            plan,
            "limits",
            [
                Moment(0.0, 1, target, 0.0, supply=v), Moment(after, 1, target, heavy, supply=v), Moment(after + 0.5 * short, 1, fast, 0.0, supply=low),
                Moment(after + short, 1, back, 0.0, supply=v),
            ],
            after + 2 * short,
        ),
        played(plan, "faults", _failures(plan, target, short), 1.2 * short),
    ]  # fmt: skip
    found += _extra(plan, after)
    if plan.kind not in ("sensorless", "hertz", "stepping"):
        found.append(played(plan, "currents", _current_steps(plan, short, low), short))
        held = Moment(0.0, 1, target, 50.0 * _limit_torque(plan), supply=v)
        field = 5 / plan.drive.control.rotor_rate if plan.kind == "rotor" else 0.0
        start_fails = plan.drive.start.wait + plan.drive.start.low_up / plan.drive.start.low_ramp if plan.context["observed"] else 0.0
        found.append(played(plan, "stall", [held], plan.drive.control.stall_time + field + start_fails + 0.15))
    return found


def _extra(plan: Plan, start: float) -> Iterator[Vectors]:
    """Give what only some drives are set with: field weakening, an overload, a start that is tried again; each where it fits the longest file."""
    c, m, v = plan.drive.control, plan.drive.machine, plan.drive.inverter.v_supply
    longest, target = MOST_ROWS * c.ts, plan.bench.settings.run.speed
    if plan.context["weakens"]:
        reach = v * c.volts_per_bus / (m.pole_pairs * (c.psi - c.ld * c.i_weak))
        beyond = math.copysign(max(0.9 * reach, abs(target)), target)
        up = min(start + abs(beyond - target) / c.ramp + 0.2, 0.8 * longest)
        yield played(
            plan,
            "weakening",
            [Moment(0.0, 1, target, 0.0, supply=v), Moment(start, 1, beyond, 0.0, supply=v), Moment(up, 1, beyond, 0.0, supply=0.8 * v), Moment(up + 0.05, 1, 0.5 * target, 0.0, supply=v)],
            min(up + 0.2, longest),
        )  # fmt: skip
    if plan.context["overload"] and plan.context["torque"] and plan.kind != "sensorless":
        flux = c.i_flux if plan.kind == "rotor" else 0.0
        asked = math.sqrt(max(0.9 * c.i_limit**2 - flux**2, 0.0))
        square = (asked**2 + flux**2) * (4.0 / 3.0 if plan.kind == "block" else 1.0)
        seconds = 1.1 * c.i2t / (square - c.i_continuous**2) + 0.1 if square > c.i_continuous**2 else math.inf
        if seconds < longest:
            yield played(plan, "overload", [Moment(0.0, 2, 0.0, 50.0 * _limit_torque(plan), supply=v, i_d=flux, i_q=asked)], seconds)
    if plan.context["idles"] and start + 0.8 < longest:
        yield played(plan, "rest", [Moment(0.0, 1, target, 0.0, supply=v), Moment(start, 1, 0.0, 0.0, supply=v)], start + abs(target) / c.ramp + c.idle_after + 0.1)
    if plan.context["observed"]:  # through the forced range and out of it the other way
        slow, down = math.copysign(0.5 * plan.drive.start.low_down, target), abs(target) / c.ramp + 0.3
        yield played(plan, "torque", [Moment(0.0, 1, target, 0.0, supply=v), Moment(start, 2, 0.0, 0.3 * _limit_torque(plan), supply=v, i_d=plan.drive.control.i_flux, i_q=0.4 * plan.drive.control.i_limit), Moment(start + 0.2, 1, target, 0.0, supply=v)], min(start + 0.5, longest))
        yield played(plan, "lost", [Moment(0.0, 1, target, 0.0, supply=v), Moment(start, 1, target, 5.0 * _limit_torque(plan), supply=v)], min(start + plan.drive.start.lost + 0.3, longest))
        yield played(plan, "slow", [Moment(0.0, 1, target, 0.0, supply=v), Moment(start, 1, slow, 0.0, supply=v), Moment(start + down, 1, -target, 0.0, supply=v)], min(start + 3 * down, longest))
    if plan.context["field_off"] and start + c.field_off + 1.0 < longest:
        stops = abs(target) / c.ramp + 0.3
        yield played(plan, "field", [Moment(0.0, 1, target, 0.0, supply=v), Moment(start, 1, 0.0, 0.0, supply=v), Moment(start + stops + c.field_off + 0.1, 1, target, 0.0, supply=v)], min(start + stops + c.field_off + 0.6, longest))
    if plan.context["moves"]:
        yield from _moves(plan)
    if plan.context["lows"] or plan.context["power"]:  # up against a heavy load, at a bus that is low, and down again
        ramp, heavy = abs(target) / max(c.ramp, 1e-9) + 0.1, 0.5 * _limit_torque(plan)
        low = 0.5 * (c.low_start + c.low_end) if plan.context["lows"] else v
        yield played(
            plan, "power", [Moment(0.0, 1, target, 0.0, supply=v), Moment(start, 1, 1.3 * target, heavy, supply=low), Moment(start + 0.5 * ramp, 1, 0.3 * target, 0.0, supply=v), Moment(start + 1.5 * ramp, 1, target, 0.0, supply=v)],
            min(start + 2.0 * ramp, longest),
        )  # fmt: skip
    if plan.context["chops"] or plan.context["folds"]:
        ramp, begun, back = abs(target) / max(c.ramp, 1e-9) + 0.05, min(start, 0.6 * longest), 0.5 * target if plan.kind == "sensorless" else -0.5 * target
        # a bus at which little braking is left, and one above the resistor's level
        held = c.fold_end - 0.1 * (c.fold_end - c.fold_start) if plan.context["folds"] else v
        high = 1.02 * c.brake_on if plan.context["chops"] else held
        high, held = (min(x, 0.5 * (c.v_max + x)) if c.v_max < 1e8 else x for x in (high, held))
        yield played(
            plan, "braking", [Moment(0.0, 1, target, 0.0, supply=v), Moment(begun, 1, back, 0.0, supply=held), Moment(begun + ramp, 1, target, 0.0, supply=v), Moment(begun + 1.5 * ramp, 1, back, 0.0, supply=high), Moment(begun + 1.7 * ramp, 1, back, 0.0, supply=v)],
            min(begun + 2 * ramp, longest),
        )  # fmt: skip
    if plan.context["retries"]:
        s = plan.drive.start
        once = sum(s.rows[2::4]) + 2 * s.wait + s.catch
        seconds = min((s.retries + 1) * once + 0.05, longest)
        yield played(plan, "retry", [Moment(0.0, 1, target, 50.0 * _limit_torque(plan), supply=v)], seconds)


def _moves(plan: Plan) -> Iterator[Vectors]:
    """Give moves: there, changed under way and back, begun from a speed, one that is held until it trips or stalls."""
    c, v, longest = plan.drive.control, plan.drive.inverter.v_supply, MOST_ROWS * plan.drive.control.ts
    count = plan.count
    rounding = c.move_steps * c.ts * c.speed_divider
    field = 5 / c.rotor_rate if c.rotor_rate > 0 else 0.0
    ramp = min(c.move_speed / c.move_accel, 0.1 * longest)
    way = c.move_accel * ramp * ramp * 1.2
    there = way / (c.move_accel * ramp) + ramp + rounding + 0.03
    far, near = round(way / count), round(0.15 * way / count)
    at, moments = field, []
    moments.append(Moment(0.0, 1, 0.0, 0.0, supply=v))
    for counts, seconds in ((far, 0.5 * there), (-near, there), (near, 0.7 * there)):
        moments.append(Moment(at, 3, counts, 0.0, supply=v))
        at += seconds
    moments.append(Moment(at, 1, 0.3 * c.move_speed, 0.0, supply=v))
    moments.append(Moment(at + 0.3 * ramp + 0.02, 3, 0, 0.0, supply=v))
    yield played(plan, "move", moments, min(at + 0.3 * ramp + 0.02 + there, longest))
    if plan.kind == "stepping":
        if plan.context["watches"]:
            yield _blocked(plan, far, there)
            if plan.context["stands"]:  # against friction, which leaves the shaft beside its window
                beside = [Moment(0.0, 3, 0, 0.0, supply=v), Moment(c.settle + 0.05, 3, near, 0.35 * _limit_torque(plan), supply=v)]
                yield played(plan, "beside", beside, min(5.0 * c.settle + there, longest))
        return
    held = [Moment(0.0, 1, 0.0, 0.0, supply=v), Moment(field, 3, far, 50.0 * _limit_torque(plan), supply=v)]
    # short behind the trip: a port that trips elsewhere must show in a good part of the rows
    trips = math.sqrt(2.0 * c.follow_limit / c.move_accel) + rounding if plan.context["follows"] else min(c.stall_time, 2.0) + there
    yield played(plan, "held", held, min(field + 1.5 * trips + 0.01, longest))


def _blocked(plan: Plan, far: int, there: float) -> Vectors:
    """Give a move that is blocked for a while and goes on, one that is blocked for good, and one after it is acknowledged."""
    c, v = plan.drive.control, plan.drive.inverter.v_supply
    wall, begun, tries = 50.0 * _limit_torque(plan), c.settle + 0.05, (c.corrections + 1) * (c.settle + 0.1)
    slower = there / max(c.slower**2, 0.1) ** 0.5
    at, moments = begun, [Moment(0.0, 3, 0, 0.0, supply=v)]
    for target, load, seconds in ((far, 0.0, 0.4 * there), (far, wall, 0.6 * c.settle + 0.02), (far, 0.0, c.settle + slower), (0, wall, 2.0 * tries)):
        moments.append(Moment(at, 3, target, load, supply=v))
        at += seconds
    moments += [Moment(at, 0, 0.0, 0.0, supply=v), Moment(at + 0.02, 3, round(0.3 * far), 0.0, supply=v)]
    return played(plan, "blocked", moments, min(at + c.settle + there, MOST_ROWS * c.ts))


def _failures(plan: Plan, target: float, seconds: float) -> list[Moment]:
    """Return a supply that fails, then each reading that must stop the drive; after each a stop, which lets it be acknowledged, and a new start."""
    v, found = plan.drive.inverter.v_supply, [Moment(0.0, 1, target, 0.0, supply=plan.drive.inverter.v_supply)]
    high = plan.drive.control.v_max
    events = [UNDER_VOLTAGE, *([OVER_VOLTAGE] if high < 1e8 else []), OVER_CURRENT, BAD_READING, *([BAD_SENSOR] if plan.sensor == "halls" else []), *([TOO_HOT] if plan.context["too_hot"] else [])]
    span = seconds / len(events)
    for k, event in enumerate(events):
        begin = span * (k + 0.5)
        failing = {UNDER_VOLTAGE: 0.5 * plan.drive.control.v_min, OVER_VOLTAGE: 1.1 * high + 1.0}.get(event, v)
        found += [
            Moment(begin, 1, target, 0.0, supply=failing, event=0 if failing != v else event), Moment(begin + 0.2 * span, 1, target, 0.0, supply=v), Moment(begin + 0.3 * span, 0, target, 0.0, supply=v),
            Moment(begin + 0.4 * span, 1, target, 0.0, supply=v),
        ]  # fmt: skip
    return found


def _current_steps(plan: Plan, seconds: float, low: float) -> list[Moment]:
    """Return steps of both currents that the voltage limit meets, at the full and at a low supply."""
    c, v = plan.drive.control, plan.drive.inverter.v_supply
    field = c.i_flux if plan.kind == "rotor" else 0.0
    most = 0.9 * min(c.i_limit, 1e6) - field
    shares = ((0.0, 0.9), (-0.4, 0.2), (0.3, -0.9), (-0.4, 0.9), (0.0, -0.5), (0.4, 0.1), (-0.4, -0.7), (0.0, 0.3))
    dq = plan.kind in ("magnet", "rotor")
    return [
        Moment(
            seconds * k / len(shares),
            2,
            0.0,
            0.0,
            supply=v if k % 3 else low,
            i_d=field + (d * most if dq and not field else 0.1 * d * field),
            i_q=q * most,
        )
        for k, (d, q) in enumerate(shares)
    ]


def _fastest(plan: Plan) -> float:
    """Return a speed [rad/s] near what the voltage allows."""
    c, m = plan.drive.control, plan.drive.machine
    psi = c.psi if c.psi > 0 else m.psi
    if plan.kind in ("rotor", "hertz", "sensorless", "stepping") or psi <= 0:
        return 0.0
    return float(0.85 * plan.drive.inverter.v_supply * c.volts_per_bus / (m.pole_pairs * psi))


def start_seconds(plan: Plan) -> float:
    """Return the time [s] in which this drive is at its target: the ramp, the rows of a start, the building of a field."""
    c, s = plan.drive.control, plan.drive.start
    ramp = abs(plan.bench.settings.run.speed) / max(c.ramp, 1e-9)
    rows = sum(s.rows[2::4]) + s.wait + s.catch + s.blend if plan.kind == "sensorless" else 0.0
    field = 5 / c.rotor_rate if c.rotor_rate > 0 else 0.0
    settles = c.settle if plan.context["watches"] else 0.0
    return ramp + rows + field + settles + 0.1


def _limit_torque(plan: Plan) -> float:
    """Return the torque [N·m] that the current limit makes, about."""
    m, c = plan.drive.machine, plan.drive.control
    psi = c.psi if c.psi > 0 else m.psi
    return float(m.torque_factor * m.pole_pairs * psi * min(c.i_limit, 1e6))
