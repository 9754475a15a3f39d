"""The simulated drive behind Modbus, over TCP or as RTU on a pseudo-terminal.

Frames and exceptions by the MODBUS Application Protocol Specification V1.1b3, the Messaging on TCP/IP Implementation Guide V1.0b and the Serial Line
Protocol V1.02. A common server keeps a table of registers; this one has to know who asks, refuse half a value and change nothing where it refuses, so it is our own.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import random
import signal
import struct
import tty
from collections.abc import Callable
from dataclasses import dataclass

from crisp_compass.drive.description import Entry
from crisp_compass.drive.live_line import LiveServer
from crisp_compass.drive.registers import from_registers, to_registers
from crisp_compass.drive.served import ServedDrive
from crisp_compass.drive.served_rules import Denial
from crisp_compass.errors import Refusal

_UNKNOWN, _ADDRESS, _VALUE, _STATE = 1, 2, 3, 6
_CODES = {Denial.ADDRESS: _ADDRESS, Denial.LIMITS: _VALUE, Denial.STATE: _STATE}
#: Most registers of a request (specification, 6.3, 6.4, 6.12).
_MOST_READ, _MOST_WRITTEN = 125, 123
#: Time between two looks at the plant, s.
_TICK_S = 0.005
#: A serial frame ends with silence: 3.5 characters at the baud rate, and no less than a pseudo-terminal delivers apart, s.
_SILENCE_S = 0.02


class _RefusedError(Exception):
    def __init__(self, code: int) -> None:
        super().__init__(code)
        self.code = code


@dataclass(frozen=True)
class Line:
    """How bad the line is: the shares of answers that are ``lost`` and, on a serial line, ``broken``, and how late [s] each comes; the same ``seed`` does the same."""

    lost: float = 0.0
    broken: float = 0.0
    latency: float = 0.0
    seed: int = 1


class _Weather:
    """Spoils answers as a line is said to."""

    def __init__(self, line: Line) -> None:
        self.line = line
        self._random = random.Random(line.seed)

    def spoiled(self, frame: bytes) -> bytes | None:
        """Return a serial frame as it arrives, None where it does not."""
        if self._random.random() < self.line.lost:
            return None
        if self._random.random() < self.line.broken:
            place = self._random.randrange(len(frame))
            return frame[:place] + bytes((frame[place] ^ (1 << self._random.randrange(8)),)) + frame[place + 1 :]
        return frame

    def lost(self) -> bool:
        """Tell whether an answer over TCP does not come; one that comes is whole, as TCP has its own checks."""
        return self._random.random() < self.line.lost


class Registers:
    """Requests without their envelope, in and out; one for all clients of a drive. Where several may share a line, no request ``feeds`` the watchdog but the heartbeat."""

    def __init__(self, drive: ServedDrive, *, feeds: bool = True) -> None:
        self.drive, self._feeds = drive, feeds
        self._map: dict[str, dict[int, Entry]] = {"holding": {}, "input": {}}
        for entry in drive.description.entries():
            assert entry.address is not None
            self._map[entry.table or "holding"][entry.address] = entry
        scope = drive.description.scope
        self._window = range(scope.window, scope.window + scope.page) if scope is not None else range(0)

    def answer(self, request: bytes, client: object) -> bytes:
        """Return the answer to a request (function and data) of a client, an exception where it is refused."""
        function = request[0]
        try:
            if function in (3, 4):
                reply = self._read(request, "holding" if function == 3 else "input")
            elif function == 6:
                reply = self._write_one(request, client)
            elif function == 16:
                reply = self._write_many(request, client)
            else:
                raise _RefusedError(_UNKNOWN)
        except _RefusedError as refused:
            return bytes((function | 0x80, refused.code))
        finally:
            if self._feeds:
                self.drive.fed(client)
        return reply

    def _entries(self, table: str, address: int, count: int) -> list[Entry]:
        """Return the entries that a range is made of, whole ones only."""
        found, at = [], address
        while at < address + count:
            entry = self._map[table].get(at)
            if entry is None or at + entry.width > address + count:
                raise _RefusedError(_ADDRESS)
            found.append(entry)
            at += entry.width
        return found

    def _read(self, request: bytes, table: str) -> bytes:
        if len(request) != 5:
            raise _RefusedError(_VALUE)
        address, count = struct.unpack(">HH", request[1:])
        if not 1 <= count <= _MOST_READ:
            raise _RefusedError(_VALUE)
        order, words = self.drive.description.word_order, []
        if table == "input" and address in self._window:
            if address + count > self._window.stop:
                raise _RefusedError(_ADDRESS)
            words = [int(self.drive.word(address - self._window.start + k)) for k in range(count)]
            return bytes((request[0], 2 * count)) + b"".join(w.to_bytes(2, "big") for w in words)
        for entry in self._entries(table, address, count):
            words += to_registers(entry, self.drive.read(entry), order)
        return bytes((request[0], 2 * count)) + b"".join(w.to_bytes(2, "big") for w in words)

    def _write_one(self, request: bytes, client: object) -> bytes:
        if len(request) != 5:
            raise _RefusedError(_VALUE)
        address, word = struct.unpack(">HH", request[1:])
        entry = self._entries("holding", address, 1)[0]
        self._write([(entry, [word])], client)
        return request

    def _write_many(self, request: bytes, client: object) -> bytes:
        if len(request) < 6:
            raise _RefusedError(_VALUE)
        address, count, size = struct.unpack(">HHB", request[1:6])
        if not 1 <= count <= _MOST_WRITTEN or size != 2 * count or len(request) != 6 + size:
            raise _RefusedError(_VALUE)
        words = list(struct.unpack(f">{count}H", request[6:]))
        parts = []
        for entry in self._entries("holding", address, count):
            parts.append((entry, words[: entry.width]))
            words = words[entry.width :]
        self._write(parts, client)
        return request[:5]

    def _write(self, parts: list[tuple[Entry, list[int]]], client: object) -> None:
        """Write all of a request or nothing of it."""
        values = [(entry, from_registers(entry, words, self.drive.description.word_order)) for entry, words in parts]
        for entry, raw in values:
            denied = self.drive.deny(entry, raw, client)
            if denied is not None:
                raise _RefusedError(_CODES[denied])
        for entry, raw in values:
            self.drive.write(entry, raw, client)


def crc16(data: bytes) -> int:
    """Return the check of a serial frame: CRC-16 with the polynomial 0xA001 (Serial Line Protocol V1.02, 6.2.2)."""
    crc = 0xFFFF
    for byte in data:
        crc ^= byte
        for _ in range(8):
            crc = (crc >> 1) ^ 0xA001 if crc & 1 else crc >> 1
    return crc


async def _clock(drive: ServedDrive, ended: asyncio.Event) -> None:
    """Let the drive's time pass with the clock's until the end."""
    loop = asyncio.get_running_loop()
    last = loop.time()
    while not ended.is_set():
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(ended.wait(), _TICK_S)
        now = loop.time()
        drive.tick(now - last)
        last = now


class _Tcp:
    """Connections over TCP; each is a client."""

    def __init__(self, registers: Registers, line: Line) -> None:
        self._registers, self._weather = registers, _Weather(line)
        self._writers: set[asyncio.StreamWriter] = set()

    async def serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Answer one client until it is gone or sends what is no frame."""
        client = object()
        self._writers.add(writer)
        try:
            while True:
                head = await reader.readexactly(7)
                transaction, protocol, length, unit = struct.unpack(">HHHB", head)
                if protocol != 0 or not 2 <= length <= 254:
                    return
                request = await reader.readexactly(length - 1)
                if unit != self._registers.drive.description.unit_id:
                    continue
                reply = self._registers.answer(request, client)
                if self._weather.line.latency > 0:
                    await asyncio.sleep(self._weather.line.latency)
                if self._weather.lost():
                    continue
                writer.write(struct.pack(">HHHB", transaction, 0, len(reply) + 1, unit) + reply)
                await writer.drain()
        except (asyncio.IncompleteReadError, ConnectionError, TimeoutError, asyncio.CancelledError):
            pass  # gone, or the server ends
        finally:
            self._registers.drive.lost(client)
            self._writers.discard(writer)
            writer.close()

    def close(self) -> None:
        """Let go of every client."""
        for writer in list(self._writers):
            writer.close()


