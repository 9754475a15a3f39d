"""The current controller as C source, in float and in fixed point, generated from the settled design.

Both do what the plant's firmware does (plant.kernels.regulate): parallel PI on d and q, feed-forward added, the voltage
limit a circle with d first; at the limit an integrator goes a share of the way to what the limited voltage leaves for it
(loops.current.limit_tracking). The fixed one computes with 64-bit sums, so that
nothing is rounded but the output and the root of the circle.
"""

from __future__ import annotations

from dataclasses import dataclass

from crisp_compass import __version__
from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need
from crisp_compass.course.number_formats import bench_scales
from crisp_compass.course.open_points import presumed_text
from crisp_compass.course.waypoints.current_loop import current_tracking
from crisp_compass.errors import Refusal
from crisp_compass.loops.number_format import Forms, Scales, to_forms
from crisp_compass.motor import family_of, winding_of
from crisp_compass.record.c_firmware import firmware_sources
from crisp_compass.safe_text import c_comment, c_float

_MOST_BITS = 16  # error × gain × 2^30 must fit 63 bits


@dataclass(frozen=True)
class SourceFile:
    """One file: name and text."""

    name: str
    text: str


def controller_sources(bench: Bench) -> list[SourceFile]:
    """Return header and source of both controllers; raises Refusal where the current loop is not settled or does not fit."""
    gains = {k: need(bench, f"current_loop.{k}") for k in ("kp_d", "ki_d", "kp_q", "ki_q")}
    of = winding_of(bench)
    plant = {"inductance.ld": of.ld, "inductance.lq": of.lq}
    loop_hz = need(bench, "pwm.loop_hz")
    tracks = current_tracking(bench)
    scales = bench_scales(bench)
    if scales.bits > _MOST_BITS:
        raise Refusal(
            f"the fixed-point controller is for words of up to {_MOST_BITS} bits, not {scales.bits}",
            "choose 16 bits on the number format page; the float controller needs no word",
        )
    axes = {axis: to_forms(gains[f"kp_{axis}"], gains[f"ki_{axis}"], scales) for axis in "dq"}
    note = (
        f"Written by Crisp Compass {__version__} for the bench as settled; parallel PI, u = Kp*e + I, I += Ki*Ts*e."
    )
    said = presumed_text(bench, "current_loop", "i_base", "v_base", "bits")
    fixed_note = f"{note}\n * {c_comment(said)} Check it against the converters." if said else note
    further = [SourceFile(name, text) for name, text in firmware_sources(bench, note)]
    if family_of(bench).own_circuit:  # its decoupling is another: cc_rotor takes the place of the float controller
        further += [
            SourceFile("cc_current_fixed.h", _fixed_header(fixed_note, scales)),
            SourceFile("cc_current_fixed.c", _fixed_source(fixed_note, axes, tracks)),
        ]
        return further
    return [
        SourceFile("cc_current_float.h", _float_header(note)),
        SourceFile("cc_current_float.c", _float_source(note, gains, plant, loop_hz, tracks)),
        SourceFile("cc_current_fixed.h", _fixed_header(fixed_note, scales)),
        SourceFile("cc_current_fixed.c", _fixed_source(fixed_note, axes, tracks)),
        *further,
    ]


def _q24(share: float) -> int:
    """Return a share as 24 fractional bits, at least one count: at nought the integrator would stand still."""
    return max(round(share * (1 << 24)), 1)


def _float_header(note: str) -> str:
    return f"""/* {note} */
#ifndef CC_CURRENT_FLOAT_H
#define CC_CURRENT_FLOAT_H

/* Integrators in V. Set both to 0 before enabling. */
typedef struct {{ float int_d, int_q; }} cc_current_state;
typedef struct {{ float d, q; }} cc_dq;

/* One step. Currents in A and voltages in V, phase peaks in the rotor frame; omega_e electrical speed in rad/s (0 turns
 * decoupling off); psi flux linkage in Wb; v_limit longest vector in V (bus / sqrt(3)). Returns the voltage to set. */
cc_dq cc_current_step(cc_current_state *state, cc_dq reference, cc_dq current, float omega_e, float psi, float v_limit);

#endif
"""


