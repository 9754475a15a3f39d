"""Engineering numbers: the only home of unit names, prefixes and rounding.

Inside the program every value is SI. A text such as ``"5.6m"``, ``"460 mΩ"``, ``"1k5"``, ``"3 000 rpm"`` or
``"12,5 µH"`` is turned into SI by :func:`parse`; :func:`show` prints 3–4 digits with an SI prefix. A number that two
countries read differently (``3.000``) is asked back.
Factors are exact by definition (SI brochure, 9th edition).
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from crisp_compass.errors import Refusal

PREFIXES = {"p": 1e-12, "n": 1e-9, "u": 1e-6, "µ": 1e-6, "μ": 1e-6, "m": 1e-3, "k": 1e3, "K": 1e3, "M": 1e6, "G": 1e9}
_SHOWN_PREFIXES = ((1e9, "G"), (1e6, "M"), (1e3, "k"), (1.0, ""), (1e-3, "m"), (1e-6, "µ"), (1e-9, "n"), (1e-12, "p"))


#: Units of the core that people read in another one.
_SHOWN_AS = {"rad": "deg", "rad/s": "rpm"}


@dataclass(frozen=True)
class Unit:
    """A unit: what it measures, its factor to SI, whether prefixes make sense with it."""

    name: str
    dimension: str
    factor: float = 1.0
    prefixed: bool = True
    offset: float = 0.0


#: Inch [m] and ounce-force [N].
_INCH, _OZF = 0.0254, 0.45359237 * 9.80665 / 16


def _table() -> dict[str, Unit]:
    rows: list[tuple[str, str, float, bool, tuple[str, ...]]] = [
        ("Ω", "resistance", 1.0, True, ("ohm", "ohms", "Ohm", "Ohms", "R", "Ω")),
        ("V", "voltage", 1.0, True, ("volt", "volts", "Volt")),
        ("A", "current", 1.0, True, ("amp", "amps", "ampere", "Ampere")),
        ("H", "inductance", 1.0, True, ("henry", "Henry")),
        ("Wb", "flux linkage", 1.0, True, ("Vs", "V·s", "V*s", "weber")),
        ("s", "time", 1.0, True, ("sec", "Sec", "second", "seconds")),
        ("min", "time", 60.0, False, ()),
        ("Hz", "frequency", 1.0, True, ("hz", "1/s")),
        ("W", "power", 1.0, True, ("watt", "Watt")),
        ("hp", "power", 745.69987158227022, False, ("HP",)),  # mechanical: 550 ft·lbf/s
        ("PS", "power", 735.49875, False, ("hp(M)", "cv", "CV")),  # metric: 75 kgf·m/s
        ("rad/s", "angular speed", 1.0, False, ("rad/sec",)),
        ("rpm", "angular speed", 2 * math.pi / 60, True, ("1/min", "rev/min", "r/min", "RPM", "min⁻¹", "min-1", "min^-1", "U/min", "tr/min")),
        ("rad/s²", "angular acceleration", 1.0, True, ("rad/s2", "rad/s^2")),
        ("rpm/s", "angular acceleration", 2 * math.pi / 60, True, ("RPM/s", "1/min/s", "min⁻¹/s", "rev/min/s")),
        ("rev/s", "angular speed", 2 * math.pi, False, ("rps",)),
        ("rad", "angle", 1.0, True, ()),
        ("deg", "angle", math.pi / 180, False, ("°", "degree", "degrees")),
        ("turn", "angle", 2 * math.pi, False, ("turns", "rev", "revs", "revolutions")),
        ("N·m", "torque", 1.0, True, ("Nm", "N*m", "N m", "N-m")),
        ("N·cm", "torque", 0.01, False, ("Ncm", "N*cm", "N cm", "N-cm")),
        # force units by standard gravity, inch and pound exact (NIST SP 811, 2008, appendix B)
        ("kgf·cm", "torque", 0.0980665, False, ("kgcm", "kg·cm", "kg-cm", "kg cm", "kgfcm", "kgf-cm", "kgf cm")),
        ("gf·cm", "torque", 9.80665e-5, False, ("gcm", "g·cm", "g-cm", "gfcm")),
        (
            "ozf·in",
            "torque",
            _OZF * _INCH,
            False,
            ("oz-in", "ozin", "oz·in", "oz in", "ozf-in", "ozf in", "in-oz", "in·oz"),
        ),
        (
            "lbf·in",
            "torque",
            16 * _OZF * _INCH,
            False,
            ("lb-in", "lbin", "lb·in", "lb in", "in-lb", "inlb", "in·lb", "lbf-in"),
        ),
        (
            "lbf·ft",
            "torque",
            16 * _OZF * 12 * _INCH,
            False,
            ("lbft", "lb-ft", "lb·ft", "lb ft", "ft-lb", "ftlb", "ft·lb", "lbf-ft"),
        ),
        ("kg·m²", "inertia", 1.0, False, ("kgm2", "kg*m2", "kg·m2", "kgm²", "kg m2", "kg*m^2", "kg·m^2")),
        ("kg·cm²", "inertia", 1e-4, False, ("kgcm2", "kg*cm2", "kg·cm2", "kgcm²")),
        ("g·cm²", "inertia", 1e-7, False, ("gcm2", "g*cm2", "g·cm2", "gcm²")),
        ("N·m·s/rad", "viscous friction", 1.0, True, ("Nms/rad", "N*m*s/rad", "Nms")),
        ("N·m/A", "torque constant", 1.0, True, ("Nm/A", "N*m/A")),
        ("V·s/rad", "voltage constant", 1.0, True, ("Vs/rad", "V*s/rad")),
        ("V/krpm", "voltage constant", 60 / (2 * math.pi * 1000), False, ("V/1000rpm", "V/1000 rpm", "V/1000min⁻¹", "V/1000 min⁻¹", "V/kmin⁻¹")),
        ("V/rpm", "voltage constant", 60 / (2 * math.pi), True, ("V*min", "V·min")),
        ("V/A", "current loop gain", 1.0, True, ()),
        ("V/(A·s)", "current loop integral gain", 1.0, True, ("V/As", "V/(A*s)", "V/(As)")),
        ("A/(rad/s)", "speed loop gain", 1.0, True, ("As/rad", "A·s/rad")),
        ("farad", "capacitance", 1.0, True, ("Farad",)),
        ("J", "energy", 1.0, True, ("Ws", "W·s", "joule", "Joule")),
        ("rad/s³", "angular jerk", 1.0, True, ("rad/s3", "rad/s^3")),
        ("m", "length", 1.0, True, ("metre", "meter")),
        ("inch", "length", _INCH, False, ("in", "″")),
        ("ft", "length", 12 * _INCH, False, ("foot", "feet")),
        ("kg", "mass", 1.0, False, ()),
        ("g", "mass", 1e-3, False, ("gram",)),
        ("lb", "mass", 0.45359237, False, ("lbs",)),
        ("N", "force", 1.0, True, ("newton",)),
        ("kgf", "force", 9.80665, False, ("kp",)),
        ("lbf", "force", 16 * _OZF, False, ()),
        ("m/s", "velocity", 1.0, True, ("m/sec",)),
        ("m/min", "velocity", 1 / 60, False, ()),
        ("mm/s", "velocity", 1e-3, False, ()),
        ("mm/min", "velocity", 1e-3 / 60, False, ()),
        ("ft/min", "velocity", 12 * _INCH / 60, False, ("fpm",)),
        ("in/s", "velocity", _INCH, False, ()),
        ("km/h", "velocity", 1 / 3.6, False, ("kph",)),
        ("K/W", "thermal resistance", 1.0, True, ("°C/W", "degC/W", "C/W")),
        ("N·m/rad", "stiffness", 1.0, True, ("Nm/rad",)),
        ("A/(rad/s²)", "acceleration gain", 1.0, True, ("A·s²/rad",)),
        ("A/rad", "speed loop integral gain", 1.0, True, ()),
        ("%", "ratio", 0.01, False, ("percent",)),
        ("", "ratio", 1.0, False, ()),
        ("rpm/V", "speed constant", 1.0, True, ("RPM/V",)),
    ]
    units = {}
    for name, dimension, factor, prefixed, others in rows:
        unit = Unit(name, dimension, factor, prefixed)
        for spelling in (name, *others):
            units[spelling] = unit
    celsius = Unit("degC", "temperature", prefixed=False)
    units.update(dict.fromkeys(("degC", "°C", "C", "℃"), celsius))
    units.update(dict.fromkeys(("K", "kelvin", "Kelvin"), Unit("K", "temperature", 1.0, False, offset=-273.15)))
    units.update(dict.fromkeys(("°F", "degF", "F", "℉"), Unit("degF", "temperature", 5 / 9, False, offset=-32 * 5 / 9)))
    return units


UNITS = _table()
#: Smallest and largest size, in SI, that a figure of a motor bench can have, by what it measures; zero is always possible here.
BOUNDS: dict[str, tuple[float, float]] = {
    "resistance": (1e-7, 1e13), "voltage": (1e-9, 1e5), "current": (1e-12, 1e5), "inductance": (1e-10, 1e3), "flux linkage": (1e-9, 1e3),
    "time": (1e-12, 1e7), "frequency": (1e-6, 1e10), "power": (1e-9, 1e9), "angular speed": (1e-9, 1e6), "angular acceleration": (1e-6, 1e9),
    "angle": (0.0, 1e7), "torque": (1e-9, 1e7), "inertia": (1e-12, 1e6), "viscous friction": (1e-15, 1e5), "torque constant": (1e-9, 1e5),
    "voltage constant": (1e-9, 1e5), "current loop gain": (1e-9, 1e7), "current loop integral gain": (1e-9, 1e11),
    "length": (1e-9, 1e4), "mass": (1e-9, 1e8), "force": (1e-9, 1e9), "velocity": (1e-12, 1e5), "thermal resistance": (1e-9, 1e6), "capacitance": (1e-12, 1e3), "energy": (1e-9, 1e12), "speed loop gain": (1e-12, 1e7), "speed loop integral gain": (1e-12, 1e9), "speed constant": (1e-6, 1e7),
}  # fmt: skip
ABSOLUTE_ZERO_C = -273.15
#: Ω that stand for an open circuit, as a meter shows it, and what is typed for it.
OPEN_CIRCUIT = 1e12
_OPEN_WORDS = ("ol", "o.l", "o.l.", "0l", "0.l", "open", "∞", "inf", "overload")
#: Narrow no-break space.
THOUSANDS = "\u202f"
_mark = THOUSANDS


def set_off_thousands(*, on: bool) -> None:
    """Set thousands off by a narrow blank, or not."""
    global _mark  # noqa: PLW0603 - one way of writing numbers for the whole program
    _mark = THOUSANDS if on else ""
_SPACES = "\u00a0\u2007\u2009\u202f '’"
#: Digits with perhaps separators; the exponent; what follows. ``4R7`` and ``1k5`` hold the prefix in the number.
_NUMBER = re.compile(
    rf"^\s*([+\-−]?)\s*(\d[\d.,]*(?:[{_SPACES}]\d{{3}}(?!\d))*(?:[.,]\d*)?|[.,]\d+)(?:[eE]([+\-−]?\d+))?\s*(.*?)\s*$",
    re.DOTALL,
)
_INFIX = re.compile(r"^\s*([+\-−]?)\s*(\d+)([RpnuµμmkKMG])(\d+)\s*(.*?)\s*$", re.DOTALL)
_GROUPED = re.compile(rf"\d{{1,3}}(?:[{_SPACES}]\d{{3}})+(?:[.,]\d*)?$")


def find_unit(text: str) -> tuple[Unit, float] | None:
    """Find a unit with or without an SI prefix; return it with the factor to SI, or None if unknown."""
    spelling = text.strip().replace("⋅", "·").replace("\u2126", "Ω")
    if spelling in UNITS:
        return UNITS[spelling], UNITS[spelling].factor
    if len(spelling) > 1 and spelling[0] in PREFIXES:
        unit = UNITS.get(spelling[1:].strip())
        if unit is not None and unit.prefixed:
            return unit, unit.factor * PREFIXES[spelling[0]]
    return None


def parse(text: str, unit: str, *, base: str = "") -> float:
    """Turn a typed engineering number into SI.

    Parameters
    ----------
    text
        Number with an optional SI prefix and unit: ``5.6m``, ``460 mΩ``, ``43k rpm``, ``12,5 µH``, ``4R7``, ``3 000``.
    unit
        Unit that a bare number is in (``"rpm"``, ``"Ω"``, …); the result is SI of its dimension.
    base
        ``"peak"`` or ``"rms"`` where the figure is one of these: ``5 A rms`` is then brought to it.

    Raises
    ------
    Refusal
        The text is no number, its unit is unknown or measures something else, it is outside what a bench can be, or it could
        be read in two ways (``1,234``).
    """
    expected = UNITS[unit]
    if expected.dimension == "resistance" and text.strip().lower().removesuffix("ω").strip() in _OPEN_WORDS:
        return OPEN_CIRCUIT
    infix = _INFIX.match(text)
    if infix and (infix[3] == "R" or expected.prefixed):
        sign, whole, letter, part, suffix = infix.groups()
        value = float(f"{whole}.{part}") * (1.0 if letter == "R" else PREFIXES[letter])
        suffix = suffix or ("Ω" if letter == "R" else "")
    else:
        match = _NUMBER.match(text)
        if match is None:
            raise Refusal(f"“{text.strip()}” is not a number", f"type it like 4.7{_example(unit)}")
        sign, digits, exponent, suffix = match.groups()
        power = int(exponent.replace("−", "-")) if exponent and len(exponent) < 6 else 0 if not exponent else 999
        value = _digits(digits, power != 0, text, unit) * (10.0**power if abs(power) < 300 else math.inf)
    if not math.isfinite(value):
        raise Refusal(f"“{text.strip()}” is too large to be meant", f"type it like 4.7{_example(unit)}")
    value = -value if sign in ("-", "−") else value
    suffix, factor = _base(suffix, base, text)
    found, scale = _unit(suffix, expected, text)
    result = value * factor * scale + found.offset
    check_bounds(result, found.dimension, text.strip())
    return result


def check_bounds(value: float, dimension: str, said: str) -> None:
    """Refuse an SI value that no bench has, naming what was said."""
    if dimension == "temperature" and value < ABSOLUTE_ZERO_C:
        raise Refusal(f"“{said}” is below absolute zero", "−273.15 °C is the least there is")
    low, high = BOUNDS.get(dimension, (0.0, math.inf))
    if value != 0 and not low <= abs(value) <= high:
        raise Refusal(
            f"“{said}” is {'more' if abs(value) > high else 'less'} than any motor bench has",
            "check the prefix and the unit",
        )


def _digits(digits: str, powered: bool, text: str, unit: str) -> float:
    """Read digits with decimal point or comma and perhaps groups of three; ask back what could be either."""
    bare = digits.strip(_SPACES)
    if any(c in bare for c in _SPACES):
        if not _GROUPED.match(bare):
            raise Refusal(f"“{text.strip()}” is not a number", f"type it like 4.7{_example(unit)}")
        bare = re.sub(rf"[{_SPACES}]", "", bare)
        return float(bare.replace(",", "."))
    if re.fullmatch(r"[1-9]\d{0,2}[.,]\d{3}", bare) and not powered:
        point, plain = re.sub("[.,]", ".", bare), re.sub("[.,]", "", bare)
        raise Refusal(f"“{bare}” could mean {point} or {plain}", f"write {plain}, or {point}0 with one more digit")
    for group, decimal in ((".", ","), (",", ".")):
        if re.fullmatch(rf"\d{{1,3}}(?:\{group}\d{{3}})+\{decimal}\d*|\d{{1,3}}(?:\{group}\d{{3}}){{2,}}", bare):
            return float(bare.replace(group, "").replace(decimal, "."))
    if sum(c in ".," for c in bare) > 1:
        raise Refusal(f"“{text.strip()}” is not a number", f"type it like 4.7{_example(unit)}")
    return float(bare.replace(",", "."))


def _base(suffix: str, base: str, text: str) -> tuple[str, float]:
    """Take ``rms`` or ``peak`` off the unit; return it with the factor to the wanted base."""
    match = re.match(r"^([pnuµμmkMG]?[AV])[\s_]*(rms|eff|peak|pk|p)\.?$", suffix, re.IGNORECASE)
    if match is None:
        return suffix, 1.0
    said = "rms" if match[2].lower() in ("rms", "eff") else "peak"
    if not base:
        raise Refusal(f"“{text.strip()}”: rms or peak makes no difference here", "type the number and its unit alone")
    return match[1], 1.0 if said == base else math.sqrt(2) if base == "peak" else 1 / math.sqrt(2)


def _unit(suffix: str, expected: Unit, text: str) -> tuple[Unit, float]:
    """Return the unit meant by what follows the number and the factor to SI."""
    if not suffix:
        return expected, expected.factor
    if expected.dimension == "capacitance" and suffix.endswith("F"):  # elsewhere it is a temperature's
        suffix = f"{suffix[:-1].strip()}farad"
    found = find_unit(suffix) or find_unit(re.sub(r"\s+", "", suffix))
    if found is not None and found[0].dimension == expected.dimension:
        return found
    if suffix in PREFIXES and expected.prefixed:
        return expected, PREFIXES[suffix] * expected.factor
    if found is not None:
        raise Refusal(
            f"“{text.strip()}” is {article(found[0].dimension)}",
            f"{article(expected.dimension)} in {expected.name or 'plain numbers'} is needed",
        )
    raise Refusal(f"“{suffix}” in “{text.strip()}” is no unit known here", f"use {expected.name or 'a plain number'}")


def article(noun: str) -> str:
    """Return the noun with ``a`` or ``an``."""
    return f"{'an' if noun[0] in 'aeiou' else 'a'} {noun}"


def _example(unit: str) -> str:
    return f" {unit}" if unit else ""


def to_si(value: float, unit: str) -> float:
    """Convert a plain number in ``unit`` to SI."""
    return value * UNITS[unit].factor


def from_si(value: float, unit: str) -> float:
    """Convert an SI value to a plain number in ``unit``."""
    return value / UNITS[unit].factor


def significant(value: float, digits: int = 3) -> str:
    """Print a number with ``digits`` significant digits and never in exponent form."""
    if value == 0 or not math.isfinite(value):
        return "0" if value == 0 else "–"
    places = digits - 1 - math.floor(math.log10(abs(value)))
    rounded = round(value, places)
    if rounded != 0:
        places = digits - 1 - math.floor(math.log10(abs(rounded)))
    return grouped(rounded, max(places, 0))


def grouped(value: float, places: int = 0) -> str:
    """Print a number with ``places`` decimals, its thousands set off by a narrow blank from five digits on (ISO 80000-1, 7.3.1)."""
    text = f"{value:.{places}f}"
    if abs(value) >= 9999.5:
        text = f"{value:,.{places}f}".replace(",", _mark)
    return text.replace("-", "−")


def counted(count: int, noun: str) -> str:
    """Return a number with its noun: ``1 pole pair``, ``12 000 rows``."""
    return f"{grouped(count)} {noun}{'' if count == 1 else 's'}"


def show(value: float | None, unit: str, digits: int = 3) -> str:
    """Print an SI value with prefix and unit, for example ``463 mΩ``; ``–`` for nothing."""
    if value is None or not math.isfinite(value):
        return "–"
    if unit == "Ω" and value >= OPEN_CIRCUIT:
        return "open"
    unit = shown_unit(value, unit)
    if not unit and value == round(value):
        return grouped(value)
    number, prefix = split(value, unit, digits)
    label = prefix + unit_label(unit)
    return f"{number}°" if label == "°" else f"{number} {label}".rstrip()  # the degree sign stands close: ISO 80000-1


def shown_unit(value: float, unit: str) -> str:
    """Return the unit in which people read an SI value: rpm for rad/s, kg·cm² or g·cm² for small inertias."""
    if unit == "kg·m²" and 0 < abs(value) < 0.05:
        return "kg·cm²" if abs(value) >= 5e-6 else "g·cm²"
    return _SHOWN_AS.get(unit, unit)


def unit_label(unit: str) -> str:
    """Return the unit as printed on screens (``°C`` for degC, ``°`` for deg)."""
    return {"degC": "°C", "deg": "°", "farad": "F", "A/(rad/s)": "A·s/rad", "A/(rad/s²)": "A·s²/rad"}.get(unit, unit)


def split(value: float, unit: str, digits: int = 3) -> tuple[str, str]:
    """Split an SI value into the printed number and the SI prefix."""
    known = UNITS[unit]
    shown = value / known.factor
    if not known.prefixed or shown == 0 or unit == "rpm":
        return significant(shown, max(digits, _whole_digits(shown))), ""
    for scale, prefix in _SHOWN_PREFIXES:
        if abs(shown) >= scale * (1 - 0.5 * 10.0**-digits):
            return significant(shown / scale, digits), prefix
    return significant(shown / 1e-12, digits), "p"


def scale_of(largest: float, unit: str) -> tuple[float, str]:
    """Return the factor and the label (``mV``) in which values up to ``largest`` [unit] are drawn on an axis."""
    known = UNITS.get(unit)
    if known is None or not known.prefixed or known.factor != 1 or not unit:
        return 1.0, unit
    for scale, prefix in _SHOWN_PREFIXES:
        if largest >= scale:
            return scale, prefix + unit
    return 1.0, unit


def editable(value: float, unit: str) -> str:
    """Return an SI value as a field shows it: up to four digits with the prefix, the unit itself left out; it reads back."""
    if unit == "Ω" and value >= OPEN_CIRCUIT:
        return "OL"
    number, prefix = split(value, unit, 4)
    if "." in number:
        number = number.rstrip("0").rstrip(".")
    return f"{_one_way(number)} {prefix}".rstrip()


def plain(value: float) -> str:
    """Return a plain number with up to ten digits, written so that it can be read in one way only."""
    return _one_way(f"{value:.10g}")


def _one_way(number: str) -> str:
    return number + "0" if re.fullmatch(r"[−-]?[1-9]\d{0,2}\.\d{3}", number) else number


def _whole_digits(value: float) -> int:
    return min(max(math.floor(math.log10(abs(value))) + 1, 1), 6) if value else 1


def show_with_error(value: float, half_width: float, unit: str) -> tuple[str, str]:
    """Print a value and its error bar on the same scale, the error with two digits.

    Returns ``("463.2 mΩ", "±1.9 mΩ (0.41 %)")``; rounding follows JCGM 100:2008, 7.2.6.
    """
    if not (half_width > 0 and math.isfinite(half_width) and value != 0):
        return show(value, unit, 4), ""
    unit = shown_unit(value, unit)
    _, prefix = split(max(abs(value), half_width), unit)
    scale = UNITS[unit].factor * (PREFIXES[prefix] if prefix else 1.0)
    places = 1 - math.floor(math.log10(half_width / scale))
    digits = min(max(math.floor(math.log10(abs(value / scale))) + 1 + max(places, 0), 3), 15)
    label = prefix + unit_label(unit)
    if half_width > abs(
        value
    ):  # an error bar that reaches over zero: no digits of the value beyond it, no percentage
        return f"{value / scale:.{max(places, 0)}f} {label}".replace(
            "-", "−"
        ), f"±{significant(half_width / scale, 2)} {label}"
    percent = significant(abs(half_width / value) * 100, 2)
    return (
        f"{significant(value / scale, digits)} {label}".rstrip(),
        f"±{significant(half_width / scale, 2)} {label} ({percent} %)"
        if half_width / scale >= 0.01 or not UNITS[unit].prefixed
        else f"±{show(half_width, unit, 2)} ({percent} %)",
    )
