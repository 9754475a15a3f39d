"""Checks before power, wiring, unknown cable, interference and supply, as a person at the bench goes through them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from attack_cable import Cable, attack, follow, usual_cable

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import CheckRecord
from crisp_compass.bench.store import load_bench
from crisp_compass.errors import Refusal
from crisp_compass.preparation.checks import (
    CHECKS,
    blocking_checks,
    check_findings,
    forget_check,
    judge_all,
    record_choice,
    record_reading,
    skip_check,
)
from crisp_compass.preparation.interference import add_spike, drop_spike, judge_spikes
from crisp_compass.preparation.sensor_cable import FRAME, drop_wire, identify_cable, set_reading
from crisp_compass.preparation.supply import supply_outlook
from crisp_compass.preparation.wiring import consequence, default_leads, leads_of, set_lead, swap_leads
from crisp_compass.sensing import SENSORS

WHEN = "2026-05-12T15:00:00"


def _plate(bench: Bench, topic: str = "plate", **fields: object) -> Bench:
    page = getattr(bench.settings, topic).model_copy(update=fields)
    return bench.model_copy(update={"settings": bench.settings.model_copy(update={topic: page})})


def _verdict(bench: Bench, key: str) -> tuple[str, str]:
    judged = next(j for j in judge_all(bench) if j.check.key == key)
    return judged.verdict, judged.reason


def test_an_empty_bench_has_everything_open() -> None:
    assert {j.verdict for j in judge_all(Bench())} == {"open"}
    assert blocking_checks(Bench()) == []
    assert len({c.key for c in CHECKS}) == len(CHECKS) == 11


@pytest.mark.parametrize(
    ("key", "readings", "verdict", "words"),
    [
        ("insulation_motor", {"phase_u": 2e9, "phase_v": 2e9, "phase_w": 1.5e8}, "passed", "above 100 MΩ"),
        ("insulation_motor", {"phase_u": 2e9, "phase_v": 2e9, "phase_w": 5e7}, "caution", "Phase W has 50.0 MΩ"),
        ("insulation_motor", {"phase_u": 2e9, "phase_v": 1e5, "phase_w": 2e9}, "stop", "do not connect the drive"),
        ("insulation_drive", {"phase_u": 2e9}, "caution", "1 of 3 phases"),
        ("probe_zero", {"lead": 0.1}, "passed", "subtracted"),
        ("probe_zero", {"lead": 3.0}, "caution", "clean the tips"),
        ("pairs", {"uv": 0.8, "vw": 0.9, "wu": 0.9}, "passed", "agree"),  # on a 0.1 Ω meter: common practice
        ("pairs", {"uv": 0.412, "vw": 0.413, "wu": 0.520}, "stop", "Phase V"),
        ("frame", {"frame": 0.2}, "passed", "bonded"),
        ("frame", {"frame": 3.0}, "caution", "clean the joint"),
        ("frame", {"frame": 1e6}, "stop", "earth first"),
        ("polarity", {"link": 48.0}, "passed", "Plus is plus"),
        ("polarity", {"link": -48.0}, "stop", "swapped"),
        ("polarity", {"link": 24.0}, "caution", "settle which is right"),
        ("limit", {"limit": 50.0}, "caution", "far more"),
    ],
)
def test_readings_are_judged(key: str, readings: dict[str, float], verdict: str, words: str) -> None:
    bench = _plate(Bench(), v_bus=48.0, rated_current=6.0)
    for name, value in readings.items():
        bench = record_reading(bench, key, name, value, WHEN)
    found, reason = _verdict(bench, key)
    assert (found, words in reason) == (verdict, True), reason
    assert len([e for e in bench.ledger if e.kind == "check"]) == len(readings)
    assert bool(blocking_checks(bench)) == (verdict == "stop")


def test_what_is_seen_and_what_is_skipped() -> None:
    bench = record_choice(Bench(), "clamped", "in-order", "two clamps, coupling off", WHEN)
    assert _verdict(bench, "clamped") == ("passed", "In order: two clamps, coupling off.")
    # the verdict is the choice's, whatever the remark says
    for remark in ("loose, W lug moves", "all tight", "", "does not cut the supply"):
        bench = record_choice(bench, "terminals", "not-in-order", remark, WHEN)
        assert _verdict(bench, "terminals")[0] == "stop"
        assert any(f.level == "stop" for f in check_findings(bench))
        assert _verdict(record_choice(bench, "terminals", "", remark, WHEN), "terminals")[0] == "open"
    with pytest.raises(Refusal, match="why this does not apply is missing"):
        record_choice(bench, "brake", "not-applicable", " ", WHEN)
    bench = record_choice(bench, "brake", "not-applicable", "no load that can drop", WHEN)
    assert _verdict(bench, "brake")[0] == "passed"
    bench = skip_check(bench, "stop_button", "battery bench, the plug is in my hand", WHEN)
    assert _verdict(bench, "stop_button") == ("caution", "Skipped: battery bench, the plug is in my hand")
    assert "plug is in my hand" in bench.ledger[-1].text
    for wrong in ("", "   "):
        with pytest.raises(Refusal, match="no reason is given"):
            skip_check(bench, "frame", wrong, WHEN)
    bench = forget_check(bench, "terminals", WHEN)
    assert _verdict(bench, "terminals")[0] == "open"
    assert blocking_checks(bench) == []


@pytest.mark.parametrize("value", [float("nan"), float("inf"), -1.0])
def test_readings_no_meter_shows_are_refused(value: float) -> None:
    with pytest.raises(Refusal, match="cannot be read on a meter"):
        record_reading(Bench(), "frame", "frame", value, WHEN)


def test_a_remark_of_an_older_file_decides_nothing() -> None:
    """Formats before kept free text only: the check is open again, its text kept."""
    old = Bench(checks={"stop_button": CheckRecord(said="cannot be reached", when=WHEN)})
    verdict, reason = _verdict(old, "stop_button")
    assert (verdict, "cannot be reached" in reason) == ("open", True)


def test_meter_readings_of_the_ledger_count_as_check(winch: Path) -> None:
    bench = load_bench(winch)
    assert _verdict(bench, "probe_zero")[0] == "passed"
    assert _verdict(bench, "pairs")[0] == "passed"


# ---- wiring


def test_swapped_leads_say_what_follows() -> None:
    """Common practice: any two motor leads exchanged turn the shaft the other way; the sensor must follow."""
    bench = _plate(Bench(), "sensor", kind="incremental")
    assert (consequence(bench).direction, consequence(bench).shift_deg) == (1, 0)
    one = swap_leads(bench, 0, 1, WHEN)
    assert consequence(one).direction == -1
    assert "Invert the encoder's direction" in " ".join(consequence(one).texts)
    two = swap_leads(one, 1, 2, WHEN)
    assert (consequence(two).direction, consequence(two).shift_deg in (120, 240)) == (1, True)
    back = swap_leads(swap_leads(two, 1, 2, WHEN), 0, 1, WHEN)
    assert leads_of(back) == default_leads(bench)
    assert [e.kind for e in one.ledger] == ["wiring"] or len(one.ledger) == 1


def test_halls_and_phases_exchanged_together() -> None:
    bench = _plate(Bench(), "sensor", kind="halls")
    names = [lead.name for lead in leads_of(bench)]
    h1, h2 = names.index("H1"), names.index("H2")
    only_halls = swap_leads(bench, h1, h2, WHEN)
    assert "sequence of codes is reversed" in " ".join(consequence(only_halls).texts)
    both = swap_leads(only_halls, 0, 1, WHEN)
    assert "agree again and the shaft turns backwards" in " ".join(consequence(both).texts)


def test_colours_are_known_or_refused() -> None:
    bench = set_lead(Bench(), 0, colour="brown", pin="1")
    assert (leads_of(bench)[0].colour, leads_of(bench)[0].pin) == ("BN", "1")
    assert leads_of(set_lead(bench, 0, colour="gn-ye"))[0].colour == "GNYE"
    with pytest.raises(Refusal, match="no wire colour"):
        set_lead(bench, 0, colour="mauve")
    with pytest.raises(Refusal, match="two different leads"):
        swap_leads(bench, 1, 1, WHEN)
    named_wrong = set_lead(bench, 0, terminal="X")
    assert consequence(named_wrong).direction == 0


# ---- the unknown cable


@pytest.mark.thorough
@pytest.mark.parametrize(("wrong", "misjudged"), [(0.02, 0.02), (0.1, 0.06)])
def test_random_cables_are_never_fed_the_wrong_way(wrong: float, misjudged: float) -> None:
    """A person follows the advice, some readings are wrong; the cable is a circuit of its own (tools/attack_cable.py)."""
    counts = attack(12, wrong, seed=3)
    assert counts["feeds wrong"] == 0
    assert counts["feeds"] >= 4
    assert counts["decided wrong"] <= misjudged * counts["wires"]
    assert counts["decided"] > 0.45 * counts["wires"]


def test_the_usual_six_wires_take_some_fifteen_readings_and_a_wrong_one_is_doubted() -> None:
    taken = []
    for seed in range(8):
        rng = np.random.default_rng((5, seed))
        found, readings, doubted = follow(usual_cable(rng), 0.02, rng)
        taken.append(readings if found.complete else 99)
    assert sorted(taken)[-2] <= 30
    assert np.median(taken) <= 17
    rng = np.random.default_rng(1)
    cable = usual_cable(rng)
    at = {role: name for name, role in cable.roles.items()}
    bench = Bench()
    for name in cable.roles:
        bench = set_reading(bench, name)
    bench = set_reading(bench, at["supply"], other=at["ground"], diode=0.55)  # the probes were exchanged
    found, _, doubted = follow(cable, 0.0, rng, bench)
    assert found.complete
    assert f"diode {at['supply']} to {at['ground']} 550 mV: read it again" in doubted


def test_two_joined_returns_do_not_make_the_supply_a_return() -> None:
    """Two 0 V wires joined inside, the supply with paths to both: resistances alone decide no polarity, diodes do."""
    cable = Cable(
        {"a": "ground", "b": "ground", "c": "supply", "d": "channel", "e": "channel"},
        {FRAME: 0, "a": 1, "b": 1, "c": 2, "d": 3, "e": 4},
    )
    cable.resistors += [(1, 2, 1500.0), (3, 2, 4700.0), (4, 2, 4700.0)]
    cable.junctions |= {(1, 2), (1, 3), (1, 4), (3, 2), (4, 2)}
    names = list(cable.roles)
    bench = Bench()
    for name in names:
        bench = set_reading(bench, name, other=FRAME, ohms=1e12)
    for k, first in enumerate(names):
        for other in names[k + 1 :]:
            bench = set_reading(bench, first, other=other, ohms=cable.ohms(first, other))
    found = identify_cable(bench.cable)
    assert found.feed is None
    assert not any(w.role in ("ground", "supply") for w in found.wires)
    for _ in range(3):
        for first in names:
            for other in names:
                if first != other:
                    bench = set_reading(bench, first, other=other, diode=cable.diode(first, other))
    found = identify_cable(bench.cable)
    assert found.feed is not None
    assert (found.feed.minus in ("a", "b"), found.feed.plus) == (True, "c")


def test_roles_from_elsewhere_stand_and_are_checked() -> None:
    bench = Bench()
    for name, known in (("a", "ground"), ("b", "supply"), ("c", "")):
        bench = set_reading(bench, name, other=FRAME, ohms=1e12, known=known)
    found = identify_cable(bench.cable)
    assert found.feed is not None
    assert (found.feed.minus, found.feed.plus) == ("a", "b")
    for a, b, v in (("a", "b", 1e12), ("b", "a", 0.6)):
        bench = set_reading(bench, a, other=b, diode=v)
    found = identify_cable(bench.cable)
    assert found.feed is None
    assert "feed nothing" in found.conflict


def test_impossible_readings_of_a_cable() -> None:
    bench = set_reading(Bench(), "red", current=19e-3)
    assert identify_cable(drop_wire(bench, "red").cable).next_reading.startswith("Enter every wire")
    with pytest.raises(Refusal, match="against itself"):
        set_reading(bench, "red", other="red", ohms=1.0)
    with pytest.raises(Refusal):
        set_reading(bench, "red", other=FRAME, ohms=-1.0)


# ---- interference


def test_remedies_in_order_of_help() -> None:
    """Common practice: 8.4 V plain, 2.7 V screened (−68 %), 4.7 V with ferrites alone (−44 %), 10 V beside power."""
    bench = add_spike(Bench(), "", 8.4, True, WHEN)
    for remedy, peak in (("ferrites", 4.7), ("screened and earthed", 2.7), ("signal beside power", 10.0)):
        bench = add_spike(bench, remedy, peak, True, WHEN)
    found = judge_spikes(bench)
    assert [e.remedy for e in found.effects] == ["screened and earthed", "ferrites", "signal beside power"]
    assert [round(100 * e.reduction) for e in found.effects] == [68, 44, -19]
    assert found.effects[0].decibel == pytest.approx(9.86, abs=0.01)
    bench = add_spike(bench, "no load", 1.0, False, WHEN)
    unlike = next(e for e in judge_spikes(bench).effects if e.remedy == "no load")
    assert not unlike.comparable
    assert any("load" in f.text for f in judge_spikes(bench).findings)
    assert len(drop_spike(bench, 4).spikes) == 4


def test_a_remedy_without_effect_is_credited_with_nothing() -> None:
    bench = add_spike(Bench(), "", 6.0, True, WHEN)
    bench = add_spike(bench, "screened", 2.0, True, WHEN, on_top=True)
    bench = add_spike(bench, "ferrites", 2.0, True, WHEN, on_top=True)
    found = judge_spikes(bench)
    assert [(e.remedy, round(100 * e.reduction), round(100 * e.total)) for e in found.effects] == [("screened", 67, 67), ("ferrites", 0, 67)]
    assert [f.text for f in found.findings if f.code == "no-effect"] == ["“ferrites” changed less than 5 %: it does nothing here."]
    assert found.last is not None
    assert found.last.remedy == "ferrites"


def test_spikes_without_reference_or_sense() -> None:
    assert judge_spikes(add_spike(Bench(), "ferrites", 4.0, True, WHEN)).findings[0].code == "no-reference"
    for peak in (0.0, -3.0, float("nan")):
        with pytest.raises(Refusal):
            add_spike(Bench(), "", peak, True, WHEN)


# ---- supply


def test_bus_of_every_source(winch: Path) -> None:
    bench = load_bench(winch)
    battery = supply_outlook(bench)
    assert (battery.bus.low, battery.bus.high) == (42.0, 54.6)
    assert battery.reach is not None
    assert battery.reach[1] / battery.reach[0] == pytest.approx(54.6 / 42.0)
    mains = supply_outlook(_plate(bench, "supply", source="mains", mains_v=240.0))
    assert 330 <= mains.bus.usual <= 340  # 240 V rms gives 330–340 V (common practice)
    assert mains.bus.high == pytest.approx(1.1 * mains.bus.usual)
    limits = battery.limits
    assert limits.current.value <= 6.0
    assert limits.speed.value < 0.2 * bench.settings.plate.top_speed
    assert limits.supply.value > 0
    assert all(item.reason for item in (limits.current, limits.speed, limits.supply))
    small = supply_outlook(_plate(bench, "supply", drive_continuous=2.0, drive_peak=3.0))
    assert "drive-small" in [f.code for f in small.findings]
    huge = supply_outlook(_plate(bench, "supply", drive_continuous=100.0, drive_peak=200.0))
    assert "drive-large" in [f.code for f in huge.findings]


@pytest.mark.parametrize("kind", sorted(SENSORS))
def test_chart_and_texts_are_of_the_sensor_that_the_bench_has(kind: str) -> None:
    bench = _plate(Bench(), "sensor", kind=kind)
    assert [lead.name for lead in leads_of(bench)][4:] == [name for name, _ in SENSORS[kind].leads]
    said = " ".join(consequence(swap_leads(bench, 0, 1, WHEN)).texts)
    for other, word in (("incremental", "encoder"), ("halls", "hall"), ("tachometer", "tachometer")):
        assert (word in said) == (SENSORS[kind].called.startswith(word) or (other, kind) == ("incremental", "absolute"))


def test_what_is_written_of_another_sensor_is_not_lost() -> None:
    bench = set_lead(_plate(Bench(), "sensor", kind="incremental"), 4, colour="green")
    halls = set_lead(_plate(bench, "sensor", kind="halls"), 4, colour="blue")
    assert [(lead.name, lead.colour) for lead in leads_of(halls)][4] == ("H1", "BU")
    back = _plate(halls, "sensor", kind="incremental")
    assert [(lead.name, lead.colour) for lead in leads_of(back)][4] == ("enc A", "GN")


def test_a_cable_of_too_many_wires_is_read_in_parts() -> None:
    bench = Bench()
    for k in range(41):
        bench = set_reading(bench, f"w{k}")
    assert "connector by connector" in identify_cable(bench.cable).next_reading
