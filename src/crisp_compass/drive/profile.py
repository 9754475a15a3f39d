"""What a drive holds as a file: kept as a snapshot, compared, and put into another drive of the kind as a profile."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from crisp_compass.drive.conversation import factor_to_si
from crisp_compass.drive.dcf import load_dcf
from crisp_compass.drive.description import Description, within
from crisp_compass.drive.registers import physical, raw_of
from crisp_compass.errors import Refusal
from crisp_compass.files import write_atomically
from crisp_compass.quantities import UNITS

_MOST_BYTES = 1_000_000


@dataclass(frozen=True)
class Snapshot:
    """What a drive held: the file's name, the drive's, when, and each value with its unit."""

    name: str
    drive: str
    when: str
    values: Mapping[str, tuple[float, str]]


@dataclass(frozen=True)
class Pair:
    """One value of two snapshots, in one unit; None where one has it not, or in a unit of another kind."""

    name: str
    unit: str
    first: float | None
    second: float | None
    differs: bool


def save_profile(path: Path, description: Description, held: Mapping[str, float], when: str) -> int:
    """Write every parameter that was read, with its unit; return how many."""
    values = {e.name: {"value": held[e.name], "unit": e.unit} for e in description.parameters if e.name in held}
    data = {"format": 1, "drive": description.name, "when": when, "values": values}
    write_atomically(path, json.dumps(data, indent=1, ensure_ascii=False) + "\n")
    return len(values)


def load_snapshot(path: Path) -> Snapshot:
    """Return what a file holds; raises Refusal for one that is none."""
    where = str(path)
    try:
        data = json.loads(path.read_bytes()[:_MOST_BYTES].decode("utf-8-sig"))
        values = {str(k): (float(v["value"]), str(v["unit"])) for k, v in data["values"].items()}
        return Snapshot(path.name, str(data.get("drive", "")), str(data.get("when", "")), values)
    except OSError as error:
        raise Refusal(f"it cannot be read ({error.strerror})", where=where) from None
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        raise Refusal("this is no profile of a drive", "one is written by Save profile on Parameters", where=where) from None


def side_by_side(first: Snapshot, second: Snapshot) -> list[Pair]:
    """Return every value of two snapshots, in the first one's order and unit, those that only the second has at the end."""
    rows = []
    for name in (*first.values, *(n for n in second.values if n not in first.values)):
        a, b = first.values.get(name), second.values.get(name)
        unit = (a or b or (0.0, ""))[1]
        here = b[0] if b is not None else None
        if a is not None and b is not None and b[1] != unit:
            known = unit in UNITS and b[1] in UNITS and UNITS[unit].dimension == UNITS[b[1]].dimension
            here = b[0] * UNITS[b[1]].factor / UNITS[unit].factor if known else None
        same = a is not None and here is not None and math.isclose(a[0], here, rel_tol=1e-9, abs_tol=1e-12)
        rows.append(Pair(name, unit, a[0] if a else None, here, differs=not same))
    return rows


def load_profile(path: Path, description: Description) -> tuple[dict[str, float], list[str]]:
    """Return the values of a profile that a drive has parameters for, in the parameters' units, and the names that it has none for.

    Raises Refusal for a file that is none, a unit of another kind, and a value outside the parameter's limits: nothing of it is taken then.
    """
    where = str(path)
    told = dict(load_dcf(path, description) if path.suffix.lower() == ".dcf" else load_snapshot(path).values)
    entries = {e.name: e for e in description.parameters}
    found = {}
    for name, (value, unit) in told.items():
        entry = entries.get(name)
        if entry is None or not entry.writable:
            continue
        here = value
        if unit != entry.unit:
            known = unit in UNITS and entry.unit in UNITS and UNITS[unit].dimension == UNITS[entry.unit].dimension
            if not known:
                raise Refusal(f"{name} is in {unit or 'plain numbers'}, the drive's in {entry.unit or 'plain numbers'}", "it is of another kind of drive", where=where)
            here = value * UNITS[unit].factor / factor_to_si(entry)
        if not within(entry, here):
            raise Refusal(f"{name} = {here:g} {entry.unit} is outside what this drive takes", "it is of another size of drive", where=where)
        found[name] = here
    return found, sorted(n for n in told if n not in entries)


def differing(description: Description, held: Mapping[str, float], wanted: Mapping[str, float]) -> dict[str, float]:
    """Return what of ``wanted`` the drive does not hold already, its entry step counted."""
    entries = {e.name: e for e in description.parameters}
    return {n: v for n, v in wanted.items() if n in entries and held.get(n) != physical(entries[n], raw_of(entries[n], v))}
