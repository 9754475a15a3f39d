"""The modulator against Fourier analysis, ngspice and worked figures of the literature."""

from __future__ import annotations

import itertools
import math
import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.modulation.losses import dead_time_effect, losses, switching_share
from crisp_compass.modulation.ripple import one_period, ripple, switchings
from crisp_compass.modulation.sampling import gate_signals, sampling_spans, sampling_window, window_open
from crisp_compass.modulation.vectors import SCHEMES, VOLTAGE_PER_BUS, Scheme, duties

MODULATED = [s for s in SCHEMES if s != "six-step"]


@pytest.mark.parametrize("scheme", SCHEMES)
def test_fundamental_by_fft(scheme: Scheme) -> None:
    """Line voltage's fundamental is √3 of the wanted phase peak at the limit; beyond it (by 2 %) a modulated scheme clips."""
    theta = np.arange(4096) * 2 * math.pi / 4096
    limit = 48 * VOLTAGE_PER_BUS[scheme]

    def line(peak: float) -> np.ndarray:
        duty = duties(scheme, peak, 48.0, theta)
        return np.abs(np.fft.rfft(48 * (duty[:, 0] - duty[:, 1]))) / 2048

    spectrum = line(limit)
    assert spectrum[1] == pytest.approx(math.sqrt(3) * limit, rel=1e-3)
    harmonics = float(np.max(spectrum[2:200]))
    if scheme == "six-step":
        assert spectrum[5] == pytest.approx(spectrum[1] / 5, rel=0.01)
    else:
        assert harmonics < 1e-9 * limit
        assert float(np.max(line(1.02 * limit)[2:200])) > 1e-3


def test_space_vector_reaches_15_47_per_cent_more_than_sine() -> None:
    """2/√3 − 1 = 15.47 % (Holmes and Lipo 2003, ch. 6)."""
    assert VOLTAGE_PER_BUS["space-vector"] / VOLTAGE_PER_BUS["sine"] - 1 == pytest.approx(0.1547, abs=5e-5)


CIRCUIT = """Three legs into a star of R-L with a source in each phase that holds the average
{legs}
Ra ma na {r}
La a ma {l} ic={ia}
Va na s DC {va}
Rb mb nb {r}
Lb b mb {l} ic={ib}
Vb nb s DC {vb}
Rc mc nc {r}
Lc c mc {l} ic={ic}
Vc nc s DC {vc}
Rs s 0 1e9
.tran 5n {stop} 0 5n uic
.control
run
linearize i(Va) i(Vb) i(Vc)
wrdata out.txt i(Va) i(Vb) i(Vc)
quit 0
.endc
.end
"""


@pytest.mark.skipif(shutil.which("ngspice") is None, reason="ngspice is not installed")
@pytest.mark.parametrize(
    ("scheme", "degrees", "depth"), [("space-vector", 17, 0.6), ("sine", 40, 0.9), ("clamped-low", 75, 0.5)]
)
def test_ripple_of_one_carrier_period_from_ngspice(
    scheme: Scheme, degrees: float, depth: float, tmp_path: Path
) -> None:
    """Six switchings into R–L with the average held by sources: peak to peak of all phases within 2 %."""
    v_bus, f, inductance, r = 48.0, 20e3, 1.1e-3, 0.02
    theta, peak = math.radians(degrees), depth * v_bus * VOLTAGE_PER_BUS[scheme]
    duty = duties(scheme, peak, v_bus, np.array([theta]))[0]
    ours = one_period(scheme, peak, v_bus, f, inductance, inductance, theta)
    legs = []
    for name, d in zip("abc", duty, strict=True):
        begin, width = 0.5 * (1 - d) / f, d / f
        source = (
            f"PULSE(0 {v_bus} {begin} 2n 2n {width - 2e-9} {1 / f})"
            if 1e-6 < d < 1 - 1e-6
            else f"DC {v_bus * round(d)}"
        )
        legs.append(f"V{name}g {name} 0 {source}")
    average = (duty - duty.mean()) * v_bus
    circuit = CIRCUIT.format(
        legs="\n".join(legs), r=r, l=inductance, stop=1 / f, va=average[0], vb=average[1], vc=average[2],
        ia=ours.current[0, 0], ib=ours.current[0, 1], ic=ours.current[0, 2],
    )  # fmt: skip
    (tmp_path / "c.cir").write_text(circuit)
    subprocess.run(["ngspice", "-b", "c.cir"], cwd=tmp_path, capture_output=True, check=True, timeout=120)
    table = np.loadtxt(tmp_path / "out.txt")
    for k in range(3):
        theirs = table[:, 2 * k + 1]
        mine = float(np.ptp(ours.current[:, k]))
        assert mine == pytest.approx(float(np.ptp(theirs)), rel=0.02)
        along = np.interp(table[:, 0] * f, ours.time, ours.current[:, k])
        assert float(np.max(np.abs(along - theirs))) < 0.02 * mine


