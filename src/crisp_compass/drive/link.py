"""A drive at the other end of a wire, as its description names it: reads and writes by name, over Modbus TCP or RTU (pymodbus, pyserial).

What answers is not believed: a silent, a foreign and a broken device are each said in one sentence.
"""

from __future__ import annotations

import contextlib
import logging
import math
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from crisp_compass.drive.description import Description, Entry
from crisp_compass.drive.registers import from_registers, physical, to_registers
from crisp_compass.errors import Refusal
from crisp_compass.plugins import registry

#: Longest wait for an answer, s, and how often it is asked again.
_WAIT_S, _AGAIN = 1.5, 2
#: Registers that one request may ask for.
_MOST = 120
_EXCEPTIONS = {
    1: "it does not know the function", 2: "it does not know the address, or it may not be written", 3: "the value is outside its limits", 4: "it failed",
    5: "it is not done yet", 6: "it is not armed, or somebody else commands it", 10: "its gateway finds no way", 11: "no device behind the gateway answers",
}  # fmt: skip
LOOK = "look at power, wires, address and rate, and that the description is of this drive"


class DeniedError(Exception):
    """A device refused a request: the ``code`` of its exception, and what that means, without a full stop."""

    def __init__(self, code: int, text: str | None = None) -> None:
        super().__init__(code)
        self.code = code
        self.text = text or _EXCEPTIONS.get(code, f"exception 0x{code:X}")


@dataclass
class Count:
    """How a line does: frames that were asked for, and those of them that came broken, late or not at all, so that they were asked for again or are lost."""

    asked: int = 0
    failed: int = 0


class AnyLink(Protocol):
    """An open line, whatever it is made of."""

    @property
    def count(self) -> Count:
        """How it does."""

    def read(self, entries: Sequence[Entry]) -> dict[str, float]:
        """Return the physical values of entries by name; nothing for what the drive refuses."""

    def write(self, entry: Entry, raw: float) -> None:
        """Write a raw number; raises DeniedError where the drive refuses."""


class Link:
    """An open line to a drive. Raises Refusal beginning with ``--link`` where nothing, or nothing sensible, answers."""

    def __init__(self, client: Any, description: Description, count: Count) -> None:
        self._client, self.description, self.count = client, description, count

    def close(self) -> None:
        """Hang up."""
        self._client.close()

    def read(self, entries: Sequence[Entry]) -> dict[str, float]:
        """Return the physical values of entries by name; NaN where the drive says that it holds none, nothing for what it refuses."""
        found: dict[str, float] = {}
        for block in blocks(entries):
            try:
                words = self._words(block[0].table or "holding", block[0].address or 0, sum(e.width for e in block))
            except DeniedError:
                if len(block) == 1:
                    continue
                for entry in block:  # a drive that reads no two at once
                    found |= self.read([entry])
                continue
            for entry in block:
                raw = from_registers(entry, words[: entry.width], self.description.word_order)
                found[entry.name] = physical(entry, raw) if math.isfinite(raw) else raw
                words = words[entry.width :]
        return found

    def words(self, address: int, count: int) -> list[int]:
        """Return input registers as they are; raises Refusal where the drive does not let them be read."""
        try:
            return self._words("input", address, count)
        except DeniedError as denied:
            raise Refusal(f"the drive does not let its capture memory be read: {denied.text}", LOOK, where="--link") from None

    def write(self, entry: Entry, raw: float) -> None:
        """Write a raw number; raises DeniedError where the drive refuses."""
        words = to_registers(entry, raw, self.description.word_order)
        unit, address = self.description.unit_id, entry.address or 0
        if len(words) == 1:
            self._checked(lambda: self._client.write_register(address, words[0], device_id=unit))
        else:
            self._checked(lambda: self._client.write_registers(address, words, device_id=unit))

    def _words(self, table: str, address: int, count: int) -> list[int]:
        ask = self._client.read_holding_registers if table == "holding" else self._client.read_input_registers
        answer = self._checked(lambda: ask(address, count=count, device_id=self.description.unit_id))
        words = list(answer.registers)
        if len(words) != count:
            raise Refusal(f"the drive answered with {len(words)} registers instead of {count}", LOOK, where="--link")
        return words

    def _checked(self, ask: Any) -> Any:
        from pymodbus.exceptions import ModbusException

        sent = self.count.asked
        try:
            answer = ask()
        except ModbusException:
            raise Refusal(f"nothing sensible answers as unit {self.description.unit_id}", LOOK, where="--link") from None
        except (OSError, ValueError, IndexError, AttributeError, TypeError):  # what a client makes of bytes that are none of its frames
            raise Refusal("the line broke, or what answers speaks something else", LOOK, where="--link") from None
        finally:
            self.count.failed += max(self.count.asked - sent - 1, 0)  # every one beyond the first was sent again
        if answer is None:
            raise Refusal(f"nothing answers as unit {self.description.unit_id}", LOOK, where="--link")
        if answer.isError():
            code = getattr(answer, "exception_code", None)
            if code in (10, 11) or code is None:
                raise Refusal(f"no drive answers as unit {self.description.unit_id}", LOOK, where="--link")
            raise DeniedError(code)
        return answer


