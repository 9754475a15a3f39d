/* The plant's kernels of other machines once more in C, for `make bench` alone: an induction machine on the mains, a brushed motor at a
 * voltage, a magnet machine phase by phase under block commutation with a current. Encoder, no noise. Prints seconds and final speed. */
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

enum { SUBSTEPS = 4, COLUMNS = 18 };
static const double PI = 3.141592653589793, SQRT3 = 1.7320508075688772;
typedef struct { double r, l, psi, p, lm, rr, h5, h7, drop, inertia, viscous, coulomb, supply, ts, kp, ki, track, filter, ref, omega; } drive;
typedef struct { double ia, ib, ic, fa, fb, w, th, field, integ, seen, last, sensed, volts[3], step[3], u, torque, id, iq; int fault; } state;

static double clampd(double x, double m) { return x > m ? m : (x < -m ? -m : x); }
static double friction(double t, double w, double c)
{
    if (w > 0 || (w == 0 && t > c)) return t - c;
    if (w < 0 || (w == 0 && t < -c)) return t + c;
    return 0;
}
static void weights(double a, double h, double *w)
{
    const double z = a * h;
    w[0] = exp(-z);
    if (z < 1e-3) { w[1] = h * (1 - z * (0.5 - z / 6)); w[2] = h * (0.5 - z * (1.0 / 6 - z / 24)); }
    else { w[1] = (1 - w[0]) / a; w[2] = (w[0] - 1 + z) / (a * z); }
}
static int count(double a, double b) { return (int)(a > b ? a : b); }

static void induction(state *x, const drive *d, double va, double vb)
{
    const double p = d->p, over_l = 1 / d->l, fade = d->rr / d->lm, over_j = 1 / d->inertia;
    double ia = x->ia, ib = x->ib, fa = x->fa, fb = x->fb, w = x->w, th = x->th, e[3];
    const int steps = count(SUBSTEPS, ceil(fmin(8 * fabs(p * w * d->ts), 64)));
    const double h = d->ts / steps, shrink = exp(-fade * h);
    weights((d->r + d->rr) / d->l, h, e);
    for (int n = 0; n < steps; n++) {
        const double a0 = ia, b0 = ib, w0 = w;
        double fa0 = fa, fb0 = fb, n_a = 0, n_b = 0, k0 = 0, k = 0;
        for (int stage = 0; stage < 2; stage++) {
            const double we = p * w, g_a = (va + fade * fa + we * fb) * over_l, g_b = (vb + fade * fb - we * fa) * over_l;
            k = friction(1.5 * p * (fa * ib - fb * ia) - d->viscous * w, w, d->coulomb) * over_j;
            if (stage == 0) {
                n_a = g_a; n_b = g_b; k0 = k;
                ia = e[0] * a0 + e[1] * g_a; ib = e[0] * b0 + e[1] * g_b;
                w = w0 + h * k;
                if (w0 * w < 0) w = 0;
                const double turn = h * p * (w0 + 0.5 * h * k), sq = turn * turn;
                const double st = shrink * turn * (1 - sq / 6 * (1 - sq / 20)), ct = shrink * (1 - sq * (0.5 - sq * (1.0 / 24 - sq / 720)));
                const double ka = fa0 + 0.5 * h * d->rr * a0, kb = fb0 + 0.5 * h * d->rr * b0;
                fa0 = ka * ct - kb * st; fb0 = ka * st + kb * ct;
                fa = fa0 + 0.5 * h * d->rr * ia; fb = fb0 + 0.5 * h * d->rr * ib;
            } else { ia += e[2] * (g_a - n_a); ib += e[2] * (g_b - n_b); }
        }
        fa = fa0 + 0.5 * h * d->rr * ia; fb = fb0 + 0.5 * h * d->rr * ib;
        w = w0 + 0.5 * h * (k0 + k);
        if (w0 * w < 0) w = 0;
        th += 0.5 * h * (w0 + w);
    }
    x->ia = ia; x->ib = ib; x->fa = fa; x->fb = fb; x->w = w; x->th = th;
    x->torque = 1.5 * p * (fa * ib - fb * ia);
    const double size = sqrt(fa * fa + fb * fb), c = size > 0 ? fa / size : 1, s = size > 0 ? fb / size : 0;
    x->id = ia * c + ib * s; x->iq = ib * c - ia * s;
}

