"""Random benches drawn log-uniformly over all that the models allow, and benches mutated as damaged or hostile files are."""

from __future__ import annotations

import json
import math
import typing
from pathlib import Path
from typing import Any

import numpy as np
from annotated_types import Ge, Gt, Le, Lt

from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.plate import PLATES
from crisp_compass.bench.ranges import MORE_VALUES
from crisp_compass.bench.records import Settled
from crisp_compass.bench.registry import rules
from crisp_compass.bench.settings import Settings

DEMO = Path(__file__).resolve().parent.parent / "demo"
WHEN = "2026-05-12T12:00:00"


def _drawn(low: float, high: float, rng: np.random.Generator) -> float:
    """Draw log-uniformly between two limits, now and then a limit itself or zero where it is allowed."""
    dice = rng.random()
    if dice < 0.04:
        return low
    if dice < 0.08:
        return high
    if low < 0:
        size = _drawn(max(1e-6, 1e-9 * high), high, rng)
        return size if rng.random() < 0.5 else -min(size, -low)
    if low == 0:
        return 0.0 if dice < 0.2 else float(np.exp(rng.uniform(math.log(1e-9 * high), math.log(high))))
    return float(np.exp(rng.uniform(math.log(low), math.log(high))))


def _field(model: type, name: str, rng: np.random.Generator) -> Any:
    """Draw one field of a model from its own limits."""
    info = model.model_fields[name]  # type: ignore[attr-defined]
    if typing.get_origin(info.annotation) is dict:  # readings between leads
        pairs = [f"{a}-{b}" for a in range(1, 9) for b in range(a + 1, 9) if rng.random() < 0.3]
        return {pair: 1e12 if rng.random() < 0.5 else _drawn(0.0, 1e5, rng) for pair in pairs}
    if typing.get_origin(info.annotation) is tuple:  # points of a climb
        of = typing.get_args(info.annotation)[0]
        return [{f: _field(of, f, rng) for f in of.model_fields} for _ in range(int(rng.integers(0, 4)))]
    low, high = -math.inf, math.inf
    kinds = [info.annotation, *typing.get_args(info.annotation)]
    if type(None) in kinds and rng.random() < 0.3:
        return None
    marks = list(info.metadata)
    for kind in kinds:
        for mark in getattr(kind, "__metadata__", ()):
            marks += list(getattr(mark, "metadata", ())) or [mark]
    for mark in marks:
        if isinstance(mark, Ge | Gt):
            low = float(mark.ge if isinstance(mark, Ge) else np.nextafter(mark.gt, math.inf))  # type: ignore[arg-type]
        if isinstance(mark, Le | Lt):
            high = float(mark.le if isinstance(mark, Le) else np.nextafter(mark.lt, -math.inf))  # type: ignore[arg-type]
    choices = [a for k in kinds for a in (typing.get_args(k) if typing.get_origin(k) is typing.Literal else ())]
    if choices:
        return choices[rng.integers(len(choices))]
    flat = [getattr(k, "__origin__", k) for k in kinds]
    if int in flat:
        return round(_drawn(low, high, rng))
    if float in flat:
        return _drawn(low if math.isfinite(low) else -1e15, high if math.isfinite(high) else 1e15, rng)
    if info.is_required():
        return "".join(rng.choice(list("ABDI123 +−"), size=int(rng.integers(0, 6))))
    return info.get_default(call_default_factory=True)


