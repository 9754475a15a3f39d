"""Number formats there and back, and the generated C controllers against the compiled kernel on the same input."""

from __future__ import annotations

import math
import shutil

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from crisp_compass.errors import Refusal
from crisp_compass.loops.number_format import QGain, Scales, from_integers, quantise, to_forms

needs_gcc = pytest.mark.skipif(shutil.which("gcc") is None, reason="gcc is not installed")
FLAGS = ["gcc", "-std=c99", "-O2", "-Wall", "-Wextra", "-Werror", "-Wconversion"]


@settings(max_examples=200, deadline=None)
@given(
    gain=st.floats(1e-4, 3e4), bits=st.sampled_from([12, 16, 24, 32])
)  # fmt: skip
def test_integers_are_as_fine_as_the_word_allows(gain: float, bits: int) -> None:
    most = (1 << (bits - 1)) - 1
    if round(gain) > most:
        with pytest.raises(Refusal, match="overflows"):
            quantise(gain, bits)
        return
    if round(gain * 2.0**30) == 0:
        return
    found = quantise(gain, bits)
    assert 0 < found.integer <= most
    assert found.value == pytest.approx(gain, abs=0.5 / 2.0**found.shift)
    assert found.shift == 30 or 2 * found.integer + 1 > most  # one more shift would not fit


@settings(max_examples=100, deadline=None)
@given(
    r=st.floats(0.02, 10), tau=st.floats(2e-4, 2e-2), loop=st.floats(5e3, 60e3), share=st.floats(0.01, 0.06),
    i_base=st.floats(1, 500), v_base=st.floats(10, 600),
)  # fmt: skip
def test_there_and_back(r: float, tau: float, loop: float, share: float, i_base: float, v_base: float) -> None:
    """Physical gains to integers and back: gains within rounding, bandwidth the design's, zero on the pole."""
    kp, ki = 2 * math.pi * share * loop * r * tau, 2 * math.pi * share * loop * r
    scales = Scales(i_base, v_base, loop, 16)
    try:
        forms = to_forms(kp, ki, scales)
    except Refusal as refusal:
        assert "overflows" in refusal.sentence or "rounds to nothing" in refusal.sentence
        return
    read = from_integers(forms.kp_q, forms.ki_q, scales, r=r, inductance=r * tau, delay_samples=1.5)
    assert read.kp == pytest.approx(kp, rel=abs(forms.kp_q.error) + 1e-9)
    assert read.ki == pytest.approx(ki, rel=abs(forms.ki_q.error) + 1e-9)
    if abs(forms.kp_q.error) < 0.005 and abs(forms.ki_q.error) < 0.005:
        assert read.bandwidth_hz == pytest.approx(share * loop, rel=0.01)
        assert read.verdict == "sound"


def test_a_worked_controller() -> None:
    """By hand: 7.6 V/A, 2600 V/(A·s) at 20 kHz, 33 A and 48 V full scale: 5.225 and 0.089375 counts per count."""
    forms = to_forms(7.6, 2600.0, Scales(33.0, 48.0, 20e3, 16))
    assert forms.kp_pu == pytest.approx(5.225)
    assert forms.ki_ts_pu == pytest.approx(0.089375)
    assert (forms.kp_q.integer, forms.kp_q.shift) == (21402, 12)  # 5.225 · 4096 = 21401.6
    assert (forms.ki_q.integer, forms.ki_q.shift) == (23429, 18)  # 0.089375 · 262144 = 23429.1
    assert (forms.b0, forms.b1) == (pytest.approx(7.73), -7.6)
    assert forms.ti == pytest.approx(7.6 / 2600)


def test_slips_are_named() -> None:
    winding = {"r": 0.413, "inductance": 1.1e-3, "delay_samples": 1.5}
    scales = Scales(33.0, 48.0, 20e3, 16)
    forms = to_forms(2 * math.pi * 1200 * 1.1e-3, 2 * math.pi * 1200 * 0.413, scales)
    twice = quantise(
        forms.ki_ts_pu / 20e3 * 4096, 16
    )  # 4096 only lifts it into the word; the slip is the second period
    found = from_integers(forms.kp_q, QGain(twice.integer, min(twice.shift + 12, 31), 0.0), scales, **winding)  # type: ignore[arg-type]
    assert "folded into Ki twice" in found.findings[0].text
    fast = from_integers(QGain(30000, 8, 0.0), forms.ki_q, scales, **winding)  # type: ignore[arg-type]
    assert fast.verdict == "wrong"
    slow = from_integers(
        QGain(forms.kp_q.integer, forms.kp_q.shift + 6, 0.0),
        QGain(forms.ki_q.integer, forms.ki_q.shift + 6, 0.0),
        scales,
        **winding,  # type: ignore[arg-type]
    )
    assert any(f.code == "slow" for f in slow.findings)
    for kp, ki, wording in ((0, 5, "Kp = 0"), (40000, 5, "does not fit 16 bits"), (5, 5, "")):
        if wording:
            with pytest.raises(Refusal, match=wording):
                from_integers(QGain(kp, 0, 0.0), QGain(ki, 0, 0.0), scales, **winding)  # type: ignore[arg-type]
    with pytest.raises(Refusal, match="shift of 40"):
        from_integers(QGain(5, 40, 0.0), QGain(5, 0, 0.0), scales, **winding)  # type: ignore[arg-type]
    for bad in (Scales(0.0, 48.0, 20e3), Scales(33.0, 48.0, 20e3, 64)):
        with pytest.raises(Refusal):
            to_forms(7.6, 2600.0, bad)
    with pytest.raises(Refusal, match="overflows 16 bits"):
        to_forms(1e6, 2600.0, Scales(500.0, 12.0, 20e3, 16))
