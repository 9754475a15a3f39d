"""The convolution that first-order identification rests on."""

from __future__ import annotations

import math

import numpy as np
import scipy

from crisp_compass.estimates import FloatArray


def relax(v: FloatArray, a: float, h: float, *, means: bool = False) -> FloatArray:
    """Return B(t) = ∫ e^(−a(t−s)) v(s) ds from the first sample on, shape (n,).

    Exact for an input ``v`` (n,) that is linear between samples ``h`` seconds apart, or with ``means`` for one that holds each value
    over the interval that ends at its sample; ``a`` in 1/s may be zero or slightly negative.
    """
    x = a * h
    e = math.exp(-x)
    if abs(x) < 1e-4:
        w1, w0 = h * (0.5 - x / 6), h * (0.5 - x / 3)
    else:
        w1 = h * (1 / x - (1 - e) / x**2)  # weight of the newer sample
        w0 = h * ((1 - e) / x) - w1
    driven = np.empty(len(v))
    driven[0], driven[1:] = 0.0, (w1 + w0) * v[1:] if means else w1 * v[1:] + w0 * v[:-1]
    return _recursion(e, driven)


def relax_back(gain: FloatArray, a: float, h: float) -> FloatArray:
    """Run sensitivities (k, n) of the output backwards through :func:`relax`: sensitivities to the input's samples."""
    e = math.exp(-a * h)
    return np.asarray(_recursion(e, h * gain[:, ::-1].T).T[:, ::-1])


#: Samples that are summed at once, and from how many on that is quicker than solving bands.
_BLOCK, _MANY = 32, 256


def _recursion(e: float, x: FloatArray) -> FloatArray:
    """Return y[k] = e·y[k−1] + x[k] along the first axis.

    Short ones as a two-banded system; long ones block by block, each a triangle of powers and what the block before left, four times
    quicker (the filter's own package takes most of a second to load).
    """
    if x.ndim > 1:
        return np.column_stack([_recursion(e, x[:, k]) for k in range(x.shape[1])])
    if len(x) < _MANY:
        bands = np.empty((2, len(x)))
        bands[0], bands[1] = 1.0, -e
        return np.asarray(scipy.linalg.solve_banded((1, 0), bands, x, check_finite=False))
    place = np.arange(_BLOCK)
    powers, lag = e**place, place[:, None] - place[None, :]
    triangle = np.where(lag >= 0, powers[np.abs(lag)], 0.0)
    # not by the library of matrices: its threads wait for each other longer than this takes where other work is going on
    blocks = np.einsum("ij,kj->ik", np.concatenate([x, np.zeros(-len(x) % _BLOCK)]).reshape(-1, _BLOCK), triangle)
    left, whole = np.empty(len(blocks)), e**_BLOCK
    carried = 0.0
    for k, end in enumerate(blocks[:, -1].tolist()):
        left[k] = carried
        carried = end + whole * carried
    blocks += left[:, None] * (e * powers)
    return np.asarray(blocks.reshape(-1)[: len(x)])
