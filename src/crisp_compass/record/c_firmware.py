"""Block commutation and indirect field orientation as C source, in float: what the plant's firmware does
(plant.control.block, plant.control.rotor_field), step by step."""

from __future__ import annotations

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need
from crisp_compass.course.block import in_blocks
from crisp_compass.course.drive import build_drive
from crisp_compass.course.sensorless import without_sensor
from crisp_compass.motor import family_of, pole_pairs_of
from crisp_compass.plant.parameters import Control
from crisp_compass.record.c_estimator import estimator_sources
from crisp_compass.safe_text import c_float


def firmware_sources(bench: Bench, note: str) -> list[tuple[str, str]]:
    """Return name and text of the further sources that this motor's firmware needs; none for field orientation on magnets.

    Raises Refusal where something is not settled.
    """
    if family_of(bench).own_circuit:
        return _rotor(bench, note)
    if without_sensor(bench):
        return estimator_sources(bench, note)
    return _block(bench, note) if in_blocks(bench) else []


def _gains(c: Control) -> str:
    return f"""#define KP_Q {c_float(c.kp_q)} /* V/A, of one phase */
#define KI_TS_Q {c_float(c.ki_q * c.ts)} /* V/A each sample at {1 / c.ts:g} Hz */
#define TRACK_Q {c_float(c.track_q)} /* share of the way each sample at the voltage limit */
"""


def _block(bench: Bench, note: str) -> list[tuple[str, str]]:
    c = build_drive(bench).control
    header = f"""/* {note} */
#ifndef CC_BLOCK_H
#define CC_BLOCK_H

/* Integrator in V. Set it to 0 before enabling. */
typedef struct {{ float integrator; }} cc_block_state;
/* Legs 0 A, 1 B, 2 C: the voltage stands from high to low, the third leg is off. */
typedef struct {{ float volts; int high, low; }} cc_block_out;

/* One step. reference in A through two phases; current[3] of the legs in A, into the motor; angle of the rotor's flux from phase A and
 * omega_e in electrical rad and rad/s; v_bus in V. */
cc_block_out cc_block_step(cc_block_state *state, float reference, const float current[3], float angle, float omega_e, float v_bus);

#endif
"""
    source = f"""/* {note} */
#include "cc_block.h"
#include <math.h>

{_gains(c)}#define ADVANCE {c_float(c.advance)} /* rad, electrical */
#define HALF_EMF {c_float(0.5 * 3**0.5 * c.psi * c.decouple)} /* V per electrical rad/s: half of what two phases induce */
#define THIRD_OF_PI (1.047197551f)
#define SIXTH_OF_PI (0.5235987756f)

cc_block_out cc_block_step(cc_block_state *state, float reference, const float current[3], float angle, float omega_e, float v_bus)
{{
    const float ahead = angle + (omega_e >= 0.0f ? ADVANCE : -ADVANCE);
    const int turned = ((int)floorf((ahead + SIXTH_OF_PI) / THIRD_OF_PI) + 1) % 6;
    const int step = turned < 0 ? turned + 6 : turned;
    cc_block_out out;
    out.high = (step + 1) % 6 / 2;
    out.low = (step + 4) % 6 / 2;
    {{
        const float error = reference - current[out.high], limit = 0.5f * v_bus;
        const float fresh = state->integrator + KI_TS_Q * error;
        const float want = KP_Q * error + fresh + HALF_EMF * omega_e;
        const float set = want > limit ? limit : (want < -limit ? -limit : want);
        if (set < want || set > want) state->integrator += TRACK_Q * (KP_Q * error + (set - want));
        else state->integrator = fresh;
        out.volts = 2.0f * set;
    }}
    return out;
}}
"""
    return [("cc_block.h", header), ("cc_block.c", source)]