def random_bench(rng: np.random.Generator) -> Bench:
    """Return a bench whose fields and settled values lie anywhere in the allowed ranges."""
    pages = {}
    family = "sinusoidal" if rng.random() < 0.4 else list(PLATES)[rng.integers(len(PLATES))]
    for topic, info in Settings.model_fields.items():
        model = PLATES[family] if topic == "plate" else info.annotation
        assert model is not None
        pages[topic] = model.model_validate({name: _field(model, name, rng) for name in model.model_fields})  # type: ignore[attr-defined]
    bench = Bench(settings=Settings(**pages))
    settled: dict[str, Settled] = {}
    for topic, needed in rules().settles.items():
        if rng.random() < 0.15:
            continue
        values = {n: _quantity(u, lo, hi, rng) for n, (u, lo, hi) in needed.items()}
        for name in _USUAL.get(topic, ()):
            if rng.random() < 0.8:
                values[name] = _quantity(*MORE_VALUES[name], rng)
        settled[topic] = Settled(values=values, reason="drawn", when=WHEN)
    return bench.model_copy(update={"settled": settled})


_USUAL = {
    "pwm": ("v_limit", "v_command", "v_usable", "dead_time_voltage", "loop_delay", "period_counts", "dead_time_counts"),
    "plate": ("inertia", "viscous", "coulomb"), "inductance": ("saturated_inductance", "saturation_current"),
    "commutation": ("counts_per_rev", "direction", "zero_offset"), "resistance": ("temperature",),
    "circuit": ("rotor_time_constant",),
}  # fmt: skip


def _quantity(unit: str, low: float, high: float, rng: np.random.Generator) -> Quantity:
    value = _drawn(low, high, rng)
    if rng.random() < 0.5:
        return Quantity(value=value, unit=unit)
    u = abs(value) * float(np.exp(rng.uniform(math.log(1e-6), math.log(3.0))))
    return Quantity(value=value, unit=unit, u=u, interval95=(value - 2 * u, value + 2 * u))


_HOSTILE: tuple[Any, ...] = (
    None, True, 0, -1, 1e30, -1e30, 1e-300, 1e308, 10**30, "", "x" * 300, "*/ #error no", "??/", "\\", "\u202e", "\x00", "../../etc/passwd",
    "=1+1", [], {}, [1, 2], {"value": 1}, "Ω", "Mbit", float("nan"), float("inf"), -0.0, 3.5, "A+B-", "2026-05-12T12:00:00",
)  # fmt: skip


def mutated(text: str, rng: np.random.Generator) -> str:
    """Return the text of a bench file with a few things damaged: in its structure, or in its bytes."""
    if rng.random() < 0.2:
        return _bytes_mutated(text, rng)
    data = json.loads(text)
    for _ in range(int(rng.integers(1, 4))):
        _mutate(data, rng)
    return json.dumps(data, ensure_ascii=bool(rng.random() < 0.5))


def _mutate(data: Any, rng: np.random.Generator) -> None:
    place, key = data, None
    for _ in range(int(rng.integers(1, 7))):
        if isinstance(place, dict) and place:
            parent, key = place, list(place)[rng.integers(len(place))]
        elif isinstance(place, list) and place:
            parent, key = place, int(rng.integers(len(place)))
        else:
            break
        place = parent[key]
    if key is None:
        return
    dice = rng.random()
    if dice < 0.5:
        parent[key] = _HOSTILE[rng.integers(len(_HOSTILE))]
    elif dice < 0.65 and isinstance(parent[key], int | float) and not isinstance(parent[key], bool):
        parent[key] = float(parent[key]) * 10.0 ** int(rng.integers(-40, 40))
    elif dice < 0.8:
        del parent[key]
    elif isinstance(parent, dict):
        parent[str(_HOSTILE[rng.integers(len(_HOSTILE))])[:400]] = parent[key]
    else:
        parent.append(parent[key])


def _bytes_mutated(text: str, rng: np.random.Generator) -> str:
    letters = list(text)
    for _ in range(int(rng.integers(1, 6))):
        at = int(rng.integers(len(letters)))
        dice = rng.random()
        if dice < 0.4:
            letters[at] = chr(int(rng.integers(0, 300)))
        elif dice < 0.7:
            del letters[at : at + int(rng.integers(1, 60))]
        else:
            letters[at:at] = letters[at : at + int(rng.integers(1, 60))]
        if not letters:
            return ""
    return "".join(letters)
