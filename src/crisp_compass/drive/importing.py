"""A description made from what its owner has: an electronic data sheet of a CANopen node (CiA 306), or a table of registers as CSV."""

from __future__ import annotations

import csv
import io
import logging
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from crisp_compass.drive.cia402 import CONTROLWORD, STATUSWORD, TARGET_VELOCITY, VELOCITY
from crisp_compass.drive.description import Description, first_fault
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.files import write_atomically

_MOST_BYTES = 20_000_000
#: Kinds of CiA 301 that a description knows, by their code.
_KINDS = {0x03: "int16", 0x04: "int32", 0x06: "uint16", 0x07: "uint32", 0x08: "float32"}
#: The lists of a description.
LISTS = ("parameters", "commands", "telemetry", "faults")
_NUMBERS = ("scale", "min", "max", "factory")
_PLACES = ("address", "index", "subindex")
_WORDS = ("name", "type", "unit", "access", "text", "group", "bench", "signal", "role", "masks", "limit", "table")
#: A bar within a name, where bars stand between names.
BAR = "\\|"
_ROLES = {CONTROLWORD: ("commands", "controlword"), STATUSWORD: ("telemetry", "statusword"), TARGET_VELOCITY: ("commands", "speed"), VELOCITY: ("telemetry", "speed")}


def text_of(path: Path) -> str:
    """Return what a file holds; raises Refusal where it is too large or no text."""
    try:
        raw = path.read_bytes()
    except OSError as error:
        raise Refusal(f"it cannot be read ({error.strerror})", where=str(path)) from None
    if len(raw) > _MOST_BYTES or b"\0" in raw:
        raise Refusal("this is no text of a drive's registers or objects", where=str(path))
    return raw.decode("utf-8-sig", errors="replace")


def import_description(path: Path, *, protocol: str, unit_id: int) -> tuple[Description, list[Finding]]:
    """Return the description that an EDS, DCF or CSV file holds; ``protocol`` is that of a CSV. Raises Refusal naming the file, and in a CSV the row."""
    text = text_of(path)
    if path.suffix.lower() in (".eds", ".dcf") or "[DeviceInfo]" in text:
        data, findings = _from_eds(path, text, unit_id)
    else:
        data, findings = _from_csv(path, text), []
        data |= {"protocol": protocol, "unit_id": unit_id}
    try:
        return Description.model_validate(data), findings
    except ValidationError as error:
        raise Refusal(first_fault(error), "mend it there", where=str(path)) from None


def read_objects(path: Path, text: str, unit_id: int) -> Any:
    """Return the object dictionary of an electronic data sheet or a device configuration file; raises Refusal where it is none."""
    from canopen import objectdictionary as od

    logging.getLogger("canopen").setLevel(logging.CRITICAL)
    file = io.StringIO(text)
    file.name = path.name
    try:
        return od.import_od(file, unit_id or 1)
    except Exception as error:  # whatever stands in a file of somebody's
        raise Refusal(f"it is no electronic data sheet ({type(error).__name__})", "look at the file", where=str(path)) from None


def _from_eds(path: Path, text: str, unit_id: int) -> tuple[dict[str, Any], list[Finding]]:
    from canopen import objectdictionary as od

    found = read_objects(path, text, unit_id)
    lists: dict[str, list[dict[str, Any]]] = {k: [] for k in LISTS}
    left, names = 0, set[str]()
    for item in found.values():
        variables = [item] if isinstance(item, od.ODVariable) else list(item.values())
        for variable in variables:
            if variable.index < 0x2000 and variable.index != 0x1001:
                continue  # how the node speaks, not what the drive is
            kind = _KINDS.get(variable.data_type or 0)
            if kind is None:
                left += 1
                continue
            lot, entry = _entry(variable, kind, item.name if variable is not item else "")
            while entry["name"] in names:
                entry["name"] = f"{entry['name']}_{variable.index:04x}_{variable.subindex}"
            names.add(entry["name"])
            lists[lot].append(entry)
    if not any(lists.values()):
        raise Refusal("it names no object that a drive has", "look at the file", where=str(path))
    told = [Finding("info", "objects-left-out", f"{left} objects are of a kind that a description does not know (8 bits, texts, domains), and were left out.")] if left else []
    name = str(getattr(found.device_information, "product_name", "") or path.stem)
    return {"name": name[:120], "protocol": "canopen", "unit_id": found.node_id or unit_id or 1, **lists}, told


