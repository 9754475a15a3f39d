"""Engineering numbers: what is read, what is refused, and that printing and reading agree."""

from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from crisp_compass.errors import Refusal
from crisp_compass.quantities import UNITS, check_bounds, editable, grouped, parse, show, show_with_error, split

READS = [
    ("5.6m", "H", 5.6e-3), ("460 mΩ", "Ω", 0.46), ("460mohm", "Ω", 0.46), ("43k", "Hz", 43e3), ("43k", "rpm", 43e3 * math.pi / 30),
    ("12,5 µH", "H", 12.5e-6), ("12.5uH", "H", 12.5e-6), ("0.46 ohm", "Ω", 0.46), ("1e-3", "s", 1e-3), ("−3,5", "A", -3.5),
    ("30 rpm", "rad/s", math.pi), ("1200 1/min", "rpm", 40 * math.pi), (".5", "V", 0.5), ("7 kHz", "Hz", 7e3), ("2 rev/s", "rad/s", 4 * math.pi),
    ("180 deg", "rad", math.pi), ("90", "deg", math.pi / 2), ("24 °C", "degC", 24.0), ("3 kg·cm²", "kg·m²", 3e-4), ("15 mNm", "N·m", 0.015),
    ("17,9 mVs", "Wb", 17.9e-3), ("4.7R", "Ω", 4.7), ("50 %", "", 0.5), ("1M", "Ω", 1e6), ("2 min", "s", 120.0), ("1,2345", "V", 1.2345),
    ("0,125", "V", 0.125), ("1k5", "Ω", 1500.0), ("4R7", "Ω", 4.7), ("2m2", "H", 2.2e-3), ("3 000", "rpm", 100 * math.pi), ("20k", "Hz", 20e3),
    ("0,41", "Ω", 0.41), ("12 345,6 V", "V", 12345.6), ("1.234,5", "V", 1234.5), ("1.234e-3", "H", 1.234e-3), ("1.2340", "V", 1.234),
    # NIST SP 811 (2008), appendix B.8: to newton metres
    ("30 Ncm", "N·m", 0.3), ("1 oz-in", "N·m", 7.061552e-3), ("1 kgcm", "N·m", 9.80665e-2), ("1 lbft", "N·m", 1.355818), ("1 lb-in", "N·m", 0.1129848),
    ("5 mV/rpm", "V·s/rad", 5e-3 * 30 / math.pi), ("297 K", "degC", 23.85), ("212 °F", "degC", 100.0),
]  # fmt: skip

REFUSES = [
    ("", "Ω", "not a number"), ("abc", "Ω", "not a number"), ("1,234", "Ω", "could mean 1.234 or 1234"), ("5 mH", "Ω", "is an inductance"),
    ("5 parsec", "Ω", "no unit known"), ("1.2.3", "V", "no unit known|not a number"), ("1e999", "V", "too large"), ("3 krad/s", "rad/s", "no unit known"),
    ("5 A", "V", "a voltage in V is needed"), ("5 mm", "Ω", "is a length"), ("5 zz", "Ω", "no unit known"), ("nan", "V", "not a number"), ("5 f", "H", "no unit known"),
    ("3.000 rpm", "rpm", "could mean 3.000 or 3000"), ("1.234", "V", "could mean 1.234 or 1234"), ("1e30", "A", "more than any"), ("1e-30", "Ω", "less than any"),
    ("1e9", "V", "more than any"), ("-300", "degC", "below absolute zero"), ("-500 °F", "degC", "below absolute zero"), ("5 A rms", "A", "no difference here"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "unit", "value"), READS)
def test_reads(text: str, unit: str, value: float) -> None:
    assert parse(text, unit) == pytest.approx(value, rel=3e-7 if text.startswith("1 ") else 1e-12)


@pytest.mark.parametrize(("text", "unit", "wording"), REFUSES)
def test_refuses_with_a_sentence(text: str, unit: str, wording: str) -> None:
    with pytest.raises(Refusal, match=wording) as caught:
        parse(text, unit)
    assert caught.value.sentence.count("\n") == 0


def test_rms_is_brought_to_the_fields_base() -> None:
    assert parse("5 A rms", "A", base="peak") == pytest.approx(5 * math.sqrt(2))
    assert parse("5 Apk", "A", base="rms") == pytest.approx(5 / math.sqrt(2))
    assert parse("5 A", "A", base="rms") == 5.0


@given(st.floats(min_value=1e-9, max_value=9e2), st.sampled_from(["Ω", "H", "V", "A", "Hz", "s", "Wb"]))
def test_what_a_field_shows_reads_back(value: float, unit: str) -> None:
    try:
        check_bounds(value, UNITS[unit].dimension, "")
    except Refusal:
        return
    assert parse(editable(value, unit), unit) == pytest.approx(value, rel=6e-4)


@pytest.mark.thorough
@given(st.text(max_size=12), st.sampled_from(sorted(UNITS)))
def test_any_text_is_a_number_or_a_refusal(text: str, unit: str) -> None:
    try:
        assert math.isfinite(parse(text, unit))
    except Refusal as refusal:
        assert refusal.sentence.endswith(".")


@pytest.mark.parametrize(
    ("value", "unit", "text"),
    [
        (0.4631, "Ω", "463 mΩ"),
        (1.124e-3, "H", "1.12 mH"),
        (0.9996, "V", "1.00 V"),
        (20e3, "Hz", "20.0 kHz"),
        (0.0, "A", "0 A"),
        (-0.25, "A", "−250 mA"),
        (math.nan, "A", "–"),
    ],
)
def test_shows(value: float, unit: str, text: str) -> None:
    assert show(value, unit) == text


def test_error_bar_sets_the_digits() -> None:
    assert show_with_error(0.46312, 0.0019, "Ω") == ("463.1 mΩ", "±1.9 mΩ (0.41 %)")
    assert show_with_error(2e-15, 6.1e-9, "V") == ("0.0 nV", "±6.1 nV")
    # never further from the value than the bar, however many digits that takes
    assert show_with_error(17.9234567e-3, 1.2e-8, "Wb")[0] == "17.923457 mWb"
    assert split(314.159265, "rpm")[1] == ""


def test_a_number_keeps_its_blank_and_a_refusal_stays_one_line() -> None:
    said = Refusal(f"at most {grouped(42017)} rpm\u2028here\x85now").sentence
    assert said == "at most 42\u202f017 rpm here now."
    assert (grouped(9999), grouped(-12345.6, 1)) == ("9999", "−12\u202f345.6")
