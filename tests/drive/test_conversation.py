"""The conversation of a window with a drive: commands in order, a stop before everything, and silence when its owner is not there."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.drive.bus_load import look_s, portions
from crisp_compass.drive.conversation import Conversation, Event
from crisp_compass.drive.description import Description, Entry, load_description
from crisp_compass.drive.link import Count
from drive.test_modbus import by_name, served, speed_of, tcp


class Heard:
    """Events of a conversation, and the wait for one."""

    def __init__(self) -> None:
        self.events: list[Event] = []
        self._new = threading.Condition()

    def tell(self, event: Event) -> None:
        with self._new:
            self.events.append(event)
            self._new.notify_all()

    def wait(self, there: Callable[[Event], bool], talk: Conversation | None = None, seconds: float = 20.0, *, since: int | None = None) -> Event:
        """Return the next event for which something holds, of all from ``since`` on where it is given; the owner of ``talk`` is there meanwhile."""
        seen, end = len(self.events) if since is None else since, time.monotonic() + seconds
        with self._new:
            while time.monotonic() < end:
                if talk is not None:
                    talk.alive()
                found = next((e for e in self.events[seen:] if there(e)), None)
                if found is not None:
                    return found
                seen = len(self.events)
                self._new.wait(0.05)
        raise AssertionError([e.kind for e in self.events[-5:]])


@pytest.mark.thorough
def test_it_arms_runs_and_stops_and_an_owner_who_hangs_stops_the_motor(tmp_path: Path) -> None:
    with served(tmp_path, "tcp:127.0.0.1:0") as (_, where, told):
        described = load_description(tmp_path / "drive.json")
        heard = Heard()
        talk = Conversation(where, described, heard.tell)
        talk.start()
        heard.wait(lambda e: e.kind == "connected", talk, since=0)
        talk.run_at(80.0)
        refused = heard.wait(lambda e: e.kind == "refused", talk)
        assert "not armed" in refused.text
        talk.arm()
        talk.run_at(80.0)

        def turns(event: Event) -> bool:
            return event.telemetry is not None and abs(event.telemetry.values["speed"] - 80.0) < 1.0

        def rests(event: Event) -> bool:
            return event.telemetry is not None and abs(event.telemetry.values["speed"]) < 1.0 and event.telemetry.values["armed"] == 0

        heard.wait(turns, talk)
        talk.stop()
        heard.wait(rests, talk)
        talk.arm()
        talk.run_at(80.0)
        heard.wait(turns, talk)
        other = tcp(where)  # the owner does not show any more: nothing is sent, and the drive's own watchdog acts
        armed = by_name(told, "telemetry")["armed"]["address"]
        time.sleep(0.3 + told["watchdog"]["seconds"] + 0.1)
        assert other.read_input_registers(armed, count=1, device_id=1).registers == [0]
        time.sleep(told["watchdog"]["stop_s"])
        assert abs(speed_of(other, told)) < 1.0
        talk.write([(next(e for e in described.parameters if e.name == "current_limit"), 6.004)])
        written = heard.wait(lambda e: e.kind == "written", talk).written[0]
        assert (written.value, written.rounded, written.differs) == (6.0, True, False)
        talk.close()
        other.close()
        talk = Conversation(where, described, heard.tell)
        talk.occupy(lambda *_: pytest.fail("it was stopped before it began"))
        talk.stop()
        begun = len(heard.events)
        talk.start()
        assert heard.wait(lambda e: e.kind == "free", talk, since=begun).text == "stopped; it had not begun."
        talk.close()


@pytest.mark.thorough
def test_whoever_only_looks_leaves_somebody_elses_motor_alone(tmp_path: Path) -> None:
    with served(tmp_path, "tcp:127.0.0.1:0") as (_, where, told):
        commands = by_name(told, "commands")
        other = tcp(where)
        other.write_register(commands["arm"]["address"], 1, device_id=1)
        heard = Heard()
        talk = Conversation(where, load_description(tmp_path / "drive.json"), heard.tell)
        talk.start()
        end = time.monotonic() + 30

        def look() -> None:
            speed_of(other, told)  # feeds the other's watchdog
            talk.alive()
            assert time.monotonic() < end

        while not any(e.telemetry for e in heard.events):
            look()
        talk.arm()
        while not any(e.kind == "refused" for e in heard.events):
            look()
        assert not talk.may_command
        talk.close()
        armed = by_name(told, "telemetry")["armed"]["address"]
        assert other.read_input_registers(armed, count=1, device_id=1).registers == [1]
        other.close()


@pytest.mark.thorough
def test_a_device_that_goes_silent_is_lost_in_one_sentence(tmp_path: Path) -> None:
    with served(tmp_path, "tcp:127.0.0.1:0") as (process, where, _):
        heard = Heard()
        talk = Conversation(where, load_description(tmp_path / "drive.json"), heard.tell)
        talk.start()
        heard.wait(lambda e: e.telemetry is not None, talk)
        process.send_signal(signal.SIGSTOP)  # the device hangs; the line stays
        try:
            lost = heard.wait(lambda e: e.kind == "lost", talk, seconds=15.0)
        finally:
            process.send_signal(signal.SIGCONT)
        assert lost.text.startswith("--link")
        talk.close()


KILLED = """
import sys, time
from pathlib import Path
from crisp_compass.drive.conversation import Conversation
from crisp_compass.drive.description import Description, Entry, load_description
from crisp_compass.drive.link import Count
talk = Conversation(sys.argv[1], load_description(Path(sys.argv[2])), lambda e: print(e.kind, flush=True) if e.kind == "connected" else None)
talk.start(); talk.arm(); talk.run_at(80.0)
while True:
    talk.alive(); time.sleep(0.02)