@pytest.mark.parametrize("scheme", MODULATED)
def test_ripple_of_a_turn_is_that_of_its_periods(scheme: Scheme) -> None:
    """Brute force: leg voltages stepped through 2,000 points a period, salient machine; rms and largest swing agree."""
    v_bus, f, ld, lq, peak = 48.0, 20e3, 0.9e-3, 1.3e-3, 15.0
    found = ripple(scheme, peak, v_bus, f, ld, lq)
    squares, swings = [], []
    grid = (np.arange(2000) + 0.5) / 2000
    for theta in (np.arange(60) + 0.5) * 2 * math.pi / 60:
        duty = duties(scheme, peak, v_bus, np.array([theta]))[0]
        legs = np.array([(grid > 0.5 * (1 - d)) & (grid < 0.5 * (1 + d)) for d in duty]).T * v_bus
        excess = legs - legs.mean(axis=1, keepdims=True)
        excess -= (duty - duty.mean()) * v_bus
        rotor = theta - math.pi / 2
        alpha, beta = excess[:, 0], (excess[:, 1] - excess[:, 2]) / math.sqrt(3)
        d_axis = np.cumsum(alpha * math.cos(rotor) + beta * math.sin(rotor)) / 2000 / f / ld
        q_axis = np.cumsum(beta * math.cos(rotor) - alpha * math.sin(rotor)) / 2000 / f / lq
        a = d_axis * math.cos(rotor) - q_axis * math.sin(rotor)
        a -= a.mean()
        squares.append(np.mean(a**2))
        swings.append(np.ptp(a))
    assert found.rms == pytest.approx(math.sqrt(np.mean(squares)), rel=0.01)
    assert found.peak_to_peak == pytest.approx(max(swings), rel=0.02)


def test_switching_losses_of_clamped_schemes() -> None:
    """Clamped 60° about the current's peak halves the switching loss at unity power factor (Holmes and Lipo 2003, ch. 6)."""
    assert switching_share("clamped-60", 15.0, 48.0) == pytest.approx(0.5, abs=0.005)
    assert switching_share("space-vector", 15.0, 48.0) == 1
    assert switching_share("clamped-60", 15.0, 48.0, current_lag=math.pi / 2) > 0.8
    # a worked case: 48 V, 20 kHz, 10 A peak, 40 ns each way: 3 · ½·48·(2/π·10)·80e-9·20e3 = 0.733 W; 1.5·100·5 mΩ = 0.75 W
    found = losses("sine", 10.0, 48.0, 20e3, 10.0, 5e-3, 40e-9, 40e-9)
    assert found.switching == pytest.approx(0.7334, rel=1e-3)
    assert found.conduction == pytest.approx(0.75)


def test_dead_time_harmonics_by_fft() -> None:
    """Three square waves against the currents, seen along the current: mean 4/π, sixth harmonics 4/π·(1/5 ∓ 1/7)."""
    theta = (np.arange(7200) + 0.5) * 2 * math.pi / 7200
    legs = [0.3 * np.sign(np.cos(theta - shift)) for shift in (0, 2 * math.pi / 3, 4 * math.pi / 3)]
    vector = (
        2
        / 3
        * sum(
            leg * np.exp(1j * shift) for leg, shift in zip(legs, (0, 2 * math.pi / 3, 4 * math.pi / 3), strict=True)
        )
    )
    seen = vector * np.exp(-1j * theta)
    along, across = np.fft.rfft(seen.real) / 3600, np.fft.rfft(seen.imag) / 3600
    effect = dead_time_effect(0.3, 0.4, 5.0)
    assert effect.fundamental == pytest.approx(along[0].real / 2, rel=1e-4)
    assert effect.sixth_q == pytest.approx(abs(along[6]), rel=1e-3)
    assert effect.sixth_d == pytest.approx(abs(across[6]), rel=1e-3)
    assert effect.resistance_error == pytest.approx(4 / 3 * 0.3 / 5)


def test_sampling_windows_against_brute_force() -> None:
    """For every shunt count: the limit is where the window just vanishes; spans lie where the low switches conduct."""
    f, needed = 20e3, 4e-6
    theta = (np.arange(720) + 0.5) * math.pi / 360
    for shunts, scheme in itertools.product(("two", "three"), ("sine", "space-vector", "clamped-low")):
        window = sampling_window(scheme, 48.0, f, shunts, needed)  # type: ignore[arg-type]
        assert window_open(duties(scheme, 0.999 * window.limit, 48.0, theta), shunts, needed, f).all()  # type: ignore[arg-type]
        if window.limit < 47.99 * VOLTAGE_PER_BUS[scheme]:  # type: ignore[index]
            assert not window_open(duties(scheme, 1.01 * window.limit, 48.0, theta), shunts, needed, f).all()  # type: ignore[arg-type]
    assert (
        sampling_window("space-vector", 48.0, f, "three", needed).limit
        > sampling_window("space-vector", 48.0, f, "two", needed).limit
    )
    assert sampling_window("space-vector", 48.0, f, "one", needed).limit == 0
    assert 0 < sampling_window("space-vector", 48.0, f, "one", needed).open_share < 1
    assert sampling_window("sine", 48.0, f, "in-line", 1.0).open_share == 1
    duty = np.array([0.8, 0.5, 0.2])
    gates = gate_signals(duty, np.linspace(0, 1, 1001), 0.01)
    assert not (gates[:, 0::2] * gates[:, 1::2]).any()  # never both switches of a leg
    assert gates.mean(axis=0)[::2] == pytest.approx(duty - 0.01, abs=0.003)
    for begin, end in sampling_spans(duty, "three", 0.05):
        inside = (np.linspace(0, 1, 1001) > begin) & (np.linspace(0, 1, 1001) < end)
        assert (gates[inside][:, 1::2].sum(axis=1) >= 2).all()
    # one shunt: active vectors only, each longer than needed
    spans = sampling_spans(duty, "one", 0.05)
    assert len(spans) == 4
    assert all(b - a == pytest.approx(0.15 - 0.05, abs=0.002) for a, b in spans)
    time, _ = switchings(duty[None, :], centred=False)
    assert time[0] == pytest.approx([0, 0.2, 0.5, 0.8, 1])
