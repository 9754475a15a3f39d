"""What a drive on a wire is to the program: a JSON file that names its registers. The format is ours; docs/drive.schema.json is made from it.

A physical value is its raw number times ``scale``, in ``unit``. Registers are 16 bits wide; a value of 32 bits takes two.
"""

from __future__ import annotations

import json
import math
import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from crisp_compass.errors import Refusal
from crisp_compass.files import write_atomically

Kind = Literal["int16", "uint16", "int32", "uint32", "float32"]
Table = Literal["holding", "input"]
#: Least and largest raw number of each whole kind.
RANGES: dict[str, tuple[int, int]] = {
    "int16": (-(1 << 15), (1 << 15) - 1), "uint16": (0, (1 << 16) - 1), "int32": (-(1 << 31), (1 << 31) - 1), "uint32": (0, (1 << 32) - 1),
}  # fmt: skip
#: Largest file [bytes] that is read.
_MOST_BYTES = 4_000_000


class _Frozen(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


class Entry(_Frozen):
    """One value of a drive: where it stands, what its raw number means, and what may be done with it."""

    name: str = Field(min_length=1, max_length=80, pattern=r"^[^\s=]+$")
    address: int | None = Field(default=None, ge=0, le=65535, description="first register, zero-based; for Modbus")
    index: int | None = Field(default=None, ge=0, le=0xFFFF, description="object; for CANopen")
    subindex: int | None = Field(default=None, ge=0, le=0xFF)
    table: Table | None = Field(default=None, description="holding, or input; empty: by the list it stands in")
    type: Kind
    scale: float = Field(default=1.0, description="physical value of one raw number")
    unit: str = Field(default="", max_length=30)
    access: Literal["r", "w", "rw"] | None = None
    min: float | None = None
    max: float | None = None
    factory: float | None = None
    restart: bool = Field(default=False, description="a written value counts after a restart only")
    text: str = Field(default="", max_length=400)
    group: str = Field(default="", max_length=60)
    bench: str | None = Field(default=None, description="settled value it holds, as topic.name", pattern=r"^[a-z_]+\.[a-z_0-9]+$")
    bits: dict[str, str] | None = Field(default=None, description="names of bits, by their number")
    masks: str | None = Field(default=None, max_length=80, description="name of the fault word whose faults it takes out, each by the bit of its number")
    signal: str | None = Field(default=None, description="signal of the capture format that it is")
    limit: str | None = Field(default=None, max_length=80, description="of what is measured: name of the parameter that limits its size; without one its most does")
    role: str | None = Field(default=None, description="arm, speed, stop or heartbeat of commands, armed or speed of telemetry; empty: its name is its role")

    @model_validator(mode="after")
    def _possible(self) -> Entry:
        if self.scale == 0:
            raise ValueError(f"the scale of {self.name} is 0")
        if self.min is not None and self.max is not None and self.min > self.max:
            raise ValueError(f"the least of {self.name} is above its most")
        if self.bits and not all(b.isdigit() and int(b) < 8 * 2 * self.width for b in self.bits):
            raise ValueError(f"a bit of {self.name} is none of its {16 * self.width}")
        return self

    @property
    def width(self) -> int:
        """Registers that it takes."""
        return 1 if self.type.endswith("16") else 2

    @property
    def writable(self) -> bool:
        """Whether it may be written."""
        return self.access in ("w", "rw")

    @property
    def readable(self) -> bool:
        """Whether it may be read."""
        return self.access in ("r", "rw")


class Channel(_Frozen):
    """One channel of a drive's capture memory: a word of 16 bits a row."""

    name: str = Field(min_length=1, max_length=80, pattern=r"^[^\s=]+$")
    type: Literal["int16", "uint16"] = "int16"
    scale: float = Field(default=1.0, description="physical value of one raw number")
    unit: str = Field(default="", max_length=30)
    signal: str | None = Field(default=None, description="signal of the capture format that it is")
    wraps: bool = Field(default=False, description="a counter that begins anew, as a position does")
    bits: tuple[str, ...] = Field(default=(), description="signals that its bits are, the lowest first")


class Scope(_Frozen):
    """The capture memory of a drive, filled in its own sampling period and read in pages.

    Commands (by their roles) choose the ``scope_channels`` by a mask, keep ``scope_every`` n-th period, and ``scope_start`` with the rows that are wanted; the telemetry
    ``scope_rows`` tells how many are there. ``scope_page`` chooses which part of the memory the ``window`` shows: words of one row after the other.
    """

    period_s: float = Field(gt=0, le=1, description="the drive's sampling period, s")
    words: int = Field(ge=16, le=10_000_000, description="words that the memory holds, all channels together")
    window: int = Field(ge=0, le=65535, description="first input register of the window")
    page: int = Field(ge=1, le=125, description="registers of the window")
    channels: tuple[Channel, ...] = Field(min_length=1, max_length=16)


class Live(_Frozen):
    """What a drive tells without being asked, over a line of its own: every value in every row, as :mod:`crisp_compass.drive.stream` reads it."""

    link: str = Field(max_length=200, pattern=r"^(tcp|serial|pty):.+", description="tcp:HOST:PORT or serial:DEVICE")
    stream: Literal["frames", "lines"] = "frames"
    period_s: float | None = Field(default=None, gt=0, le=10, description="time from one row to the next, s")
    baud: int | None = Field(default=None, ge=300, le=12_000_000)
    channels: tuple[Entry, ...] = Field(min_length=1, max_length=64)

    @model_validator(mode="after")
    def _possible(self) -> Live:
        if len({c.name for c in self.channels}) < len(self.channels):
            raise ValueError("two channels of the live stream have one name")
        return self


class Watchdog(_Frozen):
    """Silence [s] after which an armed drive disarms by itself, and the time [s] it then takes to stand."""

    seconds: float = Field(gt=0, le=1)
    stop_s: float = Field(default=1.0, ge=0, le=3600)


class Description(_Frozen):
    """A drive: how it is spoken to, and its values."""

    format: Literal[1] = 1
    name: str = Field(default="", max_length=120)
    protocol: str = Field(max_length=40, description="contains tcp, rtu or canopen")
    unit_id: int = Field(default=0, ge=0, le=247, description="Modbus unit, or CANopen node; needed but for a stream")
    stream: Literal["frames", "lines"] | None = Field(default=None, description="frames (COBS with CRC) or lines, where the protocol is stream: telemetry only")
    period_s: float | None = Field(default=None, gt=0, le=10, description="time from one frame of a stream to the next, s")
    baud: int | None = Field(default=None, ge=300, le=12_000_000)
    parity: Literal["N", "E", "O"] = "N"
    stop_bits: Literal[1, 2] = 1
    word_order: Literal["high-first", "low-first"] = "high-first"
    watchdog: Watchdog | None = None
    scope: Scope | None = None
    live: Live | None = None
    parameters: tuple[Entry, ...] = ()
    commands: tuple[Entry, ...] = ()
    telemetry: tuple[Entry, ...] = ()
    faults: tuple[Entry, ...] = ()

    @model_validator(mode="before")
    @classmethod
    def _defaults(cls, data: object) -> object:
        """Give each entry the table and the access of the list it stands in."""
        if not isinstance(data, dict):
            return data
        filled = dict(data)
        for lot, table, access in (("parameters", "holding", "rw"), ("commands", "holding", "rw"), ("telemetry", "input", "r"), ("faults", "input", "r")):
            entries = filled.get(lot)
            if isinstance(entries, list | tuple):
                filled[lot] = [{"table": table, "access": access, **{k: v for k, v in e.items() if v is not None}} if isinstance(e, dict) else e for e in entries]
        return filled

    @model_validator(mode="after")
    def _consistent(self) -> Description:
        words = [w for w in ("tcp", "rtu", "canopen", "stream") if w in self.protocol.lower()]
        if not words:
            raise ValueError(f"the protocol “{self.protocol[:40]}” is none of tcp, rtu, canopen and stream")
        if self.streams:
            if self.stream is None or not self.telemetry:
                raise ValueError("a stream needs its kind (“stream”: frames or lines) and its telemetry in order")
            if self.parameters or self.commands or self.faults:
                raise ValueError("a stream has telemetry only")
        elif "unit_id" not in self.model_fields_set:
            raise ValueError("there is no unit_id")
        # a command and what is measured of it may have one name: one is written, the other read
        for lots in ((self.parameters, self.commands), (self.parameters, self.telemetry, self.faults)):
            names: set[str] = set()
            for entry in (e for lot in lots for e in lot):
                if entry.name in names:
                    raise ValueError(f"there are two entries of the name {entry.name}")
                names.add(entry.name)
        if self.over_can:
            self._objects()
        elif not self.streams:
            self._registers()
        return self

    def _registers(self) -> None:
        taken: dict[tuple[str | None, int], str] = {}
        if self.scope is not None:
            taken |= {("input", self.scope.window + k): "the scope's window" for k in range(self.scope.page)}
        for entry in self.entries():
            if entry.address is None:
                raise ValueError(f"{entry.name} has no address")
            if entry.address + entry.width > 65536:
                raise ValueError(f"{entry.name} ends beyond the last register")
            for at in range(entry.address, entry.address + entry.width):
                other = taken.setdefault((entry.table, at), entry.name)
                if other != entry.name:
                    raise ValueError(f"{other} and {entry.name} overlap at {entry.table} register {at}")

    def _objects(self) -> None:
        taken: dict[tuple[int, int], str] = {}
        for entry in self.entries():
            if entry.index is None:
                raise ValueError(f"{entry.name} has no index")
            other = taken.setdefault((entry.index, entry.subindex or 0), entry.name)
            if other != entry.name:
                raise ValueError(f"{other} and {entry.name} overlap at object 0x{entry.index:04X}")

    def live_stream(self) -> Description | None:
        """Return the live stream as a description of its own: of a line beside this one, or of this very one where it only tells; None without."""
        if self.streams:
            return self
        if self.live is None:
            return None
        told = tuple(c.model_copy(update={"access": "r"}) for c in self.live.channels)
        return Description(name=self.name, protocol="stream", stream=self.live.stream, period_s=self.live.period_s, baud=self.live.baud, telemetry=told)

    @property
    def over_can(self) -> bool:
        """Whether it is spoken to over CANopen."""
        return "canopen" in self.protocol.lower()

    @property
    def streams(self) -> bool:
        """Whether it only tells, without being asked."""
        return "stream" in self.protocol.lower()

    def entries(self) -> Iterator[Entry]:
        """Give every entry, parameters first."""
        yield from self.parameters
        yield from self.commands
        yield from self.telemetry
        yield from self.faults

    def to_read(self, name: str) -> Entry | None:
        """Return what is read by a name: of a command and a telemetry of one name, the telemetry."""
        return next((e for lot in (self.parameters, self.telemetry, self.faults, self.commands) for e in lot if e.name == name), None)

    def to_write(self, name: str) -> Entry | None:
        """Return what is written by a name."""
        return next((e for lot in (self.parameters, self.commands) for e in lot if e.name == name), None) or self.to_read(name)

    def readable(self) -> list[Entry]:
        """Return everything that can be read, each name once."""
        found = {e.name: e for lot in (self.commands, self.faults, self.telemetry, self.parameters) for e in lot if e.readable}
        return [e for e in self.entries() if found.get(e.name) is e]

    def armed(self, values: Mapping[str, float]) -> bool:
        """Tell from telemetry [raw times scale, by name] whether somebody may command the drive: by its own word, or by its status word (CiA 402)."""
        own = self.role("telemetry", "armed")
        if own is not None:
            return values.get(own.name, 0.0) != 0.0
        status = self.role("telemetry", "statusword")
        return status is not None and int(values.get(status.name, 0.0)) & 0x6F == 0x27

    def role(self, lot: Literal["commands", "telemetry"], name: str) -> Entry | None:
        """Return the entry that plays a role: ``arm``, ``speed``, ``stop``, ``heartbeat`` of commands, ``armed``, ``speed`` of telemetry."""
        return next((e for e in getattr(self, lot) if (e.role or e.name) == name), None)


def load_description(path: str | Path) -> Description:
    """Return the description in a file; raises Refusal naming the file and what is wrong with it."""
    name = str(path)
    try:
        raw = Path(path).read_bytes()
    except OSError as error:
        raise Refusal(f"it cannot be read ({error.strerror})", "name the drive's description", where=name) from None
    if len(raw) > _MOST_BYTES:
        raise Refusal("it is too large for a description of a drive", where=name)
    try:
        data = json.loads(raw.decode("utf-8-sig"))
    except (ValueError, RecursionError):
        raise Refusal("this is no description of a drive: it is no JSON", where=name) from None
    if not isinstance(data, dict):
        raise Refusal("this is no description of a drive", where=name)
    try:
        return Description.model_validate(data)
    except ValidationError as error:
        raise Refusal(first_fault(error), "see docs/drive.schema.json", where=name) from None


def first_fault(error: ValidationError) -> str:
    """Return the first fault that the model found, as a sentence without a full stop."""
    first = error.errors(include_url=False)[0]
    message = re.sub(r"^Value error, ", "", str(first["msg"]))
    place = [str(p) for p in first["loc"]]
    if first["type"] == "missing":
        return f"{' '.join(['there is no', place[-1], *(['in', ' '.join(place[:-1])] if place[:-1] else [])])}"
    if not place:
        return message
    given = first.get("input")
    shown = f", not {str(given)[:40]}" if isinstance(given, str | int | float) else ""
    return f"{' '.join(place)}: {message[:1].lower() + message[1:]}{shown}"


def save_description(path: str | Path, description: Description) -> None:
    """Write a description as a file that a person can read and diff."""
    data = description.model_dump(exclude_none=True, exclude_defaults=False)
    for lot in ("parameters", "commands", "telemetry", "faults"):
        data[lot] = [{k: v for k, v in e.items() if (v != "" and v is not False) or k == "unit"} for e in data[lot]]
    write_atomically(Path(path), json.dumps(data, indent=1, ensure_ascii=False) + "\n")


def limits(entry: Entry) -> tuple[float, float]:
    """Return the least and the most physical value: what is written in the description within what the kind can hold."""
    if entry.type == "float32":
        low, high = -3.4028234e38, 3.4028234e38
    else:
        ends = [entry.scale * raw for raw in RANGES[entry.type]]
        low, high = min(ends), max(ends)
    return (low if entry.min is None else max(entry.min, low)), (high if entry.max is None else min(entry.max, high))


def within(entry: Entry, value: float) -> bool:
    """Tell whether a physical value is within an entry's limits, which a rounding of single precision does not make it leave."""
    if not math.isfinite(value):
        return False
    low, high = limits(entry)
    size = max((abs(x) for x in (low, high) if abs(x) < 1e30), default=0.0)
    slack = (1e-6 if entry.type == "float32" else 1e-9) * size
    return low - slack <= value <= high + slack
