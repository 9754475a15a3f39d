"""CiA 402: the state machine against the standard's table, and the simulated node against canopen's own 402 client.

The table is that of CiA 402-2 (IEC 61800-7-201): transitions of the state machine, command coding of the control word, state coding of the status word; from memory.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import pytest

from crisp_compass.bench import Bench, load_bench
from crisp_compass.bench.entered import enter
from crisp_compass.course.homing import plan_of
from crisp_compass.course.position import as_designed
from crisp_compass.drive.can_bus import dictionary_of_node
from crisp_compass.drive.can_profile import Profile
from crisp_compass.drive.cia402 import Machine, State, next_word, state_of
from crisp_compass.drive.conversation import Conversation, Event
from crisp_compass.drive.importing import import_description
from crisp_compass.drive.served import ServedDrive
from crisp_compass.drive.served_rules import Denial
from crisp_compass.errors import Refusal
from crisp_compass.motion.homing import follow
from crisp_compass.plant import state
from drive.test_modbus import WINCH, _has_multicast, served

S = State
#: Transition: from, a control word that makes it, to.
TABLE = {
    2: (S.SWITCH_ON_DISABLED, 0x0006, S.READY_TO_SWITCH_ON), 3: (S.READY_TO_SWITCH_ON, 0x0007, S.SWITCHED_ON), 4: (S.SWITCHED_ON, 0x000F, S.OPERATION_ENABLED),
    5: (S.OPERATION_ENABLED, 0x0007, S.SWITCHED_ON), 6: (S.SWITCHED_ON, 0x0006, S.READY_TO_SWITCH_ON), 7: (S.READY_TO_SWITCH_ON, 0x0000, S.SWITCH_ON_DISABLED),
    8: (S.OPERATION_ENABLED, 0x0006, S.READY_TO_SWITCH_ON), 9: (S.OPERATION_ENABLED, 0x0000, S.SWITCH_ON_DISABLED), 10: (S.SWITCHED_ON, 0x0002, S.SWITCH_ON_DISABLED),
    11: (S.OPERATION_ENABLED, 0x0002, S.QUICK_STOP_ACTIVE), 12: (S.QUICK_STOP_ACTIVE, 0x0000, S.SWITCH_ON_DISABLED), 15: (S.FAULT, 0x0080, S.SWITCH_ON_DISABLED),
}  # fmt: skip
STATUS = {
    S.NOT_READY: "xxxx xxxx x0xx 0000", S.SWITCH_ON_DISABLED: "xxxx xxxx x1xx 0000", S.READY_TO_SWITCH_ON: "xxxx xxxx x01x 0001", S.SWITCHED_ON: "xxxx xxxx x01x 0011",
    S.OPERATION_ENABLED: "xxxx xxxx x01x 0111", S.QUICK_STOP_ACTIVE: "xxxx xxxx x00x 0111", S.FAULT_REACTION_ACTIVE: "xxxx xxxx x0xx 1111", S.FAULT: "xxxx xxxx x0xx 1000",
}  # fmt: skip


def test_every_transition_and_no_other() -> None:
    asked = {word for _, word, _ in TABLE.values()}
    for start in State:
        for word in sorted(asked | {0x0002, 0x000F, 0x0080}):
            machine = Machine()
            machine.state = start
            made = machine.write(word)
            wanted = [n for n, (state, w, _) in TABLE.items() if state is start and w == word]
            if start is S.READY_TO_SWITCH_ON and word == 0x000F:
                assert made == (3, 4)  # the standard lets a drive pass Switched on by itself
            elif start is S.READY_TO_SWITCH_ON and word == 0x0002:
                assert made == (7,)  # quick stop leaves it too
            elif start is S.SWITCHED_ON and word in (0x0000, 0x0080):
                assert made == (10,)
            elif start is S.READY_TO_SWITCH_ON and word == 0x0080:
                assert made == (7,)
            elif start is S.OPERATION_ENABLED and word == 0x0080:
                assert made == (9,)
            elif start is S.QUICK_STOP_ACTIVE and word == 0x0080:
                assert made == (12,)
            else:
                assert list(made) == wanted, f"{start} 0x{word:04X}"
                assert machine.state is (TABLE[wanted[0]][2] if wanted else start)


def test_faults_reset_by_an_edge_and_words_tell_the_states() -> None:
    machine = Machine()
    assert machine.fell() == (13,)
    assert machine.write(0x0F) == ()
    assert machine.rested() == (14,)
    machine.write(0x80)
    assert machine.state is S.SWITCH_ON_DISABLED
    machine.fell()
    machine.rested()
    assert machine.write(0x80) == ()  # the bit has stood since: no edge
    machine.write(0x00)
    assert machine.write(0x80) == (15,)
    for named, pattern in STATUS.items():
        for filler in "01":
            assert state_of(int(pattern.replace(" ", "").replace("x", filler), 2)) is named
    path, climbing = list[int](), Machine()
    while (word := next_word(climbing.state)) is not None:
        path.append(word)
        climbing.write(word)
    assert path == [0x06, 0x07, 0x0F]
    with pytest.raises(Refusal, match="fault"):
        next_word(S.FAULT)


@pytest.mark.thorough
def test_canopens_own_client_of_the_profile_runs_it_by_process_data(tmp_path: Path) -> None:
    import canopen

    if not _has_multicast():
        pytest.skip("this machine carries no multicast")
    with served(tmp_path, "can:239.74.163.10:43121") as (_, _where, told):
        network = canopen.Network()
        network.connect(interface="udp_multicast", channel="239.74.163.10", port=43121, fd=False)
        node = canopen.BaseNode402(1, dictionary_of_node(ServedDrive(load_bench(WINCH), protocol="canopen")))
        network.add_node(node)
        node.sdo.RESPONSE_TIMEOUT = 2.0
        node.TIMEOUT_SWITCH_STATE_FINAL = node.TIMEOUT_SWITCH_STATE_SINGLE = node.TIMEOUT_CHECK_TPDO = 20.0
        emergencies: list[int] = []
        node.emcy.add_callback(lambda e: emergencies.append(e.code))
        node.nmt.state = "OPERATIONAL"
        node.rpdo.read(from_od=True)
        node.tpdo.read(from_od=True)
        node.setup_402_state_machine(read_pdos=False)
        node.sdo[0x6060].raw = 3
        assert node.sdo[0x6061].raw == 3
        node.rpdo[1].start(0.02)
        node.state = "READY TO SWITCH ON"
        node.state = "SWITCHED ON"
        node.state = "OPERATION ENABLED"
        assert node.state == "OPERATION ENABLED"
        wanted = 8000  # 80 rad/s in counts of 0.01
        until = time.monotonic() + 10.0
        seen = 0
        node.rpdo[1][0x60FF].raw = wanted
        while time.monotonic() < until and abs(seen - wanted) > 200:
            node.tpdo[1].wait_for_reception(1.0)
            seen = node.tpdo[1][0x606C].raw
        assert abs(seen - wanted) <= 200
        node.rpdo[1].stop()
        time.sleep(0.6)  # the master falls silent: the watchdog stops it
        assert node.sdo[0x6041].raw & 0x4F == 0x40
        objects = {e["name"]: e["index"] for lot in ("parameters", "commands") for e in told[lot]}
        node.sdo.download(objects["minimum_bus"], 0, (600).to_bytes(2, "little"))  # 60 V: above the bus
        for word in (0x06, 0x07, 0x0F):
            node.sdo[0x6040].raw = word
        until = time.monotonic() + 10.0
        while time.monotonic() < until and not emergencies:
            time.sleep(0.05)
        assert emergencies == [0x3220]
        assert node.sdo[0x603F].raw == 0x3220
        assert node.sdo[0x6041].raw & 0x4F == 0x08
        node.sdo.download(objects["minimum_bus"], 0, (300).to_bytes(2, "little"))
        node.sdo[0x6040].raw = 0x80
        assert node.sdo[0x6041].raw & 0x4F == 0x40
        network.disconnect()


@pytest.mark.thorough
def test_a_drive_known_by_its_data_sheet_alone_is_armed_by_its_control_word(tmp_path: Path) -> None:
    if not _has_multicast():
        pytest.skip("this machine carries no multicast")
    with served(tmp_path, "can:239.74.163.12:43131", WINCH, "--eds", str(tmp_path / "node.eds")) as (_, where, _told):
        described, findings = import_description(tmp_path / "node.eds", protocol="", unit_id=1)
        assert [f.code for f in findings] == ["objects-left-out"]
        assert described.role("commands", "controlword") is not None
        own = described.model_copy(update={"commands": tuple(e for e in described.commands if e.role), "telemetry": tuple(e for e in described.telemetry if e.role)})
        seen: list[Event] = []
        talk = Conversation(where, own, seen.append)
        talk.start()

        def until(done: Callable[[], bool]) -> None:
            end = time.monotonic() + 30.0
            while not done():
                assert time.monotonic() < end, [e for e in seen if e.kind != "telemetry"]
                talk.alive()
                time.sleep(0.02)

        until(lambda: bool(seen))
        talk.arm()
        until(lambda: talk.commands)
        talk.run_at(8000.0)  # counts of 0.01 rad/s: a data sheet names no unit
        last = lambda: next((e.telemetry for e in reversed(seen) if e.telemetry is not None), None)  # noqa: E731
        until(lambda: (t := last()) is not None and abs(t.values["velocity_actual_value"] - 8000) < 200)
        assert own.armed(last().values)  # type: ignore[union-attr]
        talk.stop()
        until(lambda: (t := last()) is not None and not own.armed(t.values) and abs(t.values["velocity_actual_value"]) < 60)
        talk.close()


def test_a_table_of_registers_becomes_a_description(tmp_path: Path) -> None:
    table = tmp_path / "mine.csv"
    table.write_text("# my drive\nname;address;type;scale;unit;list;role;bits\nlimit;0x10;uint16;0,01;A;;;\nstate;0;uint16;;;faults;;0:hot|3:short\nspeed;4;int32;0.1;rpm;telemetry;speed;\n")
    described, _ = import_description(table, protocol="modbus rtu", unit_id=7)
    assert described.parameters[0].scale == 0.01
    assert described.parameters[0].address == 16
    assert described.faults[0].bits == {"0": "hot", "3": "short"}
    assert described.unit_id == 7
    for wrong, why in (("name,type\nx,int99\n", "type"), ("name,type,address\nx,int16,two\n", "row 2"), ("name,type,address\nx,int16\n", "row 2 has 2 columns"), ("a,b\n1,2\n", "no column name"), ("", "no header")):
        table.write_text(wrong)
        with pytest.raises(Refusal, match=why):
            import_description(table, protocol="modbus tcp", unit_id=1)
    (tmp_path / "odd.eds").write_text("[DeviceInfo]\nnonsense")
    with pytest.raises(Refusal, match=r"odd\.eds"):
        import_description(tmp_path / "odd.eds", protocol="", unit_id=1)


def _enabled(drive: ServedDrive, profile: Profile) -> Callable[[float], None]:
    """Enable operation; return what lets seconds pass while the master is there."""
    for word in (0x06, 0x07, 0x0F):
        profile.write(0x6040, word)

    def passing(seconds: float) -> None:
        for _ in range(round(seconds / 0.02)):
            drive.fed(profile._client)
            drive.tick(0.02)
            profile.follow()

    return passing


def _carousel(sensor: str = "incremental", **homing: object) -> Bench:
    bench = enter(load_bench(Path("demo/carousel/carousel.bench.json")), "sensor", {"kind": sensor})
    return enter(as_designed(enter(bench, "motion", {"window": 0.01})), "homing", homing)


@pytest.mark.parametrize("sensor", ["incremental", "none"])
def test_a_move_by_the_profile_goes_there_at_its_speed_and_tells_so(sensor: str) -> None:
    """Mode 1: target, speed and acceleration, a new set-point at its bit's edge, absolute and relative; bits 10 and 12 as IEC 61800-7-201 has them (from memory)."""
    drive = ServedDrive(_carousel(sensor), protocol="canopen")
    profile = Profile(drive, object())
    count = next(e.scale for e in drive.description.commands if e.name == "place")
    assert profile.read(0x6502) == 0b100101
    assert profile.write(0x6060, 2) is Denial.LIMITS
    assert profile.write(0x6060, 1) is None
    assert profile.write(0x6064, 5) is Denial.ADDRESS  # where it is cannot be written

    passing = _enabled(drive, profile)
    passing(0.3)
    target = round(4.0 / count)
    profile.write(0x6081, round(20.0 / 0.01))
    profile.write(0x6083, 80)
    profile.write(0x607A, target)
    passing(0.2)
    assert abs(profile.read(0x6064)) < 3  # a target alone moves nothing
    profile.write(0x6040, 0x1F)
    assert profile.read(0x6041) & 0x1400 == 0x1000  # taken, and not there yet
    fastest = 0.0
    for _ in range(100):
        passing(0.02)
        fastest = max(fastest, abs(drive.speed))
    assert profile.read(0x6041) & 0x0400
    assert abs(profile.read(0x6064) - target) * count < 0.02
    assert 16.0 < fastest < 26.0
    profile.write(0x6040, 0x0F)
    assert not profile.read(0x6041) & 0x1000
    profile.write(0x607A, -round(1.0 / count))
    profile.write(0x6040, 0x5F)  # relative
    passing(1.6)
    assert abs(profile.read(0x6064) - target + round(1.0 / count)) * count < 0.02
    profile.write(0x6060, 3)
    passing(0.1)
    assert not profile.read(0x6041) & 0x1400  # other bits of another mode
    for _ in range(40):
        drive.tick(0.02)
        profile.follow()
    assert not drive.armed  # silence disarms a move, too


