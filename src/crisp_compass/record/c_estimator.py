"""The sensorless estimator as C source, in float and in integers, and injection in float: what the plant's firmware does (sensorless.estimator), step by step, and the start's rows."""

from __future__ import annotations

from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import need
from crisp_compass.course.sensorless import firmware_of, full_scale, settled_rows
from crisp_compass.record.c_estimator_fixed import bases, fixed_header, fixed_source
from crisp_compass.record.c_injection import injection_header, injection_source
from crisp_compass.record.start_rows import rows_c
from crisp_compass.safe_text import c_float
from crisp_compass.sensorless.estimator import FLUX, Estimator


def estimator_sources(bench: Bench, note: str) -> list[tuple[str, str]]:
    """Return name and text of the estimator's sources and the start's rows; raises Refusal where something is not settled."""
    _, o, injected = firmware_of(bench)
    rows = f"#ifndef CC_START_H\n#define CC_START_H\n\n{rows_c(settled_rows(bench), note)}\n#endif\n"
    found = [("cc_estimator.h", _header(note)), ("cc_estimator.c", _source(o, note))]
    if injected.volts > 0:  # which runs no rows
        found += [("cc_injection.h", injection_header(note)), ("cc_injection.c", injection_source(injected, o, note))]
    else:
        found.append(("cc_start.h", rows))
    v_base, i_base = bases(need(bench, "plate.v_bus"), full_scale(bench))
    return [
        *found,
        ("cc_estimator_fixed.h", fixed_header(note, v_base, i_base)),
        ("cc_estimator_fixed.c", fixed_source(o, note, v_base, i_base)),
    ]


def _header(note: str) -> str:
    return f"""/* {note} */
#ifndef CC_ESTIMATOR_H
#define CC_ESTIMATOR_H

/* Set it to 0 and spread to 1, and the currents to what is read, before the first step. Electrical radians, SI. */
typedef struct {{
    float i_alpha, i_beta, angle, speed, e_alpha, e_beta, offset_alpha, offset_beta, lag, spread, held, emf, out_angle;
    float flux_alpha, flux_beta, pair_re, pair_im, power, raw_alpha, raw_beta, since, i_d;
    int valid;
}} cc_estimator_state;

/* One step: the voltage commanded over the period that ends now in V, less what the legs lose, and the currents at its end in A. */
void cc_estimator_step(cc_estimator_state *s, float v_alpha, float v_beta, float i_alpha, float i_beta);
/* The same where something else tells the angle too: the share trust, 0 to 1, of its phase error moves the loop. */
void cc_estimator_step_trusting(cc_estimator_state *s, float v_alpha, float v_beta, float i_alpha, float i_beta, float trust);

#endif
"""


