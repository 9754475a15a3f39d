"""The rotor's zero: alignment, pole search, absolute encoders, senses. Tables are made in closed form, apart from the plant."""

from __future__ import annotations

import math

import numpy as np
import pytest

from crisp_compass.capture import Capture
from crisp_compass.commutation.absolute import read_absolute
from crisp_compass.commutation.alignment import alignment_current, propose_fields, read_alignment
from crisp_compass.commutation.direction_check import COMBINATIONS, judge_directions
from crisp_compass.commutation.pole_search import search_pole
from crisp_compass.commutation.speed_resolution import speed_resolution
from crisp_compass.errors import Refusal
from crisp_compass.plant.parameters import Load, Machine
from crisp_compass.plant.standstill import Pulses, align, pulse_currents
from makers import pulses, rests, table, turning


def off(a: float, b: float) -> float:
    """Distance of two angles, degrees from rad."""
    return math.degrees(abs((a - b + math.pi) % (2 * math.pi) - math.pi))


# ---- alignment


def test_alignment_finds_zero_lag_and_sense() -> None:
    found = read_alignment(rests(7, -1, 2.5, 0.06), pole_pairs=7)
    assert off(found.zero.value, 2.5) < 1e-6
    assert found.hysteresis is not None
    assert found.hysteresis.value == pytest.approx(0.06)
    assert found.direction == -1
    # θe = 0 at the count that the definition says
    count = found.offset_counts(8192)
    assert off(-7 * count * 2 * math.pi / 8192 + 2.5, 0.0) < 1e-6


def test_alignment_intervals_hold_the_truth() -> None:
    """120 tables with cogging, reading noise, one to eleven pole pairs: zero within 0.5° at 95 %, intervals cover."""
    rng = np.random.default_rng(1)
    errors, held = [], 0
    for k in range(120):
        p, zero = int(rng.integers(1, 12)), float(rng.uniform(0, 6))
        cogging, noise = float(rng.uniform(0, 0.04)), float(rng.uniform(0.002, 0.02))
        made = rests(
            p, int(rng.choice([-1, 1])), zero, float(rng.uniform(0, 0.2)), cogging=cogging, noise=noise, seed=k
        )
        found = read_alignment(made, pole_pairs=p)
        errors.append(off(found.zero.value, zero))
        half = math.degrees((found.zero.high - found.zero.low) / 2)
        held += errors[-1] <= half
    assert np.quantile(errors, 0.95) < 0.5
    assert held >= 110


def test_alignment_on_the_plant_stops_short_by_the_friction() -> None:
    machine, load = Machine(0.4, 1e-3, 1.1e-3, 0.017, 7.0), Load(2e-4, 0.0, 0.09)
    current = alignment_current(1.5 * 7 * 0.017, 0.09, math.radians(8))
    made = align(machine, load, current, propose_fields(7), start=0.3)
    found = read_alignment(table(field_angle=made.field, angle=made.mechanical), pole_pairs=7)
    assert min(off(found.zero.value, 0.0), 1.0) < 0.4
    assert found.hysteresis is not None
    assert math.degrees(found.hysteresis.value) == pytest.approx(8, abs=1.5)


def test_alignment_says_what_is_wrong() -> None:
    good = rests(7, 1, 1.0, 0.05)
    with pytest.raises(Refusal, match="7 pole pairs would fit"):
        read_alignment(good, pole_pairs=6)
    with pytest.raises(Refusal, match="too few"):
        read_alignment(table(field_angle=good["field_angle"][:2], angle=good["angle"][:2]), pole_pairs=7)
    with pytest.raises(Refusal, match="did not follow"):
        read_alignment(table(field_angle=good["field_angle"], angle=0 * good["angle"]), pole_pairs=7)
    # a single electrical turn holds less against wrong pole pairs; it is still told
    turn = np.radians(np.concatenate([np.arange(0, 360, 60), np.arange(300, -1, -60)]))
    with pytest.raises(Refusal, match="7 pole pairs would fit"):
        read_alignment(table(field_angle=turn, angle=(turn - 0.7) / 7), pole_pairs=5)
    one = table(field_angle=good["field_angle"][:17], angle=good["angle"][:17])
    found = read_alignment(one, pole_pairs=7)
    assert [f.code for f in found.findings] == ["one-side"]
    assert found.hysteresis is None
    assert off(found.zero.value, 1.0) < math.degrees(2 * found.zero.u)
    held = good["angle"].copy()
    held[5] = held[4]
    codes = [
        f.code for f in read_alignment(table(field_angle=good["field_angle"], angle=held), pole_pairs=7).findings
    ]
    assert codes == ["positions-scatter"]
    wide = read_alignment(rests(3, 1, 1.0, math.radians(30)), pole_pairs=3)
    assert [f.code for f in wide.findings] == ["friction-large"]