def test_without_moves_there_is_no_mode_of_places() -> None:
    profile = Profile(ServedDrive(load_bench(WINCH), protocol="canopen"), object())
    assert not profile.has(0x607A)
    assert profile.read(0x6502) == 0b100
    assert profile.write(0x6060, 1) is Denial.LIMITS


def test_a_move_into_a_limit_switch_is_not_taken_and_a_relative_one_begins_where_it_stands() -> None:
    inputs = ({"terminal": "DI1", "function": "limit_forwards", "active": "high"},)
    bench = as_designed(enter(load_bench(Path("demo/carousel/carousel.bench.json")), "motion", {"window": 0.01}))
    bench = enter(bench, "terminals", {"inputs": inputs})
    drive = ServedDrive(bench, protocol="canopen")
    profile = Profile(drive, object())
    count = next(e.scale for e in drive.description.commands if e.name == "place")
    switches = next(e for e in drive.description.commands if e.name == "inputs")

    passing = _enabled(drive, profile)
    profile.write(0x60FF, 1000)  # it runs at a speed first, so the place is another than where it was switched on
    passing(0.6)
    profile.write(0x60FF, 0)
    passing(0.6)
    begun = profile.read(0x6064)
    assert begun * count > 2.0
    profile.write(0x6060, 1)
    profile.write(0x607A, round(0.5 / count))
    profile.write(0x6040, 0x5F)
    passing(1.0)
    assert abs(profile.read(0x6064) - begun - round(0.5 / count)) * count < 0.05
    drive.write(switches, 1.0, object())  # the forward limit
    profile.write(0x6040, 0x0F)
    profile.write(0x607A, round(99.0 / count))
    profile.write(0x6040, 0x1F)
    assert not profile.read(0x6041) & 0x1000  # not taken
    profile.write(0x6040, 0x0F)
    profile.write(0x607A, 0)
    profile.write(0x6040, 0x1F)
    assert profile.read(0x6041) & 0x1000  # the way back is free
    passing(1.5)
    assert abs(profile.read(0x6064)) * count < 0.05
    drive.write(switches, 0.0, object())
    profile.write(0x6040, 0x0F)
    profile.write(0x607A, round(40.0 / count))
    profile.write(0x6040, 0x1F)
    passing(0.4)
    drive.write(switches, 1.0, object())  # reached under way
    passing(1.0)
    assert abs(drive.speed) < 0.5
    assert profile.read(0x6064) * count < 35.0