static void brushed(state *x, const drive *d, double volts)
{
    const double over_j = 1 / d->inertia, h = d->ts / SUBSTEPS, fade = exp(-d->r / d->l * h);
    double i = x->ia, w = x->w, th = x->th, last = friction(x->torque - d->viscous * w, w, d->coulomb) * over_j;
    for (int n = 0; n < SUBSTEPS; n++) {
        const double u = volts - d->psi * (w + 0.5 * h * last), sense = i > 0 ? 1 : i < 0 ? -1 : (u > 0 ? 1 : -1);
        double after = 0;
        if (!(i == 0 && fabs(u) <= d->drop)) {
            const double goal = (u - d->drop * sense) / d->r;
            after = goal + (i - goal) * fade;
            if (after * sense < 0) after = 0;
        }
        const double mean = 0.5 * (i + after), k1 = friction(d->psi * mean - d->viscous * w, w, d->coulomb) * over_j;
        double trial = w + h * k1, fresh;
        if (w * trial < 0) trial = 0;
        const double k2 = friction(d->psi * mean - d->viscous * trial, trial, d->coulomb) * over_j;
        fresh = w + 0.5 * h * (k1 + k2);
        if (w * fresh < 0) fresh = 0;
        th += 0.5 * h * (w + fresh);
        i = after; w = fresh; last = 0.5 * (k1 + k2);
    }
    x->ia = i; x->w = w; x->th = th; x->torque = d->psi * i;
}

static double shape(double s, const drive *d)
{
    const double q = s * s;
    return s * (1 + 5 * d->h5 + 7 * d->h7 + q * (-20 * d->h5 - 56 * d->h7 + q * (16 * d->h5 + 112 * d->h7 - 64 * q * d->h7)));
}

static void phases(state *x, const drive *d, double pair, int step)
{
    const double p = d->p, over_j = 1 / d->inertia, over_r = 1 / d->r, bus = d->supply;
    const int high = (step + 1) % 6 / 2, low = (step + 4) % 6 / 2, off = 3 - high - low;
    const int steps = count(SUBSTEPS, ceil(fmin(16 * fabs(p * x->w * d->ts), 96)));
    const double h = d->ts / steps, fade = exp(-d->r / d->l * h);
    double i[3] = {x->ia, x->ib, x->ic}, v[3] = {0}, w = x->w, th = x->th, torque = 0;
    double last = friction(x->torque - d->viscous * w, w, d->coulomb) * over_j;
    v[high] = pair > 0 ? pair : 0; v[low] = pair < 0 ? -pair : 0;
    for (int n = 0; n < steps; n++) {
        const double mid = w + 0.5 * h * last, at = p * (th + 0.5 * h * mid), s = sin(at), c = cos(at);
        const double f[3] = {-p * d->psi * shape(s, d), -p * d->psi * shape(-0.5 * s - 0.5 * SQRT3 * c, d), -p * d->psi * shape(-0.5 * s + 0.5 * SQRT3 * c, d)};
        double was[3] = {i[0], i[1], i[2]}, u[3], star, rail;
        for (int k = 0; k < 3; k++) u[k] = v[k] - f[k] * mid;
        const double e_off = f[off] * mid, middle = 0.5 * (u[high] + u[low]), stands = middle + e_off;
        int floats = 0;
        rail = i[off] > 0 ? 0 : bus;
        if (i[off] == 0) { floats = stands >= 0 && stands <= bus; rail = stands < 0 ? 0 : bus; }
        u[off] = rail - e_off;
        star = floats ? middle : (u[0] + u[1] + u[2]) / 3;
        for (int k = 0; k < 3; k++) { const double g = floats && k == off ? 0 : (u[k] - star) * over_r; i[k] = g + (i[k] - g) * fade; }
        if (!floats && (was[off] * i[off] < 0 || (was[off] == 0 && ((rail == bus && i[off] > 0) || (rail == 0 && i[off] < 0))))) {
            const double share = 0.5 * i[off];
            i[high] += share; i[low] += share; i[off] = 0;
        }
        torque = 0.5 * (f[0] * (was[0] + i[0]) + f[1] * (was[1] + i[1]) + f[2] * (was[2] + i[2]));
        const double k1 = friction(torque - d->viscous * w, w, d->coulomb) * over_j;
        double trial = w + h * k1, fresh;
        if (w * trial < 0) trial = 0;
        const double k2 = friction(torque - d->viscous * trial, trial, d->coulomb) * over_j;
        fresh = w + 0.5 * h * (k1 + k2);
        if (w * fresh < 0) fresh = 0;
        th += 0.5 * h * (w + fresh);
        last = 0.5 * (k1 + k2); w = fresh;
    }
    x->ia = i[0]; x->ib = i[1]; x->ic = i[2]; x->w = w; x->th = th; x->torque = torque;
}