class _Serial:
    """One line with one client, on a pseudo-terminal."""

    def __init__(self, registers: Registers, master: int, line: Line) -> None:
        self._registers, self._master, self._weather = registers, master, _Weather(line)
        self._waiting = b""
        self._client = object()
        self._timer: asyncio.TimerHandle | None = None
        self._loop = asyncio.get_running_loop()
        self._loop.add_reader(master, self._on_bytes)

    def close(self) -> None:
        """Listen no more."""
        self._loop.remove_reader(self._master)

    def _on_bytes(self) -> None:
        try:
            self._waiting += os.read(self._master, 4096)
        except (BlockingIOError, OSError):
            return
        if self._timer is not None:
            self._timer.cancel()
        self._timer = self._loop.call_later(_SILENCE_S, self._on_silence)
        size = self._expected()
        if size is not None and len(self._waiting) >= size and crc16(self._waiting[:size]) == 0:
            frame, self._waiting = self._waiting[:size], self._waiting[size:]
            self._answer(frame)

    def _expected(self) -> int | None:
        """Return how long the frame that has begun is, as far as its function tells."""
        if len(self._waiting) < 8:
            return None
        return 9 + self._waiting[6] if self._waiting[1] == 16 else 8

    def _on_silence(self) -> None:
        frame, self._waiting = self._waiting, b""
        if 4 <= len(frame) <= 256 and crc16(frame) == 0:  # a function whose length nobody knows
            self._answer(frame)

    def _answer(self, frame: bytes) -> None:
        if frame[0] != self._registers.drive.description.unit_id:
            return
        reply = bytes((frame[0],)) + self._registers.answer(frame[1:-2], self._client)
        spoiled = self._weather.spoiled(reply + crc16(reply).to_bytes(2, "little"))
        if spoiled is not None:
            self._loop.call_later(self._weather.line.latency, self._send, spoiled)

    def _send(self, frame: bytes) -> None:
        with contextlib.suppress(OSError):
            os.write(self._master, frame)