def test_an_encoder_that_watches_is_in_the_sheet_and_its_fault_is_told() -> None:
    bench = enter(enter(load_bench(Path("demo/carousel/carousel.bench.json")), "stepping", {"encoder": "watches", "corrections": 1}), "motion", {"window": 0.01})
    drive = ServedDrive(as_designed(bench), protocol="canopen")
    held = {e.name: e for e in drive.description.parameters}
    assert drive.read(held["corrections"]) * held["corrections"].scale == pytest.approx(1.0)
    assert held["lost_after"].factory == pytest.approx(1.5 * 0.5 * 3.14159265 / 50, rel=1e-3)
    assert held["standing_window"].bench == "motion.window"
    profile = Profile(drive, object())
    profile.write(0x6060, 1)
    for word in (0x06, 0x07, 0x0F):
        profile.write(0x6040, word)
    sim = drive._sim
    for k in range(60):
        if k == 15:
            profile.write(0x607A, 5000)
            profile.write(0x6040, 0x1F)
        if k == 20:  # an obstacle
            drive._own = drive._own._replace(load=drive._own.load._replace(coulomb=50.0, breakaway=50.0))
            drive._apply(restart=False)
        drive.fed(profile._client)
        drive.tick(0.02)
        profile.follow()
    assert sim.fault == "following error"
    assert profile.read(0x603F) == 0x8611
    assert profile.read(0x6041) & 0x2000


