"""A serial line that is not known yet: the ports there are, and framing and address of the drive found by asking.

The requests are those of the Modbus serial line specification (V1.02, 2.5.1: address, function, data, CRC-16, silence of 3.5 characters between frames); a register
is read and nothing is written, so that whatever hears it does nothing. What comes back tells more than that nobody answered: bytes nobody asked for, our own, none
that make a frame, another address.
"""

from __future__ import annotations

import contextlib
import errno
import grp
import os
import termios
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from crisp_compass.errors import Refusal

Parity = Literal["N", "E", "O"]
#: Rates and parities, the commonest first; the specification's own default is even parity at 19,200.
RATES = (115200, 19200, 9600, 38400, 57600, 230400, 4800, 2400)
PARITIES: tuple[Parity, ...] = ("N", "E", "O")
#: Wait for an answer beyond the time that its bytes take, s; how long a line is listened to first, s.
_THINKS_S, _LISTENS_S = 0.06, 0.25
#: Time that a port is waited for which somebody may just be letting go, s: a conversation with a dead line takes its time to end.
_LETS_GO_S = 5.0
#: Bytes of a request, and of the answer to one register.
_ASKED, _ANSWERED = 8, 7
_PARITY_WORDS = {"N": "no parity", "E": "even parity", "O": "odd parity"}


@dataclass(frozen=True)
class SerialPort:
    """A port of this machine: its link, and what is known of the adapter."""

    link: str
    text: str


@dataclass(frozen=True)
class Framing:
    """How bytes are sent: rate [baud], parity and stop bits."""

    baud: int
    parity: Parity = "N"
    stop_bits: Literal[1, 2] = 1

    @property
    def text(self) -> str:
        """In words."""
        return f"{self.baud} baud, {_PARITY_WORDS[self.parity]}, {self.stop_bits} stop bit{'s' if self.stop_bits == 2 else ''}"

    @property
    def byte_s(self) -> float:
        """Time that a byte takes, s: start bit, eight bits, parity, stop bits."""
        return (9 + (self.parity != "N") + self.stop_bits) / self.baud


@dataclass(frozen=True)
class FoundDrive:
    """What answered: how it is spoken to, as which unit, whether with a value (an exception is an answer, too), and whether somebody sends who was not asked."""

    framing: Framing
    unit: int
    value: bool
    unasked: bool = False


@dataclass(frozen=True)
class Trial:
    """One question: how, to whom, and what came (``answer``, ``exception``, ``foreign``: another unit's frame, ``echo``, ``garbage``, ``silence``)."""

    framing: Framing
    unit: int
    came: Literal["answer", "exception", "foreign", "echo", "garbage", "silence"]
    other: int = 0


def serial_ports() -> list[SerialPort]:
    """Return the serial ports that this machine has."""
    from serial.tools import list_ports  # type: ignore[import-untyped]

    return [SerialPort(f"serial:{p.device}", p.description if p.description not in (None, "n/a") else p.device) for p in sorted(list_ports.comports())]


def can_interfaces() -> list[SerialPort]:
    """Return the CAN interfaces that this machine has."""
    import can

    try:
        found = can.detect_available_configs("socketcan")
    except Exception:  # an interface's driver may fail in its own ways; then there is none
        return []
    return [SerialPort(f"can:{c['channel']}", f"CAN interface {c['channel']}") for c in found]


def trials(framings: Sequence[Framing], units: Sequence[int]) -> Iterator[tuple[Framing, int]]:
    """Give what is tried, the likeliest first: the first unit with every framing, then the others with every framing."""
    for unit in units:
        for framing in framings:
            yield framing, unit


def framings(first: Framing | None = None) -> list[Framing]:
    """Return the framings that are tried, ``first`` before the others; without parity the specification wants two stop bits, and most devices send one."""
    others = [Framing(rate, parity) for parity in PARITIES for rate in RATES]
    return [first, *(f for f in others if f != first)] if first else others


def search(device: str, units: Sequence[int], first: Framing | None = None, *, register: int = 0, table: str = "holding", tell: Callable[[float, Trial | None], None] = lambda *_: None) -> FoundDrive:
    """Ask until somebody answers; ``tell`` hears how far it is [0 to 1] and may raise to end it.

    A unit that heard another's answer (``foreign``) is asked at once. Raises Refusal saying what the silence, or the noise, may mean.
    """
    asked = list(trials(framings(first), units))
    came: list[Trial] = []
    sent = b""  # what was asked last, too: a slow adapter's echo comes after the wait for it is over
    with opened(device) as port:
        unasked = _listen(port, asked[0][0])
        for k, (framing, unit) in enumerate(asked):
            tell(k / len(asked), came[-1] if came else None)
            request = _request(unit, register, table)
            trial = _ask(port, framing, request, sent)
            if trial is None:
                continue
            came.append(trial)
            sent = request
            if trial.came == "foreign" and trial.other not in units:
                sent = _request(trial.other, register, table)
                trial = _ask(port, framing, sent, request) or trial
            if trial.came in ("answer", "exception"):
                return FoundDrive(trial.framing, trial.unit, trial.came == "answer", unasked)
    raise Refusal(*verdict(came, unasked=unasked), where=device)