# ---- pole search


def test_second_harmonic_is_the_saliency() -> None:
    """By FFT: the amplitude of cos 2(α − θ) over the mean of cos²/Ld + sin²/Lq is (Lq − Ld)/(Lq + Ld)."""
    a = np.arange(64) * 2 * math.pi / 64
    spectrum = np.fft.rfft(np.cos(a) ** 2 / 0.9 + np.sin(a) ** 2 / 1.1)
    assert 2 * spectrum[2].real / spectrum[0].real == pytest.approx(0.1)
    found = search_pole(pulses(1.0, saliency=0.2, pole=0.0, noise=1e-9))
    assert found.saliency == pytest.approx(0.2, rel=1e-3)


def test_pole_search_reaches_its_figures() -> None:
    """10 % saliency, 5 % saturation, 1 % noise, channels read before each pulse: axis within 3°, polarity right in 99 %."""
    rng = np.random.default_rng(2)
    for made_on in ("formula", "plant"):
        errors, right, inside = [], 0, 0
        for k in range(100):
            theta = float(rng.uniform(0, 2 * math.pi))
            if made_on == "formula":
                capture = pulses(
                    theta, saliency=0.10, pole=0.05, noise=0.01, seed=k, offset=(0.02, -0.015), rested=True
                )
            else:
                machine, load = Machine(0.4, 0.95e-3, 1.05e-3, 0.017, 5.0), Load(2e-4, 0.0, 0.01)
                angles, currents, moved = pulse_currents(machine, load, theta, Pulses(current=4.0), seed=k)
                assert abs(math.degrees(moved)) < 1
                capture = table(field_angle=angles, i_peak=currents, i_rest=0.0 * currents)
            found = search_pole(capture)
            assert found.axis is not None
            error = math.degrees(abs((found.axis - theta + math.pi / 2) % math.pi - math.pi / 2))
            errors.append(error)
            inside += error < 1.96 * math.degrees(found.u)
            right += found.theta is not None and off(found.theta, theta) < 90
        assert np.quantile(errors, 0.95) < 3.0, made_on
        assert max(errors) < 4.5
        assert right >= 99
        assert inside >= 88


def test_an_offset_of_the_channels_never_turns_the_pole_round() -> None:
    """Offsets of 2 to 3 % of the pulse in any direction, nothing read before the pulses: no wrong pole is declared certain."""
    rng, declared = np.random.default_rng(4), 0
    for k in range(250):
        theta, to, size = rng.uniform(0, 2 * math.pi), rng.uniform(0, 2 * math.pi), rng.uniform(0.02, 0.03)
        offset = (size * math.cos(to), size * math.sin(to))
        for saliency in (0.1, -0.1):
            capture = pulses(theta, saliency=saliency, pole=0.05, noise=0.01, seed=k, offset=offset)
            found = search_pole(capture, larger="lq" if saliency > 0 else "ld")
            if found.theta is not None:
                declared += 1
                assert off(found.theta, theta) < 90
    assert declared > 150