def _source(o: Estimator, note: str) -> str:
    share = o.filter * o.ts / (1.0 + o.filter * o.ts)
    catch = o.catch * o.ts / (1.0 + o.catch * o.ts)
    constants = {
        "TS": o.ts, "R": o.r, "LQ": o.lq, "SALIENCY": o.ld - o.lq, "PSI": o.psi, "KP_TS": o.kp * o.ts, "KI_TS": o.ki * o.ts, "SHARE": share, "SLOW": 0.25 * share,
        "PULL": min(o.correction * o.ts, 1.0), "CATCH": catch, "OFFSET_RATE": o.offset, "FLOOR_V": o.floor, "LENGTH": o.length, "SPREAD": o.spread, "HOLD": o.hold,
    }  # fmt: skip
    defines = "\n".join(f"#define {name} {c_float(value)}" for name, value in constants.items())
    flux = "1" if o.kind == FLUX else "0"
    return f"""/* {note} */
#include "cc_estimator.h"
#include <math.h>

{defines}
#define BY_FLUX {flux} /* 1: flux observer, 0: back-EMF observer */
#define PI_F 3.14159265f
#define TWO_PI_F 6.28318531f

static float wrapped(float angle) {{ return angle - TWO_PI_F * floorf(angle / TWO_PI_F + 0.5f); }}

void cc_estimator_step(cc_estimator_state *s, float v_alpha, float v_beta, float i_alpha, float i_beta)
{{
    cc_estimator_step_trusting(s, v_alpha, v_beta, i_alpha, i_beta, 1.0f);
}}

void cc_estimator_step_trusting(cc_estimator_state *s, float v_alpha, float v_beta, float i_alpha, float i_beta, float trust)
{{
    const float w = s->speed, turn = w * TS, ahead = s->angle + turn, half = 0.5f * turn;
    const float c = cosf(ahead), n = sinf(ahead), ch = cosf(half), sh = sinf(half);
    const float ct = ch * ch - sh * sh, st = 2.0f * sh * ch, sense = w >= 0.0f ? 1.0f : -1.0f;
    float change_a = TS * (v_alpha - s->offset_alpha - 0.5f * R * (i_alpha + s->i_alpha)) - LQ * (i_alpha - s->i_alpha);
    float change_b = TS * (v_beta - s->offset_beta - 0.5f * R * (i_beta + s->i_beta)) - LQ * (i_beta - s->i_beta);
    const float i_d = i_alpha * c + i_beta * n, grown = SALIENCY * (i_d - s->i_d);
    float error, weight, uneven = 0.0f, expected, slack, ratio, half_sinc;
    int good;
#if BY_FLUX
    const float whole_a = change_a, whole_b = change_b;
#endif
    change_a -= grown * c;
    change_b -= grown * n;
    s->i_alpha = i_alpha; s->i_beta = i_beta; s->i_d = i_d;
    {{
        const float raw_a = change_a / TS, raw_b = change_b / TS;
        const float ea = s->e_alpha * ct - s->e_beta * st, eb = s->e_alpha * st + s->e_beta * ct;
        s->e_alpha = ea + SHARE * (raw_a - ea);
        s->e_beta = eb + SHARE * (raw_b - eb);
        s->pair_re += SLOW * (raw_a * s->raw_alpha + raw_b * s->raw_beta - s->pair_re);
        s->pair_im += SLOW * (raw_b * s->raw_alpha - raw_a * s->raw_beta - s->pair_im);
        s->power += SLOW * (raw_a * raw_a + raw_b * raw_b - s->power);
        s->raw_alpha = raw_a; s->raw_beta = raw_b;
    }}
    {{
        const float ea = s->e_alpha, eb = s->e_beta, size = sqrtf(ea * ea + eb * eb);
        const float ua = -sense * (n * ch - c * sh), ub = sense * (c * ch + n * sh);
#if !BY_FLUX
        const float along = ea * ua + eb * ub, across = eb * ua - ea * ub;
#else
        (void)ua; (void)ub;
#endif
#if BY_FLUX
        {{
            float fa = s->flux_alpha + whole_a, fb = s->flux_beta + whole_b;
            const float length = sqrtf(fa * fa + fb * fb), wanted = PSI + SALIENCY * i_d;
            if (length > 0.0f) {{
                const float pull = PULL * (wanted / length - 1.0f);
                uneven = wanted > 0.0f ? length / wanted - 1.0f : 1.0f;
                if (s->spread <= SPREAD * SPREAD) {{
                    s->offset_alpha -= OFFSET_RATE * fabsf(w) * pull * fa;
                    s->offset_beta -= OFFSET_RATE * fabsf(w) * pull * fb;
                }}
                fa += pull * fa;
                fb += pull * fb;
            }}
            s->flux_alpha = fa; s->flux_beta = fb;
            error = atan2f(fb * c - fa * n, fa * c + fb * n);
        }}
#else
        error = atan2f(across, along);
#endif
        weight = trust * (size < FLOOR_V ? size / FLOOR_V : 1.0f);
        s->speed = w + KI_TS * error * weight;
        s->angle = wrapped(ahead + KP_TS * error * weight);
        s->lag += CATCH * (error * weight - s->lag);
        if (uneven * uneven > 1.0f) uneven = 1.0f;
        s->spread += 0.5f * SLOW * (error * error + uneven * uneven - s->spread);
        half_sinc = fabsf(half) < 1.5f ? 1.0f - half * half * (1.0f / 6.0f - half * half / 120.0f) : 0.665f;
        s->emf = size / half_sinc - fabsf(w) * SALIENCY * i_d;
        expected = PSI * fabsf(w);
        slack = s->valid ? 1.5f : 1.0f;
        ratio = expected > 0.0f ? s->emf / expected : 0.0f;
        good = s->emf * slack >= FLOOR_V && fabsf(ratio - 1.0f) <= LENGTH * slack && s->spread <= SPREAD * slack * SPREAD * slack && fabsf(w) * TS < 1.5f;
        if (good && s->held * w >= 0.0f) s->held += w * TS;
        else s->held = 0.0f;
        s->valid = good && (s->valid || fabsf(s->held) >= HOLD);
#if !BY_FLUX
        if (good && s->spread <= SPREAD * SPREAD) {{
            s->offset_alpha += OFFSET_RATE * fabsf(w) * TS * (s->raw_alpha - along * ua);
            s->offset_beta += OFFSET_RATE * fabsf(w) * TS * (s->raw_beta - along * ub);
        }}
#endif
    }}
    s->out_angle = wrapped(s->angle + s->lag);
    s->since += 1.0f;
    /* lost, but the voltage turns evenly: take angle and speed from it */
    if (!good && trust == 1.0f && s->since > 8.0f / SLOW && s->spread > 0.3f && s->power > FLOOR_V * FLOOR_V
        && sqrtf(s->pair_re * s->pair_re + s->pair_im * s->pair_im) > 0.7f * s->power) {{
        s->speed = atan2f(s->pair_im, s->pair_re) / TS;
        s->angle = wrapped(atan2f(s->raw_beta, s->raw_alpha) - (s->speed >= 0.0f ? 0.5f : -0.5f) * PI_F + 0.5f * s->speed * TS);
        s->e_alpha = s->raw_alpha; s->e_beta = s->raw_beta;
        s->flux_alpha = PSI * cosf(s->angle); s->flux_beta = PSI * sinf(s->angle);
        s->lag = s->since = 0.0f;
    }}
}}
"""
