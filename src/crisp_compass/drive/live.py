"""Telemetry as it comes, every row of it: kept for some seconds, shown by its extremes, found by a trigger, measured, and made a capture.

Rows are added in one thread and looked at in another. A channel is a value or one bit of a word.
"""

from __future__ import annotations

import math
import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, TypeAlias

import numpy as np
import numpy.typing as npt

from crisp_compass.capture.signals import SIGNALS
from crisp_compass.drive.conversation import factor_to_si
from crisp_compass.drive.description import Entry
from crisp_compass.estimates import FloatArray
from crisp_compass.quantities import UNITS

#: What is kept: single precision is finer than any word of 16 bits.
Singles: TypeAlias = npt.NDArray[np.float32]
#: Most rows that are kept: sixteen channels of them take some 50 MB.
_MOST = 400_000
#: Share of a channel's range by which it must leave its middle to count as a wave.
_HYSTERESIS = 0.15
#: Rows of a stretch that are looked at for a wave.
_WAVE_ROWS = 20_000
#: The unit of SI of each dimension.
_SI = {u.dimension: u.name for u in reversed(list(UNITS.values())) if u.factor == 1.0}


@dataclass(frozen=True)
class LiveChannel:
    """One channel: the entry that tells it, which bit of it (None: the value itself), what it is called, its unit and its signal of the capture format."""

    name: str
    entry: int
    bit: int | None
    unit: str
    signal: str | None
    turn: float = 0.0


def channels_of(entries: Sequence[Entry]) -> tuple[LiveChannel, ...]:
    """Return the channels of entries, SI where their unit is known; a word with named bits is its bits, each 0 or 1."""
    found: list[LiveChannel] = []
    bits = [name for entry in entries for name in (entry.bits or {}).values()]
    taken = {e.name for e in entries if not e.bits} | {name for name in bits if bits.count(name) > 1}
    for place, entry in enumerate(entries):
        if entry.bits:  # bits of one name in two words, as those of the last fault and of the one before it, are told apart by their words
            found += [LiveChannel(f"{entry.name}.{name}" if name in taken else name, place, int(bit), "", signal=name if SIGNALS.get(name) == "logic" else None) for bit, name in entry.bits.items()]
            continue
        unit = _SI.get(UNITS[entry.unit].dimension, entry.unit) if entry.unit in UNITS else entry.unit
        whole = abs(entry.scale) * 65536.0
        turn = 2 * math.pi if entry.type == "uint16" and entry.unit in ("deg", "°") and math.isclose(whole, 360.0, rel_tol=1e-6) else 0.0
        found.append(LiveChannel(entry.name, place, None, unit, signal=entry.signal, turn=turn))
    return tuple(found)


@dataclass(frozen=True)
class Measured:
    """What a stretch of a channel amounts to; ``hertz`` is 0 where it is no wave of at least two periods."""

    mean: float
    rms: float
    low: float
    high: float
    hertz: float


def measure(t: FloatArray, values: npt.NDArray[Any]) -> Measured:
    """Measure a stretch, (n,) each; what is missing (NaN) is left out. The frequency is that of rising crossings of the middle, with hysteresis."""
    whole = np.isfinite(values)
    x = values
    if not whole.all():
        t, x = t[whole], values[whole]
    if len(x) < 2:
        return Measured(math.nan, math.nan, math.nan, math.nan, hertz=0.0)
    low, high = float(x.min()), float(x.max())
    mean, rms = float(x.mean(dtype=np.float64)), float(np.sqrt(np.mean(np.square(x), dtype=np.float64)))
    every = len(x) // _WAVE_ROWS + 1  # a wave of so many rows is told by some of them
    t, x = t[::every], x[::every]
    middle, dead = 0.5 * (low + high), _HYSTERESIS * (high - low)
    level = np.where(x > middle + dead, 1, np.where(x < middle - dead, -1, 0))
    sides = np.flatnonzero(level)
    hertz = 0.0
    if high > low and len(sides):
        rises = sides[1:][(level[sides[1:]] > 0) & (level[sides[:-1]] < 0)]
        if len(rises) >= 3:
            apart = np.diff(t[rises])
            if float(np.max(apart)) < 3.0 * float(np.median(apart)):  # bursts are no wave
                hertz = float((len(rises) - 1) / (t[rises[-1]] - t[rises[0]]))
    return Measured(mean, rms, low, high, hertz=hertz)


