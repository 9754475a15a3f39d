"""A telemetry stream as firmware sends it over serial or TCP: frames in COBS with a CRC, or lines of text. Nothing can be written to it.

Frame: identifier (1 byte), counter (2 bytes, one more each frame), the values in the description's order, CRC-16 of all before it; low byte first throughout; stuffed
by COBS (S. Cheshire, M. Baker, IEEE/ACM Trans. Netw. 7, 1999), ended by a zero. The counter tells lost frames, and with the frame's period the time. CRC: polynomial
0x8005 reflected, start 0xFFFF, as Modbus has it. Lines: ``name=value`` with blanks or commas between, or bare values with commas in the description's order.
"""

from __future__ import annotations

import contextlib
import math
import os
import re
import select
import socket
import time
from collections.abc import Iterator, Sequence
from typing import Any, Protocol

import numpy as np

from crisp_compass.drive.description import Description, Entry
from crisp_compass.drive.link import LOOK, Count, DeniedError
from crisp_compass.drive.registers import physical
from crisp_compass.errors import Refusal
from crisp_compass.estimates import FloatArray, IntArray

#: First byte of each frame.
IDENTIFIER = 0xC5
#: Silence after which a stream counts as none, s; bytes that are taken at once; frames whose sum is wrong before anything was right.
_WAIT_S, _CHUNK, _MOST_WRONG = 3.0, 1 << 16, 2000
_KINDS = {"int16": "<i2", "uint16": "<u2", "int32": "<i4", "uint32": "<u4", "float32": "<f4"}


def _crc_table() -> IntArray:
    table = []
    for byte in range(256):
        crc = byte
        for _ in range(8):
            crc = (crc >> 1) ^ 0xA001 if crc & 1 else crc >> 1
        table.append(crc)
    return np.array(table, dtype=np.int64)


_CRC = _crc_table()


def crc_of(rows: IntArray) -> IntArray:
    """Return the CRC-16 of each row of bytes, (n, k) → (n,)."""
    crc = np.full(len(rows), 0xFFFF, dtype=np.int64)
    for k in range(rows.shape[1]):
        crc = (crc >> 8) ^ _CRC[(crc ^ rows[:, k]) & 0xFF]
    return crc


def unstuffed(rows: IntArray) -> tuple[IntArray, np.ndarray[Any, np.dtype[np.bool_]]]:
    """Take COBS off rows of one length, (n, k) → (n, k − 1), and tell which rows were stuffed rightly; for frames below 254 bytes."""
    count, length = rows.shape
    code_at = rows[:, 0].astype(np.int64)
    out = np.zeros((count, length - 1), dtype=np.int64)
    for k in range(1, length):
        is_code = code_at == k
        out[:, k - 1] = np.where(is_code, 0, rows[:, k])
        code_at = np.where(is_code, code_at + rows[:, k], code_at)
    return out, code_at == length


def frames_of(first: int, words: IntArray) -> list[bytes]:
    """Return rows of words of 16 bits, (n, k), as frames whose counters begin at ``first``; for frames below 254 bytes."""
    count, width = words.shape
    body = np.empty((count, 3 + 2 * width + 2), dtype=np.int64)
    counters = first + np.arange(count)
    body[:, 0], body[:, 1], body[:, 2] = IDENTIFIER, counters & 0xFF, counters >> 8 & 0xFF
    body[:, 3:-2:2], body[:, 4:-2:2] = words & 0xFF, words >> 8 & 0xFF
    sums = crc_of(body[:, :-2])
    body[:, -2], body[:, -1] = sums & 0xFF, sums >> 8 & 0xFF
    size = body.shape[1]
    out = np.zeros((count, size + 2), dtype=np.uint8)
    after = np.full(count, size + 1, dtype=np.int64)  # where the next zero stands, or the frame's end
    for k in range(size, 0, -1):
        zero = body[:, k - 1] == 0
        out[:, k] = np.where(zero, after - k, body[:, k - 1])
        after = np.where(zero, k, after)
    out[:, 0] = after
    return [row.tobytes() for row in out]