def test_the_odd_harmonics_tell_a_round_rotor_where_no_offset_can_feign_them() -> None:
    errors = []
    for seed in range(40):
        found = search_pole(
            pulses(1.0, saliency=0.0, pole=0.05, noise=0.01, seed=seed, offset=(0.03, 0.02), rested=True)
        )
        assert found.theta is not None
        errors.append(off(found.theta, 1.0) / math.degrees(found.u))
        assert (
            search_pole(pulses(1.0, saliency=0.0, pole=0.0, noise=0.01, seed=seed, offset=(0.03, 0.02))).theta is None
        )
    assert np.quantile(errors, 0.95) < 2.6


def test_the_axis_says_what_it_takes_for_granted() -> None:
    capture = pulses(1.0, saliency=-0.2, pole=0.05, noise=0.002)
    wrong, right = search_pole(capture), search_pole(capture, larger="ld")
    assert right.axis == pytest.approx(1.0, abs=0.02)
    assert wrong.axis == pytest.approx(1.0 + math.pi / 2, abs=0.02)
    assert "axis-assumed" in [f.code for f in wrong.findings]


def test_pole_search_refuses_to_guess() -> None:
    for seed in range(20):
        round_rotor = search_pole(pulses(1.0, saliency=0.0, pole=0.05, noise=0.01, seed=seed))
        assert round_rotor.axis is None
        assert [f.code for f in round_rotor.findings] == ["no-saliency"]
        linear = search_pole(pulses(1.0, saliency=0.2, pole=0.0, noise=0.01, seed=seed))
        assert linear.axis is not None
        assert linear.theta is None
        assert linear.findings[-1].code == "no-saturation"
    drifted = search_pole(pulses(1.0, saliency=0.2, pole=0.02, noise=0.003, offset=(0.03, -0.02)))
    assert "current-offset" in [f.code for f in drifted.findings]
    whole = pulses(1.0, saliency=0.2, pole=0.05, noise=0.01)
    for keep, wording in ((slice(0, 8), "too few"), (slice(0, 50), "leave .* without")):
        with pytest.raises(Refusal, match=wording):
            search_pole(table(field_angle=whole["field_angle"][keep], i_peak=whole["i_peak"][keep]))
    bad = whole["i_peak"].copy()
    bad[2] = -4
    with pytest.raises(Refusal, match="pulse 3 shows -4"):
        search_pole(table(field_angle=whole["field_angle"], i_peak=bad))


# ---- absolute encoders


def word(
    *, bits: int = 12, turn_bits: int = 0, p: int = 5, sense: int = 1, zero: float = 0.9, turns: float = 3.2, begin: float = 0.4, seed: int = 0
) -> tuple[np.ndarray, np.ndarray, dict[str, np.ndarray]]:  # fmt: skip
    """A hand turn seen by an absolute encoder: θe = σ·p·(encoder's own angle) + zero."""
    t = np.arange(12000) / 6000
    speed = 1 + 0.3 * np.sin(2 * math.pi * 0.9 * t)
    speed *= turns * 2 * math.pi / (np.sum(speed) / 6000)
    mechanical = begin + np.cumsum(speed) / 6000
    own = sense * mechanical
    counts = np.floor(own * 2**bits / (2 * math.pi)).astype(np.int64) % 2 ** (bits + turn_bits)
    voltages = turning(0.02, p * mechanical + zero, p * speed, t, seed=seed)
    return t, mechanical, {**voltages, "position": counts.astype(float)}


@pytest.mark.parametrize(
    ("bits", "turn_bits", "sense"), [(10, 0, 1), (12, 0, -1), (14, 0, 1), (12, 4, 1), (13, 12, -1)]
)
def test_absolute_encoder_bits_sense_and_zero(bits: int, turn_bits: int, sense: int) -> None:
    t, _, columns = word(bits=bits, turn_bits=turn_bits, sense=sense, begin=11.0)
    found = read_absolute(Capture("a", t, columns), pole_pairs=5)
    assert found.counts_per_rev == 2**bits
    assert found.bits == bits
    assert found.direction == sense
    assert found.zero_offset_deg is not None
    assert found.zero_u_deg is not None
    error = abs((found.zero_offset_deg - math.degrees(0.9) + 180) % 360 - 180)
    # the middle of word 0 stands half a count from its start
    assert error < 0.5 + 0.5 * 5 * 360 / 2**bits
    assert found.offset_counts is not None
    turn = 2**bits / 5
    want = (-sense * 0.9 / (2 * math.pi) * turn) % turn
    assert abs((found.offset_counts - want + turn / 2) % turn - turn / 2) < 0.5 / 360 * turn + 1
    assert (found.turn_bits > 0) == (turn_bits > 0)