class LiveStore:
    """The newest ``seconds`` of telemetry, at most so many rows as fit; ``period_s`` is the time from one row to the next where they come evenly."""

    def __init__(self, entries: Sequence[Entry], period_s: float | None, seconds: float) -> None:
        self.entries, self.period_s = tuple(entries), period_s
        self.channels = channels_of(self.entries)
        self._factors = [factor_to_si(e) for e in self.entries]
        rows = math.ceil(seconds / period_s) + 1 if period_s else 20_000
        self._room = max(min(rows, _MOST), 16)
        self._t = np.empty(2 * self._room)
        self._x = np.empty((len(self.channels), 2 * self._room), dtype=np.float32)
        self._end = 0
        self._gone = 0  # rows that were dropped from the beginning
        self._last, self._shift = -1, 0.0
        self._lock = threading.Lock()

    # ---- what comes

    def append(self, numbers: FloatArray, values: FloatArray) -> None:
        """Take rows by their numbers (or with no period their times, s), (n,), and the values of every entry, (n, entries); rows that were lost stay empty."""
        if not len(numbers):
            return
        if self.period_s is not None:
            missing = int(numbers[0]) - self._last - 1
            if self._last >= 0 and missing > 0:
                self._gap(min(missing, self._room))
            first, whole = int(numbers[0]), int(numbers[-1]) - int(numbers[0]) + 1
            if whole != len(numbers):  # some are missing within
                filled = np.full((min(whole, self._room), values.shape[1]), np.nan)
                at = (numbers - int(numbers[-1]) - 1 + len(filled)).astype(np.int64)
                filled[at[at >= 0]] = values[at >= 0]
                values, first = filled, int(numbers[-1]) + 1 - len(filled)
            if self._last < 0:
                self._shift -= int(numbers[0]) * self.period_s  # times go on from what is kept, whatever number comes first
            self._last = int(numbers[-1])
            self._add((first + np.arange(float(len(values)))) * self.period_s + self._shift, values)
        else:
            self._add(numbers, values)

    def broke_off(self) -> None:
        """Note that the line broke off: its counter begins anew, and what was kept stays behind a gap."""
        if self._last >= 0 and self.period_s is not None:
            self._gap(1)
            self._shift, self._last = self.now + self.period_s, -1

    def _gap(self, rows: int) -> None:
        assert self.period_s is not None
        self._add((self._last + 1 + np.arange(float(rows))) * self.period_s + self._shift, np.full((rows, len(self.entries)), np.nan))

    def _add(self, t: FloatArray, values: FloatArray) -> None:
        keep = self._room
        t, values = t[-keep:], values[-keep:]
        n = len(t)
        columns = np.empty((len(self.channels), n), dtype=np.float32)
        for place, channel in enumerate(self.channels):
            entry, column = self.entries[channel.entry], values[:, channel.entry]
            if channel.bit is None:
                columns[place] = column * self._factors[channel.entry]
            else:
                whole = np.isfinite(column)
                bits = np.where(whole, column, 0.0) / entry.scale
                columns[place] = np.where(whole, np.round(bits).astype(np.int64) >> channel.bit & 1, np.nan)
        with self._lock:
            if self._end + n > 2 * keep:
                kept = min(self._end, keep)
                self._t[:kept] = self._t[self._end - kept : self._end].copy()
                self._x[:, :kept] = self._x[:, self._end - kept : self._end].copy()
                self._gone += self._end - kept
                self._end = kept
            self._t[self._end : self._end + n] = t
            self._x[:, self._end : self._end + n] = columns
            self._end += n

    # ---- what is looked at

    @property
    def rows(self) -> int:
        """Rows that came so far, those that are dropped again among them."""
        with self._lock:
            return self._gone + self._end

    @property
    def now(self) -> float:
        """Time of the newest row, s; NaN before the first."""
        with self._lock:
            return float(self._t[self._end - 1]) if self._end else math.nan

    def place(self, name: str) -> int:
        """Return which channel has a name; raises KeyError."""
        return {c.name: k for k, c in enumerate(self.channels)}[name]

    def stretch(self, begin: float, end: float, places: Sequence[int]) -> tuple[FloatArray, Singles]:
        """Return times (n,) and channels (m, n) from ``begin`` to ``end`` [s], both inclusive; copies."""
        with self._lock:
            first = max(self._end - self._room, 0)
            t = self._t[first : self._end]
            a, b = first + int(np.searchsorted(t, begin)), first + int(np.searchsorted(t, end, side="right"))
            return self._t[a:b].copy(), self._x[list(places), a:b]

    def blocks(self, first: int, size: int, places: Sequence[int]) -> tuple[int, FloatArray, Singles, Singles]:
        """Return the extremes of whole blocks of ``size`` rows from row ``first`` (counted from the beginning) on.

        That is the first row that was there, times of the blocks' beginnings (n,), least and most (m, n).
        """
        with self._lock:
            oldest = self._gone + max(self._end - self._room, 0)
            first = max(first, -(-oldest // size) * size)
            count = max((self._gone + self._end - first) // size, 0)
            a = first - self._gone
            t = self._t[a : a + count * size : size].copy()
            x = self._x[list(places), a : a + count * size].reshape(len(places), count, size)
        low, high = np.fmin.reduce(x, axis=2), np.fmax.reduce(x, axis=2)  # a lost row leaves no hole in its block
        return first, t, low, high


class Rolling:
    """The extremes of a store's channels that move on with it: each block of rows is looked at once."""

    def __init__(self, store: LiveStore, places: Sequence[int], span: float, pixels: int) -> None:
        self._store, self.places, self.span = store, tuple(places), span
        rows = span / store.period_s if store.period_s else min(span * 20.0, store.rows or 1)
        self._size = max(1, math.ceil(rows / max(pixels, 1)))
        self._t: FloatArray = np.empty(0)
        self._low: Singles = np.empty((len(self.places), 0), dtype=np.float32)
        self._high: Singles = self._low
        self._next = 0

    def update(self) -> tuple[FloatArray, Singles]:
        """Take what came since and return times before the newest [s], (n,), and channels, (m, n), over the last ``span`` seconds."""
        if self._next == 0:
            now = self._store.now
            back = self._store.rows - (math.ceil(self.span / self._store.period_s) if self._store.period_s else 1 << 60)
            self._next = max(back, 0) // self._size * self._size
            if math.isnan(now):
                return np.empty(0), self._low
        first, t, low, high = self._store.blocks(self._next, self._size, self.places)
        if len(t):
            if first != self._next and len(self._t):  # it fell behind: what is missing is not drawn as a line
                self._t, self._low, self._high = np.empty(0), self._low[:, :0], self._high[:, :0]
            self._t = np.concatenate([self._t, t])
            self._low, self._high = np.concatenate([self._low, low], axis=1), np.concatenate([self._high, high], axis=1)
            self._next = first + len(t) * self._size
        now = self._store.now
        drop = int(np.searchsorted(self._t, now - self.span))
        if drop > 0:
            self._t, self._low, self._high = self._t[drop:], self._low[:, drop:], self._high[:, drop:]
        return woven(self._t - now, self._low, self._high, self._size)


def woven(t: FloatArray, low: Singles, high: Singles, size: int) -> tuple[FloatArray, Singles]:
    """Return blocks as the points of a line through both extremes of each; where a block is one row, that row."""
    if size == 1:
        return t, low
    x = np.empty((len(low), 2 * len(t)), dtype=np.float32)
    x[:, 0::2], x[:, 1::2] = low, high
    return np.repeat(t, 2), x


def thinned(t: FloatArray, x: Singles, pixels: int) -> tuple[FloatArray, Singles]:
    """Return a stretch by the extremes of what each pixel covers, (n,) and (m, n)."""
    size = len(t) // max(pixels, 1)
    if size < 2:
        return t, x
    count = len(t) // size
    cut = x[:, : count * size].reshape(len(x), count, size)
    return woven(t[: count * size : size], np.fmin.reduce(cut, axis=2), np.fmax.reduce(cut, axis=2), size)


class Trigger:
    """Finds crossings of a level by one channel as they come."""

    def __init__(self, store: LiveStore, place: int, level: float, *, rising: bool, before: float, after: float) -> None:
        self._store, self._place, self._level, self._sign = store, place, level, 1.0 if rising else -1.0
        self._before, self._after = before, after
        now = store.now
        self._from = now if not math.isnan(now) else -math.inf
        self._waits: list[float] = []

    def found(self) -> float | None:
        """Return the time [s] of the newest crossing around which everything has come, None where there is none new."""
        now = self._store.now
        if math.isnan(now):
            return None
        t, x = self._store.stretch(self._from, now, [self._place])
        if len(t) > 1:
            over = self._sign * (x[0] - self._level) >= 0.0
            known = np.isfinite(x[0])
            at = np.flatnonzero(over[1:] & ~over[:-1] & known[1:] & known[:-1]) + 1
            self._waits = [*self._waits, *t[at[-1:]].tolist()] if len(at) else self._waits
            self._from = float(t[-1])
        whole = [w for w in self._waits if w + self._after <= now]
        self._waits = [w for w in self._waits if w + self._after > now][:1]  # the first of them is whole soonest
        return whole[-1] if whole else None


def capture_columns(store: LiveStore, begin: float, end: float) -> tuple[FloatArray, Mapping[str, FloatArray]]:
    """Return times from 0 [s] and the signals of the capture format of a stretch [SI]; an angle that wraps goes on. Rows in which anything is missing are left out."""
    places = [k for k, c in enumerate(store.channels) if c.signal in SIGNALS]
    t, x = store.stretch(begin, end, places)
    whole = np.isfinite(x).all(axis=0)
    t, x = t[whole], x[:, whole]
    columns: dict[str, FloatArray] = {}
    for row, place in enumerate(places):
        channel = store.channels[place]
        values = x[row].astype(np.float64)
        columns[str(channel.signal)] = np.unwrap(values, period=channel.turn) if channel.turn else values
    return t - t[0] if len(t) else t, columns