def _entry(variable: Any, kind: str, record: str) -> tuple[str, dict[str, Any]]:
    """Return the list that a variable belongs into, and its entry."""
    name = "_".join(f"{record} {variable.name}".lower().replace("=", " ").split())[:70] or f"object_{variable.index:04x}"
    access = {"ro": "r", "const": "r", "wo": "w"}.get(variable.access_type, "rw")
    entry: dict[str, Any] = {"name": name, "index": variable.index, "subindex": variable.subindex, "type": kind, "access": access}
    if variable.min is not None:
        entry["min"] = float(variable.min)
    if variable.max is not None:
        entry["max"] = float(variable.max)
    if isinstance(variable.default, int | float) and not isinstance(variable.default, bool):
        entry["factory"] = float(variable.default)
    lot = "telemetry" if access == "r" else "parameters"
    if variable.index in _ROLES:
        lot, entry["role"] = _ROLES[variable.index]
    if lot != "parameters":
        entry.pop("factory", None)
    return lot, entry


def _from_csv(path: Path, text: str) -> dict[str, Any]:
    lines = [line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")]
    if len(lines) < 2:
        raise Refusal("it has no header and rows", "write a header with name, address, type and what else is known", where=str(path))
    separator = max(",;\t", key=lines[0].count)
    rows = list(csv.reader(lines, delimiter=separator))
    heads = [h.strip().lower() for h in rows[0]]
    for needed in ("name", "type"):
        if needed not in heads:
            raise Refusal(f"its header has no column {needed}", f"it has {', '.join(heads)[:120]}", where=str(path))
    lists: dict[str, list[dict[str, Any]]] = {k: [] for k in LISTS}
    for number, row in enumerate(rows[1:], 2):
        if len(row) != len(heads):
            raise Refusal(f"row {number} has {len(row)} columns instead of {len(heads)}", where=str(path))
        lot, entry = _row(dict(zip(heads, (c.strip() for c in row), strict=True)), number, path)
        lists[lot].append(entry)
    return {"name": path.stem[:120], **lists}


def _row(cells: dict[str, str], number: int, path: Path) -> tuple[str, dict[str, Any]]:
    try:
        return entry_of_row(cells, number)
    except Refusal as refusal:
        raise refusal.at(str(path)) from None


def entry_of_row(cells: Mapping[str, str], number: int) -> tuple[str, dict[str, Any]]:
    """Return the list of a row of texts and its entry as data; raises Refusal naming the row."""
    lot = cells.get("list") or "parameters"
    if lot not in LISTS:
        raise Refusal(f"row {number} is of a list “{lot[:30]}”", f"it may be {', '.join(LISTS)}")
    entry: dict[str, Any] = {k: cells[k] for k in _WORDS if cells.get(k)}
    try:
        entry |= {k: float(cells[k].replace(",", ".")) for k in _NUMBERS if cells.get(k)}
        entry |= {k: int(cells[k], 0) for k in _PLACES if cells.get(k)}
    except ValueError as error:
        raise Refusal(f"row {number}: {error}", "write plain numbers, addresses also as 0x2000") from None
    if cells.get("restart", "").lower() in ("1", "yes", "true"):
        entry["restart"] = True
    if cells.get("bits"):
        parts = [p.partition(":") for p in re.split(r"(?<!\\)\|", cells["bits"])]
        entry["bits"] = {bit.strip(): name.strip().replace(BAR, "|") for bit, _, name in parts}
    return lot, entry


def export_eds(dictionary: Any, path: Path, name: str) -> None:
    """Write an object dictionary as an electronic data sheet."""
    from canopen import objectdictionary as od

    dictionary.device_information.product_name = name
    out = io.StringIO()
    od.eds.export_eds(dictionary, out)  # type: ignore[no-untyped-call]
    write_atomically(path, out.getvalue())
