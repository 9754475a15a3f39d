"""The convolution that first-order identification rests on."""

from __future__ import annotations

import math

import numpy as np
import scipy

from crisp_compass.estimates import FloatArray


def relax(v: FloatArray, a: float, h: float) -> FloatArray:
    """Return B(t) = ∫ e^(−a(t−s)) v(s) ds from the first sample on, shape (n,).

    Exact for an input ``v`` (n,) that is linear between samples ``h`` seconds apart; ``a`` in 1/s may be zero or
    slightly negative.
    """
    x = a * h
    e = math.exp(-x)
    if abs(x) < 1e-4:
        w1, w0 = h * (0.5 - x / 6), h * (0.5 - x / 3)
    else:
        w1 = h * (1 / x - (1 - e) / x**2)  # weight of the newer sample
        w0 = h * ((1 - e) / x) - w1
    out, _ = scipy.signal.lfilter([w1, w0], [1.0, -e], v, zi=[-w1 * v[0]])
    return np.asarray(out, dtype=np.float64)


def relax_back(gain: FloatArray, a: float, h: float) -> FloatArray:
    """Run sensitivities (k, n) of the output backwards through :func:`relax`: sensitivities to the input's samples."""
    e = math.exp(-a * h)
    back = scipy.signal.lfilter([h], [1.0, -e], gain[:, ::-1], axis=1)[:, ::-1]
    return np.asarray(back, dtype=np.float64)