HOMINGS = (
    ({"reference": "home-switch", "ends": "edge"}, 19), ({"reference": "home-switch", "ends": "index", "side": "entering"}, 4), ({"reference": "negative-limit", "ends": "edge", "begin": 5.0}, 17), ({"reference": "index", "toward": "positive"}, 34),
    ({"reference": "positive-stop", "push": 0.4, "hold": 0.1}, -2), ({"reference": "home-switch", "ends": "edge", "sensor": "none"}, 19),
)  # fmt: skip


@pytest.mark.parametrize(("wishes", "method"), HOMINGS)
def test_homing_by_the_profile_finds_its_place(wishes: dict[str, object], method: int) -> None:
    """Mode 6 against the plan's own arithmetic; bits 10, 12 and 13 as IEC 61800-7-201 has them (from memory): 0 under way, 12 found, 13 not found, 10 at rest."""
    bench = _carousel(str(wishes.get("sensor", "incremental")), **{"begin": -5.0, "slow": 2.0, "fast": 10.0, **{k: v for k, v in wishes.items() if k != "sensor"}})
    planned = follow(plan_of(bench)).found + 5.0 * (1.0 if wishes.get("begin") is None else -1.0)
    drive = ServedDrive(bench, protocol="canopen")
    profile = Profile(drive, object())
    assert profile.read(0x6098) == method
    assert [profile.read(0x6099, k) * 0.01 for k in (1, 2)] == [10.0, 2.0]
    assert profile.write(0x6098, method + 1) is Denial.LIMITS
    assert profile.write(0x6060, 6) is None
    assert profile.read(0x6041) & 0x3400 == 0x0400  # not begun
    passing = _enabled(drive, profile)
    passing(0.3)
    profile.write(0x6040, 0x1F)
    assert profile.read(0x6041) & 0x3400 == 0
    for _ in range(40):
        passing(0.5)
        if profile.read(0x6041) & 0x3000:
            break
    passing(0.2)
    assert profile.read(0x6041) & 0x3400 == 0x1400
    count = next(e.scale for e in drive.description.commands if e.name == "place")
    shaft = float(drive._sim.state[state.THETA])
    assert shaft - profile.read(0x6064) * count == pytest.approx(planned, abs=2.0 * 2e-3 + 4 * count + 0.02 * (wishes.get("sensor") == "none"))
    profile.write(0x6060, 1)
    profile.write(0x607A, 0)
    profile.write(0x6040, 0x0F)
    profile.write(0x6040, 0x1F)
    passing(3.0)
    assert abs(profile.read(0x6064)) * count < 0.02  # and a move to 0 goes there
    assert float(drive._sim.state[state.THETA]) == pytest.approx(planned, abs=0.06)