def blocks(entries: Sequence[Entry]) -> Iterator[list[Entry]]:
    """Give entries that lie one right behind the other together, as many as a request may ask for."""
    ordered = sorted(entries, key=lambda e: (e.table or "", e.address or 0))
    block: list[Entry] = []
    for entry in ordered:
        last = block[-1] if block else None
        follows = last is not None and last.table == entry.table and (last.address or 0) + last.width == entry.address
        if block and (not follows or sum(e.width for e in block) + entry.width > _MOST):
            yield block
            block = []
        block.append(entry)
    if block:
        yield block


@contextlib.contextmanager
def open_link(link: str, description: Description) -> Iterator[AnyLink]:
    """Give an open line to ``link`` (``tcp:HOST:PORT``, ``pty:DEVICE``, ``serial:DEVICE``, ``can:CHANNEL``) and close it at the end."""
    if description.streams:
        from crisp_compass.drive.stream import open_stream

        with open_stream(link, description) as told:
            yield told
        return
    scheme, _, beyond = link.partition(":")
    if scheme in registry().links:  # somebody's own protocol
        with registry().links[scheme](beyond, description) as opened:
            yield opened
        return
    over_can = link.startswith("can:")
    if over_can != description.over_can:
        raise Refusal(f"the description is of a drive over {description.protocol}", "name a link of that kind", where="--link")
    if over_can:
        from crisp_compass.drive.can_bus import open_can

        with open_can(link, description) as opened:
            yield opened
        return
    logging.getLogger("pymodbus").setLevel(logging.CRITICAL)
    kind, _, rest = link.partition(":")
    if kind not in ("tcp", "pty", "serial") or not rest:
        raise Refusal(f"“{link[:80]}” is no link", "write tcp:HOST:PORT, pty:DEVICE, serial:DEVICE or can:CHANNEL", where="--link")
    count = Count()

    def sent(sending: bool, frame: bytes) -> bytes:
        count.asked += sending
        return frame

    client = _tcp(rest, sent) if kind == "tcp" else _serial(rest, description, sent)
    try:
        if not client.connect():
            raise Refusal(f"nothing listens at {rest[:120]}", "start the drive, or name its address", where="--link")
    except OSError as error:
        raise Refusal(f"{rest[:120]} cannot be opened ({error.strerror})", "look at the name and at who may use it", where="--link") from None
    line = Link(client, description, count)
    try:
        yield line
    finally:
        line.close()


def _tcp(rest: str, sent: Callable[[bool, bytes], bytes]) -> Any:
    from pymodbus.client import ModbusTcpClient

    host, _, port = rest.rpartition(":")
    if not host or not port.isdigit() or not 0 < int(port) <= 65535:
        raise Refusal(f"“{rest[:80]}” is no address", "write tcp:HOST:PORT", where="--link")
    return ModbusTcpClient(host.strip("[]"), port=int(port), timeout=_WAIT_S, retries=_AGAIN, trace_packet=sent)


def _serial(device: str, description: Description, sent: Callable[[bool, bytes], bytes]) -> Any:
    from pymodbus.client import ModbusSerialClient

    from crisp_compass.drive.line_search import opened

    try:
        with opened(device):  # the client says only that it cannot
            pass
    except Refusal as refusal:
        raise Refusal(f"{refusal.where}: {refusal.problem}", refusal.remedy, where="--link") from None
    return ModbusSerialClient(
        device, baudrate=description.baud or 115200, parity=description.parity, stopbits=description.stop_bits, timeout=_WAIT_S, retries=_AGAIN, trace_packet=sent,
    )  # fmt: skip


def record(link: AnyLink, entries: Sequence[Entry], seconds: float) -> tuple[list[float], list[dict[str, float]]]:
    """Return times [s] and values of entries, read as often as the line allows."""
    times: list[float] = []
    rows: list[dict[str, float]] = []
    began = time.monotonic()
    while True:
        values = link.read(entries)
        now = time.monotonic() - began
        if not times or now > times[-1]:
            times.append(now)
            rows.append(values)
        if now >= seconds:
            return times, rows
