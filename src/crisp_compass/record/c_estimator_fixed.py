"""The estimators as C in 32-bit integers with 64-bit products: voltages and currents as parts of a base in Q24, angles as 2³² a turn.

Sine, cosine, length and angle come from one rotation by shifts and additions (J. E. Volder, The CORDIC Trigonometric Computing Technique, IRE Trans.
Electron. Comput. EC-8, 1959).
"""

from __future__ import annotations

import math

from crisp_compass.sensorless.estimator import FLUX, Estimator

_STEPS = 26
_Q = 24


def _power(value: float) -> float:
    """Return the power of two at or above a value: the base of a fixed-point number."""
    return 2.0 ** math.ceil(math.log2(max(value, 1e-6)))


def fixed_header(note: str, v_base: float, i_base: float) -> str:
    """Return the header; ``v_base`` [V] and ``i_base`` [A] are what 2²⁴ counts stand for."""
    return f"""/* {note} */
#ifndef CC_ESTIMATOR_FIXED_H
#define CC_ESTIMATOR_FIXED_H
#include <stdint.h>

/* 2^24 counts stand for {v_base:g} V and {i_base:g} A; 2^32 counts are an electrical turn. */
typedef struct {{
    int32_t i_alpha, i_beta, speed, e_alpha, e_beta, offset_alpha, offset_beta, lag, emf, i_d, raw_alpha, raw_beta;
    int64_t spread, held, pair_re, pair_im, power, speed_rest, lag_rest, flux_alpha, flux_beta, offset_rest_a, offset_rest_b;
    uint32_t angle, out_angle, since;
    int valid;
}} cc_estimator_fixed_state;

/* Set the state to 0 and spread to CC_SPREAD_LOST, and the currents to what is read, before the first step. */
#define CC_SPREAD_LOST ((int64_t)1 << 40)
void cc_estimator_fixed_step(cc_estimator_fixed_state *s, int32_t v_alpha, int32_t v_beta, int32_t i_alpha, int32_t i_beta);

#endif
"""


def bases(v_bus: float, full_scale: float) -> tuple[float, float]:
    """Return the bases of voltage [V] and current [A]: powers of two above the link's voltage and the sensors' full scale."""
    return _power(v_bus), _power(full_scale)


