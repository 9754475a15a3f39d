"""Settings as a C header."""

from __future__ import annotations

import math

from crisp_compass import __version__
from crisp_compass.bench.base import Quantity
from crisp_compass.bench.models import Bench
from crisp_compass.bench.rules import stale_inputs
from crisp_compass.course.circuit import hertz_law
from crisp_compass.course.open_loop import closes_loops
from crisp_compass.course.open_points import check_bench
from crisp_compass.course.position import moves
from crisp_compass.errors import Refusal
from crisp_compass.motor import constants_of
from crisp_compass.record.c_commutation import c_encoder, c_halls
from crisp_compass.record.formats.form import Form, own_settled
from crisp_compass.record.handed import handed_settings
from crisp_compass.safe_text import c_comment, c_identifier

_UNIT_WORDS = {
    "Ω": "OHM", "H": "H", "Wb": "WB", "V": "V", "A": "A", "Hz": "HZ", "s": "S", "rad/s": "RAD_S", "rad/s²": "RAD_S2", "rad": "RAD", "V/A": "V_PER_A",
    "V/(A·s)": "V_PER_AS", "A/(rad/s)": "A_PER_RAD_S", "A/rad": "A_PER_RAD", "A/(rad/s²)": "A_PER_RAD_S2", "kg·m²": "KG_M2", "N·m": "NM",
    "N·m·s/rad": "NM_S_PER_RAD", "N·m/A": "NM_PER_A", "1/s": "PER_S", "W": "W", "rad/s³": "RAD_S3", "degC": "DEGC", "": "",
}  # fmt: skip
_COUNTS = {"pole_pairs", "period_counts", "dead_time_counts", "counts_per_rev", "direction", "bits", "turn_bits"}


def _hertz_lines(bench: Bench) -> list[str]:
    """Return the voltage line of a firmware that turns volts over frequency; empty for any other, or where it is not settled."""
    if closes_loops(bench) or "circuit" not in bench.settled:
        return []
    try:
        law = hertz_law(bench)
    except Refusal as refusal:
        return [f"/* No voltage over frequency: {c_comment(refusal.sentence)} */", ""]
    slope = Quantity(value=2 * math.pi * law.volts_per_rad, unit="V")
    return [
        "/* Voltage of a phase, peak: boost and volts per hertz of the electrical frequency; share of the slip compensated. */",
        f"#define CC_HERTZ_BOOST_V ({_c_number('boost', Quantity(value=law.boost, unit='V'))})",
        f"#define CC_HERTZ_V_PER_HZ ({_c_number('slope', slope)})",
        f"#define CC_HERTZ_SLIP_SHARE ({_c_number('share', Quantity(value=bench.settings.circuit.slip_share, unit=''))})",
        "",
    ]


def _point_lines(bench: Bench) -> list[str]:
    """Return the table of points as an initializer; nothing where there is none, or this bench makes no moves."""
    if not bench.points or not moves(bench):
        return []
    usual = Quantity(value=0.0, unit="")
    rows = []
    for number, p in enumerate(bench.points, 1):
        speed, accel, torque = (_c_number("", Quantity(value=x, unit="") if x is not None else usual) for x in (p.speed, p.accel, p.torque))
        follows = number if p.follows is None else p.follows - 1
        branch = (1 << (p.branch[0] - 1), p.branch[1] - 1) if p.branch else (0, -1)
        rows.append(f"    {{ {_c_number('', Quantity(value=p.target, unit=''))}, {int(p.way == 'by')}, {speed}, {accel}, {_c_number('', Quantity(value=p.dwell, unit=''))}, {follows if follows < len(bench.points) else -1}, {torque}, 0x{branch[0]:02X}u, {branch[1]} }}")
    text = "/* Table of points: place or way rad, 1 by a way, speed rad/s, acceleration rad/s^2, dwell s, next row from 0 (-1 ends), torque limit N m, mask of an input, row if it is on; 0.0f: as settled. */"
    return [text, f"#define CC_POINT_ROWS ({len(rows)})", "#define CC_POINT_TABLE { \\", *(f"{row}, \\" for row in rows[:-1]), f"{rows[-1]} }}", ""]


def _c_number(name: str, quantity: Quantity) -> str:
    if name in _COUNTS:
        return f"{round(quantity.value)}"
    text = f"{quantity.value:.7g}"
    return (text if any(c in text for c in ".e") else text + ".0") + "f"


def _doubt(quantity: Quantity) -> str:
    if quantity.u is None or not quantity.interval95:
        return ""
    return f"u = {quantity.u:.2g}, 95 %: {quantity.interval95[0]:.6g} to {quantity.interval95[1]:.6g}"


def _c_header(bench: Bench) -> str:
    motor = f", motor {c_comment(bench.settings.plate.motor)}" if bench.settings.plate.motor else ""
    guard = f"CRISP_COMPASS_{c_identifier(bench.name)}_H"
    lines = [
        f"/* Motor settings of “{c_comment(bench.name)}”{motor}, written by Crisp Compass {__version__}.",
        f" * SI units; motor constants {constants_of(bench)}; currents are peaks.",
        " * Current loop: parallel PI, error in A, output in V. Speed loop: error in rad/s (mechanical), output iq in A.",
    ]
    lines += [f" * {f.level.upper()}: {c_comment(f.text)}" for f in check_bench(bench) if f.level != "info"]
    lines += [" */", f"#ifndef {guard}", f"#define {guard}", ""]
    for topic, settled in own_settled(bench).items():
        state = "STALE, " if stale_inputs(bench, topic) else ""
        state += "DATA SHEET, not measured: " if settled.origin == "data-sheet" else ""
        lines.append(
            f"/* {topic.replace('_', ' ')}: {state}{c_comment(settled.reason)} ({c_comment(settled.when[:10])}) */"
        )
        for name, quantity in settled.values.items():
            unit = _UNIT_WORDS.get(quantity.unit) or c_identifier(quantity.unit) if quantity.unit else ""
            doubt = f" /* {_doubt(quantity)} */" if _doubt(quantity) else ""
            word = f"{c_identifier(topic)}_{c_identifier(name)}" if not name.startswith(topic) else c_identifier(name)
            if unit and not word.endswith(f"_{unit}"):
                word += f"_{unit}"
            lines.append(f"#define CC_{word} ({_c_number(name, quantity)}){doubt}")
        if settled.halls is not None:
            lines += c_halls(settled.halls)
        elif topic == "commutation" and "plate" in bench.settled:
            lines += c_encoder(settled.values)
        lines.append("")
    lines += _hertz_lines(bench)
    lines.append("/* Settings of the firmware, as entered. */")
    for h in handed_settings(bench):
        word = f"CC_{c_identifier(h.topic)}_{c_identifier(h.name)}" + (f"_{_UNIT_WORDS[h.unit]}" if h.unit else "")
        lines.append(f"#define {word} ({_c_number(h.name, Quantity(value=h.value, unit=h.unit))}) /* {h.text} */")
    lines += ["", *_point_lines(bench)]
    return "\n".join([*lines, f"#endif /* {guard} */", ""])


FORM = Form("c-header", "C header", ".h", "motor", place=1, write=_c_header)