def _address(link: str) -> tuple[str, int]:
    host, _, port = link.removeprefix("tcp:").rpartition(":")
    if not host or not port.isdigit() or not 0 <= int(port) <= 65535:
        raise Refusal(f"“{link[:80]}” is no address", "write tcp:HOST:PORT, with port 0 for any that is free", where="--link")
    return host.strip("[]"), int(port)


async def serve_tcp(drive: ServedDrive, link: str, ready: Callable[[str], None], line: Line) -> None:
    """Serve over TCP until SIGTERM or SIGINT; ``ready`` is told the link that others take."""
    host, port = _address(link)
    ended = _ended()
    tcp = _Tcp(Registers(drive), line)
    live = LiveServer(drive, lost=line.lost, broken=line.broken, seed=line.seed)
    try:
        server = await asyncio.start_server(tcp.serve, host, port)
    except (OSError, UnicodeError) as error:
        why = error.strerror if isinstance(error, OSError) and error.strerror else "no such host"
        raise Refusal(f"nothing can listen at {host} port {port} ({why})", "name another port, or 0 for any", where="--link") from None
    bound = server.sockets[0].getsockname()
    await live.open(host)
    ready(f"tcp:{host}:{bound[1]}")
    try:
        await _clock(drive, ended)
    finally:
        server.close()
        tcp.close()
        live.close()


async def serve_pty(drive: ServedDrive, ready: Callable[[str], None], bad: Line) -> None:
    """Serve as RTU on a pseudo-terminal until SIGTERM or SIGINT."""
    ended = _ended()
    master, line = os.openpty()
    tty.setraw(line)  # kept open here, so that the line stays when a client closes it
    os.set_blocking(master, False)
    serial = _Serial(Registers(drive, feeds=False), master, bad)
    live = LiveServer(drive, lost=bad.lost, broken=bad.broken, seed=bad.seed)
    await live.open("127.0.0.1")
    ready(f"pty:{os.ttyname(line)}")
    try:
        await _clock(drive, ended)
    finally:
        serial.close()
        live.close()
        os.close(master)
        os.close(line)


def _ended() -> asyncio.Event:
    ended = asyncio.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        asyncio.get_running_loop().add_signal_handler(number, ended.set)
    return ended
