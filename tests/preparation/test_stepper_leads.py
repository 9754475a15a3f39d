"""Leads of a stepper: pairs and taps by ohmmeter, connections against each other, exchanged and turned windings in the plant."""

from __future__ import annotations

import itertools
import math

import pytest

from crisp_compass.bench import Bench
from crisp_compass.bench.entered import enter, with_family
from crisp_compass.errors import Refusal
from crisp_compass.preparation.stepper_leads import connected, key_of, pairs, read_leads
from crisp_compass.preparation.wiring import consequence, leads_of, set_lead


def read_all(groups: dict[tuple[int, ...], list[float]], leads: int) -> dict[str, float]:
    """Readings of coils in a row: the resistance between neighbours of a group."""
    ohms = {key_of(a, b): 1e12 for a, b in itertools.combinations(range(1, leads + 1), 2)}
    for group, between in groups.items():
        for i, j in itertools.combinations(range(len(group)), 2):
            ohms[key_of(group[i], group[j])] = sum(between[i:j])
    return ohms


def test_pairs_and_taps_are_told_and_what_is_not_told_is_said() -> None:
    four = pairs(read_all({(1, 3): [2.1], (2, 4): [2.2]}, 4), 4)
    assert (four.groups, four.complete) == (((1, 3), (2, 4)), True)
    six = pairs(read_all({(5, 2, 1): [1.0, 1.02], (3, 6, 4): [1.01, 0.99]}, 6), 6)
    assert six.taps == (2, 6)
    assert six.complete
    eight = pairs(read_all({(1, 2): [1.0], (3, 4): [1.0], (5, 6): [1.0], (7, 8): [1.0]}, 8), 8)
    assert [f.code for f in eight.findings] == ["halves-unknown"]
    joined = pairs(read_all({(1, 2, 3, 4): [1.0, 1.0, 1.0]}, 4), 4)
    assert [f.level for f in joined.findings] == ["stop"]
    assert "halves-differ" in [
        f.code for f in pairs(read_all({(1, 2, 3): [1.0, 2.0], (4, 5, 6): [1.0, 1.0]}, 6), 6).findings
    ]
    assert not pairs({"1-2": 2.0}, 4).complete


def test_a_broken_winding_is_concluded_once_every_pair_is_read() -> None:
    broken = {"1-2": 2.1, "1-3": 1e13, "1-4": 1e13, "2-3": 1e13, "2-4": 1e13}
    assert [f.code for f in pairs(broken, 4).findings] == []
    told = pairs({**broken, "3-4": 1e13}, 4)
    assert [(f.code, f.level, "Leads 3, 4" in f.text) for f in told.findings] == [("winding-open", "stop", True)]
    half = read_all({(1, 2, 3): [1.0, 1.0, 2.0], (4, 5): [1.0], (6,): []}, 6)
    assert {f.code for f in pairs(half, 6).findings} == {"winding-open"}


def test_series_and_parallel_make_the_same_torque_and_heat() -> None:
    half, series, parallel = connected(1.6, 2e-3, 1.5, "half", 8)
    assert series.torque == pytest.approx(parallel.torque)
    assert series.torque == pytest.approx(math.sqrt(2) * half.torque)
    assert series.r is not None
    assert parallel.r is not None
    assert series.r * series.current**2 == pytest.approx(parallel.r * parallel.current**2)
    assert series.time_constant == pytest.approx(2 * (half.time_constant or 0))
    assert [c.connection for c in connected(1.0, 1e-3, 1.0, "half", 6)] == ["half", "series"]
    assert connected(1.0, 1e-3, 1.0, "half", 4)[0].r == 1.0  # one coil a phase: nothing to choose


@pytest.mark.parametrize(
    ("places", "direction", "shift"),
    [
        (("A+", "A-", "B+", "B-"), 1, 0),
        (("A-", "A+", "B+", "B-"), -1, 0),
        (("B+", "B-", "A+", "A-"), -1, 0),
        (("A-", "A+", "B-", "B+"), 1, 180),
        (("B+", "B-", "A-", "A+"), 1, 90),
        (("A+", "B+", "A-", "B-"), 0, 0),
    ],
)
def test_exchanged_and_turned_windings(places: tuple[str, ...], direction: int, shift: int) -> None:
    """The field of I·cos θ and I·sin θ on the windings as they lie says the same."""
    bench = with_family(Bench(), "stepper")
    assert [lead.name for lead in leads_of(bench)][:4] == ["A+", "A−", "B+", "B−"]
    for k, place in enumerate(places):
        bench = set_lead(bench, k, terminal=place)
    found = consequence(bench)
    assert (found.direction, found.shift_deg) == (direction, shift)
    if not direction:
        return
    drives = {"A": lambda t: math.cos(t), "B": lambda t: math.sin(t)}

    def field(t: float) -> complex:
        total = 0j
        for k, axis in enumerate((1, 1j)):
            plus = places[2 * k]
            total += axis * drives[plus[0]](t) * (1 if plus.endswith("+") else -1)
        return total

    turned = math.atan2((field(0.2) / field(0.1)).imag, (field(0.2) / field(0.1)).real)
    assert turned == pytest.approx(0.1 * direction)
    if direction > 0:
        away = math.degrees(math.atan2(field(0.0).imag, field(0.0).real)) % 360
        assert min(away, 360 - away) == pytest.approx(shift)


def test_an_armature_turned_over_runs_backwards_and_bad_readings_are_refused() -> None:
    bench = with_family(Bench(), "brushed")
    bench = set_lead(set_lead(bench, 0, terminal="M-"), 1, terminal="M+")
    assert consequence(bench).direction == -1
    stepper = with_family(Bench(), "stepper")
    assert read_leads(stepper, 3, 1, 2.2).settings.stepping.ohms == {"1-3": 2.2}
    for bad in ((1, 1, 2.0), (1, 5, 2.0), (1, 2, -1.0)):
        with pytest.raises(Refusal):
            read_leads(stepper, *bad)
    assert read_leads(enter(stepper, "stepping", {"leads": 8}), 1, 8, 2.0).settings.stepping.ohms == {"1-8": 2.0}