"""


@pytest.mark.thorough
@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGSTOP])
def test_a_killed_or_suspended_client_leaves_a_motor_at_rest(how: signal.Signals, tmp_path: Path) -> None:
    """Each time within the watchdog's time; tools/drive_kills.py 500 does it five hundred times, in tests of the drive too."""
    with served(tmp_path, "tcp:127.0.0.1:0") as (_, where, told):
        other = tcp(where)
        armed = by_name(told, "telemetry")["armed"]["address"]
        for _ in range(2):
            client = subprocess.Popen([sys.executable, "-c", KILLED, where, str(tmp_path / "drive.json")], stdout=subprocess.PIPE)
            end = time.monotonic() + 60
            while abs(speed_of(other, told)) < 70.0:
                assert time.monotonic() < end
            os.kill(client.pid, how)
            time.sleep(told["watchdog"]["seconds"] + 0.05)
            assert other.read_input_registers(armed, count=1, device_id=1).registers == [0]
            time.sleep(told["watchdog"]["stop_s"])
            assert abs(speed_of(other, told)) < 1.0
            client.kill()
            client.wait()
            assert client.stdout is not None
            client.stdout.close()
        other.close()


class _Slow:
    """A line whose looks take as long as their bytes on a slow wire; it notes when a heartbeat came."""

    def __init__(self, described: Description) -> None:
        self.described, self.count, self.beats = described, Count(), list[float]()

    def read(self, entries: Sequence[Entry]) -> dict[str, float]:
        time.sleep(look_s(self.described, entries, serial=True))
        return {e.name: 1.0 if e.name == "armed" else 0.0 for e in entries}

    def write(self, entry: Entry, raw: float) -> None:
        if entry.name == "heartbeat":
            self.beats.append(time.monotonic())


@pytest.mark.thorough
def test_a_look_that_takes_longer_than_the_watchdog_is_divided(monkeypatch: pytest.MonkeyPatch) -> None:
    many = [{"name": f"v{k}", "address": 3 * k, "type": "uint16"} for k in range(120)]
    described = Description.model_validate({
        "protocol": "modbus rtu", "unit_id": 1, "baud": 9600, "watchdog": {"seconds": 0.5}, "telemetry": [*many, {"name": "armed", "address": 1000, "type": "uint16"}],
        "commands": [{"name": n, "address": k, "type": "uint16"} for k, n in enumerate(("arm", "stop", "heartbeat", "speed"))],
    })  # fmt: skip
    whole = look_s(described, described.telemetry, serial=True)
    assert whole > 2.0
    parts = portions(described, described.telemetry, serial=True, most_s=0.15)
    assert sorted(e.name for part in parts for e in part) == sorted(e.name for e in described.telemetry)
    assert all(look_s(described, part, serial=True) <= 0.15 for part in parts)
    line = _Slow(described)
    monkeypatch.setattr("crisp_compass.drive.conversation.open_link", lambda *_: contextlib.nullcontext(line))
    heard = Heard()
    talk = Conversation("serial:none", described, heard.tell)
    talk.start()
    heard.wait(lambda e: e.kind == "connected", talk, since=0)
    talk.arm()
    for _ in range(2):
        heard.wait(lambda e: e.kind == "telemetry", talk)
    apart = np.diff(line.beats)
    assert len(apart) > 8
    assert np.median(apart) < 0.35
    talk.close()
