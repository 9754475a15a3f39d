"""Constants of steppers, brushed and induction motors from captures made by other models than the estimators'."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from crisp_compass.capture.model import Capture
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Estimate, FloatArray
from crisp_compass.identify.armature import fit_armature
from crisp_compass.identify.circuit import family_of_capture
from crisp_compass.identify.decay import fit_decay
from crisp_compass.identify.flux import fit_flux
from crisp_compass.identify.inductance import fit_inductance
from crisp_compass.identify.induction import fit_induction
from crisp_compass.identify.resistance import fit_resistance
from crisp_compass.identify.speed_response import fit_speed_response
from crisp_compass.identify.two_phase import fit_winding_flux

BRUSHED, STEPPER, INDUCTION = {"family": "brushed"}, {"family": "stepper"}, {"family": "induction"}


def holds(estimate: Estimate, truth: float, *, sigmas: float = 3.5) -> bool:
    return abs(estimate.value - truth) < sigmas * estimate.u


def noisy(rng: np.random.Generator, x: FloatArray, part: float = 2e-3) -> FloatArray:
    return x + rng.normal(0, part * float(np.max(np.abs(x))), len(x))


def stairs(levels: FloatArray, *, dwell: float = 0.1, rate: float = 4000.0) -> tuple[FloatArray, FloatArray]:
    t = np.arange(0, dwell * len(levels), 1 / rate)
    return t, levels[np.minimum((t / dwell).astype(int), len(levels) - 1)]


@pytest.mark.parametrize("both", [True, False])
def test_resistance_of_an_armature_with_the_drop_of_its_brushes(both: bool) -> None:
    rng = np.random.default_rng(5)
    r, drop = 1.37, 0.86
    t, i = stairs(np.linspace(-3.0 if both else 0.4, 3.0, 8))
    v = r * i + drop * np.tanh(i / 0.02) + 0.013  # the drop has a soft knee, the channel an offset
    found = fit_resistance(Capture("c", t, {"v_m": noisy(rng, v), "i_m": noisy(rng, i)}, BRUSHED))
    assert holds(found.estimates["resistance"], r)
    assert ("voltage_offset" in found.estimates) == both
    assert ("brush-drop-unknown" in [f.code for f in found.findings]) != both
    if both:
        assert holds(found.estimates["voltage_offset"], drop)


def test_constants_of_a_winding_are_not_halved_and_the_one_with_current_counts() -> None:
    rng = np.random.default_rng(6)
    r, inductance = 2.2, 4.1e-3
    t, i = stairs(np.linspace(0.1, 1.4, 7))
    idle = {"v_a": rng.normal(0, 1e-3, len(t)), "i_a": rng.normal(0, 1e-4, len(t))}
    driven = {"v_b": noisy(rng, r * i), "i_b": noisy(rng, i)}
    assert holds(fit_resistance(Capture("c", t, {**idle, **driven}, STEPPER)).estimates["resistance"], r)
    fine = np.arange(0, 0.02, 1e-6)
    v = np.where((fine > 1.3e-3) & (fine < 9e-3), 12.0, 0.0)
    solved = solve_ivp(
        lambda at, y: (np.interp(at, fine, v) - r * y) / inductance,
        (0, 0.02),
        [0.0],
        t_eval=fine,
        max_step=5e-5,
        rtol=1e-9,
    )
    every = slice(7, None, 20)
    steps = {"v_a": noisy(rng, v[every], 1e-3), "i_a": noisy(rng, solved.y[0][every], 1e-3)}
    found = fit_inductance(Capture("c", fine[every], steps), family="stepper").estimates
    assert found["inductance"].value == pytest.approx(inductance, rel=4e-3)
    assert found["resistance"].value == pytest.approx(r, rel=4e-3)


def test_inductance_of_an_armature_whose_current_rests_between_steps() -> None:
    rng = np.random.default_rng(7)
    r, inductance, drop, dt = 0.9, 1.6e-3, 0.7, 2e-7
    t = np.arange(0, 0.03, dt)
    v = np.where((t * 90) % 1 < 0.45, 9.0, 0.0)
    i, now, fade = np.zeros(len(t)), 0.0, math.exp(-dt * r / inductance)
    for k, volts in enumerate(v):
        rest = (volts - drop * (1.0 if now > 0 or volts > 0 else 0.0)) / r
        now = max(rest + (now - rest) * fade, 0.0)  # the brushes block what would turn the current
        i[k] = now
    every = slice(11, None, 75)
    capture = Capture("c", t[every], {"v_m": noisy(rng, v[every], 1e-3), "i_m": noisy(rng, i[every], 1e-3)}, BRUSHED)
    found = fit_inductance(capture).estimates
    assert found["inductance"].value == pytest.approx(inductance, rel=3e-3)
    assert found["resistance"].value == pytest.approx(r, rel=3e-3)


def coasting_stepper(*, detent: float, third: float, fifth: float, both: bool = True) -> Capture:
    """A rotor of 50 pole pairs that coasts over its detents; waveform with a third and a fifth."""
    psi, p, inertia, start = 5.1e-3, 50, 4e-6, 60.0
    drag = 0.7 * inertia * start / 0.15
    motion = solve_ivp(
        lambda _, y: [p * y[1], (-detent * math.sin(4 * y[0]) - drag) / inertia], (0, 0.15), [0.3, start],
        t_eval=np.arange(0, 0.15, 2e-5), rtol=1e-9, atol=1e-10, max_step=2e-5,
    )  # fmt: skip
    theta, omega = motion.y[0], p * motion.y[1]
    rng = np.random.default_rng(8)

    def emf(at: FloatArray) -> FloatArray:
        wave = np.sin(at) + third * np.sin(3 * at) + fifth * np.sin(5 * at)
        return noisy(rng, -psi * omega * wave, 3e-3)

    columns = {"v_a": emf(theta), "speed": noisy(rng, motion.y[1], 1e-2)}
    return Capture("c", motion.t, {**columns, "v_b": emf(theta - math.pi / 2)} if both else columns, STEPPER)


@pytest.mark.parametrize("both", [True, False])
def test_flux_of_a_winding_and_what_is_ripple_of_the_shaft(both: bool) -> None:
    found = fit_winding_flux(coasting_stepper(detent=0.02, third=0.03, fifth=0.012, both=both))
    assert found.estimates["flux_linkage"].value == pytest.approx(5.1e-3, rel=2e-3)
    assert found.estimates["pole_pairs"].value == 50
    assert found.estimates["kt"].value == pytest.approx(50 * 5.1e-3, rel=2e-3)
    for name, truth in (("harmonic_3", 0.03), ("harmonic_5", 0.012)):
        estimate = found.estimates[name]
        assert estimate.low <= truth <= estimate.high
        assert estimate.high - estimate.low < 0.02


def test_ke_by_coasting_and_with_r_by_running() -> None:
    rng = np.random.default_rng(9)
    ke, r, drop = 0.0231, 0.82, 0.55
    t = np.linspace(0, 2, 4000)
    speed = 300 * np.exp(-t / 1.1)
    ripple = 1 + 0.01 * np.sin(24 * np.cumsum(speed) * t[1])  # of the commutator
    coast = Capture(
        "c", t, {"v_m": noisy(rng, ke * speed * ripple) + 0.02, "speed": noisy(rng, speed, 1e-2)}, BRUSHED
    )
    assert holds(fit_armature(coast).estimates["ke"], ke)
    t, volts = stairs(np.array([6.0, 12, -9, -14, 17, 10, -6, 15]), dwell=0.5)
    _, amps = stairs(np.array([1.0, 3, -2, -4, 2, 5, -4, 1]), dwell=0.5)
    speed = (volts - r * amps - drop * np.sign(amps)) / ke
    running = {"v_m": noisy(rng, volts), "i_m": noisy(rng, amps, 1e-2), "speed": noisy(rng, speed, 1e-2)}
    found = fit_armature(Capture("c", t, running, BRUSHED)).estimates
    assert holds(found["ke"], ke)
    assert holds(found["resistance"], r)
    assert holds(found["voltage_offset"], drop)
    assert found["kt"].value == found["ke"].value


class Cage:
    """A T circuit with an iron loss beside its magnetizing branch; the truth of the inverse-Γ circuit follows from it."""

    stator, rotor, leak_1, leak_2, mutual, iron = 1.9, 1.6, 7.4e-3, 8.8e-3, 0.212, 2200.0

    def impedance(self, omega: float, slip: float) -> complex:
        branches = 1 / (1j * omega * self.mutual) + 1 / self.iron + 1 / (self.rotor / slip + 1j * omega * self.leak_2)
        return self.stator + 1j * omega * self.leak_1 + 1 / branches

    @property
    def truth(self) -> dict[str, float]:
        whole = self.mutual + self.leak_2
        return {
            "leakage_inductance": self.mutual + self.leak_1 - self.mutual**2 / whole,
            "magnetizing_inductance": self.mutual**2 / whole,
            "rotor_resistance": (self.mutual / whole) ** 2 * self.rotor,
            "rotor_time_constant": whole / self.rotor,
        }

    def capture(self, hertz: float, slip: float, volts: float, seed: int) -> Capture:
        """Unbalanced by 2 %, with 1 % of a fifth harmonic, offsets and noise."""
        rng = np.random.default_rng(seed)
        t = np.arange(0, 0.5, 1.7e-4)
        parts = [(1, 1, volts * 1j, slip), (1, -1, 0.02 * volts, 2 - slip), (5, -1, 0.01 * volts, (6 - slip) / 5)]
        v, i = np.zeros((3, len(t))), np.zeros((3, len(t)))
        for order, sense, phasor, at in parts:
            omega = 2 * math.pi * hertz * order
            for k in range(3):
                turn = np.exp(1j * (omega * t - sense * k * 2 * math.pi / 3))
                v[k] += np.real(phasor * turn)
                i[k] += np.real(phasor / self.impedance(omega, at) * turn)
        columns = {"v_ab": v[0] - v[1], "v_bc": v[1] - v[2], "i_a": i[0], "i_b": i[1]}
        offset = {name: 0.004 * float(np.max(np.abs(x))) for name, x in columns.items()}
        return Capture("c", t, {n: noisy(rng, x) + offset[n] for n, x in columns.items()}, INDUCTION)


def test_circuit_of_an_induction_motor_from_unbalanced_dirty_tests() -> None:
    cage = Cage()
    stator = Estimate.from_u(cage.stator, "Ω", 0.0)
    free, locked = cage.capture(50, 1.5e-3, 325, 1), cage.capture(12.5, 1.0, 45, 2)
    found = fit_induction(free, locked, stator=stator)
    for name, truth in cage.truth.items():
        assert holds(found.estimates[name], truth), name
        assert found.estimates[name].value == pytest.approx(truth, rel=4e-3), name
    with pytest.raises(Refusal, match="which file is which"):
        fit_induction(locked, free, stator=stator)


@pytest.mark.parametrize("channels", [("v_ab",), ("v_ab", "v_bc")])
def test_rotor_time_constant_by_decay_while_the_rotor_slows_down(channels: tuple[str, ...]) -> None:
    rng = np.random.default_rng(10)
    rotor, t = 0.134, np.arange(0, 0.45, 1.3e-4)
    omega = 300 * (1 - 0.5 * t)
    theta = 300 * (t - 0.25 * t**2)
    flux = 0.9 * np.exp(-t / rotor) * np.exp(1j * theta)
    vector = (1j * omega - 1 / rotor) * flux
    phases = [np.real(vector * np.exp(-2j * math.pi * k / 3)) for k in range(3)]
    lines = {"v_ab": phases[0] - phases[1], "v_bc": phases[1] - phases[2]}
    found = fit_decay(Capture("c", t, {n: noisy(rng, lines[n]) for n in channels}, INDUCTION)).estimates
    assert holds(found["rotor_time_constant"], rotor)
    assert found["rotor_time_constant"].u < 3e-3 * rotor


def test_speed_response_of_a_loop_with_a_filter_and_a_load_step() -> None:
    kt, inertia, coulomb, viscous, lag, dt = 0.11, 3.1e-4, 0.021, 1.1e-4, 2e-3, 2e-4
    reference, speeds, currents = [], [], []
    w = seen = 40.0
    total = current = (coulomb + viscous * w) / kt
    for k in range(4000):
        wanted = 40.0 if k < 300 else 150.0 if k < 1600 else 90.0
        error = wanted - seen
        total += 1.5 * error * dt
        drive = float(np.clip(0.12 * error + total, -9, 9))
        reference.append(wanted)
        speeds.append(seen)
        currents.append(current)
        for _ in range(8):
            current += dt / 8 / 5e-4 * (drive - current)
            w += dt / 8 * (kt * current - viscous * w - coulomb - (0.08 if k > 2700 else 0.0)) / inertia
            seen += dt / 8 * (w - seen) / lag
    rng = np.random.default_rng(11)
    columns = {"speed_ref": np.array(reference), "speed": noisy(rng, np.array(speeds), 1e-3), "i_q": noisy(rng, np.array(currents), 3e-3)}  # fmt: skip
    found = fit_speed_response(Capture("c", np.linspace(0, 3999 * dt, 4000), columns), kt=kt)
    assert found.estimates["inertia"].value == pytest.approx(inertia, rel=5e-3)
    assert found.estimates["coulomb_friction"].value == pytest.approx(coulomb, rel=0.05)
    assert found.estimates["delay"].value == pytest.approx(lag, abs=dt)
    peak = max(speeds[300:1600])
    assert found.overshoot_pct == pytest.approx(100 * (peak - 150) / 110, abs=0.6)


def test_a_capture_of_another_family_is_refused_with_the_one_it_looks_like() -> None:
    t = np.linspace(0, 0.2, 2000)
    wave = np.sin(900 * t)
    star = {"v_ab": wave, "i_a": wave}
    with pytest.raises(Refusal, match="three-phase magnet motor"):
        fit_resistance(Capture("c", t, star), family="stepper")
    with pytest.raises(Refusal, match="brushed motor"):
        fit_inductance(Capture("c", t, {"v_m": wave, "i_m": wave}))
    with pytest.raises(Refusal, match="note says"):
        family_of_capture(Capture("c", t, star, STEPPER), "pm")
    with pytest.raises(Refusal, match="no family"):
        family_of_capture(Capture("c", t, star, {"family": "linear"}))
    turned = {"v_a": -900 * np.sin(900 * t), "v_b": 900 * np.cos(900 * t)}
    with pytest.raises(Refusal, match="90°"):
        fit_flux(Capture("c", t, turned))
    three = {"v_a": -np.sin(900 * t), "v_b": -np.sin(900 * t - 2 * math.pi / 3)}
    with pytest.raises(Refusal, match="120°"):
        fit_winding_flux(Capture("c", t, three))


def test_one_rise_of_an_armatures_current_says_that_its_brushes_are_presumed() -> None:
    """From rest to one level: (V − V0)/R is all there is, so R and L are open by what V0 may be, and a second level ends that."""
    r, inductance, drop, dt = 0.38, 0.0122, 1.2, 3e-4
    rng = np.random.default_rng(3)
    found = {}
    for levels in ((3.9,), (3.9, 7.8)):
        v = np.concatenate([np.zeros(300), *(np.full(500, x) for x in levels)])
        i, now = np.zeros(len(v)), 0.0
        for k in range(1, len(v)):
            goal = (v[k] - drop) / r if v[k] > drop or now > 0 else 0.0
            now = max(goal + (now - goal) * np.exp(-dt * r / inductance), 0.0)
            i[k] = now
        columns = {"v_m": v + 2e-3 * rng.standard_normal(len(v)), "i_m": i + 2e-3 * rng.standard_normal(len(v))}
        found[levels] = fit_inductance(
            Capture("c", np.linspace(0, (len(v) - 1) * dt, len(v)), columns, {"family": "brushed"})
        )
    one, two = found.values()
    assert "brush-drop-presumed" in [f.code for f in one.findings]
    assert one.estimates["inductance"].low < inductance < one.estimates["inductance"].high
    assert "brush-drop-presumed" not in [f.code for f in two.findings]
    assert two.estimates["inductance"].u < 0.1 * one.estimates["inductance"].u


def test_running_data_tell_friction_too_where_nothing_else_is_driven() -> None:
    """Steps of voltage on an uncoupled armature with a rippling commutator, by small steps of its own equations; then the same with a load that varies."""
    ke, r, inertia, viscous, coulomb, dt = 0.041, 0.62, 3.2e-5, 9e-6, 4.4e-3, 1e-3
    rng = np.random.default_rng(4)
    for load, told in ((0.0, True), (0.02, False)):
        levels = np.repeat([9.0, 14.0, 6.0, 17.0, 11.0, 15.0], 900)
        w, angle, speed, current = 0.0, 0.0, np.zeros(len(levels)), np.zeros(len(levels))
        for k, volts in enumerate(levels):
            for _ in range(10):
                i = (volts - ke * w * (1 + 0.008 * np.sin(7 * angle))) / r
                pull = load * (1 + np.sin(k / 300))
                w += dt / 10 * (ke * i - viscous * w - (coulomb + pull) * np.tanh(w / 0.5)) / inertia
                angle += dt / 10 * w
            speed[k], current[k] = w, i
        columns = {
            "v_m": noisy(rng, levels, 1e-3),
            "i_m": noisy(rng, current, 1e-3),
            "speed": noisy(rng, speed, 1e-3),
        }
        found = fit_armature(Capture("c", np.linspace(0, (len(levels) - 1) * dt, len(levels)), columns, BRUSHED))
        assert ("inertia" in found.estimates) is told
        assert ("friction-not-told" in [f.code for f in found.findings]) is not told
        if told:
            for name, true in (("inertia", inertia), ("viscous_friction", viscous), ("coulomb_friction", coulomb)):
                e = found.estimates[name]
                assert e.low < true < e.high
                assert e.u < 0.2 * true


@pytest.mark.thorough
@pytest.mark.parametrize("kind", ["stays", "slow", "soon gone"])
def test_a_second_part_of_the_fading_flux_is_taken_out(kind: str) -> None:
    """Remanence, a slower or a faster exponential of 1 to 8 % on the same shaft, which sags: it moved Tr by 14, 8 and 2 % before."""
    errors, held = [], 0
    for seed in range(10):
        rng = np.random.default_rng((["stays", "slow", "soon gone"].index(kind), seed))
        tr, f = float(np.exp(rng.uniform(np.log(0.06), np.log(0.6)))), rng.uniform(20, 60)
        rate = f * rng.uniform(25, 120)
        t = np.arange(min(int(tr * rng.uniform(3, 5) * rate), 8000)) / rate
        speed = 2 * np.pi * f * (1 - rng.uniform(0, 0.7) * (1 - np.exp(-t / (tr * rng.uniform(1, 8)))))
        angle = np.cumsum(speed) / rate + rng.uniform(0, 6)
        other = {"stays": 1e12, "slow": tr * rng.uniform(3, 6), "soon gone": tr * rng.uniform(0.05, 0.2)}[kind]
        share = rng.uniform(0.01, 0.08)
        flux = np.exp(-t / tr) + share * np.exp(-t / other)
        falls = -np.exp(-t / tr) / tr - share * np.exp(-t / other) / other
        lines = {
            name: noisy(rng, falls * np.cos(angle - k * 2 * np.pi / 3) - speed * flux * np.sin(angle - k * 2 * np.pi / 3))
            for k, name in enumerate(("v_ab", "v_bc", "v_ca"))
        }
        found = fit_decay(Capture("c", t, lines, INDUCTION)).estimates["rotor_time_constant"]
        errors.append(abs(found.value / tr - 1))
        held += found.low <= tr <= found.high
    assert np.median(errors) < 0.01
    assert held >= 8
