"""The shortest mend against brute force with real angles; halls alone as a status display shows them."""

from __future__ import annotations

import itertools

import numpy as np
import pytest

from crisp_compass.capture import Capture
from crisp_compass.commutation.halls import PAIR_ANGLES, best_pair
from crisp_compass.commutation.lead_fix import COMMON_TABLE, lead_fixes
from crisp_compass.commutation.status import read_status
from crisp_compass.errors import Refusal

_CENTRES = {"5": 240.0, "4": 300.0, "6": 0.0, "2": 60.0, "3": 120.0, "1": 180.0}  # the common table's own motor


def _rewired(phases: tuple[int, ...], halls: tuple[int, ...], inverted: int = 0) -> dict[str, str]:
    """The table measured on that motor after its leads were mixed: lead k on terminal phases[k], hall k on input halls[k]."""
    table = {}
    for code, centre in _CENTRES.items():
        pair = best_pair(centre)
        named = "".join("ABC"[phases["ABC".index(c)]] if c in "ABC" else c for c in pair)
        bits = sum((int(code) >> (2 - k) & 1) << (2 - halls[k]) for k in range(3)) ^ inverted
        table[str(bits)] = named
    return table


def test_the_common_table_needs_nothing() -> None:
    assert {code: best_pair(c) for code, c in _CENTRES.items()} == COMMON_TABLE
    assert lead_fixes(COMMON_TABLE)[0].moves == 0
    assert lead_fixes(COMMON_TABLE)[0].text == "nothing to change"


@pytest.mark.parametrize("phases", itertools.permutations(range(3)))
@pytest.mark.parametrize("halls", itertools.permutations(range(3)))
def test_every_mixing_has_a_mend_that_really_mends(phases: tuple[int, ...], halls: tuple[int, ...]) -> None:
    found = lead_fixes(_rewired(phases, halls))
    assert found
    best = found[0]
    assert best.moves <= 2  # common practice: two wires, or one turn of three
    assert [m.moves for m in found] == sorted(m.moves for m in found)
    # carry the mend out and look at torque in every sector with the angles of the pairs themselves
    now = {h: k for k, h in enumerate(halls)}
    for code, centre in _CENTRES.items():
        wires = [(int(code) >> (2 - now[k]) & 1) for k in range(3)]  # level on input k now
        after = sum(wires[k] << (2 - best.halls[k]) for k in range(3))
        pair = COMMON_TABLE[str(after)]
        driven = ""
        for c in pair:
            if c in "ABC":
                lead = best.phases.index("ABC".index(c))  # which lead-position now sits on that terminal
                driven += "ABC"[phases.index(lead)]
            else:
                driven += c
        plus, minus = driven[:2] if driven[1] == "+" else driven[2:], driven[2:] if driven[3] == "-" else driven[:2]
        angle = PAIR_ANGLES[plus + minus]
        torque = np.sin(np.radians(angle - centre))
        assert best.direction * torque > 0.85


def test_sixty_degree_halls_are_mended_by_an_inversion() -> None:
    found = lead_fixes(_rewired((0, 1, 2), (0, 1, 2), inverted=0b010))
    assert found[0].inverted == (2,)
    assert "invert hall 2" in found[0].text


@pytest.mark.parametrize(
    "table",
    [
        {},
        {"5": "A+B-"},
        {**COMMON_TABLE, "1": "A+B-"},
        {**{k: v for k, v in COMMON_TABLE.items() if k != "1"}, "9": "C+B-"},
    ],
)
def test_tables_that_are_none(table: dict[str, str]) -> None:
    with pytest.raises(Refusal, match="six codes"):
        lead_fixes(table)


def _turned(sequence: list[int], steps: np.ndarray, per: int = 20) -> Capture:
    codes = np.repeat(np.array(sequence)[np.cumsum(steps) % 6], per)
    columns = {f"hall_{k + 1}": (codes >> (2 - k) & 1).astype(float) for k in range(3)}
    return Capture("s.csv", np.arange(len(codes)) * 1e-3, columns)  # type: ignore[arg-type]


@pytest.mark.parametrize("sequence", [[5, 4, 6, 2, 3, 1], [1, 3, 2, 6, 4, 5], [0, 4, 6, 7, 3, 1]])
def test_sequence_spacing_and_pole_pairs(sequence: list[int]) -> None:
    status = read_status(_turned(sequence, np.ones(6 * 4 * 5 + 1, dtype=int)), turns=5.0)
    k = sequence.index(status.sequence[0])
    assert list(status.sequence) == sequence[k:] + sequence[:k]
    assert status.spacing_deg == (60 if 0 in sequence else 120)
    assert status.pole_pairs == 4
    assert status.cycles == pytest.approx(20.0)


def test_reversal_bounce_and_skips_are_said() -> None:
    steps = np.concatenate([np.ones(60, int), -np.ones(20, int)])
    status = read_status(_turned([5, 4, 6, 2, 3, 1], steps))
    assert "direction-changed" in [f.code for f in status.findings]
    assert status.cycles == pytest.approx(40 / 6, abs=0.2)
    skips = np.ones(80, int)
    skips[[20, 50]] = 2
    assert "codes-skipped" in [f.code for f in read_status(_turned([5, 4, 6, 2, 3, 1], skips)).findings]
    capture = _turned([5, 4, 6, 2, 3, 1], np.ones(61, int), per=60)
    hall = capture.columns["hall_2"].copy()
    hall[[310, 900, 1500]] = 1 - hall[[310, 900, 1500]]
    noisy = read_status(Capture("s.csv", capture.time, {**capture.columns, "hall_2": hall}))
    assert "codes-flicker" in [f.code for f in noisy.findings]
    assert len(noisy.sequence) == 6


def test_what_the_status_refuses() -> None:
    good = _turned([5, 4, 6, 2, 3, 1], np.ones(40, int))
    dead = Capture("s.csv", good.time, {**good.columns, "hall_3": np.ones(len(good.time))})
    with pytest.raises(Refusal, match="hall_3 stays at 1 while the others switch"):
        read_status(dead)
    with pytest.raises(Refusal, match="no hall changes"):
        read_status(_turned([5, 4, 6, 2, 3, 1], np.zeros(40, int)))
    with pytest.raises(Refusal, match="changes of code"):
        read_status(_turned([5, 4, 6, 2, 3, 1], np.ones(4, int)))
    rng = np.random.default_rng(0)
    noise = {f"hall_{k}": np.repeat(rng.integers(0, 2, 60), 20).astype(float) for k in (1, 2, 3)}
    with pytest.raises(Refusal, match="no cycle of six"):
        read_status(Capture("s.csv", np.arange(1200) * 1e-3, noise))  # type: ignore[arg-type]
    with pytest.raises(Refusal, match="cannot be meant"):
        read_status(good, turns=0.0)