int main(int argc, char **argv)
{
    drive d; state x = {0}; long steps; struct timespec a, b; double *f = (double *)&d, *out;
    const int kind = argc > 1 ? argv[1][0] : 0;
    for (unsigned k = 0; k < sizeof d / sizeof *f; k++) if (scanf("%lf", &f[k]) != 1) return 2;
    if (scanf("%ld", &steps) != 1 || !(out = malloc((size_t)(steps + 1) * COLUMNS * sizeof *out))) return 2;
    memset(out, 1, (size_t)(steps + 1) * COLUMNS * sizeof *out); /* pages are touched before the clock starts */
    const double counts = 4194304;
    int phase = 0;
    clock_gettime(CLOCK_MONOTONIC, &a);
    for (long k = 0; k < steps; k++) {
        const double n = floor(x.th * counts / (2 * PI));
        x.sensed = d.p * (n + 0.5) * (2 * PI / counts);
        if (phase == 0) {
            const double t = 10 * d.ts, raw = (n - x.last) * 2 * PI / counts / t;
            x.last = n;
            x.seen += (d.filter > 0 ? 1 - exp(-d.filter * t) : 1) * (raw - x.seen);
        }
        phase = phase + 1 < 10 ? phase + 1 : 0;
        double first = d.ref, second = 0;
        if (kind == 'i') {
            const double turn = d.p * d.omega * d.ts, held = x.field + 1.5 * turn;
            x.field += turn;
            first = d.ref * cos(held); second = d.ref * sin(held);
        } else if (kind == 'p') {
            const int step = (int)fmod(floor((x.sensed + PI / 6) / (PI / 3)) + 1, 6), high = (step + 1) % 6 / 2;
            const double now = high == 0 ? x.ia : high == 1 ? x.ib : x.ic, e = d.ref - now, fresh = x.integ + d.ki * d.ts * e;
            const double want = d.kp * e + fresh, set = clampd(want, 0.5 * d.supply);
            x.integ = set == want ? fresh : x.integ + d.track * (d.kp * e + set - want);
            first = 2 * set; second = step;
        }
        double *row = out + k * COLUMNS;
        for (int c = 0; c < COLUMNS; c++) row[c] = c == 0 ? (double)k * d.ts : c == 2 ? x.w : c == 14 ? x.th : x.ia;
        if (kind == 'i') { row[4] = x.id; row[6] = x.iq; row[9] = x.ia; row[10] = -0.5 * x.ia + 0.5 * SQRT3 * x.ib; row[15] = atan2(x.fb, x.fa); }
        if (sqrt(x.id * x.id + x.iq * x.iq) > 1e9) x.fault = 1;
        x.volts[2] = x.volts[1]; x.volts[1] = x.volts[0]; x.volts[0] = first;
        x.step[2] = x.step[1]; x.step[1] = x.step[0]; x.step[0] = second;
        if (kind == 'i') induction(&x, &d, x.volts[1], x.step[1]);
        else if (kind == 'b') brushed(&x, &d, x.volts[1]);
        else phases(&x, &d, x.volts[1], (int)x.step[1]);
    }
    clock_gettime(CLOCK_MONOTONIC, &b);
    printf("%.9f %.9g %d\n", (double)(b.tv_sec - a.tv_sec) + 1e-9 * (double)(b.tv_nsec - a.tv_nsec), x.w, x.fault);
    free(out);
    return 0;
}