def _float_source(
    note: str, gains: dict[str, float], plant: dict[str, float], loop_hz: float, tracks: tuple[float, float]
) -> str:
    return f"""/* {note} */
#include "cc_current_float.h"
#include <math.h>

#define KP_D {c_float(gains["kp_d"])} /* V/A */
#define KP_Q {c_float(gains["kp_q"])}
#define KI_TS_D {c_float(gains["ki_d"] / loop_hz)} /* V/A each sample at {loop_hz:g} Hz */
#define KI_TS_Q {c_float(gains["ki_q"] / loop_hz)}
#define TRACK_D {c_float(tracks[0])} /* share of the way each sample at the voltage limit */
#define TRACK_Q {c_float(tracks[1])}
#define LD {c_float(plant["inductance.ld"])} /* H */
#define LQ {c_float(plant["inductance.lq"])}

static float cc_clamp(float x, float most) {{ return x > most ? most : (x < -most ? -most : x); }}

cc_dq cc_current_step(cc_current_state *state, cc_dq reference, cc_dq current, float omega_e, float psi, float v_limit)
{{
    const float e_d = reference.d - current.d, e_q = reference.q - current.q;
    const float new_d = state->int_d + KI_TS_D * e_d, new_q = state->int_q + KI_TS_Q * e_q;
    const float v_d = KP_D * e_d + new_d - omega_e * LQ * current.q;
    const float v_q = KP_Q * e_q + new_q + omega_e * (LD * current.d + psi);
    cc_dq set;
    set.d = cc_clamp(v_d, v_limit);
    {{
        const float left = v_limit * v_limit - set.d * set.d;
        set.q = cc_clamp(v_q, left > 0.0f ? sqrtf(left) : 0.0f);
    }}
    /* at the limit the integrators follow what the limited voltage leaves for them: no wind-up, no creeping */
    if (set.d < v_d || set.d > v_d) state->int_d += TRACK_D * (KP_D * e_d + (set.d - v_d));
    else state->int_d = new_d;
    if (set.q < v_q || set.q > v_q) state->int_q += TRACK_Q * (KP_Q * e_q + (set.q - v_q));
    else state->int_q = new_q;
    return set;
}}
"""


def _fixed_header(note: str, scales: Scales) -> str:
    return f"""/* {note} */
#ifndef CC_CURRENT_FIXED_H
#define CC_CURRENT_FIXED_H
#include <stdint.h>

/* Full scale {scales.full} counts: {scales.i_base:g} A of current, {scales.v_base:g} V of voltage. */
#define CC_FIXED_FULL ({scales.full})
#define CC_FIXED_I_BASE_A ({c_float(scales.i_base)})
#define CC_FIXED_V_BASE_V ({c_float(scales.v_base)})

/* Integrators in counts of voltage with CC_FIXED_FRACTION fractional bits. Set both to 0 before enabling. */
#define CC_FIXED_FRACTION (30)
typedef struct {{ int64_t int_d, int_q; }} cc_fixed_state;
typedef struct {{ int32_t d, q; }} cc_fixed_dq;

/* One step. All in counts; feed is added to the output (decoupling and back-EMF, 0 for none); v_limit the longest vector.
 * Returns the voltage to set. */
cc_fixed_dq cc_fixed_step(cc_fixed_state *state, cc_fixed_dq reference, cc_fixed_dq current, cc_fixed_dq feed, int32_t v_limit);

#endif
"""


