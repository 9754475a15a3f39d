"""The whole-number forms of current controller and estimator: their integers, and what every product is at most.

A setting that would run over is refused here, with what would fit, instead of running over on somebody's board.
"""

from __future__ import annotations

import math
from typing import Any

from crisp_compass.bench.rules import need
from crisp_compass.course.number_formats import bench_scales
from crisp_compass.course.open_points import presumed_text
from crisp_compass.course.sensorless import full_scale
from crisp_compass.course.waypoints.current_loop import current_tracking
from crisp_compass.errors import Refusal
from crisp_compass.firmware.configuration import encoder_zero
from crisp_compass.firmware.plan import Plan
from crisp_compass.firmware.render import ascii_comment
from crisp_compass.loops.number_format import to_forms
from crisp_compass.safe_text import c_float
from crisp_compass.sensorless.estimator import FLUX, Estimator

#: Longest word [bits] of the current controller: a gain times an error then stays below 2^30.
MOST_BITS = 16
#: Fractional bits of the controller's integrator, of its sum, and of the share at the limit.
_INTEGRATOR, _SUM, _TRACK = 13, 12, 13
_TURNS = 19
_Q = 24
#: What an int64_t holds, and how far a product may go.
_ROOM = 2.0**62


def cordic() -> dict[str, str]:
    """Return the constants of the turns by shifts: the arcs in 2^32 a turn, and one over the growth with 30 fractional bits."""
    arcs = ", ".join(str(round(math.atan(2.0**-k) / (2 * math.pi) * 2**32)) for k in range(_TURNS))
    gain = math.prod(1 / math.sqrt(1 + 4.0**-k) for k in range(_TURNS))
    return {"cordic_arcs": arcs, "cordic_gain": str(round(gain * 2**30))}


def controller(plan: Plan) -> dict[str, Any]:
    """Return the integers of the current controller; raises Refusal for a word that is too long or scales that do not fit."""
    scales = bench_scales(plan.bench)
    if scales.bits > MOST_BITS:
        raise Refusal(
            f"the fixed-point controller is for words of up to {MOST_BITS} bits, not {scales.bits}",
            "choose 16 bits on the number format page; the float controller needs no word",
            field="current_loop.bits",
        )
    axes, worst = [], []
    most = 4 * scales.full << _SUM
    for axis, share in zip("dq", current_tracking(plan.bench), strict=True):
        kp, ki = (need(plan.bench, f"current_loop.{k}_{axis}") for k in ("kp", "ki"))
        forms = to_forms(kp, ki, scales)
        name = axis.upper()
        axes.append({
            "name": name, "kp": forms.kp_q.integer, "kp_shift": forms.kp_q.shift, "kp_text": f"{forms.kp:.6g}", "ki": forms.ki_q.integer,
            "ki_shift": forms.ki_q.shift, "ki_text": f"{forms.ki:.6g}", "track": min(max(round(share * (1 << 2 * _TRACK)), 1), (1 << 2 * _TRACK) - 1),
        })  # fmt: skip
        worst.append(
            f"{name}: Kp times an error {_log2(forms.kp_q.integer * scales.full)}, Ki times an error {_log2(forms.ki_q.integer * scales.full)}"
        )
    worst += [
        f"sum of both parts and the feed {_log2(most + 4 * most / 2)}",
        f"share at the limit {_log2(4 * scales.full * (1 << _TRACK))}, integrator with it {_log2(most + 4 * scales.full * (1 << _TRACK))}",
        f"square of the limit {_log2(float(scales.full) ** 2)}",
    ]
    return {
        "full": scales.full, "i_base": f"{c_float(scales.i_base)}", "v_base": f"{c_float(scales.v_base)}", "fraction": _INTEGRATOR, "most": most,
        "axes": axes, "worst": worst,
    }  # fmt: skip


#: Modulations that the whole-number period has.
_SCHEMES = ("space-vector", "sine", "clamped-low", "clamped-high", "clamped-60")


def has_period(plan: Plan) -> bool:
    """Tell whether a whole period in whole numbers is made for this bridge and modulation."""
    return plan.windings == 3 and plan.context["scheme"] in _SCHEMES and plan.context["shunts"] != "one"


