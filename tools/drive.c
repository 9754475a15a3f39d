/* The plant's kernel (src/crisp_compass/plant/kernels.py) once more in C, for `make bench` alone: encoder, speed mode, no
 * saturation, no noise. Prints seconds for the run and the final speed, so that both can be compared. */
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>

enum { SUBSTEPS = 4 };
static const double TWO_PI = 6.283185307179586, SQRT3 = 1.7320508075688772;

typedef struct {
    double r, ld, lq, psi, p, inertia, viscous, coulomb, supply, r_supply, dead, knee, full, step, counts;
    double ts, kp_d, ki_d, kp_q, ki_q, divider, kp_s, ki_s, filter, i_limit, i_trip, v_min, ramp, stall_time;
} drive;
typedef struct {
    double i_d, i_q, w, th, v_a, v_b, int_d, int_q, int_s, ref, seen, iq_ref, last, stall, bus, vd, vq, torque;
    int fault;
} state;

static double clampd(double x, double m) { return x > m ? m : (x < -m ? -m : x); }
static double quantised(double x, const drive *d) { return clampd(d->step * floor(x / d->step + 0.5), d->full); }
static double friction(double t, double w, double c)
{
    if (w > 0 || (w == 0 && t > c)) return t - c;
    if (w < 0 || (w == 0 && t < -c)) return t + c;
    return 0;
}

/* Weights of the exponential rule for a decay of rate a over h: e^(-ah), (1 - e^(-ah))/a, (e^(-ah) - 1 + ah)/(a*a*h). */
static void weights(double a, double h, double *w)
{
    const double z = a * h;
    w[0] = exp(-z);
    if (z < 1e-3) { w[1] = h * (1 - z * (0.5 - z / 6)); w[2] = h * (0.5 - z * (1.0 / 6 - z / 24)); }
    else { w[1] = (1 - w[0]) / a; w[2] = (w[0] - 1 + z) / (a * z); }
}

static void period(state *x, const drive *d, double c, double s)
{
    const double p = d->p, over_j = 1 / d->inertia, rate_d = d->r / d->ld, rate_q = d->r / d->lq;
    double i_d = x->i_d, i_q = x->i_q, w = x->w, th = x->th, wd[3], wq[3];
    const double far = ceil(fmin(8 * fabs(p * w * d->ts), 64));
    const int steps = far > SUBSTEPS ? (int)far : SUBSTEPS;
    const double h = d->ts / steps;
    weights(rate_d, h, wd); weights(rate_q, h, wq);
    const double least = d->dead * fmax(wd[1] / d->ld, wq[1] / d->lq), over_k = 1 / fmax(fmax(d->knee, least), 1e-9);
    for (int n = 0; n < steps; n++) {
        const double d0 = i_d, q0 = i_q, w0 = w;
        double n_d = 0, n_q = 0, k_w0 = 0, k_w = 0;
        for (int stage = 0; stage < 2; stage++) {
            const double we = p * w, al = i_d * c - i_q * s, be = i_d * s + i_q * c, half = 0.5 * SQRT3 * be;
            double ua = x->v_a, ub = x->v_b;
            if (d->dead > 0) {
                const double ea = clampd(al * over_k, 1), eb = clampd((half - 0.5 * al) * over_k, 1), ec = clampd((-half - 0.5 * al) * over_k, 1);
                ua -= d->dead * (2 * ea - eb - ec) / 3;
                ub -= d->dead * (eb - ec) / SQRT3;
            }
            const double f_d = (ua * c + ub * s - d->r * i_d + we * d->lq * i_q) / d->ld + rate_d * i_d;
            const double f_q = (ub * c - ua * s - d->r * i_q - we * (d->ld * i_d + d->psi)) / d->lq + rate_q * i_q;
            k_w = friction(1.5 * p * ((d->psi + d->ld * i_d) * i_q - d->lq * i_q * i_d) - d->viscous * w, w, d->coulomb) * over_j;
            if (stage == 0) {
                const double c0 = c;
                n_d = f_d; n_q = f_q; k_w0 = k_w;
                i_d = wd[0] * d0 + wd[1] * n_d; i_q = wq[0] * q0 + wq[1] * n_q;
                w = w0 + h * k_w;
                if (w0 * w < 0) w = 0;
                const double turn = h * p * (w0 + 0.5 * h * k_w), sq = turn * turn;
                const double st = turn * (1 - sq / 6 * (1 - sq / 20)), ct = 1 - sq * (0.5 - sq * (1.0 / 24 - sq / 720));
                c = c * ct - s * st; s = s * ct + c0 * st;
            } else { i_d += wd[2] * (f_d - n_d); i_q += wq[2] * (f_q - n_q); }
        }
        w = w0 + 0.5 * h * (k_w0 + k_w);
        if (w0 * w < 0) w = 0;
        th += 0.5 * h * (w0 + w);
    }
    x->i_d = i_d; x->i_q = i_q; x->w = w; x->th = th;
    x->torque = 1.5 * p * ((d->psi + d->ld * i_d) * i_q - d->lq * i_q * i_d);
}