def test_absolute_encoder_with_turns_or_angle_alone_and_what_goes_wrong() -> None:
    t, mechanical, columns = word(bits=11, turns=2.03)
    only = {"position": columns["position"]}
    assert read_absolute(Capture("a", t, only), revolutions=2).counts_per_rev == 2048
    found = read_absolute(Capture("a", t, {**only, "angle": mechanical}))
    assert (found.counts_per_rev, found.direction, found.zero_offset_deg) == (2048, 1, None)
    assert "resolution-unknown" in [f.code for f in read_absolute(Capture("a", t, only)).findings]
    jumpy = columns["position"].copy()
    jumpy[3000] = 2047 - jumpy[3000]
    codes = [f.code for f in read_absolute(Capture("a", t, {"position": jumpy}), revolutions=2).findings]
    assert "position-jumps" in codes
    stuck = np.asarray(columns["position"].astype(int) & ~(1 << 4), dtype=float)
    found = read_absolute(Capture("a", t, {"position": stuck}), revolutions=2)
    assert next(f.text for f in found.findings if f.code == "bit-stuck").startswith("Bit 4 never")
    scaled = np.floor((columns["position"]) * 3600 / 2048)
    found = read_absolute(Capture("a", t, {"position": scaled, "angle": mechanical}))
    assert "no-power-of-two" in [f.code for f in found.findings]
    assert found.counts_per_rev == pytest.approx(3600, abs=3)
    for bad, wording in (
        (0 * jumpy + 5, "stays at 5"), (columns["position"] + 0.5, "is no position word"), (columns["position"] - 900, "is no position word"),
        (np.random.default_rng(0).integers(0, 2048, len(t)).astype(float), "jumps by more"),
    ):  # fmt: skip
        with pytest.raises(Refusal, match=wording):
            read_absolute(Capture("a", t, {"position": bad}), revolutions=2)


# ---- senses, speed


def test_the_four_combinations_are_told_apart() -> None:
    """Phase order o and encoder sense e: the shaft turns o, the encoder shows o·e; a loop closes where the two agree."""
    verdicts = set()
    for order in (1, -1):
        for sense in (1, -1):
            found = judge_directions(10.0, 10.0 * order, 10.0 * order * sense)
            assert found.phases == (order > 0)
            assert found.encoder == (sense > 0)
            assert found.closes == (order * sense > 0)
            verdicts.add(found.what)
            swap = any("two motor leads" in m for m in found.lead_fixes)
            assert swap == (order < 0)
    assert len(verdicts) == len(COMBINATIONS) == 4
    assert judge_directions(-10.0, -10.0, -10.0).closes
    assert not judge_directions(10.0, 10.0, 10.0, -8.0).current
    assert "two hall wires" in judge_directions(1.0, 1.0, -1.0, sensor="halls").lead_fixes[0]
    assert "channels A and B" in judge_directions(1.0, 1.0, -1.0).lead_fixes[0]
    with pytest.raises(Refusal, match="measured speed is zero"):
        judge_directions(1.0, 1.0, 0.0)


def test_counting_and_timing_are_alike_where_the_formula_says() -> None:
    """A worked case: 4096 counts, 10 kHz loop, 100 MHz timer: one count a period is 146.5 rpm."""
    fine = speed_resolution(4096, 10e3, 100e6)
    assert fine.counting * 30 / math.pi == pytest.approx(60 * 10e3 / 4096)
    assert fine.timing(fine.alike) == pytest.approx(fine.counting)
    # one tick more or less in the period of one count
    speed = 5.0
    period = 2 * math.pi / 4096 / speed
    assert fine.timing(speed) == pytest.approx(speed - 2 * math.pi / 4096 / (period + 1e-8), rel=1e-3)