def has_servo(plan: Plan) -> bool:
    """Tell whether the whole drive in whole numbers is made for this sensor and these limits."""
    return plan.sensor == "encoder" and not plan.context["weakens"] and not plan.context["too_hot"]


def _plain_speed_loop(plan: Plan) -> None:
    """Refuse what the whole-number drive does not have around its speed loop and its bus."""
    named = (
        ("filtered", "a set-point filter"), ("rounded", "a rounded ramp"), ("ranged", "a second set of gains"), ("ahead_inertia", "feed-forward of inertia"), ("ahead_viscous", "feed-forward of friction"),
        ("ahead_coulomb", "feed-forward of friction"), ("smoothed", "a low-pass of the torque current"), ("notched", "a notch"), ("folds", "fold-back of braking"), ("lows", "fold-back of a low bus"), ("power", "limit of power"), ("moves", "position loop"), ("chops", "a brake resistor"), ("rolls", "drag cancel"),
    )  # fmt: skip
    there = list(dict.fromkeys(text for key, text in named if plan.context[key]))
    if there:
        raise Refusal(f"the whole-number drive has no {' and no '.join(t.removeprefix('a ') for t in there)}", "take the float drive, or leave that out")


def period(plan: Plan) -> dict[str, Any]:
    """Return the integers of a whole period from currents to compare counts; raises Refusal where one does not fit."""
    if plan.pwm.period_counts > 65535:
        raise Refusal("a whole period in whole numbers is for timers of 16 bits", "the float drive takes any")
    c, scales = plan.drive.control, bench_scales(plan.bench)
    ratio, turn = scales.i_base / scales.v_base, 2 * math.pi / c.ts
    most = max(turn * c.lq * ratio * (1 << 14), turn * c.psi / scales.v_base * scales.full)
    if most >= 2.0**31:
        raise Refusal("a whole period in whole numbers runs over (speed times flux)", "a larger voltage scale, or the float drive")
    constants, worst = [], [f"current by a reactance {_log2(32767.0 * 65535.0)}", f"volts over the bus {_log2(plan.pwm.period_counts * 2.0**15)}", f"a vector's turn, both parts {_log2(2 * 32768.0 * 16384.0)}"]
    for name, gain, text in (
        ("REACTANCE_D", turn * c.ld * ratio * (1 << 14), "LD times a turn a period, over the scales"), ("REACTANCE_Q", turn * c.lq * ratio * (1 << 14), "the same of LQ"),
        ("EMF", turn * c.psi / scales.v_base * scales.full, "PSI times a turn a period, counts"),
    ):  # fmt: skip
        factor, shift = _scaled(gain / (1 << 18), most=15)
        worst.append(f"speed by {name} {_log2(65535.0 * factor)}")
        constants += [(f"CC_{name}", str(factor), text), (f"CC_{name}_SHIFT", f"{min(shift, 31)}u", "")]
    constants += [("CC_VOLTS_PER_BUS_Q14", _whole(math.floor(c.volts_per_bus * (1 << 14))), ""), ("CC_DELAY_Q8", f"{round(c.delay_samples * 256)}u", "periods")]
    return {"constants": constants, "worst": worst}


