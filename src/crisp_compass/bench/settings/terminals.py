"""What goes to the drive's terminals, and what its inputs do."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from crisp_compass.bench.base import Frozen, TopicSettings

Group = Literal["mains", "logic", "link", "inputs", "outputs", "reference", "generator", "other"]
Function = Literal["enable", "inhibit", "stop", "safety", "direction", "jog_forwards", "jog_backwards", "home", "limit_forwards", "limit_backwards"]
Name = Annotated[str, Field(max_length=24)]


class Terminal(Frozen):
    """One terminal: where its wire comes from, and how it is fastened, as the maker says."""

    terminal: Name
    to: str = Field(default="", max_length=80)
    group: Group = "other"
    wire: float | None = Field(default=None, gt=0, le=1000, description="cross-section, mm²")
    lug: str = Field(default="", max_length=40)
    torque: float | None = Field(default=None, gt=0, le=200, description="N·m, as the maker says")
    note: str = Field(default="", max_length=200)


class DigitalInput(Frozen):
    """One digital input: its function, and the level by which it is given."""

    terminal: Name
    function: Function
    active: Literal["high", "low"] = "high"


class Axis(Frozen):
    """One drive of a chain on one pair of wires, in the order of the wire."""

    name: str = Field(default="", max_length=40)
    address: int = Field(ge=0, le=247)
    terminated: bool = False


class TerminalSettings(TopicSettings):
    """The drive's terminals beside motor and sensor, its inputs, and the drives on its link."""

    rows: tuple[Terminal, ...] = Field(default=(), max_length=80)
    inputs: tuple[DigitalInput, ...] = Field(default=(), max_length=16)
    axes: tuple[Axis, ...] = Field(default=(), max_length=32)