static void run(state *x, const drive *d, double target, long steps, long every, double *out)
{
    const double track_d = d->ki_d * d->ts / d->kp_d, track_q = d->ki_q * d->ts / d->kp_q;
    const int divider = (int)d->divider;
    int phase = 0;
    for (long k = 0; k < steps; k++) {
        const double power = 1.5 * (x->vd * x->i_d + x->vq * x->i_q);
        x->bus = d->supply - d->r_supply * power / (x->bus > 1 ? x->bus : 1);
        const double te = d->p * x->th, c = cos(te), s = sin(te);
        const double seen_angle = d->p * (floor(x->th * d->counts / TWO_PI) + 0.5) * TWO_PI / d->counts;
        if (phase == 0) {
            const double t = d->ts * d->divider, n = floor(x->th * d->counts / TWO_PI), raw = (n - x->last) * TWO_PI / d->counts / t;
            x->last = n;
            x->seen += (1 - exp(-d->filter * t)) * (raw - x->seen);
            x->ref += clampd(target - x->ref, d->ramp * t);
            const double e = x->ref - x->seen, trial = x->int_s + d->ki_s * t * e, want = d->kp_s * e + trial, lim = clampd(want, d->i_limit);
            if (want == lim || e * want < 0) x->int_s = trial;
            x->iq_ref = lim;
        }
        phase = phase + 1 < divider ? phase + 1 : 0;
        const double al = x->i_d * c - x->i_q * s, be = x->i_d * s + x->i_q * c;
        const double ia = quantised(al, d), ib = quantised(-0.5 * al + 0.5 * SQRT3 * be, d);
        const double as = ia, bs = (ia + 2 * ib) / SQRT3, cs = cos(seen_angle), ss = sin(seen_angle);
        const double i_d = as * cs + bs * ss, i_q = -as * ss + bs * cs, we = d->p * x->seen;
        const double e_d = -i_d, e_q = x->iq_ref - i_q, n_d = x->int_d + d->ki_d * d->ts * e_d, n_q = x->int_q + d->ki_q * d->ts * e_q;
        const double vd = d->kp_d * e_d + n_d - we * d->lq * i_q, vq = d->kp_q * e_q + n_q + we * (d->ld * i_d + d->psi);
        const double limit = x->bus / SQRT3, sd = clampd(vd, limit), left = limit * limit - sd * sd, sq = clampd(vq, sqrt(left > 0 ? left : 0));
        x->int_d = sd == vd ? n_d : x->int_d + track_d * (d->kp_d * e_d + sd - vd);
        x->int_q = sq == vq ? n_q : x->int_q + track_q * (d->kp_q * e_q + sq - vq);
        x->vd = sd; x->vq = sq;
        const double a = 1.5 * d->ts * d->p * x->seen, ct = cos(a), st = sin(a), ca = cs * ct - ss * st, sa = ss * ct + cs * st;
        const double next_a = sd * ca - sq * sa, next_b = sd * sa + sq * ca;
        if (sqrt(x->i_d * x->i_d + x->i_q * x->i_q) > d->i_trip) x->fault = 1;
        else if (x->bus < d->v_min) x->fault = 2;
        else if (fabs(x->iq_ref) > 0.95 * d->i_limit && fabs(x->w) < 0.02 * fmax(fabs(x->ref), 1) + 0.5) { x->stall += d->ts; if (x->stall > d->stall_time) x->fault = 3; }
        else x->stall = 0;
        if (k % every == 0) {
            double *row = out + (k / every) * 17;
            row[0] = (double)k * d->ts; row[1] = x->ref; row[2] = x->w; row[3] = 0; row[4] = x->i_d; row[5] = x->iq_ref; row[6] = x->i_q; row[7] = sd; row[8] = sq;
            row[9] = al; row[10] = -0.5 * al + 0.5 * SQRT3 * be; row[11] = -row[9] - row[10]; row[12] = x->bus; row[13] = x->torque; row[14] = x->th; row[15] = te; row[16] = x->seen;
        }
        period(x, d, c, s);
        x->v_a = next_a; x->v_b = next_b;
    }
}

int main(void)
{
    drive d; state x = {0}; double target; long steps; struct timespec a, b;
    double *f = (double *)&d;
    for (unsigned k = 0; k < sizeof d / sizeof *f; k++) if (scanf("%lf", &f[k]) != 1) return 2;
    if (scanf("%lf %ld", &target, &steps) != 2) return 2;
    double *out = malloc((size_t)(steps + 1) * 17 * sizeof *out);
    if (!out) return 3;
    for (long k = 0; k < (steps + 1) * 17; k++) out[k] = 0; /* pages are touched before the clock starts */
    x.bus = d.supply;
    clock_gettime(CLOCK_MONOTONIC, &a);
    run(&x, &d, target, steps, 1, out);
    clock_gettime(CLOCK_MONOTONIC, &b);
    printf("%.9f %.9g %d\n", (double)(b.tv_sec - a.tv_sec) + 1e-9 * (double)(b.tv_nsec - a.tv_nsec), x.w, x.fault);
    free(out);
    return 0;
}