def servo(plan: Plan) -> dict[str, Any]:
    """Return the integers of the whole-number drive by an encoder; raises Refusal where one does not fit."""
    _plain_speed_loop(plan)
    b, c, scales = plan.bench, plan.drive.control, bench_scales(plan.bench)
    step, amps, volts = c.ts * c.speed_divider, scales.i_base / scales.full, scales.v_base / scales.full
    per_rev = plan.drive.sensing.counts_per_rev
    count = 2 * math.pi / per_rev / step  # rad/s that one count a speed step is
    fastest = 2.5 * max(b.settings.plate.top_speed, abs(b.settings.run.speed), c.speed_trip if plan.context["speed_trip"] else 0.0)
    of_count = 1 << max(min(16, 29 - math.ceil(math.log2(max(fastest / count, 1.0)))), 0)
    unit = count / of_count
    pairs = plan.drive.machine.pole_pairs
    kp, kp_shift = _scaled(c.kp_speed * unit / amps)
    ki, ki_shift = _scaled(c.ki_speed * step * unit / amps * (1 << 14))
    reach = max(math.ceil(math.log2(max(fastest / unit, 1.0))), 14)  # bits of the fastest speed that is told
    turn = unit * pairs * c.ts / (2 * math.pi) * 2**32
    turning, turning_shift = _scaled(turn * (1 << 14), most=30 - (reach - 14))
    if turning < 64:
        raise Refusal("the turn of a period is too large for the whole-number drive", "raise the rate of the loop, or take the float drive")
    rest_bits = 31 - math.ceil(math.log2(per_rev))
    angle = int(pairs * 2**32 // per_rev)
    rest = round((pairs * 2**32 / per_rev - angle) * (1 << rest_bits))
    share = 1 - math.exp(-c.speed_filter * step) if c.speed_filter > 0 else 1.0
    ramp = round(c.ramp * step / unit)
    if ramp < 20 or share * (1 << 15) < 20:
        raise Refusal("ramp or filter are too slow for the whole-number drive's steps", "raise them, or take the float drive")
    worst = [
        f"{name} {_log2(value)} of 2^{room}"
        for name, value, room in (
            ("error by Kp", 2.0 ** (reach + 1) * kp, 63), ("error by Ki", 2.0 ** (reach + 1) * ki, 63), ("turn of a period", 2.0 ** (reach - 14) * turning, 31),
            ("speed's filter", 2.0 ** (reach + 1), 31), ("angle behind the point", per_rev * rest, 32), ("sum of both currents", 3.0 * scales.full * 9459, 31),
        )
    ]  # fmt: skip
    constants = [
        ("CC_FASTEST", f"{1 << reach}", "units of speed; what is faster is told as this"), ("CC_MOST_MOVED", f"{max((1 << reach) // of_count, 1)}", "counts a speed step"),
        ("CC_ANGLE_OF_COUNT", f"{angle}u", "electrical, 2^32 a turn"), ("CC_ANGLE_REST", f"{rest}u", "what that has behind the point"), ("CC_ANGLE_REST_SHIFT", f"{rest_bits}u", ""),
        ("CC_ZERO", f"{round(encoder_zero(b) / (2 * math.pi) * 2**32) % 2**32}u", "at count 0, 2^32 a turn"), ("CC_FILTER_Q15", _whole(share * (1 << 15)), ""),
        ("CC_TURNING_OF_SPEED", _whole(turning), ""), ("CC_TURNING_SHIFT", f"{turning_shift}u", ""), ("CC_RAMP_STEP", _whole(ramp), f"{c.ramp:.6g} rad/s^2"),
        ("CC_SPEED_KP", _whole(kp), f"{c.kp_speed:.6g} A/(rad/s)"), ("CC_SPEED_KP_SHIFT", f"{kp_shift}u", ""),
        ("CC_SPEED_KI", _whole(ki), f"{c.ki_speed:.6g} A/rad, the speed loop's period inside"), ("CC_SPEED_KI_SHIFT", f"{ki_shift}u", ""),
        ("CC_I_LIMIT", _whole(c.i_limit / amps), f"{c.i_limit:.6g} A"), ("CC_I_STALL", _whole(0.95 * c.i_limit / amps), ""),
        ("CC_TRIP_SQUARE", f"{round(min(c.i_trip / amps, scales.full - 1.0) ** 2)}u", f"{c.i_trip:.6g} A"), ("CC_BUS_MIN", _whole(c.v_min / volts), f"{c.v_min:.6g} V"),
        ("CC_SLOW", _whole(0.02 / unit), "a fiftieth of 1 rad/s"), ("CC_SLOWEST", _whole(0.5 / unit), "0.5 rad/s"), ("CC_OVER_ROOT_3_Q14", "9459", ""),
    ]  # fmt: skip
    if plan.context["v_max"]:
        constants.append(("CC_BUS_MAX", _whole(c.v_max / volts), f"{c.v_max:.6g} V"))
    if plan.context["speed_trip"]:
        constants.append(("CC_SPEED_TRIP", _whole(c.speed_trip / unit), f"{c.speed_trip:.6g} rad/s"))
    if plan.context["overload"]:
        constants.append(("CC_CONTINUOUS_SQUARE", f"{round((c.i_continuous / amps) ** 2)}u", f"{c.i_continuous:.6g} A"))
        constants.append(("CC_HEAT_MOST", _wide(c.i2t / amps**2 / c.ts), f"{c.i2t:.6g} A^2 s"))
    return {"constants": constants, "worst": worst, "of_count": str(of_count), "per_rad_s": c_float(1 / unit)}


def _whole(value: float) -> str:
    return str(round(value))


def _scaled(value: float, most: int = 30) -> tuple[int, int]:
    """Return an integer below 2^``most`` and the shift that it stands over; a value that is too small for 60 bits is kept as what it rounds to."""
    shift = max(min(most - 1 - math.floor(math.log2(max(value, 1e-30))), 60), 0)
    return round(value * 2.0**shift), shift


def scale_note(plan: Plan) -> list[str]:
    """Return what a reader must know of the scales: which nobody has entered."""
    said = presumed_text(plan.bench, "current_loop", "bits")
    return [ascii_comment(f"{said} Check it against the converters.")] if said else []


def _log2(value: float) -> str:
    return f"2^{math.log2(max(value, 1.0)):.1f}"


def bases(v_bus: float, full: float) -> tuple[float, float]:
    """Return the bases of voltage [V] and current [A]: powers of two above the link's voltage and the sensors' full scale."""
    return _power(v_bus), _power(full)


def _power(value: float) -> float:
    return 2.0 ** math.ceil(math.log2(max(value, 1e-6)))


def estimator(plan: Plan) -> dict[str, Any]:
    """Return the integers of the estimator; raises Refusal where one would not fit."""
    o = plan.drive.estimator
    v_base, i_base = bases(plan.drive.inverter.v_supply, full_scale(plan.bench))
    ratio, turn, one = i_base / v_base * (1 << _Q), 2 * math.pi, 1 << 30
    k_r, k_l, k_s = 0.5 * o.r * ratio, o.lq / o.ts * ratio, (o.ld - o.lq) / o.ts * ratio
    lower = max(
        math.ceil(math.log2(max(abs(k_l), abs(k_s), k_r, 1.0))) - 34, 0
    )  # bits that the winding's gains give up
    k_shift = _Q - lower
    share, catch = o.filter * o.ts / (1 + o.filter * o.ts), o.catch * o.ts / (1 + o.catch * o.ts)
    psi = o.psi * turn / o.ts / v_base * (1 << _Q)
    psi_shift = 32 - max(math.ceil(math.log2(max(psi, 1.0))) - 30, 0)
    ki = o.ki * o.ts * o.ts
    ki_shift = max(min(29 - math.ceil(math.log2(max(ki, 2.0**-30))), 50), 0)
    if not (k_shift > 0 and psi_shift > 0 and o.kp * o.ts < 1.9 and ki < 1.0):
        raise Refusal(
            "the estimator's loop is too quick for its period",
            "lower its loop on the start-up leg, or raise the rate of the loop",
            field="start_up.loop_hz",
        )
    flux = o.psi / o.ts / v_base * (1 << _Q)
    flux_most = 2.0 ** math.ceil(math.log2(max(8 * flux, 2.0**28)))
    flux_shift = max(round(math.log2(flux_most)) - 30, 0)
    constants: list[tuple[str, str, str]] = [
        ("K_SHIFT", f"{k_shift}u", ""), ("K_R", _wide(k_r / 2**lower), "half of R"), ("K_L", _wide(k_l / 2**lower), "LQ over the period"),
        ("SHARE", f"{round(share * one)}", "of the back-EMF's filter"), ("SLOW", f"{round(0.25 * share * one)}", ""),
        ("KP_TS", f"{round(o.kp * o.ts * one)}", f"Kp = {o.kp:.6g} 1/s"), ("KI", f"{round(ki * 2.0**ki_shift)}", f"Ki = {o.ki:.6g} 1/s^2, over 2^{ki_shift}"),
        ("KI_SHIFT", f"{ki_shift}u", ""), ("CATCH", f"{round(catch * one)}", ""), ("OFFSET", _wide(o.offset * turn * one), ""),
        ("FLOOR_V", f"{max(round(o.floor / v_base * (1 << _Q)), 1)}", f"{o.floor:.6g} V"), ("PSI", _wide(psi / 2.0 ** (32 - psi_shift)), f"{o.psi:.6g} Wb"),
        ("PSI_SHIFT", f"{psi_shift}u", ""), ("LENGTH", _wide(o.length * one), ""), ("SPREAD", _wide((o.spread / turn) ** 2 * 2**40), "mean square of parts of a turn, in 2^-40"),
        ("HOLD", _wide(o.hold / turn * 2**32), f"{o.hold / turn:.3g} turns"), ("HELD_MOST", "((int64_t)1 << 60)", ""), ("MOST_SPEED", _wide(1.5 / turn * 2**32), "1.5 rad a period"),
        ("LOST_AFTER", f"{round(8 / max(0.25 * share, 1e-6))}u", "periods"), ("LOST_SPREAD", _wide(0.3 / turn**2 * 2**40), ""),
    ]  # fmt: skip
    salient = o.ld != o.lq
    if salient or o.kind == FLUX:
        constants.append(("K_S", _wide(k_s / 2**lower), "LD - LQ over the period"))
    if o.kind == FLUX:
        constants += [
            ("PSI_F", _wide(flux), ""), ("PULL", _wide(min(o.correction * o.ts, 1.0) * one), ""), ("FLUX_MOST", _wide(flux_most), ""),
            ("FLUX_SHIFT", f"{flux_shift}u", ""), ("FLUX_STEP", "((int64_t)1 << 34)", ""),
        ]  # fmt: skip
    products = _products(
        o, (k_r / 2**lower, k_l / 2**lower, k_s / 2**lower), ki * 2.0**ki_shift, psi, k_shift=k_shift, flux_most=flux_most
    )
    over = next((name for name, value in products.items() if value > _ROOM), "")
    if over:
        raise Refusal(
            f"the fixed-point estimator runs over ({over})",
            "raise the rate of the loop, or leave the fixed-point files out",
        )
    worst = [f"{name} {_log2(value)}" for name, value in products.items()]
    return {
        "v_base": c_float(v_base),
        "i_base": c_float(i_base),
        "constants": constants,
        "salient": salient,
        "worst": worst,
    }


def _wide(value: float) -> str:
    return f"((int64_t){round(value)})"


def _products(
    o: Estimator, winding: tuple[float, float, float], ki: float, psi: float, k_shift: int, flux_most: float
) -> dict[str, float]:
    """Return what the products of the estimator are at most: currents to twice the base, voltages to four times, angles of half a turn.

    ``winding`` holds the gains of resistance, inductance and saliency as written, ``ki`` the integer, ``psi`` the counts for a turn a period.
    """
    counts, fourfold, angle, one = 2.0**25, 2.0**26, 2.0**31, 2.0**30
    k_r, k_l, k_s = winding
    expected = 0.5 * psi
    found = {
        "winding times currents": (k_r + k_l) * 2 * counts,
        "products of neighbours": 2 * (2 * fourfold) ** 2,
        "their filter": 2 * (2 * fourfold) ** 2 / 2**24 * one,
        "Ki times an error": ki * angle + 2.0**50,
        "lag times its share": 2 * angle * one,
        "flux times speed": min(psi, 2.0**30) * angle,
        "length times what is allowed": expected * o.length * one,
        "spread times its share": 2.0**40 / 2**10 * one,
        "length times one": 4 * fourfold * one,
        "saliency times speed": abs(k_s) * 2 * counts / 2.0**k_shift * angle,
        "error times length": angle * 2.0**27,
    }
    if o.kind == FLUX:
        rate = o.offset * 0.5 * 2 * math.pi * one
        found |= {
            "pull of the flux": one * flux_most / 2**12,
            "pull times direction": flux_most / 2**6 * one,
            "flux times offset": 2.0**34 * rate,
        }
    return found
