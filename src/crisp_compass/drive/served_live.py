"""What the simulated drive tells of itself in every sampling period, unasked: sixteen words a frame, as :mod:`crisp_compass.drive.stream` reads them."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np

from crisp_compass.bench.models import Bench
from crisp_compass.course.sensorless import without_sensor
from crisp_compass.course.waypoints.commutation import known_halls, uses_halls
from crisp_compass.drive.description import Entry
from crisp_compass.drive.stream import frames_of
from crisp_compass.estimates import FloatArray
from crisp_compass.motor import three_phases, turns_field
from crisp_compass.plant.parameters import Drive
from crisp_compass.plant.simulation import Trace

#: Share of the voltage limit from which the firmware counts as limited by it, and share of a current limit.
_AT_LIMIT, _AT_MOST = 0.995, 0.999
_FLAGS = ("armed", "tripped", "test_runs", "at_voltage_limit", "at_current_limit", "hall_1", "hall_2", "hall_3")


def hall_words(bench: Bench) -> Callable[[FloatArray], FloatArray] | None:
    """Return what makes of electrical angles [rad] the levels hall_1 + 2·hall_2 + 4·hall_3 as the settled table has them; None without halls."""
    table = known_halls(bench) if uses_halls(bench) else None
    if table is None:
        return None

    def words(theta_e: FloatArray) -> FloatArray:
        x = np.degrees(theta_e) % 360.0
        codes = np.zeros(len(x))
        for code, sector in table.states.items():
            inside = (x - sector.from_deg) % 360.0 < (sector.to_deg - sector.from_deg) % 360.0
            word = int(code)
            codes[inside] = (word >> 2 & 1) | (word >> 1 & 1) << 1 | (word & 1) << 2
        return codes

    return words


def step_of(most: float) -> float:
    """Return the step of a word of 16 bits that reaches ``most``."""
    return float(f"{max(most, 1e-6) / 32000:.3g}")


class LiveFeed:
    """The live stream of one simulated drive that drives no faster than ``top`` [rad/s]; ``position`` makes of a shaft's angle [rad] what its counter tells."""

    def __init__(self, bench: Bench, drive: Drive, *, top: float, position: Callable[[FloatArray], FloatArray], seed: int = 1) -> None:
        self._position = position
        self._rng = np.random.default_rng(seed + 7)
        self._halls = hall_words(bench)
        self._counter = 0
        volts, amperes, speed = step_of(2.0 * drive.inverter.v_supply), drive.sensing.step or step_of(2.0 * drive.control.i_trip), step_of(1.5 * top)
        turning, star = turns_field(bench), three_phases(bench)
        names = [*(("i_a", "i_b", *(("i_c",) if star else ()), "i_d", "i_q", "i_d_ref", "i_q_ref") if turning else ("i_m", "i_m_ref"))]
        told = [Entry(name=n, type="int16", scale=amperes, unit="A", access="r", signal=n if n != "i_m_ref" else None, limit="current_limit") for n in names]
        most = float(f"{drive.control.volts_per_bus * drive.inverter.v_supply:.6g}")
        told += [Entry(name=n, type="int16", scale=volts, unit="V", access="r", signal=n, max=most) for n in (("v_d", "v_q") if turning else ("v_m",))]
        told.append(Entry(name="v_bus", type="uint16", scale=volts, unit="V", access="r", signal="v_bus"))
        watts = step_of(2.0 * drive.inverter.v_supply * 2.0 * drive.control.i_trip)
        told.append(Entry(name="power", type="int16", scale=watts, unit="W", access="r"))
        if not without_sensor(bench) or turning:
            told += [Entry(name=n, type="int16", scale=speed, unit="rad/s", access="r", signal=n, max=float(f"{top:.6g}")) for n in ("speed", "speed_ref")]
        if turning:
            told.append(Entry(name="theta_e", type="uint16", scale=360.0 / 65536.0, unit="deg", access="r"))
            if not without_sensor(bench):
                told.append(Entry(name="angle", type="uint16", scale=360.0 / 65536.0, unit="deg", access="r", signal="angle"))
        bits = [n for n in _FLAGS if self._halls is not None or not n.startswith("hall")]
        told.append(Entry(name="flags", type="uint16", access="r", bits={str(k): n for k, n in enumerate(bits)}))
        #: The values of a frame, in their order.
        self.channels = tuple(told)
        self._factor = 1.5 if star else 1.0

    def _columns(self, trace: Trace, drive: Drive, state: Mapping[str, bool]) -> dict[str, FloatArray]:
        n = len(trace["t"])
        s = drive.sensing
        noise = s.noise * self._rng.standard_normal((5, n))

        def seen(name: str, row: int) -> FloatArray:
            return np.asarray(np.clip(trace[name] + noise[row], -s.full_scale, s.full_scale))

        found = {name: seen(name, row) for row, name in enumerate(("i_a", "i_b", "i_c", "i_d", "i_q"))}
        found |= {"i_m": found["i_a"], "i_m_ref": trace["i_q_ref"], "v_m": trace["v_q"], "speed": trace["speed_seen"], "theta_e": np.degrees(trace["theta_seen"])}
        found |= {k: trace[k] for k in ("i_d_ref", "i_q_ref", "v_d", "v_q", "v_bus", "speed_ref")}
        found["power"] = self._factor * (trace["v_d"] * trace["i_d"] + trace["v_q"] * trace["i_q"])
        found["angle"] = np.degrees(self._position(trace["angle"]))
        c = drive.control
        limited = np.hypot(trace["v_d"], trace["v_q"]) >= _AT_LIMIT * c.volts_per_bus * trace["v_bus"]
        most = np.hypot(trace["i_d_ref"], trace["i_q_ref"]) >= _AT_MOST * c.i_limit
        flags = sum(int(state[name]) << k for k, name in enumerate(_FLAGS[:3])) + 8.0 * limited + 16.0 * most
        if self._halls is not None:
            flags = flags + 32.0 * self._halls(trace["theta_e"])
        found["flags"] = np.asarray(flags, dtype=np.float64)
        return found

    def frames(self, trace: Trace, drive: Drive, state: Mapping[str, bool]) -> list[bytes]:
        """Return the frames of a trace, one a period; ``state`` tells ``armed``, ``tripped`` and ``test_runs``."""
        n = len(trace["t"])
        if n == 0:
            return []
        columns = self._columns(trace, drive, state)
        words = np.empty((n, len(self.channels)), dtype=np.int64)
        for k, entry in enumerate(self.channels):
            raw = np.floor(columns[entry.name] / entry.scale + 0.5)
            if entry.unit == "deg":
                raw = np.mod(raw, 65536.0)
            low, high = (-32768, 32767) if entry.type == "int16" else (0, 65535)
            words[:, k] = np.clip(np.nan_to_num(raw), low, high).astype(np.int64) & 0xFFFF
        first, self._counter = self._counter, self._counter + n
        return frames_of(first, words)
