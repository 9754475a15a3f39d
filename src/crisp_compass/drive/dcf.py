"""What a CANopen node holds as a device configuration file (CiA 306-1): its objects, each with the value that it is configured with."""

from __future__ import annotations

import io
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from crisp_compass.drive.can_bus import dictionary
from crisp_compass.drive.description import Description
from crisp_compass.drive.importing import read_objects, text_of
from crisp_compass.drive.registers import physical, raw_of
from crisp_compass.errors import Refusal
from crisp_compass.files import write_atomically


def save_dcf(path: Path, description: Description, held: Mapping[str, float]) -> int:
    """Write the parameters of a node as it holds them; return how many. Raises Refusal for a drive that is no node."""
    from canopen import objectdictionary as od

    if not description.over_can:
        raise Refusal("this drive is no node of a CANopen bus", "save a profile as .json", where=path.name)
    found: Any = dictionary(description)
    found.device_information.product_name = description.name
    found.bitrate = description.baud
    count = 0
    for entry in description.parameters:
        if entry.name not in held:
            continue
        node = found[entry.index or 0]
        variable: Any = node if isinstance(node, od.ODVariable) else node[entry.subindex or 0]
        raw = raw_of(entry, held[entry.name])
        variable.value = raw if entry.type == "float32" else int(raw)
        if entry.type == "float32":
            variable.value_raw = repr(float(raw))
        count += 1
    out = io.StringIO()
    od.eds.export_dcf(found, out)  # type: ignore[no-untyped-call]
    write_atomically(path, out.getvalue())
    return count


def load_dcf(path: Path, description: Description) -> dict[str, tuple[float, str]]:
    """Return value and unit of each parameter of a node that a file configures, by the description's names. Raises Refusal naming the file."""
    if not description.over_can:
        raise Refusal("a device configuration file is of a CANopen node, and this drive is none", "take a profile as .json", where=path.name)
    found = read_objects(path, text_of(path), description.unit_id)
    values = {}
    for entry in description.parameters:
        try:
            node = found[entry.index or 0]
            value = getattr(node if not hasattr(node, "members") else node[entry.subindex or 0], "value", None)
        except KeyError:
            continue
        if isinstance(value, int | float):
            values[entry.name] = (physical(entry, value), entry.unit)
    if not values:
        raise Refusal("it configures none of this drive's parameters", "look whether it is of this drive", where=path.name)
    return values
