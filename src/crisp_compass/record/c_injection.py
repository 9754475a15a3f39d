"""Injection at standstill as C source in float: what the plant's firmware does (sensorless.injection), step by step."""

from __future__ import annotations

from crisp_compass.safe_text import c_float
from crisp_compass.sensorless.estimator import Estimator
from crisp_compass.sensorless.injection import KNOWN_ALREADY, POLE_SURE, SLACK, Injected


def injection_header(note: str) -> str:
    """Return the header of the injection."""
    return f"""/* {note} */
#ifndef CC_INJECTION_H
#define CC_INJECTION_H

#include "cc_estimator.h"

/* Set it to 0 before the first step, then seek. SI, electrical radians. */
typedef struct {{
    float v1_alpha, v1_beta, v2_alpha, v2_beta, d1_alpha, d1_beta, d2_alpha, d2_beta, across, spread, held;
    float pole_count, pole_sum, pole_squares, pole_mean, pole_doubt, sign;
    int valid;
}} cc_injection_state;

/* Part of the angle that injection tells, 1 to 0, once the loop is closed; before that it is 1. Give 1 less this as trust to cc_estimator_step_trusting, then track. Inject while it is above 0. */
float cc_injection_share(const cc_estimator_state *s);
/* Begin to look for an axis of which nothing is known. */
void cc_injection_seek(cc_injection_state *j);
/* One period: voltage over it in V, less what the legs lose, change of the currents in A; after cc_estimator_step_trusting. The loops get the mean of the last two currents. */
void cc_injection_track(cc_injection_state *j, cc_estimator_state *s, float v_alpha, float v_beta, float step_alpha, float step_beta, float share);
/* The voltage to add along d in the coming period, V: one sign after the other. */
float cc_injection_voltage(cc_injection_state *j);
/* Pole: count while a current stands along the axis (first 1), then against it (first 0). Then decide: 1 the same, -1 half a turn on, 0 not told. */
void cc_injection_count(cc_injection_state *j);
void cc_injection_keep(cc_injection_state *j);
int cc_injection_decide(cc_injection_state *j, cc_estimator_state *s);

#endif
"""