def fixed_source(o: Estimator, note: str, v_base: float, i_base: float) -> str:
    """Return the source; every step is that of the float one, with shares and gains in Q30."""
    one = 1 << 30
    share = o.filter * o.ts / (1 + o.filter * o.ts)
    catch = o.catch * o.ts / (1 + o.catch * o.ts)
    turn = 2 * math.pi
    constants = {
        "K_R": round(0.5 * o.r * i_base / v_base * (1 << _Q)),
        "K_L": round(o.lq / o.ts * i_base / v_base * (1 << _Q)),
        "K_S": round((o.ld - o.lq) / o.ts * i_base / v_base * (1 << _Q)),
        "SHARE": round(share * one),
        "SLOW": round(0.25 * share * one),
        "KP_TS": round(o.kp * o.ts * one),
        "KI_TS2": round(o.ki * o.ts * o.ts * (1 << 40)),
        "CATCH": round(catch * one),
        "OFFSET": round(o.offset * turn * one),
        "FLOOR_V": max(round(o.floor / v_base * (1 << _Q)), 1),
        "PSI": round(o.psi * turn / o.ts / v_base * (1 << _Q)),
        "LENGTH": round(o.length * one),
        # spread is a mean square of parts of a turn, in 2⁻⁴⁰
        "SPREAD": round((o.spread / turn) ** 2 * 2**40),
        "HOLD": round(o.hold / turn * 2**32),
    }
    if o.kind == FLUX:
        # a flux is counted in the base's voltage over one period
        constants |= {
            "PSI_F": round(o.psi / o.ts / v_base * (1 << _Q)),
            "PULL": round(min(o.correction * o.ts, 1.0) * one),
        }
    defines = "\n".join(f"#define {name} {value}LL" for name, value in constants.items())
    atan = ", ".join(str(round(math.atan(2.0**-k) / turn * 2**32)) for k in range(_STEPS))
    gain = math.prod(1 / math.sqrt(1 + 4.0**-k) for k in range(_STEPS))
    most = round(1.5 / turn * 2**32)
    return f"""/* {note} */
#include "cc_estimator_fixed.h"

{defines}
#define BY_FLUX {int(o.kind == FLUX)} /* 1: flux observer, 0: back-EMF observer */
#define MOST_SPEED {most}LL /* 1.5 rad a period */
#define LOST_AFTER {round(8 / max(0.25 * share, 1e-6))}u
#define LOST_SPREAD {round(0.3 / turn**2 * 2**40)}LL
#define GAIN {round(gain * one)}LL /* 1 over the length's growth in a rotation */
static const int32_t ATAN[{_STEPS}] = {{ {atan} }};

static int32_t times(int64_t a, int64_t q30) {{ return (int32_t)((a * q30) >> 30); }}

/* Turn (x, y) by an angle. */
static void turned(int32_t *x, int32_t *y, uint32_t by)
{{
    int64_t a = *x, b = *y, c;
    int32_t left = (int32_t)by;
    int k;
    if (left > 1073741824 || left < -1073741824) {{ a = -a; b = -b; left = (int32_t)(by + 2147483648u); }}
    a <<= 6; b <<= 6;
    for (k = 0; k < {_STEPS}; k++) {{
        const int64_t da = b >> k, db = a >> k;
        if (left >= 0) {{ c = a - da; b += db; left -= ATAN[k]; }}
        else {{ c = a + da; b -= db; left += ATAN[k]; }}
        a = c;
    }}
    *x = (int32_t)((a * GAIN) >> 36);
    *y = (int32_t)((b * GAIN) >> 36);
}}

/* Length and angle of (x, y). */
static int32_t polar(int64_t a, int64_t b, int32_t *angle)
{{
    uint32_t sum = 0u;
    int64_t c;
    int k;
    if (a < 0) {{ a = -a; b = -b; sum = 2147483648u; }}
    a <<= 6; b <<= 6;
    for (k = 0; k < {_STEPS}; k++) {{
        const int64_t da = b >> k, db = a >> k;
        if (b >= 0) {{ c = a + da; b -= db; sum += (uint32_t)ATAN[k]; }}
        else {{ c = a - da; b += db; sum -= (uint32_t)ATAN[k]; }}
        a = c;
    }}
    *angle = (int32_t)sum;
    return (int32_t)((a * GAIN) >> 36);
}}

void cc_estimator_fixed_step(cc_estimator_fixed_state *s, int32_t v_alpha, int32_t v_beta, int32_t i_alpha, int32_t i_beta)
{{
    const int32_t w = s->speed;
    const int64_t size_of_w = w < 0 ? -(int64_t)w : w;
    const uint32_t ahead = s->angle + (uint32_t)w;
    int32_t raw_a, raw_b, i_d = i_alpha, i_q = i_beta, x, y, size, error, weight;
    int64_t expected, off, slack, uneven = 0;
    int good;
#if BY_FLUX
    int32_t whole_a, whole_b;
#endif
    turned(&i_d, &i_q, 0u - ahead);
    raw_a = v_alpha - s->offset_alpha - (int32_t)((K_R * ((int64_t)i_alpha + s->i_alpha) + K_L * ((int64_t)i_alpha - s->i_alpha)) >> {_Q});
    raw_b = v_beta - s->offset_beta - (int32_t)((K_R * ((int64_t)i_beta + s->i_beta) + K_L * ((int64_t)i_beta - s->i_beta)) >> {_Q});
#if BY_FLUX
    whole_a = raw_a; whole_b = raw_b;
#endif
    x = (int32_t)((K_S * ((int64_t)i_d - s->i_d)) >> {_Q}); y = 0;
    turned(&x, &y, ahead);
    raw_a -= x; raw_b -= y;
    s->i_alpha = i_alpha; s->i_beta = i_beta; s->i_d = i_d;
    x = s->e_alpha; y = s->e_beta;
    turned(&x, &y, (uint32_t)w);
    s->e_alpha = x + times((int64_t)raw_a - x, SHARE);
    s->e_beta = y + times((int64_t)raw_b - y, SHARE);
    {{
        const int64_t re = (int64_t)raw_a * s->raw_alpha + (int64_t)raw_b * s->raw_beta, im = (int64_t)raw_b * s->raw_alpha - (int64_t)raw_a * s->raw_beta;
        const int64_t power = (int64_t)raw_a * raw_a + (int64_t)raw_b * raw_b;
        s->pair_re += (((re - s->pair_re) >> 15) * SLOW) >> 15;
        s->pair_im += (((im - s->pair_im) >> 15) * SLOW) >> 15;
        s->power += (((power - s->power) >> 15) * SLOW) >> 15;
    }}
    s->raw_alpha = raw_a; s->raw_beta = raw_b;
    /* the back-EMF seen from where it should point: a quarter turn from the rotor's place in the middle of the period */
    x = s->e_alpha; y = s->e_beta;
    turned(&x, &y, 0u - (ahead - (uint32_t)(w / 2) + (w >= 0 ? 1073741824u : 3221225472u)));
    size = polar(x, y, &error);
#if BY_FLUX
    {{
        int64_t fa = s->flux_alpha + whole_a, fb = s->flux_beta + whole_b;
        int32_t at;
        const int64_t length = (int64_t)polar(fa >> 4, fb >> 4, &at) << 4, wanted = PSI_F + ((K_S * i_d) >> {_Q});
        if (length > 0) {{
            int64_t ratio = wanted > 0 ? ((wanted - length) << 20) / length : 0;
            int64_t pull;
            if (ratio > (16LL << 20)) ratio = 16LL << 20;
            pull = (PULL * ratio) >> 20;
            uneven = wanted > 0 ? ((length - wanted) << 20) / wanted : 1LL << 20;
            if (s->spread <= SPREAD) {{
                const int64_t rate = (OFFSET * size_of_w) >> 32;
                const int64_t sa = s->offset_rest_a - ((fa * pull) >> 30) * rate, sb = s->offset_rest_b - ((fb * pull) >> 30) * rate;
                s->offset_alpha += (int32_t)(sa >> 30); s->offset_rest_a = sa & 1073741823LL;
                s->offset_beta += (int32_t)(sb >> 30); s->offset_rest_b = sb & 1073741823LL;
            }}
            fa += (fa * pull) >> 30;
            fb += (fb * pull) >> 30;
        }}
        s->flux_alpha = fa; s->flux_beta = fb;
        error = (int32_t)((uint32_t)at - ahead);
    }}
#endif
    weight = size < FLOOR_V ? (int32_t)(((int64_t)size << 30) / FLOOR_V) : 1073741824;
    {{
        const int64_t weighted = times(error, weight);
        const int64_t sum = weighted * KI_TS2 + s->speed_rest;
        s->speed = w + (int32_t)(sum >> 40);
        s->speed_rest = sum & (((int64_t)1 << 40) - 1);
        s->angle = ahead + (uint32_t)times(weighted, KP_TS);
        {{
            const int64_t lag = (weighted - s->lag) * CATCH + s->lag_rest;
            s->lag += (int32_t)(lag >> 30);
            s->lag_rest = lag & (((int64_t)1 << 30) - 1);
        }}
    }}
    s->out_angle = s->angle + (uint32_t)s->lag;
    {{
        const int64_t part = error >> 12; /* 2^20 a turn */
        if (uneven > 1048576) uneven = 1048576;
        if (uneven < -1048576) uneven = -1048576;
        uneven = uneven * 10000 / 62832; /* as a part of a turn */
        s->spread += ((((part * part + uneven * uneven) - s->spread) >> 10) * (SLOW >> 1)) >> 20;
    }}
    {{
        /* sin(x)/x of half the turn, 1 - x^2/6, in Q30 */
        const int64_t half = ((int64_t)w * 3373259426LL) >> 32; /* rad, in 2^-30: w/2^32 * 2 pi / 2 */
        const int64_t square = (half * half) >> 30;
        const int64_t sinc = 1073741824LL - square / 6 + ((square * square) >> 30) / 120;
        const int64_t saliency = ((K_S * s->i_d) >> {_Q}) * size_of_w; /* over 2^32 a turn */
        s->emf = (int32_t)(((int64_t)size << 30) / sinc) - (int32_t)((saliency >> 20) * 6434LL >> 22);
    }}
    expected = (PSI * size_of_w) >> 32;
    off = (int64_t)s->emf - expected;
    if (off < 0) off = -off;
    slack = s->valid ? 3 : 2;
    good = (int64_t)s->emf * slack >= 2 * FLOOR_V && 2 * off <= slack * ((expected * LENGTH) >> 30) && expected > 0 && 4 * s->spread <= slack * slack * SPREAD && size_of_w < MOST_SPEED;
    if (good && ((s->held >= 0 && w >= 0) || (s->held <= 0 && w <= 0))) s->held += w;
    else s->held = 0;
    s->valid = good && (s->valid || s->held >= HOLD || s->held <= -HOLD);
#if !BY_FLUX
    if (good && s->spread <= SPREAD) {{
        int32_t ux = x, uy = 0;
        const int64_t rate = (OFFSET * size_of_w) >> 32;
        turned(&ux, &uy, ahead - (uint32_t)(w / 2) + (w >= 0 ? 1073741824u : 3221225472u));
        s->offset_alpha += times((int64_t)raw_a - ux, rate);
        s->offset_beta += times((int64_t)raw_b - uy, rate);
    }}
#endif
    s->since++;
    if (!good && s->since > LOST_AFTER && s->spread > LOST_SPREAD && s->power > FLOOR_V * FLOOR_V) {{
        int32_t turn;
        const int64_t pair = polar(s->pair_re >> 20, s->pair_im >> 20, &turn);
        if (10 * pair > 7 * (s->power >> 20)) {{
            int32_t at;
            (void)polar(raw_a, raw_b, &at);
            s->speed = turn;
            s->angle = (uint32_t)at - (turn >= 0 ? 1073741824u : 3221225472u) + (uint32_t)(turn / 2);
            s->e_alpha = raw_a; s->e_beta = raw_b;
            s->lag = 0; s->lag_rest = 0; s->speed_rest = 0; s->since = 0u;
#if BY_FLUX
            x = (int32_t)(PSI_F >> 4); y = 0;
            turned(&x, &y, s->angle);
            s->flux_alpha = (int64_t)x * 16; s->flux_beta = (int64_t)y * 16;
#endif
        }}
    }}
}}
"""
