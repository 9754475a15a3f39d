"""The bench file. Everything is SI; every number stands beside its unit. All models are frozen."""

from __future__ import annotations

from typing import Literal, Self

from pydantic import Field, ValidationError, model_validator

from crisp_compass.bench.base import Frozen, Quantity, Topic
from crisp_compass.bench.plate import PLATES
from crisp_compass.bench.ranges import CHECK_READINGS, MORE_VALUES, Key, Long, Name, Order, Text, ValueKey
from crisp_compass.bench.records import (
    CableWire,
    CheckRecord,
    CommissioningRecord,
    CurrentTrial,
    Evidence,
    Lead,
    LedgerEntry,
    Point,
    Settled,
    SpeedTrial,
    SpikeReading,
    StartTrial,
    Trial,
)
from crisp_compass.bench.registry import rules
from crisp_compass.bench.settings import Settings
from crisp_compass.quantities import UNITS

FORMAT = 6


class Bench(Frozen):
    """A whole bench."""

    format: Literal[6] = 6
    name: Name = "Untitled bench"
    notes: Long = ""
    settings: Settings = Settings()
    entered: dict[str, tuple[str, ...]] = Field(
        default={}, description="fields by topic that somebody entered or confirmed, though they hold a default"
    )
    other_plates: dict[Key, dict[Key, float | int | str]] = Field(
        default={}, description="what plates of other kinds of motor said, by their family"
    )
    evidence: dict[str, tuple[Evidence, ...]] = {}
    settled: dict[Topic, Settled] = {}
    leads: tuple[Lead, ...] = ()
    trials: dict[Order, Trial] = {}
    current_trials: tuple[CurrentTrial, ...] = ()
    speed_trials: tuple[SpeedTrial, ...] = ()
    points: tuple[Point, ...] = Field(default=(), max_length=500)
    start_trials: tuple[StartTrial, ...] = ()
    checks: dict[Key, CheckRecord] = {}
    commissioning: dict[Key, CommissioningRecord] = {}
    spikes: tuple[SpikeReading, ...] = ()
    cable: tuple[CableWire, ...] = ()
    ledger: tuple[LedgerEntry, ...] = ()
    channels: dict[Text, tuple[Text, ...]] = Field(
        default={}, description="which channel is which signal, as said on this bench, by leg and header of the file"
    )

    @model_validator(mode="after")
    def _whole(self) -> Self:
        """Refuse what is well formed and cannot be: a topic without its values, evidence without its estimates."""
        for family, plate in self.other_plates.items():
            if family not in PLATES:
                raise ValueError(f"other_plates.{family[:20]}: there is no such kind of motor")
            try:
                PLATES[family].model_validate({**plate, "family": family})
            except ValidationError as error:
                raise ValueError(
                    f"other_plates.{family}.{error.errors()[0]['loc'][0]}: this value is not possible"
                ) from None
        for topic in self.entered:
            if topic not in Settings.model_fields:
                raise ValueError(f"entered.{topic[:20]}: there is no such topic")
        for topic, settled in self.settled.items():
            _check_values(topic, settled)
            if settled.settings:
                _check_fields(self.settings, topic, settled)
        for waypoint, items in self.evidence.items():
            for evidence in items:
                _check_evidence(waypoint, evidence)
        for key, record in self.checks.items():
            readings = CHECK_READINGS.get(key)
            if readings is None:
                raise ValueError(f"checks.{key}: there is no such check")
            wrong = set(record.values) - set(readings)
            if wrong:
                raise ValueError(f"checks.{key}: there is no reading “{min(wrong)[:20]}”")
        return self


def _check_fields(settings: Settings, topic: str, settled: Settled) -> None:
    """Refuse fields that no page can hold; what another kind of motor's plate held is left alone."""
    grouped: dict[str, dict[str, float | int | str | None]] = {}
    for field, value in settled.settings.items():
        of, dot, name = field.partition(".")
        grouped.setdefault(of if dot else topic, {})[name if dot else field] = value
    for of, fields in grouped.items():
        if of not in Settings.model_fields:
            raise ValueError(f"settled.{topic}.settings: {of[:20]} has no fields")
        page = getattr(settings, of)
        known = {k: v for k, v in fields.items() if k in type(page).model_fields}
        unknown = set(fields) - set(known)
        if unknown and of != "plate":
            raise ValueError(f"settled.{topic}.settings.{min(unknown)[:20]}: there is no such field")
        try:
            type(page).model_validate({**page.model_dump(), **known})
        except ValidationError as error:
            at = error.errors()[0]["loc"][0]
            raise ValueError(f"settled.{topic}.settings.{at}: this value is not possible") from None


def _check_values(topic: str, settled: Settled) -> None:
    needed = rules().settles.get(topic)
    if needed is None:
        raise ValueError(f"settled.{topic}: nothing of this name is settled")
    lacking = set(needed) - set(settled.values)
    if lacking:
        raise ValueError(f"settled.{topic}: the value {min(lacking)} is missing")
    for name, quantity in settled.values.items():
        limits = needed.get(name) or MORE_VALUES.get(name)
        if limits is None:
            continue
        unit, least, most = limits
        if UNITS[quantity.unit] is not UNITS[unit]:
            raise ValueError(f"settled.{topic}.{name}: the unit {unit or 'none'} is needed")
        if not least <= abs(quantity.value) <= most:
            raise ValueError(f"settled.{topic}.{name}: {quantity.value:g} is not possible")
        if name not in _SIGNED and quantity.value < 0:
            raise ValueError(f"settled.{topic}.{name}: {quantity.value:g} is negative")


_SIGNED = ("direction", "zero_offset", "temperature", "phase_margin")


def _check_evidence(topic: str, evidence: Evidence) -> None:
    rule = rules().kinds.get(evidence.kind)
    if rule is None or rule[0] != topic:
        raise ValueError(f"evidence.{topic[:20]}: “{evidence.kind}” is no kind of its captures")
    _, with_interval, without, has_halls = rule
    for name in (*with_interval, *without):
        found = evidence.estimates.get(name)
        if found is None:
            raise ValueError(f"evidence.{topic}: the estimate {name} is missing")
        if name in with_interval and (found.interval95 is None or found.u is None):
            raise ValueError(f"evidence.{topic}.{name}: its uncertainty is missing")
    if has_halls and evidence.halls is None:
        raise ValueError(f"evidence.{topic}: the hall table is missing")


class Profile(Frozen):
    """A motor's figures apart from any bench: plate fields and settled constants by ``topic.name``."""

    format: Literal[1] = 1
    kind: Literal["motor-profile"] = "motor-profile"
    name: Name
    plate: dict[Key, Name | float | int]
    sensor: dict[Key, Name | int] = {}
    constants: dict[ValueKey, Quantity] = {}
