"""Motor profiles: a motor's figures as a file of their own, and what would change when a bench takes them over."""

from __future__ import annotations

import json
import math
from dataclasses import dataclass
from pathlib import Path

from pydantic import ValidationError

from crisp_compass.bench.base import Quantity, Topic
from crisp_compass.bench.entered import with_family
from crisp_compass.bench.migrations import older_profile
from crisp_compass.bench.models import Bench, Profile
from crisp_compass.bench.plate import PLATES
from crisp_compass.bench.records import LedgerEntry, Settled
from crisp_compass.bench.rules import settled_value
from crisp_compass.bench.settings.sensor import SensorSettings
from crisp_compass.bench.store import parse_json
from crisp_compass.errors import Refusal
from crisp_compass.files import read_text, shortened, write_atomically

#: Fields of the plate that belong to the bench, not to the motor.
_OF_THE_BENCH = {"v_bus"}
_TOPICS: tuple[Topic, ...] = ("resistance", "inductance", "flux", "mechanics")


@dataclass(frozen=True)
class Difference:
    """One figure that differs: ``plate.field`` or ``topic.name``, and both values (None where absent)."""

    key: str
    here: str | float | None
    there: str | float | None
    unit: str

    @property
    def measured(self) -> bool:
        """Whether it is a constant that somebody measured, not a plate figure."""
        return not self.key.startswith(("plate.", "sensor."))


def make_profile(bench: Bench) -> Profile:
    """Return the motor of a bench as a profile."""
    plate = {k: v for k, v in bench.settings.plate.model_dump(exclude_none=True).items() if k not in _OF_THE_BENCH}
    constants = {
        f"{topic}.{name}": quantity
        for topic in _TOPICS
        if topic in bench.settled
        for name, quantity in bench.settled[topic].values.items()
    }
    sensor = bench.settings.sensor.model_dump()
    return Profile(name=bench.settings.plate.motor or bench.name, plate=plate, sensor=sensor, constants=constants)


def save_profile(profile: Profile, path: Path) -> None:
    """Write a profile atomically."""
    text = json.dumps(profile.model_dump(mode="json", exclude_none=True), indent=2, ensure_ascii=False) + "\n"
    write_atomically(path, text)


def load_profile(path: Path) -> Profile:
    """Read a profile, or the motor of a bench file; raises Refusal for anything else."""
    text = read_text(path)
    try:
        data = parse_json(text, str(path), "motor profile")
    except Refusal:
        data = None
    if not isinstance(data, dict) or data.get("kind") != "motor-profile":
        raise Refusal("this is no motor profile", "choose a file that was saved as one", where=str(path))
    plate = data.get("plate")
    if isinstance(plate, dict):
        data |= older_profile(plate, data.get("sensor"))
    try:
        profile = Profile.model_validate(data)
        PLATES[str(profile.plate.get("family", "sinusoidal"))].model_validate(profile.plate)
        SensorSettings.model_validate(profile.sensor)
    except KeyError:
        raise Refusal(
            "the profile is damaged at family", "correct it there or save it again", where=str(path)
        ) from None
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(shortened(part, 40) for part in first["loc"])
        raise Refusal(
            f"the profile is damaged at {place}", "correct it there or save it again", where=str(path)
        ) from None
    return profile


def differences(bench: Bench, profile: Profile) -> list[Difference]:
    """Return every figure in which the open bench and a profile differ, plate first."""
    plate = bench.settings.plate.model_dump()
    found = [
        Difference(f"plate.{key}", plate.get(key), there, "")
        for key, there in profile.plate.items()
        if key not in _OF_THE_BENCH and not _same(plate.get(key), there)
    ]
    sensor = bench.settings.sensor.model_dump()
    found += [
        Difference(f"sensor.{key}", sensor.get(key), there, "")
        for key, there in profile.sensor.items()
        if not _same(sensor.get(key), there)
    ]
    for key, quantity in profile.constants.items():
        topic = key.partition(".")[0]
        here = settled_value(bench, key) if topic in bench.settled else None
        if here is None or not _same(here.value, quantity.value):
            found.append(Difference(key, None if here is None else here.value, quantity.value, quantity.unit))
    return found


def _same(a: object, b: object) -> bool:
    if isinstance(a, int | float) and isinstance(b, int | float):
        return math.isclose(a, b, rel_tol=1e-9)
    return a == b


def take_over(bench: Bench, profile: Profile, keys: set[str], when: str) -> Bench:
    """Return the bench with the chosen figures of a profile.

    Constants come settled with the reason that they are a similar motor's; a topic is taken as a whole, so that no
    Ld stands beside another motor's Lq.
    """
    chosen = {k.partition(".")[2]: k.partition(".")[0] for k in keys}
    fields = {name: profile.plate[name] for name, of in chosen.items() if of == "plate"}
    seen = {name: profile.sensor[name] for name, of in chosen.items() if of == "sensor"}
    family = str(fields.pop("family", bench.settings.plate.family))
    fields = {k: v for k, v in fields.items() if k in PLATES[family].model_fields}
    bench = with_family(bench, family, **fields)
    sensor = SensorSettings.model_validate({**bench.settings.sensor.model_dump(), **seen})
    settled = dict(bench.settled)
    for topic in _TOPICS:
        if any(k.startswith(f"{topic}.") for k in keys):
            values: dict[str, Quantity] = {
                k.partition(".")[2]: q for k, q in profile.constants.items() if k.startswith(f"{topic}.")
            }
            reason = f"from the profile of a similar motor, {profile.name}; measure it again"
            settled[topic] = Settled(values=values, method="profile", reason=reason, when=when)
    line = LedgerEntry(when=when, kind="profile", text=f"{len(keys)} figure(s) taken from the profile {profile.name}")
    return bench.model_copy(
        update={
            "settings": bench.settings.model_copy(update={"sensor": sensor}),
            "settled": settled,
            "ledger": (*bench.ledger, line),
        }
    )
