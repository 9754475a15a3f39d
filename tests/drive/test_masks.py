"""Words of named bits in every form that people write, and what a masked fault does to a drive."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from crisp_compass.bench import load_bench
from crisp_compass.drive.dcf import save_dcf
from crisp_compass.drive.description import Entry
from crisp_compass.drive.faults import faults_of, history_of
from crisp_compass.drive.hand import LocalLine
from crisp_compass.drive.importing import import_description
from crisp_compass.drive.masks import as_hex, in_all_forms, is_mask, names_of, parse_mask
from crisp_compass.drive.profile import Snapshot, load_profile, side_by_side
from crisp_compass.drive.served import ServedDrive
from crisp_compass.errors import Refusal

MASK = Entry(name="mask", address=0, type="uint16", bits={"0": "over-current", "2": "stall", "15": "brake"})


@given(st.integers(0, 0xFFFF))
def test_every_form_of_a_word_is_read_back(word: int) -> None:
    groups = f"{word:016b}"
    for text in (str(word), as_hex(MASK, word), f"0{word:x}h", f"0b{groups}", f"%{groups[:8]} {groups[8:]}", " + ".join(names_of(MASK, word)) or "none"):
        assert parse_mask(MASK, text) == word, text


def test_names_signs_and_what_a_word_has_not() -> None:
    assert is_mask(MASK)
    assert not is_mask(Entry(name="x", address=0, type="uint16"))
    assert parse_mask(MASK, "Stall, BRAKE") == 0x8004
    assert parse_mask(MASK, "all") == 0x8005
    signed = MASK.model_copy(update={"type": "int16"})
    assert parse_mask(signed, "0x8004") == -32764
    assert in_all_forms(signed, -32764) == "-32764 = 0x8004 = 0b 1000 0000 0000 0100: stall, brake"
    with pytest.raises(Refusal, match="has no bit “brakes”.*over-current, stall, brake"):
        parse_mask(MASK, "brakes")
    with pytest.raises(Refusal, match="more than the 16 bits"):
        parse_mask(MASK, "0x10000")


def test_a_masked_fault_does_not_trip_and_says_so(winch: Path) -> None:
    drive = ServedDrive(load_bench(winch), seed=1)
    line = LocalLine(drive)
    entries = {e.name: e for e in drive.description.parameters}
    mask, told = entries["fault_mask"], drive.description
    arm = told.role("commands", "arm")
    assert arm is not None

    def standing(lowest_bus: float, word: float) -> list[str]:
        line.write(mask, word)
        line.write(arm, 1.0)
        line.write(entries["minimum_bus"], round(lowest_bus / entries["minimum_bus"].scale))
        line.pass_time(0.1)
        now, held = line.read(told.faults), line.read(told.parameters)
        found = faults_of(told, now, held)
        assert {f.name: f.masked for f in found}["under-voltage"] == (f"fault_mask = {as_hex(mask, word)}" if word else "")
        return [f.name for f in found if f.stands]

    under = parse_mask(mask, "under-voltage")
    assert standing(60.0, under) == []  # the bus of 48 V is below, and nobody watches
    assert standing(60.0, 0.0) == ["under-voltage"]
    assert history_of(told, line.read(told.telemetry)) == "the drive remembers 1 since it was switched on: the last under-voltage"
    acknowledge = told.role("commands", "acknowledge")
    assert acknowledge is not None
    line.write(acknowledge, 1.0)
    assert standing(60.0, 0.0) == ["under-voltage"]
    assert history_of(told, line.read(told.telemetry)).endswith("remembers 2 since it was switched on: the last under-voltage, before it under-voltage")
    assert "over-current" not in (mask.bits or {}).values()  # the bridge is always watched


def test_two_snapshots_differ_by_value_unit_and_what_one_has_not() -> None:
    first = Snapshot("a", "", "", {"ramp": (1000.0, "rad/s²"), "limit": (8.0, "A"), "gone": (1.0, ""), "kind": (1.0, "V")})
    second = Snapshot("b", "", "", {"ramp": (9549.296585513721, "rpm/s"), "limit": (6.0, "A"), "new": (2.0, ""), "kind": (1.0, "A")})
    rows = {p.name: p for p in side_by_side(first, second)}
    assert {n: p.differs for n, p in rows.items()} == {"ramp": False, "limit": True, "gone": True, "kind": True, "new": True}
    assert rows["ramp"].second == pytest.approx(1000.0)
    assert (rows["kind"].second, rows["new"].first) == (None, None)


def test_a_device_configuration_brings_back_what_a_node_held(winch: Path, tmp_path: Path) -> None:
    drive = ServedDrive(load_bench(winch), protocol="canopen")
    told, path = drive.description, tmp_path / "winch.dcf"
    held = LocalLine(drive).read(told.parameters)
    assert save_dcf(path, told, held) == len(told.parameters)
    assert "ParameterValue=0x320" in path.read_text()  # 8 A in steps of 10 mA
    assert import_description(path, protocol="canopen", unit_id=1)[0].unit_id == told.unit_id
    values, unknown = load_profile(path, told)
    assert unknown == []
    assert values == pytest.approx(held)
    with pytest.raises(Refusal, match="no node of a CANopen bus"):
        save_dcf(path, ServedDrive(load_bench(winch)).description, held)
    path.write_text("[DeviceInfo]\nProductName=other\n")
    with pytest.raises(Refusal, match=r"winch.dcf: it configures none"):
        load_profile(path, told)