def injection_source(j: Injected, o: Estimator, note: str) -> str:
    """Return the source of the injection ``j`` beside the estimator ``o``."""
    constants = {
        "TS": o.ts, "VOLTS": j.volts, "MEAN_Y": j.mean, "HALF_Y": j.half, "KP_TS": 2 * j.natural * o.ts, "KI_TS": j.natural**2 * o.ts, "SLOW": min(0.5 * j.natural * o.ts, 1.0),
        "QUICK": min(4 * j.natural * o.ts, 1.0), "FADES": j.fades, "GONE": j.gone, "SPREAD": j.spread, "SLACK": SLACK, "SETTLE": j.settle, "POLE_SURE": POLE_SURE, "PSI": o.psi,
        "KNOWN_TURN": KNOWN_ALREADY * o.hold,
    }  # fmt: skip
    defines = "\n".join(f"#define {name} {c_float(value)}" for name, value in constants.items())
    return f"""/* {note} */
#include "cc_injection.h"
#include <math.h>

{defines}
#define PI_F 3.14159265f
#define TWO_PI_F 6.28318531f

static float wrapped(float angle) {{ return angle - TWO_PI_F * floorf(angle / TWO_PI_F + 0.5f); }}
static float square(float x) {{ return x * x; }}

float cc_injection_share(const cc_estimator_state *s)
{{
    const float w = fabsf(s->speed);
    float share = (GONE - w) / (GONE - FADES);
    if (share > 1.0f) share = 1.0f;
    if (share < 0.0f) share = 0.0f;
    if (!s->valid && w < 4.0f * GONE && share < 0.2f) share = 0.2f;
    return share;
}}

void cc_injection_seek(cc_injection_state *j)
{{
    j->across = 0.0f; j->spread = 0.5f; j->held = 0.0f; j->valid = 0;
}}

void cc_injection_track(cc_injection_state *j, cc_estimator_state *s, float v_alpha, float v_beta, float step_alpha, float step_beta, float share)
{{
    const float va = 0.25f * (v_alpha - 2.0f * j->v1_alpha + j->v2_alpha), vb = 0.25f * (v_beta - 2.0f * j->v1_beta + j->v2_beta);
    const float da = 0.25f * (step_alpha - 2.0f * j->d1_alpha + j->d2_alpha), db = 0.25f * (step_beta - 2.0f * j->d1_beta + j->d2_beta);
    const float power = va * va + vb * vb;
    j->v2_alpha = j->v1_alpha; j->v2_beta = j->v1_beta; j->v1_alpha = v_alpha; j->v1_beta = v_beta;
    j->d2_alpha = j->d1_alpha; j->d2_beta = j->d1_beta; j->d1_alpha = step_alpha; j->d1_beta = step_beta;
    if (power < 0.0625f * VOLTS * VOLTS) {{
        j->spread += SLOW * (0.5f - j->spread);
        if (j->spread > square(sinf(2.0f * SLACK * SPREAD))) {{
            j->held = 0.0f; j->valid = 0;
        }}
    }} else {{
        const float scale = 1.0f / (TS * HALF_Y * power), ra = da - TS * MEAN_Y * va, rb = db - TS * MEAN_Y * vb;
        const float re = scale * (ra * va - rb * vb), im = scale * (ra * vb + rb * va);
        const float twice = 2.0f * (s->angle - 1.5f * TS * s->speed), across = im * cosf(twice) - re * sinf(twice);
        const float clipped = across > 1.0f ? 1.0f : across < -1.0f ? -1.0f : across, error = 0.5f * clipped;
        const float taken = (da * va + db * vb) / (TS * power);
        s->speed += share * KI_TS * error;
        s->angle = wrapped(s->angle + share * KP_TS * error);
        s->out_angle = wrapped(s->angle + s->lag);
        j->across += QUICK * (across - j->across);
        j->spread += SLOW * (j->across * j->across - j->spread);
        if (j->spread <= square(sinf(2.0f * (j->valid ? SLACK : 1.0f) * SPREAD))) {{
            j->held += TS;
            j->valid = j->valid || j->held >= SETTLE;
        }} else {{
            j->held = 0.0f; j->valid = 0;
        }}
        if (share == 1.0f && j->valid) {{
            s->flux_alpha = PSI * cosf(s->angle); s->flux_beta = PSI * sinf(s->angle);
        }}
        j->pole_count += 1.0f;
        j->pole_sum += taken;
        j->pole_squares += taken * taken;
    }}
    if (j->valid && fabsf(s->held) >= KNOWN_TURN) s->valid = 1;
    if (share == 0.0f) {{ /* the back-EMF tells the angle: once injection begins, the axis counts as found until it is seen not to be */
        j->across = j->spread = 0.0f; j->held = SETTLE; j->valid = 0;
    }}
}}

float cc_injection_voltage(cc_injection_state *j)
{{
    j->sign = j->sign <= 0.0f ? 1.0f : -1.0f;
    return j->sign * VOLTS;
}}

void cc_injection_count(cc_injection_state *j)
{{
    j->pole_count = j->pole_sum = j->pole_squares = 0.0f;
}}

static float counted(const cc_injection_state *j, float *doubt)
{{
    const float n = j->pole_count > 1.0f ? j->pole_count : 1.0f, mean = j->pole_sum / n, variance = j->pole_squares / n - mean * mean;
    *doubt = (variance > 0.0f ? variance : 0.0f) / n;
    return mean;
}}

void cc_injection_keep(cc_injection_state *j)
{{
    j->pole_mean = counted(j, &j->pole_doubt);
}}

int cc_injection_decide(cc_injection_state *j, cc_estimator_state *s)
{{
    float doubt;
    const float back = counted(j, &doubt), there = j->pole_mean;
    if (fabsf(there - back) < POLE_SURE * sqrtf(j->pole_doubt + doubt)) return 0;
    if (back > there) s->angle = wrapped(s->angle + PI_F);
    s->lag = 0.0f; s->out_angle = s->angle;
    s->flux_alpha = PSI * cosf(s->angle); s->flux_beta = PSI * sinf(s->angle);
    return back > there ? -1 : 1;
}}
"""
