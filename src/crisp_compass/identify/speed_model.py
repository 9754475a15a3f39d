"""The measured speed as the measured current drives it, its noise whitened: what the speed response is fitted with.

Model. J·dω/dt = Kt·i − B·ω − Tc·sign ω − T, with T piecewise constant: load steps at instants that are found. Integrated once,

    ω(t) = ω(0) + (Kt/J)·∫i − (B/J)·∫ω − (Tc/J)·∫sign ω − Σ (T_k/J)·(t − t_k)⁺,

which is linear for a given lag of the measured speed and given instants. The loop drives the current by the *noise* of the speed as well, and
a filter makes that noise coloured, so least squares alone is biased by far more than its bars. The direct method is not, if its noise model
is right (L. Ljung, System Identification, 2nd ed. 1999, 13.4): model and speed go through the same autoregressive filter of high order that
whitens what is left.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import scipy

from crisp_compass.estimates import FloatArray

#: Most samples that are fitted.
MOST = 4_000
#: Part of the largest speed below which the direction of the friction is not relied on.
_SLOW = 0.02
#: Fewest values of a speed that rows repeat, and most rows that do.
_NEW, _REPEATED = 30, 200
#: Samples over which a speed, and what a model leaves of one, are averaged to see when the shaft turns round.
_COURSE_MEAN, _REST_MEAN = 5, 25
#: First samples whose mean is the current before them.
_FIRST = 6


@dataclass(frozen=True)
class Data:
    """Samples: ``t`` (n,) [s], ``w`` (n,) [rad/s], ``charge`` (n,) = ∫ i dt [A·s]; ``held`` [s] is how late the speed is seen in the mean because rows repeat it, ``row`` [s] the time between two rows of the capture."""

    t: FloatArray
    w: FloatArray
    charge: FloatArray
    held: float = 0.0
    row: float = 0.0

    @property
    def interval(self) -> float:
        """Return the usual time between two samples, s."""
        return float(np.median(np.diff(self.t)))

    @property
    def begins(self) -> float:
        """Return the current at the beginning, A: the mean of the first samples."""
        k = min(_FIRST, len(self.t) - 1)
        return float((self.charge[k] - self.charge[0]) / (self.t[k] - self.t[0]))


def prepare(time: FloatArray, w: FloatArray, i: FloatArray, course: float) -> Data:
    """Return the samples, at most MOST; between two of them the current's mean is the share ``course`` of the later one, the rest of the earlier one."""
    t = time - time[0]
    charge = np.concatenate([[0.0], np.cumsum((course * i[1:] + (1 - course) * i[:-1]) * np.diff(t))])
    first, rows = repeats(w)
    row = float(np.median(np.diff(t)))
    held = 0.5 * (rows - 1) * row
    t, w, charge = t[first::rows] - t[first], w[first::rows], charge[first::rows] - charge[first]
    if len(t) > MOST:
        stride = -(-len(t) // MOST)
        count = len(t) // stride
        t, w, charge = (x[: count * stride].reshape(count, stride).mean(axis=1) for x in (t, w, charge))
    return Data(t, w, charge, held, row=row)


def repeats(w: FloatArray) -> tuple[int, int]:
    """Return the first row at which a speed (n,) is told anew, and after how many rows the next one is: a loop slower than the recorder repeats each. Row 0 and 1 where nothing does."""
    new = np.flatnonzero(np.diff(w)) + 1
    if len(new) < _NEW or len(new) > 0.6 * len(w):
        return 0, 1
    for rows in range(min(_REPEATED, len(w) // (2 * _NEW)), 1, -1):
        place = np.bincount(new % rows, minlength=rows)
        if place.max() >= 0.98 * len(new):
            return int(place.argmax()), rows
    return 0, 1


@dataclass(frozen=True)
class Lag:
    """How late the speed is measured [s]: ``dead`` time, and the mean delay ``filtered`` of a first-order filter of samples, which answers with the newest one at once.

    Of samples that are means of others the dead time may be up to half an interval less than none; one that is continuous is a filter of samples and half an interval beside it.
    """

    dead: float
    filtered: float

    @property
    def total(self) -> float:
        """Return the whole delay, s."""
        return self.dead + self.filtered


@dataclass(frozen=True)
class Fit:
    """Answers by ``names`` (k,), the sum of whitened squares ``cost`` over ``count`` samples, and what is needed to go on from there."""

    lag: Lag
    loads: tuple[int, ...]
    names: tuple[str, ...]
    answer: FloatArray
    cost: float
    count: int
    rest: FloatArray

    @property
    def variance(self) -> float:
        """Return the variance of the whitened rest."""
        return self.cost / max(self.count - len(self.answer) - 2, 1)

    def __getitem__(self, name: str) -> float:
        """Return one answer."""
        return float(self.answer[self.names.index(name)])


class Model:
    """Columns of the model, whitened by ``white`` (order + 1,); those that no lag moves are kept. Without ``friction`` one constant
    torque stands for it."""

    def __init__(self, data: Data, white: FloatArray | None = None, *, friction: bool = True) -> None:
        self.data, self.friction = data, friction
        self._width = _SLOW * float(np.max(np.abs(data.w)))
        self.take_course(scipy.ndimage.uniform_filter1d(data.w, _COURSE_MEAN, mode="nearest"))
        step = np.diff(data.t, prepend=data.t[0])
        # what viscous friction does follows the measured speed itself: the lag of an integral is the integral of what lags
        turned = np.cumsum(0.5 * (data.w + np.append(data.w[:1], data.w[:-1])) * step)
        still = np.ones(len(data.t))
        self._fixed = np.column_stack([-turned, still] if friction else [-data.t, still])
        self.whiten(np.ones(1) if white is None else white)

    def whiten(self, filter_: FloatArray) -> None:
        """Take another whitening filter (order + 1,), its first coefficient 1."""
        self.white = filter_
        self._shaken = self.through(self._fixed)
        self._speed = self.through(self.data.w[:, None])[:, 0]

    def through(self, columns: FloatArray) -> FloatArray:
        """Return columns (n, k) whitened (m, k)."""
        order = len(self.white) - 1
        out = scipy.signal.lfilter(self.white, [1.0], columns, axis=0) if order else columns
        return np.asarray(out[order:])

    def take_course(self, smooth: FloatArray) -> None:
        """Take a measured speed (n,) without its noise: it says when the shaft turns round."""
        self._smooth, self._slope = smooth, np.diff(smooth, prepend=smooth[:1]) / self.data.interval

    def follow(self, fit: Fit) -> None:
        """Let what a fit says of the speed, and what is slow of its rest, be the course."""
        said = self.unwhitened(fit)
        self.take_course(said + scipy.ndimage.uniform_filter1d(self.data.w - said, _REST_MEAN, mode="nearest"))

    def _rubbed(self, lag: Lag) -> FloatArray:
        """Return what Coulomb friction does (n,), as the measured speed shows it.

        It turns round where the *true* speed does, which a filter shows later: before the filter it was the measured one and its slope times
        the filter's time. What friction does then is filtered itself.
        """
        t, f = self.data.t, lag.filtered
        true = (self._smooth + f * self._slope) / self._width
        x = np.append(0.0, np.cumsum(_means_of_sense(true) * np.diff(t)))
        return _filtered(x, f, self.data.interval, float(np.clip(true[0], -1, 1)))

    def driven(self, lag: Lag, loads: tuple[int, ...]) -> FloatArray:
        """Return what current, loads and Coulomb friction do (n, 1 + 2·loads + 1), as the measured speed shows it; without ``friction`` the last is left out."""
        d = self.data
        at = d.t - lag.dead
        # what flowed before the capture is still on its way: it is taken for what flows at its beginning
        flow, last = d.begins, float((d.charge[-1] - d.charge[-2]) / (d.t[-1] - d.t[-2]))
        columns = [np.interp(at, d.t, d.charge) + flow * np.minimum(at, 0.0) + last * np.maximum(at - d.t[-1], 0.0)]
        for k in loads:  # it steps between two samples: beside its ramp stands what a shift of its instant adds
            columns += [-np.maximum(at - d.t[k], 0.0), -np.clip((at - d.t[k]) / d.interval + 0.5, 0.0, 1.0)]
        columns = [_filtered(x, lag.filtered, d.interval, 0.0 if k else flow) for k, x in enumerate(columns)]
        return np.column_stack([*columns, -self._rubbed(lag)] if self.friction else columns)

    def design(self, lag: Lag, loads: tuple[int, ...]) -> tuple[FloatArray, tuple[str, ...]]:
        """Return the whitened columns and their names."""
        names = ("gain", *(f"{what} {k}" for k in loads for what in ("load", "instant")), *(("coulomb", "viscous") if self.friction else ("constant",)), "start")
        return np.column_stack([self.through(self.driven(lag, loads)), self._shaken]), names

    def solve(self, lag: Lag, loads: tuple[int, ...], gain: float | None = None) -> Fit:
        """Solve what is linear; a ``gain`` that is known is not solved for."""
        design, names = self.design(lag, loads)
        speed = self._speed
        if gain is not None:
            speed, design = speed - gain * design[:, 0], design[:, 1:]
        norm = np.linalg.norm(design, axis=0)
        norm[norm == 0] = 1.0
        scaled = design / norm
        gram = scaled.T @ scaled + 1e-12 * np.eye(len(norm))
        answer = np.linalg.solve(gram, scaled.T @ speed)
        rest = speed - scaled @ answer
        found = answer / norm if gain is None else np.concatenate([[gain], answer / norm])
        return Fit(lag, loads, names, found, cost=float(rest @ rest), count=len(rest), rest=rest)

    def ramp(self, lag: Lag) -> FloatArray:
        """Return what a load that steps at the first sample does (m,), whitened; a later one does the same later."""
        return self.through(self.driven(lag, (0,))[:, 1:2])[:, 0]

    def unwhitened(self, fit: Fit) -> FloatArray:
        """Return what the model says of the measured speed (n,)."""
        return np.asarray(np.column_stack([self.driven(fit.lag, fit.loads), self._fixed]) @ fit.answer)

    def covariance(self, fit: Fit) -> tuple[FloatArray, tuple[str, ...]]:
        """Return the covariance of the answers and of both parts of the lag (``dead``, ``filtered``), by the slopes of the whitened model."""
        design, names = self.design(fit.lag, fit.loads)
        count, h = 1 + 2 * len(fit.loads) + self.friction, 0.05 * self.data.interval
        slopes = []
        for late in (replace(fit.lag, dead=fit.lag.dead + h), replace(fit.lag, filtered=fit.lag.filtered + h)):
            moved = self.through((self.driven(late, fit.loads) - self.driven(fit.lag, fit.loads)) / h)
            slopes.append(moved @ fit.answer[:count])
        whole = np.column_stack([design, *slopes])
        norm = np.linalg.norm(whole, axis=0)
        norm[norm == 0] = 1.0
        inverse = np.linalg.pinv((whole / norm).T @ (whole / norm), rcond=1e-13)
        return inverse / np.outer(norm, norm) * fit.variance, (*names, "dead", "filtered")


def _filtered(x: FloatArray, delay: float, interval: float, slope: float) -> FloatArray:
    """Return samples (n,) behind a filter of samples, y[k] = p·y[k − 1] + (1 − p)·x[k], whose mean ``delay`` is p/(1 − p) intervals; before the first one they rose with a ``slope`` [1/s]."""
    if delay <= 0:
        return x
    p = delay / (delay + interval)
    before = x[0] - slope * (interval + delay)
    return np.asarray(scipy.signal.lfilter([1 - p], [1.0, -p], x, zi=[p * before])[0])


def _means_of_sense(u: FloatArray) -> FloatArray:
    """Return the means (n − 1,) of ``u`` (n,), cut to −1 and 1, over straight lines from sample to sample: a shaft that turns round passes zero anywhere between two."""
    area = np.where(np.abs(u) < 1, 0.5 * u**2, np.abs(u) - 0.5)
    rise = np.diff(u)
    level = np.abs(rise) < 1e-6
    return np.where(level, np.clip(u[1:], -1, 1), np.diff(area) / np.where(level, 1.0, rise))


def moved_by_jumps(model: Model, fit: Fit, jumps: list[tuple[float, float]], names: tuple[str, ...]) -> FloatArray:
    """Return by how much answers (k,) move, together, for speeds that are missed at jumps of the reference by (seconds, rad/s): what is quick there fits no model quite, and what is told by the difference of two slow parts bears it."""
    design, own = model.design(fit.lag, fit.loads)
    norm = np.linalg.norm(design, axis=0)
    norm[norm == 0] = 1.0
    columns = np.column_stack([size * (model.data.t >= at + fit.lag.total) for at, size in jumps]) if jumps else np.zeros((len(model.data.t), 1))
    answers = np.linalg.lstsq(design / norm, model.through(columns), rcond=1e-12)[0] / norm[:, None]
    return np.asarray(np.linalg.norm(answers[[own.index(name) for name in names]], axis=1))