class Decoder:
    """Bytes in, rows out; the rest of a frame waits for the next bytes. ``lost`` counts frames that never came, ``broken`` those whose sum is wrong."""

    def __init__(self, description: Description) -> None:
        self._entries = description.telemetry
        self._binary = description.stream == "frames"
        self._layout = np.dtype([(f"v{k}", _KINDS[e.type]) for k, e in enumerate(self._entries)])
        self._size = 3 + self._layout.itemsize + 2
        self._waiting = b""
        self._last: int | None = None
        self.lost = self.broken = self.good = 0

    def feed(self, data: bytes) -> tuple[IntArray, FloatArray]:
        """Return frame numbers (n,), without jumps where the counter runs over, and physical values (n, entries)."""
        self._waiting += data
        end = self._waiting.rfind(b"\0" if self._binary else b"\n")
        if end < 0:
            self._waiting = self._waiting[-100_000:]
            return np.empty(0, dtype=np.int64), np.empty((0, len(self._entries)))
        whole, self._waiting = self._waiting[: end + 1], self._waiting[end + 1 :]
        return self._frames(whole) if self._binary else self._lines(whole)

    def _frames(self, data: bytes) -> tuple[IntArray, FloatArray]:
        raw = np.frombuffer(data, dtype=np.uint8)
        ends = np.flatnonzero(raw == 0)
        begins = np.concatenate([[0], ends[:-1] + 1])
        right = ends - begins == self._size + 1
        self.broken += int((~right & (ends > begins)).sum())
        if not right.any():
            return np.empty(0, dtype=np.int64), np.empty((0, len(self._entries)))
        rows = raw[begins[right][:, None] + np.arange(self._size + 1)].astype(np.int64)
        frames, whole = unstuffed(rows)
        sums = frames[:, -2] + (frames[:, -1] << 8)
        sound = whole & (crc_of(frames[:, :-2]) == sums) & (frames[:, 0] == IDENTIFIER)
        self.broken += int((~sound).sum())
        frames = frames[sound]
        self.good += len(frames)
        values = np.ascontiguousarray(frames[:, 3:-2].astype(np.uint8)).view(self._layout).reshape(-1)
        table = np.column_stack([values[f"v{k}"].astype(np.float64) * e.scale for k, e in enumerate(self._entries)]) if len(frames) else np.empty((0, len(self._entries)))  # fmt: skip
        return self._counted(frames[:, 1] + (frames[:, 2] << 8)), table

    def _counted(self, counters: IntArray) -> IntArray:
        """Return counters of 16 bits as numbers that only grow; what is missing between them was lost."""
        if not len(counters):
            return counters
        before = counters[0] - 1 if self._last is None else self._last
        steps = np.diff(np.concatenate([[before & 0xFFFF], counters])) % 65536
        self.lost += int(np.maximum(steps - 1, 0).sum())
        numbers: IntArray = (-1 if self._last is None else self._last) + np.cumsum(steps)
        if self._last is None:
            numbers = numbers - numbers[0] + counters[0]
        self._last = int(numbers[-1])
        return numbers

    def _lines(self, data: bytes) -> tuple[IntArray, FloatArray]:
        rows, names = [], {e.name: k for k, e in enumerate(self._entries)} | {e.signal: k for k, e in enumerate(self._entries) if e.signal}
        for text in data.decode("ascii", errors="replace").splitlines():
            row = self._line(text.strip(), names)
            if row is None:
                self.broken += bool(text.strip())
            else:
                rows.append(row)
        self.good += len(rows)
        first = 0 if self._last is None else self._last + 1
        self._last = first + len(rows) - 1
        return np.arange(first, first + len(rows), dtype=np.int64), np.array(rows).reshape(-1, len(self._entries))

    def _line(self, text: str, names: dict[str, int]) -> list[float] | None:
        try:
            if "=" in text:
                given = dict(part.split("=", 1) for part in re.split(r"[,;\s]+", text) if part)
                row = [math.nan] * len(self._entries)
                for name, value in given.items():
                    if name in names:
                        row[names[name]] = float(value)
            else:
                row = [float(part) for part in re.split(r"[,;\s]+", text) if part]
        except ValueError:
            return None
        if len(row) != len(self._entries) or not all(map(math.isfinite, row)):
            return None
        return [physical(e, v) for e, v in zip(self._entries, row, strict=True)]


class _Source(Protocol):
    def read(self, seconds: float) -> bytes:
        """Return what came within a time, empty for nothing."""

    def close(self) -> None:
        """Hang up."""


class _Socket:
    def __init__(self, host: str, port: int) -> None:
        self._socket = socket.create_connection((host, port), timeout=_WAIT_S)

    def read(self, seconds: float) -> bytes:
        ready, _, _ = select.select([self._socket], [], [], seconds)
        if not ready:
            return b""
        data = self._socket.recv(_CHUNK)
        if not data:
            raise ConnectionError
        return data

    def close(self) -> None:
        self._socket.close()


class _Serial:
    def __init__(self, device: str, description: Description) -> None:
        import serial  # type: ignore[import-untyped]

        self._port = serial.Serial(device, description.baud or 115200, parity=description.parity, stopbits=description.stop_bits, timeout=0)

    def read(self, seconds: float) -> bytes:
        select.select([self._port], [], [], seconds)
        return bytes(self._port.read(_CHUNK))

    def close(self) -> None:
        self._port.close()