def _fixed_source(note: str, axes: dict[str, Forms], tracks: tuple[float, float]) -> str:
    def gains(axis: str) -> str:
        forms = axes[axis]
        upper = axis.upper()
        return (
            f"#define KP_{upper} ({forms.kp_q.integer}) /* >> {forms.kp_q.shift}: {forms.kp:.6g} V/A */\n"
            f"#define KP_{upper}_SHIFT ({forms.kp_q.shift})\n"
            f"#define KI_{upper} ({forms.ki_q.integer}) /* >> {forms.ki_q.shift}: {forms.ki:.6g} V/(A*s), sampling period inside */\n"
            f"#define KI_{upper}_SHIFT ({forms.ki_q.shift})\n"
        )

    return f"""/* {note} */
#include "cc_current_fixed.h"

{gains("d")}{gains("q")}#define TRACK_D ({_q24(tracks[0])}) /* >> 24: share of the way each sample at the voltage limit */
#define TRACK_Q ({_q24(tracks[1])})

static int64_t cc_clamp(int64_t x, int64_t most) {{ return x > most ? most : (x < -most ? -most : x); }}

/* Gain times error in counts with CC_FIXED_FRACTION fractional bits. */
static int64_t cc_product(int32_t gain, int32_t shift, int32_t error)
{{
    return (int64_t)gain * error * ((int64_t)1 << (CC_FIXED_FRACTION - shift));
}}

/* A share with 24 fractional bits; the value gives up its lowest 24 first, so that the product fits. */
static int64_t cc_share(int64_t value, int32_t share) {{ return value / 16777216 * share; }}

/* Whole square root, rounded down; bit by bit. */
static int64_t cc_root(int64_t x)
{{
    int64_t root = 0, bit = (int64_t)1 << 62;
    if (x <= 0) return 0;
    while (bit > x) bit >>= 2;
    while (bit != 0) {{
        if (x >= root + bit) {{ x -= root + bit; root = (root >> 1) + bit; }}
        else root >>= 1;
        bit >>= 2;
    }}
    return root;
}}

/* To whole counts, to the nearest; a division, because a right shift of a negative number is not portable. */
static int32_t cc_whole(int64_t x)
{{
    const int64_t one = (int64_t)1 << CC_FIXED_FRACTION, half = one / 2;
    return (int32_t)((x >= 0 ? x + half : x - half) / one);
}}

cc_fixed_dq cc_fixed_step(cc_fixed_state *state, cc_fixed_dq reference, cc_fixed_dq current, cc_fixed_dq feed, int32_t v_limit)
{{
    const int64_t one = (int64_t)1 << CC_FIXED_FRACTION;
    const int32_t e_d = reference.d - current.d, e_q = reference.q - current.q;
    const int64_t new_d = state->int_d + cc_product(KI_D, KI_D_SHIFT, e_d);
    const int64_t new_q = state->int_q + cc_product(KI_Q, KI_Q_SHIFT, e_q);
    const int64_t p_d = cc_product(KP_D, KP_D_SHIFT, e_d), p_q = cc_product(KP_Q, KP_Q_SHIFT, e_q);
    const int64_t v_d = p_d + new_d + feed.d * one, v_q = p_q + new_q + feed.q * one;
    const int64_t set_d = cc_clamp(v_d, v_limit * one);
    /* the circle with 14 fractional bits: a square then still fits 63 */
    const int64_t fine = (int64_t)1 << 14, longest = v_limit * fine, along = set_d / (one / fine);
    const int64_t set_q = cc_clamp(v_q, cc_root(longest * longest - along * along) * (one / fine));
    cc_fixed_dq set;
    set.d = cc_whole(set_d);
    set.q = cc_whole(set_q);
    /* at the limit the integrators follow what the limited voltage leaves for them: no wind-up, no creeping */
    state->int_d = set_d == v_d ? new_d : state->int_d + cc_share(p_d + (set_d - v_d), TRACK_D);
    state->int_q = set_q == v_q ? new_q : state->int_q + cc_share(p_q + (set_q - v_q), TRACK_Q);
    return set;
}}
"""