def _rotor(bench: Bench, note: str) -> list[tuple[str, str]]:
    c = build_drive(bench).control
    need(bench, "current_loop.kp_q")  # volts per hertz has no current controller
    header = f"""/* {note} */
#ifndef CC_ROTOR_H
#define CC_ROTOR_H

/* Integrators in V, flux in Wb, slip in rad/s and its angle in rad; i_q_low and i_q_high [A] are what voltage and current limit leave for
 * torque: the limits of the speed loop's output and integrator. Set all to 0 before enabling; ask for no torque before flux has
 * reached nine tenths of LM times the magnetizing current. */
typedef struct {{ float int_d, int_q, flux, slip, angle, i_q_low, i_q_high; }} cc_rotor_state;
typedef struct {{ float alpha, beta; }} cc_rotor_ab;

/* One step of indirect field orientation for {pole_pairs_of(bench.settings.plate)} pole pairs. i_q in A peak, held to the limits above; current in A; angle and omega_e the shaft's, electrical rad
 * and rad/s; v_limit the longest vector in V (bus / sqrt(3)). Returns the voltage to set, turned on by the delay of the loop. */
cc_rotor_ab cc_rotor_step(cc_rotor_state *state, float i_q, cc_rotor_ab current, float angle, float omega_e, float v_limit);

#endif
"""
    source = f"""/* {note} */
#include "cc_rotor.h"
#include <math.h>

#define KP_D {c_float(c.kp_d)} /* V/A */
#define KI_TS_D {c_float(c.ki_d * c.ts)}
#define TRACK_D {c_float(c.track_d)}
{_gains(c)}#define LEAKAGE {c_float(c.lq)} /* H */
#define LM {c_float(c.lm)} /* H */
#define ROTOR_RATE {c_float(c.rotor_rate)} /* 1/s: one over the rotor time constant */
#define FLUX_SHARE {c_float(1 - 2.718281828459045 ** (-c.rotor_rate * c.ts))} /* of the way each sample */
#define I_FLUX {c_float(c.i_flux)} /* A peak */
#define I_LIMIT {c_float(c.i_limit)} /* A peak */
#define R_STATOR {c_float(c.r)} /* ohm */
#define R_ROTOR {c_float(c.rotor_rate * c.lm)} /* ohm */
#define FLUX_SHARE_OF_V {c_float(c.flux_share)} /* of the voltage; a flux that would take more is weakened as one over the speed */
#define TS {c_float(c.ts)} /* s */
#define DELAY {c_float(c.delay_samples * c.ts)} /* s */
#define TWO_PI (6.283185307f)

static float cc_clamp(float x, float most) {{ return x > most ? most : (x < -most ? -most : x); }}

static float cc_flux_current(float speed, float flux, float v_limit)
{{
    const float most = FLUX_SHARE_OF_V * v_limit / (LM + LEAKAGE), left = v_limit - speed * flux;
    float i_d = most > 0.0f && most < speed * I_FLUX ? most / speed : I_FLUX;
    if (speed * LEAKAGE * i_d > left) {{
        i_d = left / (speed * LEAKAGE); /* the bus sagged: the flux goes by what the leakage lets through, the shaft is not braked */
        if (i_d < -I_LIMIT) i_d = -I_LIMIT;
    }}
    return i_d;
}}

/* The circle (R i_d - w Ls i_q)^2 + ((R + RR) i_q + w Ls i_d + w_r flux)^2 = v^2, solved for i_q; zero always lies between. */
static void cc_torque_limits(cc_rotor_state *state, float i_d, float omega_e, float turning, float v)
{{
    const float reach = turning * LEAKAGE, whole = R_STATOR + R_ROTOR, emf = reach * i_d + omega_e * state->flux;
    const float a = reach * reach + whole * whole, half = whole * emf - reach * R_STATOR * i_d;
    const float rest = half * half - a * (R_STATOR * R_STATOR * i_d * i_d + emf * emf - v * v);
    const float spread = rest > 0.0f ? sqrtf(rest) : 0.0f, current = I_LIMIT * I_LIMIT - i_d * i_d;
    const float most = current > 0.0f ? sqrtf(current) : 0.0f;
    const float low = (-half - spread) / a, high = (-half + spread) / a;
    state->i_q_low = low > 0.0f ? 0.0f : (low < -most ? -most : low);
    state->i_q_high = high < 0.0f ? 0.0f : (high > most ? most : high);
}}

/* One axis: returns the voltage within the limit, and moves the integrator. */
static float cc_axis(float *integrator, float kp, float ki_ts, float track, float error, float feed, float limit)
{{
    const float fresh = *integrator + ki_ts * error, want = kp * error + fresh + feed, set = cc_clamp(want, limit);
    if (set < want || set > want) *integrator += track * (kp * error + (set - want));
    else *integrator = fresh;
    return set;
}}

cc_rotor_ab cc_rotor_step(cc_rotor_state *state, float i_q, cc_rotor_ab current, float angle, float omega_e, float v_limit)
{{
    const float i_d = cc_flux_current(fabsf(omega_e), state->flux, v_limit), least = 0.05f * LM * I_FLUX;
    float at, c, s, is_d, is_q, turning, feed_d, feed_q, left;
    cc_rotor_ab set, out;
    state->angle = fmodf(state->angle + state->slip * TS, TWO_PI);
    at = angle + state->angle;
    c = cosf(at);
    s = sinf(at);
    is_d = current.alpha * c + current.beta * s;
    is_q = current.beta * c - current.alpha * s;
    state->flux += FLUX_SHARE * (LM * is_d - state->flux);
    turning = omega_e + state->slip;
    feed_d = -turning * LEAKAGE * is_q - ROTOR_RATE * state->flux;
    feed_q = turning * LEAKAGE * is_d + omega_e * state->flux;
    cc_torque_limits(state, i_d, omega_e, turning, v_limit);
    if (i_q < state->i_q_low) i_q = state->i_q_low;
    if (i_q > state->i_q_high) i_q = state->i_q_high;
    if (fabsf(omega_e) * state->flux > v_limit) {{ /* the flux induces more than there is: the voltage belongs against it */
        set.beta = cc_axis(&state->int_q, KP_Q, KI_TS_Q, TRACK_Q, i_q - is_q, feed_q, v_limit);
        left = v_limit * v_limit - set.beta * set.beta;
        set.alpha = cc_axis(&state->int_d, KP_D, KI_TS_D, TRACK_D, i_d - is_d, feed_d, left > 0.0f ? sqrtf(left) : 0.0f);
    }} else {{
        set.alpha = cc_axis(&state->int_d, KP_D, KI_TS_D, TRACK_D, i_d - is_d, feed_d, v_limit);
        left = v_limit * v_limit - set.alpha * set.alpha;
        set.beta = cc_axis(&state->int_q, KP_Q, KI_TS_Q, TRACK_Q, i_q - is_q, feed_q, left > 0.0f ? sqrtf(left) : 0.0f);
    }}
    /* by the current as it flows: a reference that cannot be reached would turn the frame away from the flux */
    state->slip = ROTOR_RATE * LM * is_q / (state->flux > least ? state->flux : least);
    c = cosf(at + DELAY * turning);
    s = sinf(at + DELAY * turning);
    out.alpha = set.alpha * c - set.beta * s;
    out.beta = set.alpha * s + set.beta * c;
    return out;
}}
"""
    return [("cc_rotor.h", header), ("cc_rotor.c", source)]