class StreamLink:
    """An open stream. Raises Refusal beginning with ``--link`` where nothing, or nothing sensible, comes."""

    def __init__(self, source: _Source, description: Description) -> None:
        self._source, self.description = source, description
        self._decoder = Decoder(description)
        self._began = time.monotonic()
        self._told = 0.0

    @property
    def count(self) -> Count:
        """Frames that came, and those that were lost or broken on the way."""
        decoder = self._decoder
        return Count(decoder.good + decoder.lost + decoder.broken, decoder.lost + decoder.broken)

    def read(self, entries: Sequence[Entry]) -> dict[str, float]:
        """Return the newest values; waits for a frame."""
        _, values = self._next()
        place = {e.name: k for k, e in enumerate(self.description.telemetry)}
        return {e.name: float(values[-1, place[e.name]]) for e in entries if e.name in place}

    def write(self, entry: Entry, raw: float) -> None:
        """Refuse: nobody listens at the other end."""
        raise DeniedError(1, "a stream only tells")

    def collect(self, entries: Sequence[Entry], seconds: float) -> tuple[list[float], list[dict[str, float]], int]:
        """Return times [s], values, and how many frames were lost or broken, of a stretch of the stream."""
        place = {e.name: k for k, e in enumerate(self.description.telemetry)}
        numbers: list[IntArray] = []
        tables: list[FloatArray] = []
        arrived: list[float] = []
        end = time.monotonic() + seconds
        while time.monotonic() < end or not numbers:
            try:
                found, values = self._next(end if numbers else None)
            except Refusal:
                if not numbers:
                    raise
                break  # what came so far is kept
            numbers.append(found)
            tables.append(values)
            arrived += [time.monotonic() - self._began] * len(found)
        count, table = np.concatenate(numbers), np.vstack(tables)
        period = self.description.period_s
        times = (count - count[0]) * period if period else _spread(np.array(arrived))
        columns = [(e.name, table[:, place[e.name]].tolist()) for e in entries]
        rows = [dict(zip([n for n, _ in columns], row, strict=True)) for row in zip(*(c for _, c in columns), strict=True)]
        return times.tolist(), rows, self._decoder.lost + self._decoder.broken

    def rows(self) -> tuple[FloatArray, FloatArray]:
        """Wait for rows and return their numbers, or where no period is known the times [s] at which they came, (n,), and values, (n, entries)."""
        began = time.monotonic() - self._began
        numbers, values = self._next()
        if self.description.period_s:
            return numbers.astype(np.float64), values
        now = time.monotonic() - self._began
        first = max(self._told, min(began, now))
        self._told = now
        return first + (now - first) * (1.0 + np.arange(len(numbers))) / len(numbers), values

    def _next(self, until: float | None = None) -> tuple[IntArray, FloatArray]:
        """Return the next rows; none where nothing came ``until`` a moment."""
        end = time.monotonic() + _WAIT_S
        while True:
            try:
                numbers, values = self._decoder.feed(self._source.read(0.05))
            except OSError:
                raise Refusal("the stream broke off", LOOK, where="--link") from None
            if len(numbers) or (until is not None and time.monotonic() > until):
                return numbers, values
            if time.monotonic() > end or (self._decoder.good == 0 and self._decoder.broken > _MOST_WRONG):
                what = "what comes is no frame of this description" if self._decoder.broken else "nothing comes"
                raise Refusal(what, LOOK, where="--link")


def _spread(arrived: FloatArray) -> FloatArray:
    """Return times of rows that came in bunches, spread evenly over the whole stretch: their own clock is not known."""
    if len(arrived) < 2 or arrived[-1] <= arrived[0]:
        return np.arange(len(arrived), dtype=np.float64) * 1e-3
    return np.arange(len(arrived), dtype=np.float64) * (float(arrived[-1] - arrived[0]) / (len(arrived) - 1))


@contextlib.contextmanager
def open_stream(link: str, description: Description) -> Iterator[StreamLink]:
    """Give an open stream over ``tcp:HOST:PORT``, ``serial:DEVICE`` or ``pty:DEVICE``."""
    kind, _, rest = link.partition(":")
    try:
        if kind == "tcp":
            host, _, port = rest.rpartition(":")
            if not host or not port.isdigit():
                raise Refusal(f"“{rest[:80]}” is no address", "write tcp:HOST:PORT", where="--link")
            source: _Source = _Socket(host.strip("[]"), int(port))
        elif kind in ("serial", "pty"):
            source = _Serial(rest, description)
        else:
            raise Refusal(f"“{link[:80]}” is no link of a stream", "write tcp:HOST:PORT or serial:DEVICE", where="--link")
    except OSError as error:
        why = os.strerror(error.errno) if error.errno else str(error)[:100]
        raise Refusal(f"{rest[:120]} cannot be opened ({why})", "start the sender, or name its port", where="--link") from None
    try:
        yield StreamLink(source, description)
    finally:
        source.close()
