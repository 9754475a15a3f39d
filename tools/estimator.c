/* Runs the handed-over estimator over rows of v_alpha, v_beta, i_alpha, i_beta; prints its seconds and its last angle. */
#include "cc_estimator.h"
#include <stdio.h>
#include <stdlib.h>
#include <time.h>

int main(int argc, char **argv)
{
    cc_estimator_state s;
    const long n = argc > 1 ? atol(argv[1]) : 0;
    struct timespec a, b;
    double *x = malloc((size_t)n * 4 * sizeof *x);
    FILE *f = fopen("rows", "rb");
    if (!x || !f || fread(x, sizeof *x, (size_t)n * 4, f) != (size_t)n * 4) return 1;
    cc_estimator_init(&s, 0, 0);
    clock_gettime(CLOCK_MONOTONIC, &a);
    for (long k = 0; k < n; k++) cc_estimator_step(&s, x[4 * k], x[4 * k + 1], x[4 * k + 2], x[4 * k + 3]);
    clock_gettime(CLOCK_MONOTONIC, &b);
    printf("%.9f %.9f\n", (double)(b.tv_sec - a.tv_sec) + 1e-9 * (double)(b.tv_nsec - a.tv_nsec), s.out_angle);
    return 0;
}