def test_a_homing_that_is_halted_or_finds_nothing_says_so_and_the_present_place_is_taken_at_rest() -> None:
    inputs = ({"terminal": "DI1", "function": "home", "active": "low"},)
    drive = ServedDrive(enter(_carousel(reference="home-switch", ends="edge", begin=-5.0, travel=8.0, fast=10.0), "terminals", {"inputs": inputs}), protocol="canopen")
    profile = Profile(drive, object())
    passing = _enabled(drive, profile)
    profile.write(0x6060, 6)
    told = next(e for e in drive.description.telemetry if e.name == "inputs")
    passing(0.2)
    profile.write(0x6040, 0x1F)
    passing(0.2)
    profile.write(0x6040, 0x11F)  # halt
    passing(0.5)
    assert profile.read(0x6041) & 0x3400 == 0x0400  # broken off: neither found nor failed
    assert abs(drive.speed) < 0.5
    assert drive.read(told) == 1  # the contact is high, and low is active
    profile.write(0x6040, 0x0F)
    profile.write(0x6099, 300, 1)  # 3 rad/s
    profile.write(0x6040, 0x1F)
    passing(0.6)
    assert 2.0 < drive.speed < 4.0
    seen = []
    for _ in range(200):
        passing(0.02)
        seen.append(drive.read(told))
    assert 0 in seen  # it met the switch, which its terminal shows
    assert profile.read(0x6041) & 0x1000
    profile.write(0x6040, 0x0F)
    profile.write(0x6098, 37)
    profile.write(0x6040, 0x1F)
    assert profile.read(0x6064) == 0
    assert profile.read(0x6041) & 0x1400 == 0x1400
    lost = ServedDrive(_carousel(reference="home-switch", ends="edge", begin=-50.0, travel=3.0, fast=10.0), protocol="canopen")
    profile = Profile(lost, object())
    profile.write(0x6060, 6)
    passing = _enabled(lost, profile)
    passing(0.2)
    profile.write(0x6040, 0x1F)
    passing(2.0)
    assert profile.read(0x6041) & 0x3400 == 0x2400


