"""Drills of one's own: a JSON file that says which causes there are, what can be measured, and what each measurement reads under each cause.

Example of a measurement that reads a number (mean and standard deviation) and one that reads words::

    {"key": "pair", "title": "U to V with a meter", "tool": "meter", "unit": "Ω", "reads": {"right": [0.84, 0.01], "loose": [1.3, 0.1]}}
    {"key": "move", "title": "Move the lead", "tool": "hand", "reads": {"right": "steady", "loose": "jumps"}}
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from crisp_compass.errors import Refusal
from crisp_compass.files import read_text
from crisp_compass.quantities import UNITS
from crisp_compass.trainer.drill import Cause, Drill, Figures, Measure, Tool

#: Bytes that a file may have.
MOST_BYTES = 1 << 20
#: Share of a reading's standard deviation that is the measurement's noise; the rest is what differs from motor to motor.
_NOISE = 0.3
Text = Annotated[str, Field(min_length=1, max_length=400)]
Key = Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]{0,39}$")]
Number = Annotated[float, Field(allow_inf_nan=False)]


class _Model(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class OwnCause(_Model):
    """A cause of a drill file."""

    key: Key
    text: Text
    lesson: Text


class OwnMeasure(_Model):
    """A measurement of a drill file: ``reads`` gives for every cause mean and standard deviation, or words."""

    key: Key
    title: Text
    tool: Tool = "eye"
    unit: str = ""
    minutes: float = Field(default=2.0, ge=0.1, le=600)
    power: bool = False
    sees: str = Field(default="", max_length=400)
    reads: dict[str, tuple[Number, Annotated[Number, Field(ge=0)]] | Text]


class OwnDrill(_Model):
    """A drill file."""

    format: Literal[1]
    key: Key
    title: Text
    family: Literal["pm", "brushed", "stepper", "induction"] = "pm"
    story: Annotated[str, Field(min_length=1, max_length=2000)]
    first: tuple[Key, ...] = ()
    causes: Annotated[tuple[OwnCause, ...], Field(min_length=2, max_length=12)]
    measures: Annotated[tuple[OwnMeasure, ...], Field(min_length=1, max_length=40)]


def load_drill(path: Path) -> Drill:
    """Read a drill file; raises Refusal naming what is wrong and where."""
    try:
        told = OwnDrill.model_validate(json.loads(read_text(path, MOST_BYTES)))
    except (json.JSONDecodeError, RecursionError):
        raise Refusal(f"{path.name} is no JSON", "write it as README, Drills shows") from None
    except ValidationError as error:
        first = error.errors()[0]
        where = " > ".join(str(x) for x in first["loc"])
        raise Refusal(f"{path.name}, {where or 'whole file'}: {first['msg'].lower()}", "mend it there") from None
    return _checked(path.name, told)


def _checked(name: str, told: OwnDrill) -> Drill:
    causes, measures = [c.key for c in told.causes], [m.key for m in told.measures]
    for keys, what in ((causes, "causes"), (measures, "measures")):
        twice = sorted({k for k in keys if keys.count(k) > 1})
        if twice:
            raise Refusal(f"{name}, {what}: “{twice[0]}” is there twice", "give each a key of its own")
    unknown = [k for k in told.first if k not in measures]
    if unknown:
        raise Refusal(f"{name}, first: “{unknown[0]}” is no measurement", f"use {', '.join(measures)}")
    for m in told.measures:
        if set(m.reads) != set(causes):
            odd = sorted(set(m.reads) ^ set(causes))[0]
            raise Refusal(f"{name}, measures > {m.key}: “{odd}” is {'missing' if odd in causes else 'no cause'}", "say what it reads for every cause, and for no other")
        if len({isinstance(v, str) for v in m.reads.values()}) > 1:
            raise Refusal(f"{name}, measures > {m.key}: numbers and words are mixed", "one kind for all causes")
        if m.unit not in UNITS and m.unit:
            raise Refusal(f"{name}, measures > {m.key}: the unit “{m.unit}” is not known", "take one that the program shows, or none")
    if all(len({str(v) for v in m.reads.values()}) == 1 for m in told.measures):
        raise Refusal(f"{name}: no measurement tells the causes apart", "let some read otherwise for one of them")

    def shape(_: np.random.Generator) -> dict[str, float]:
        return {"cause": 0.0}

    def vary(rng: np.random.Generator, _: Figures, count: int) -> Figures:
        return {f"vary-{m.key}": rng.standard_normal(count) for m in told.measures}

    return Drill(
        told.key, told.title, told.family, shape, vary=vary, story=lambda _: told.story,
        causes=tuple(_cause(k, c) for k, c in enumerate(told.causes)), measures=tuple(_measure(m, causes) for m in told.measures), asks=(), first=told.first,
    )  # fmt: skip


def _cause(place: int, told: OwnCause) -> Cause:
    return Cause(told.key, told.text, lambda f: {**f, "cause": np.full(len(f["cause"]), float(place))}, told.lesson)


def _measure(told: OwnMeasure, causes: list[str]) -> Measure:
    values: list[Any] = [told.reads[c] for c in causes]
    if isinstance(values[0], str):
        words = np.array(values)
        return Measure(told.key, told.title, told.tool, lambda f: words[f["cause"].astype(int)], unit="", noise=0.0, noise_abs=0.0, minutes=told.minutes, power=told.power, sees=told.sees)
    means, spreads = np.array([v[0] for v in values]), np.array([v[1] for v in values])
    between = np.sqrt(1 - _NOISE**2) * spreads
    return Measure(
        told.key, told.title, told.tool, lambda f: means[f["cause"].astype(int)] + between[f["cause"].astype(int)] * f[f"vary-{told.key}"], unit=told.unit, noise=0.0, noise_abs=float(_NOISE * spreads.mean()), minutes=told.minutes, power=told.power, sees=told.sees,
    )  # fmt: skip
