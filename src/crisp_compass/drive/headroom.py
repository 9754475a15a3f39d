"""How near what a drive tells is to its limits."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from crisp_compass.drive.conversation import factor_to_si
from crisp_compass.drive.description import Description
from crisp_compass.drive.live import LiveChannel, LiveStore


@dataclass(frozen=True)
class Headroom:
    """Of the quantities of one unit the channel that is nearest to its limit: now and at most [SI], and that limit."""

    channel: LiveChannel
    now: float
    most: float
    limit: float


def limit_of(store: LiveStore, channel: LiveChannel, told: Description, held: Mapping[str, float]) -> float | None:
    """Return the size [SI] that a channel is held below: by the parameter that its entry names, as the drive holds it, else by the entry's own most; None without."""
    entry = store.entries[channel.entry]
    if channel.bit is not None:
        return None
    if entry.limit is not None:
        by = next((p for p in told.parameters if p.name == entry.limit), None)
        if by is not None and by.name in held:
            return abs(held[by.name]) * factor_to_si(by)
    return abs(entry.max) * factor_to_si(entry) if entry.max else None


def headroom_of(store: LiveStore, begin: float, end: float, told: Description, held: Mapping[str, float]) -> list[Headroom]:
    """Return for each unit the channel nearest to its limit from ``begin`` to ``end`` [s]; references are left out, as what is asked for is no load."""
    limits = {k: limit_of(store, c, told, held) for k, c in enumerate(store.channels) if not c.name.endswith("_ref")}
    places = [k for k, limit in limits.items() if limit]
    _, x = store.stretch(begin, end, places)
    found: dict[str, Headroom] = {}
    if not x.size:
        return []
    size = np.abs(x)
    most = np.fmax.reduce(size, axis=1)
    for row, place in enumerate(places):
        limit, channel = limits[place], store.channels[place]
        assert limit is not None
        one = Headroom(channel, float(size[row, -1]), float(most[row]), limit)
        if channel.unit not in found or one.most / limit > found[channel.unit].most / found[channel.unit].limit:
            found[channel.unit] = one
    return list(found.values())