def test_set_points_wait_for_each_other_or_are_taken_at_once_and_a_halted_move_goes_on() -> None:
    """Bits 5 and 8 of the control word, bit 12 of the status word: one set-point waits; one more is not taken until there is room."""
    drive = ServedDrive(_carousel(), protocol="canopen")
    profile = Profile(drive, object())
    count = next(e.scale for e in drive.description.commands if e.name == "place")
    profile.write(0x6060, 1)
    passing = _enabled(drive, profile)
    passing(0.3)

    def ask(angle: float, bits: int = 0x1F) -> None:
        profile.write(0x6040, 0x0F)
        profile.write(0x607A, round(angle / count))
        profile.write(0x6040, bits)

    most = 0.0
    ask(6.0)
    passing(0.2)
    ask(2.0)  # waits
    profile.write(0x6040, 0x0F)
    assert profile.read(0x6041) & 0x1400 == 0x1000  # no room for another
    ask(9.0)  # not taken
    for _ in range(100):
        passing(0.04)
        most = max(most, profile.read(0x6064) * count)
    assert most == pytest.approx(6.0, abs=0.1)
    assert profile.read(0x6064) * count == pytest.approx(2.0, abs=0.02)
    ask(12.0)
    passing(0.3)
    ask(3.0, 0x3F)  # at once
    passing(3.0)
    assert profile.read(0x6064) * count == pytest.approx(3.0, abs=0.02)
    profile.write(0x6081, 1000)  # 10 rad/s
    ask(12.0)
    passing(0.3)
    profile.write(0x6040, 0x11F)
    passing(1.0)
    assert abs(drive.speed) < 0.5
    assert profile.read(0x6064) * count < 11.0
    assert profile.read(0x6041) & 0x0400  # at rest
    profile.write(0x6040, 0x1F)
    passing(3.0)
    assert profile.read(0x6064) * count == pytest.approx(12.0, abs=0.02)