def verdict(came: Sequence[Trial], *, unasked: bool) -> tuple[str, str]:
    """Return what it means that nobody answered sensibly, and what to do."""
    kinds = {t.came for t in came}
    units = sorted({t.unit for t in came})
    who = f"unit {units[0]}" if len(units) == 1 else f"{len(units)} units from {units[0]} to {units[-1]}"
    if unasked:
        return "somebody sends on this line who was not asked: another master, or a drive that tells by itself", "let one master ask; disconnect the other"
    if sum(t.came == "echo" for t in came) > len(came) / 2 and "foreign" not in kinds:  # an adapter hears itself at every rate; a question or two may be disturbed
        return f"only our own requests come back, and {who} did not answer", "switch the adapter's echo off; if it already is, look at the drive's side of the pair"
    if "garbage" in kinds:
        return "bytes come, but at no rate and parity do they make a frame", "swap the two wires of the pair, look at its termination and common, and at other rates in the drive's menu"
    return f"nothing answers: {who} at {len({t.framing for t in came})} framings were asked", "look at power, wires and termination, and at the address in the drive's menu"


@contextlib.contextmanager
def opened(device: str) -> Iterator[Any]:
    """Give a port that is opened for this program alone, once whoever had it has let go; raises Refusal in a person's words."""
    import serial  # type: ignore[import-untyped]

    until = time.monotonic() + _LETS_GO_S
    while True:
        try:
            port = serial.Serial(device, exclusive=True, timeout=0)
            break
        except (serial.SerialException, OSError, ValueError) as error:
            refusal = unopened(device, error)
            if refusal.code != "busy" or time.monotonic() > until:
                raise refusal from None
            time.sleep(0.05)
    try:
        yield port
    finally:
        port.close()


def unopened(device: str, error: Exception) -> Refusal:
    """Return why a serial port cannot be opened, and what to do about it."""
    code = getattr(error, "errno", None)
    name = device[:120]
    if code in (errno.EACCES, errno.EPERM):
        try:
            group = grp.getgrgid(os.stat(device).st_gid).gr_name
        except (OSError, KeyError):
            group = "its owner"
        return Refusal("you may not use this port", f"have yourself added to the group “{group}”, and log in again", where=name)
    if code == errno.ENOENT:
        return Refusal("there is no such port", "plug the adapter in, or look at its name", where=name)
    if code in (errno.EBUSY, errno.EAGAIN) or "lock" in str(error):
        return Refusal("another program has this port", "close it there", where=name, code="busy")
    return Refusal("this is no serial port that can be opened", "look at its name", where=name)


def _listen(port: Any, framing: Framing) -> bool:
    """Tell whether bytes come that nobody asked for."""
    _set(port, framing)
    until = time.monotonic() + _LISTENS_S
    while time.monotonic() < until:
        if port.read(256):
            return True
        time.sleep(0.005)
    return False


def _set(port: Any, framing: Framing) -> bool:
    """Set the framing; tell whether the adapter has it."""
    try:
        port.baudrate, port.parity, port.stopbits = framing.baud, framing.parity, framing.stop_bits
        port.reset_input_buffer()
    except (termios.error, ValueError):
        port.parity = "N"  # what was refused would be tried again with the next change
        return False
    return True


def _request(unit: int, register: int, table: str) -> bytes:
    """Return the question to one unit for one register."""
    body = bytes((unit, 3 if table == "holding" else 4, register >> 8, register & 0xFF, 0, 1))
    return body + _crc(body)


def _ask(port: Any, framing: Framing, request: bytes, before: bytes) -> Trial | None:
    """Ask a question, after the question ``before``; None where the adapter does not have the framing."""
    import serial

    unit = request[0]
    try:
        if not _set(port, framing):
            return None
        port.write(request)
        port.flush()
        heard, until = b"", time.monotonic() + (_ASKED + _ANSWERED) * framing.byte_s + _THINKS_S
        while time.monotonic() < until:
            new = port.read(256)
            heard += new
            rest = _beyond_echo(heard, before + request)
            if new and _frame(rest) is not None:
                break
            time.sleep(0.002)
    except (serial.SerialException, OSError):
        raise Refusal("the port went away", "plug the adapter in again", where=port.name) from None
    rest = _beyond_echo(heard, before + request)
    frame = _frame(rest)
    if frame is None:
        return Trial(framing, unit, "echo" if heard and not rest else "garbage" if heard else "silence")
    if frame[0] != unit:
        return Trial(framing, unit, "foreign", frame[0])
    return Trial(framing, unit, "exception" if frame[1] & 0x80 else "answer")


def _beyond_echo(heard: bytes, sent: bytes) -> bytes:
    """Return what was heard behind the echo of what was sent, whose beginning may have been heard before; a piece of it alone leaves nothing.

    Less than four bytes are no echo: noise has them, too.
    """
    if len(heard) >= 4 and heard in sent:
        return b""
    return next((heard[len(sent) - k :] for k in range(len(sent) - 3) if heard.startswith(sent[k:])), heard)


def _frame(heard: bytes) -> bytes | None:
    """Return the frame that bytes are: an exception of five or an answer of one register, with its CRC."""
    for size in (5, _ANSWERED):
        if len(heard) >= size and _crc(heard[: size - 2]) == heard[size - 2 : size] and bool(heard[1] & 0x80) == (size == 5):
            return heard[:size]
    return None


def _crc(body: bytes) -> bytes:
    """Return the CRC-16 of a frame as it is sent, low byte first (Modbus serial line V1.02, 6.2.2)."""
    from pymodbus.framer import FramerRTU

    return FramerRTU.compute_CRC(body).to_bytes(2, "big")
