"""The simulated drive on a wire and the commands that speak to any: pymodbus's own client against our server, our commands against its server.

Checks of frames: the example of the Modbus Serial Line specification's CRC, 02 07 → 41 12 (V1.02, appendix B).
"""

from __future__ import annotations

import contextlib
import json
import math
import os
import signal
import socket
import struct
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pymodbus.client import ModbusSerialClient, ModbusTcpClient
from pymodbus.simulator import DataType, SimData, SimDevice

from crisp_compass.bench import load_bench
from crisp_compass.capture import read_capture
from crisp_compass.cli.main import run
from crisp_compass.drive.description import Entry, load_description
from crisp_compass.drive.link import open_link
from crisp_compass.drive.modbus_server import crc16
from crisp_compass.drive.registers import from_registers, physical, raw_of, to_registers
from crisp_compass.drive.served import ServedDrive
from crisp_compass.errors import Refusal

DEMO = Path(__file__).parents[2] / "demo"
WINCH = DEMO / "winch" / "winch.bench.json"


@contextlib.contextmanager
def served(folder: Path, link: str, bench: Path = WINCH, *options: str) -> Iterator[tuple[subprocess.Popen[str], str, dict[str, Any]]]:
    """Give the process, its link and its description; it ends with 0 soon after SIGTERM."""
    out = folder / "drive.json"
    process = subprocess.Popen(
        [sys.executable, "-m", "crisp_compass", "drive", "serve", str(bench), "--link", link, "--description", str(out), *options], stdout=subprocess.PIPE, text=True
    )  # fmt: skip
    assert process.stdout is not None
    where = process.stdout.readline().strip()
    assert where, "the server printed no link"
    try:
        yield process, where, json.loads(out.read_text())
    finally:
        began = time.monotonic()
        process.send_signal(signal.SIGTERM)
        assert process.wait(timeout=20) == 0
        process.stdout.close()
        assert time.monotonic() - began < 6.0  # two are promised, of a machine that nothing else keeps busy


def by_name(described: dict[str, Any], lot: str) -> dict[str, Any]:
    return {e["name"]: e for e in described[lot]}


def tcp(where: str) -> ModbusTcpClient:
    _, host, port = where.split(":")
    client = ModbusTcpClient(host, port=int(port), timeout=2)
    assert client.connect()
    return client


def raw(client: ModbusTcpClient, request: bytes, unit: int = 1) -> bytes:
    """Send a request without pymodbus's own checks; return the answer's function and data."""
    assert client.socket is not None
    client.socket.sendall(struct.pack(">HHHB", 7, 0, len(request) + 1, unit) + request)
    client.socket.settimeout(0.1)
    return client.socket.recv(300)[7:]


def speed_of(client: ModbusTcpClient, described: dict[str, Any]) -> float:
    entry = by_name(described, "telemetry")["speed"]
    words = client.read_input_registers(entry["address"], count=2, device_id=1).registers
    return from_registers(Entry(**entry), words, "high-first") * entry["scale"]


def test_who_may_do_what_over_tcp(tmp_path: Path) -> None:
    with served(tmp_path, "tcp:127.0.0.1:0") as (_, where, told):
        commands, parameters = by_name(told, "commands"), by_name(told, "parameters")
        arm, speed, stop = (commands[k]["address"] for k in ("arm", "speed", "stop"))
        limit, ramp = parameters["current_limit"], parameters["ramp"]
        one, other = tcp(where), tcp(where)
        fast = to_registers(Entry(**commands["speed"]), 8000, "high-first")
        assert one.write_registers(speed, fast, device_id=1).exception_code == 6  # nobody is armed
        assert not one.write_register(arm, 1, device_id=1).isError()
        assert other.write_register(arm, 1, device_id=1).exception_code == 6
        assert other.write_registers(speed, fast, device_id=1).exception_code == 6
        assert not one.write_registers(speed, fast, device_id=1).isError()
        began = time.monotonic()
        while time.monotonic() - began < 1.0:
            reached = speed_of(one, told)  # its requests feed the watchdog
        assert reached == pytest.approx(80.0, abs=1.0)
        # half a value, gaps, read-only, limits, counts, functions: each with its exception, and nothing changes
        assert one.read_holding_registers(ramp["address"], count=1, device_id=1).exception_code == 2
        assert one.read_holding_registers(ramp["address"] + 1, count=1, device_id=1).exception_code == 2
        assert one.write_register(ramp["address"], 1, device_id=1).exception_code == 2
        assert one.read_holding_registers(5000, count=1, device_id=1).exception_code == 2
        assert one.write_register(limit["address"], 65535, device_id=1).exception_code == 3
        assert one.write_registers(limit["address"], [700, 65535], device_id=1).exception_code == 3
        assert one.read_holding_registers(limit["address"], count=1, device_id=1).registers == [800]
        nan = to_registers(Entry(**parameters["current_kp_q"]), math.nan, "high-first")
        assert one.write_registers(parameters["current_kp_q"]["address"], nan, device_id=1).exception_code == 3
        assert raw(one, bytes((0x2B, 14, 1, 0)))[:2] == bytes((0xAB, 1))
        assert raw(one, struct.pack(">BHH", 3, 0, 126)) == bytes((0x83, 3))
        assert raw(one, struct.pack(">BHHB", 16, limit["address"], 1, 3) + b"\0\0\0") == bytes((0x90, 3))
        with pytest.raises(TimeoutError):  # another unit gets no answer
            raw(one, struct.pack(">BHH", 3, 0, 1), unit=9)
        assert speed_of(one, told) == pytest.approx(80.0, abs=1.0)
        assert not other.write_register(stop, 1, device_id=1).isError()  # anybody, at any time
        time.sleep(told["watchdog"]["stop_s"])
        assert abs(speed_of(other, told)) < 1.0
        assert not one.write_register(arm, 1, device_id=1).isError()
        time.sleep(0.15)
        assert abs(speed_of(one, told)) < 1.0  # the old command does not come back
        one.close()
        other.close()


def test_what_waits_for_a_restart_counts_after_it_and_through_a_stop() -> None:
    drive, client = ServedDrive(load_bench(WINCH)), object()
    entries = {e.name: e for e in (*drive.description.parameters, *drive.description.commands)}
    before = drive._sim.drive.control.r
    drive.write(entries["resistance"], 5000.0, client)
    assert drive._sim.drive.control.r == before
    drive.write(entries["restart"], 1.0, client)
    assert drive._sim.drive.control.r == pytest.approx(0.5)
    drive.write(entries["resistance"], 6000.0, client)
    drive.write(entries["arm"], 1.0, client)
    drive.tick(0.01)
    drive.disarm()
    for _ in range(20):
        drive.tick(0.05)
    assert drive._sim.drive.control.r == pytest.approx(0.5)  # what was written last waits still
    drive.write(entries["restore"], 1.0, client)
    assert drive._sim.drive.control.r == pytest.approx(before, rel=1e-3)


@pytest.mark.thorough
def test_a_stop_takes_its_own_time_whatever_was_written(tmp_path: Path) -> None:
    """A client writes the slowest ramp and hardly any current, runs, and falls silent: at rest in the time that the description tells."""
    with served(tmp_path, "tcp:127.0.0.1:0") as (_, where, told):
        commands, parameters = by_name(told, "commands"), by_name(told, "parameters")
        one = tcp(where)
        one.write_register(commands["arm"]["address"], 1, device_id=1)
        one.write_registers(commands["speed"]["address"], to_registers(Entry(**commands["speed"]), 15000, "high-first"), device_id=1)
        began = time.monotonic()
        while time.monotonic() - began < 0.6:
            assert speed_of(one, told) < 160
        ramp = Entry(**parameters["ramp"])
        assert not one.write_registers(ramp.address, to_registers(ramp, raw_of(ramp, ramp.min or 0.0), "high-first"), device_id=1).isError()  # type: ignore[arg-type]
        assert not one.write_register(parameters["current_limit"]["address"], 10, device_id=1).isError()
        assert speed_of(one, told) > 140
        time.sleep(told["watchdog"]["seconds"] + told["watchdog"]["stop_s"])
        assert abs(speed_of(one, told)) < 1.0
        assert one.read_holding_registers(parameters["current_limit"]["address"], count=1, device_id=1).registers == [10]
        one.close()


@pytest.mark.thorough(but=["silent"])
@pytest.mark.parametrize("how", ["silent", "gone", "crowded"])
def test_a_lost_client_stops_the_motor(how: str, tmp_path: Path) -> None:
    """Silence, a broken connection, and silence while somebody else keeps asking: disarmed within the watchdog's time, at rest in the time told."""
    with served(tmp_path, "tcp:127.0.0.1:0") as (_, where, told):
        commands = by_name(told, "commands")
        one, other = tcp(where), tcp(where)
        armed = by_name(told, "telemetry")["armed"]["address"]
        one.write_register(commands["arm"]["address"], 1, device_id=1)
        one.write_registers(commands["speed"]["address"], to_registers(Entry(**commands["speed"]), 8000, "high-first"), device_id=1)
        began = time.monotonic()
        while time.monotonic() - began < 0.8:
            speed_of(one, told)
        if how == "gone":
            one.close()
        began = time.monotonic()
        while how == "crowded" and time.monotonic() - began < told["watchdog"]["seconds"]:
            speed_of(other, told)
        time.sleep(max(told["watchdog"]["seconds"] + 0.05 - (time.monotonic() - began), 0))
        assert other.read_input_registers(armed, count=1, device_id=1).registers == [0]
        time.sleep(told["watchdog"]["stop_s"])
        assert abs(speed_of(other, told)) < 1.0
        one.close()
        other.close()


@pytest.mark.thorough
def test_a_serial_line_is_fed_by_its_heartbeat_alone(tmp_path: Path) -> None:
    assert crc16(bytes((0x02, 0x07))).to_bytes(2, "little") == bytes((0x41, 0x12))
    with served(tmp_path, "pty") as (_, where, told):
        commands = by_name(told, "commands")
        armed = by_name(told, "telemetry")["armed"]["address"]
        client = ModbusSerialClient(where.removeprefix("pty:"), baudrate=115200, timeout=1)
        assert client.connect()
        arm, beat = commands["arm"]["address"], commands["heartbeat"]["address"]
        assert not client.write_register(arm, 1, device_id=1).isError()
        for k in range(20):
            assert not client.write_register(beat, k + 1, device_id=1).isError()
            time.sleep(0.03)
        assert client.read_input_registers(armed, count=1, device_id=1).registers == [1]
        began = time.monotonic()
        while time.monotonic() - began < 0.6:  # reading is no heartbeat, nor is a number that stands still
            client.write_register(beat, 20, device_id=1)
            client.read_input_registers(armed, count=1, device_id=1)
        assert client.read_input_registers(armed, count=1, device_id=1).registers == [0]
        line = os.open(where.removeprefix("pty:"), os.O_RDWR | os.O_NOCTTY)
        os.write(line, b"\x01\x03\x00\x00\x00\x01\xff\xff garbage")  # a broken frame is nobody's
        os.close(line)
        time.sleep(0.1)
        assert not client.read_input_registers(armed, count=1, device_id=1).isError()
        client.close()


@pytest.mark.thorough
def test_a_bad_line_shows_no_wrong_value(tmp_path: Path) -> None:
    """One answer in fifty with a wrong bit and one in a hundred lost: 200 reads, each right or asked again."""
    with served(tmp_path, "pty", WINCH, "--broken", "0.02", "--lost", "0.01", "--latency", "0.001") as (_, where, _told):
        described = load_description(tmp_path / "drive.json")
        wanted = [e for e in described.parameters if e.name in ("current_limit", "trip_level", "ramp")]
        with open_link(where, described) as line:
            for _ in range(200):
                assert line.read(wanted) == {"current_limit": 8.0, "trip_level": 14.0, "ramp": 1500.0}


@given(
    st.sampled_from(["int16", "uint16", "int32", "uint32", "float32"]), st.sampled_from(["high-first", "low-first"]),
    st.floats(1e-6, 1e3), st.floats(-1e6, 1e6), st.booleans(),
)  # fmt: skip
def test_every_kind_scale_and_order_comes_back(kind: str, order: str, scale: float, value: float, negative: bool) -> None:
    entry = Entry(name="x", address=0, type=kind, scale=-scale if negative else scale)  # type: ignore[arg-type]
    number = raw_of(entry, value)
    words = to_registers(entry, number, order)
    assert len(words) == entry.width
    assert all(0 <= w <= 65535 for w in words)
    assert from_registers(entry, words, order) == number
    assert raw_of(entry, physical(entry, number)) == pytest.approx(number, rel=1e-6)


# ---- our commands against a server that is not ours


@pytest.fixture
def foreign(tmp_path: Path) -> Iterator[tuple[str, Path]]:
    """pymodbus's server with registers of its own, and a description: low word first, another unit, other tables."""
    import asyncio

    from pymodbus.server import ModbusTcpServer

    port = socket.socket()
    port.bind(("127.0.0.1", 0))
    number = port.getsockname()[1]
    port.close()
    words = [0] * 40
    words[10:12] = to_registers(Entry(name="k", type="float32"), 1.25, "low-first")
    words[12] = 4126
    words[20:22] = to_registers(Entry(name="w", type="int32"), -123456, "low-first")
    loop = asyncio.new_event_loop()
    holder: list[ModbusTcpServer] = []

    def work() -> None:
        asyncio.set_event_loop(loop)

        async def main() -> None:
            device = SimDevice(id=17, simdata=[SimData(0, values=words, datatype=DataType.REGISTERS)])
            holder.append(ModbusTcpServer(device, address=("127.0.0.1", number)))
            await holder[0].serve_forever(background=True)

        loop.run_until_complete(main())
        loop.run_forever()

    thread = threading.Thread(target=work, daemon=True)
    thread.start()
    described = tmp_path / "foreign.json"
    described.write_text(json.dumps({
        "protocol": "Modbus TCP", "unit_id": 17, "word_order": "low-first",
        "parameters": [
            {"name": "gain", "address": 10, "type": "float32", "unit": "V/A", "min": 0, "max": 100},
            {"name": "r", "address": 12, "type": "uint16", "scale": 1e-4, "unit": "Ω", "bench": "resistance.resistance"},
        ],
        "telemetry": [{"name": "n", "address": 20, "table": "holding", "type": "int32", "scale": 0.01, "unit": "rad/s", "signal": "speed"}],
    }))  # fmt: skip
    for _ in range(200):
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", number), timeout=0.2):
            break
        time.sleep(0.02)
    yield f"tcp:127.0.0.1:{number}", described
    asyncio.run_coroutine_threadsafe(holder[0].shutdown(), loop).result(5)
    loop.call_soon_threadsafe(loop.stop)
    thread.join(5)


def told(capsys: pytest.CaptureFixture[str], *words: object) -> tuple[int, dict[str, Any], str]:
    code = run(["drive", *map(str, words)])
    said = capsys.readouterr()
    return code, json.loads(said.out) if said.out.startswith("{") else {}, said.err


def test_commands_speak_to_a_drive_of_somebody_else(foreign: tuple[str, Path], tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    link, described = foreign
    to = ("--link", link, "--description", described)
    code, said, _ = told(capsys, "read", *to, "--json")
    assert code == 0
    assert said["values"] == {"gain": {"value": 1.25, "unit": "V/A"}, "r": {"value": 0.4126, "unit": "Ω"}, "n": {"value": -1234.56, "unit": "rad/s"}}
    code, said, _ = told(capsys, "write", "gain=2.5", "r=0.41234", *to, "--json")
    assert code == 0
    assert said["written"]["gain"] == {"asked": 2.5, "value": 2.5, "unit": "V/A", "rounded": False}
    assert said["written"]["r"]["value"] == 0.4123
    assert said["written"]["r"]["rounded"]
    assert [f["code"] for f in said["findings"]] == ["value-rounded"]
    for word, begins in (("gain=101", "gain:"), ("n=3", "n:"), ("what=1", "what:"), ("gain=x", "gain:"), ("gain", "gain:")):
        code, _, error = told(capsys, "write", "r=0.5", word, *to)
        assert code == 2
        assert error.startswith(begins)
    assert told(capsys, "read", "r", *to, "--json")[1]["values"]["r"]["value"] == 0.4123  # nothing was sent
    code, said, _ = told(capsys, "compare", WINCH, *to, "--json")
    assert said["compared"]["r"]["drive"] == 0.4123
    assert said["compared"]["r"]["differs"]
    out = tmp_path / "run.csv"
    code, said, _ = told(capsys, "record", "--signals", "speed", "--seconds", "0.2", "-o", out, *to, "--json")
    assert code == 0
    capture = read_capture(out)
    assert capture["speed"][0] == pytest.approx(-1234.56)  # rpm in the file, SI inside
    assert len(capture["speed"]) == said["rows"] > 10


@pytest.mark.thorough
def test_what_is_no_drive_is_said_within_the_time(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    described = tmp_path / "d.json"
    good = {"protocol": "tcp", "unit_id": 1, "parameters": [{"name": "a", "address": 0, "type": "int32"}]}
    described.write_text(json.dumps(good))
    deaf, babbler = socket.socket(), socket.socket()
    for s in (deaf, babbler):
        s.bind(("127.0.0.1", 0))
        s.listen()

    def babble() -> None:
        with contextlib.suppress(OSError):
            while True:
                peer, _ = babbler.accept()
                with contextlib.suppress(OSError):
                    peer.recv(100)
                    peer.sendall(b"HTTP/1.1 400 Bad Request\r\n\r\n" * 9)

    threading.Thread(target=babble, daemon=True).start()
    for link in (f"tcp:127.0.0.1:{deaf.getsockname()[1]}", f"tcp:127.0.0.1:{babbler.getsockname()[1]}", "tcp:127.0.0.1:1", "pty:/dev/null", "pty:/nowhere", "fax:1"):
        began = time.monotonic()
        code, _, error = told(capsys, "read", "--link", link, "--description", described)
        assert code == 2
        assert error.startswith("--link"), error
        assert time.monotonic() - began < 20
    deaf.close()
    babbler.close()
    for wrong, says in (
        ({"parameters": [{"name": "a", "address": 0, "type": "int32"}, {"name": "b", "address": 1, "type": "int16"}]}, "overlap"),
        ({"parameters": [{"name": "a", "address": 0, "type": "int64"}]}, "type"), ({"parameters": [{"name": "a", "address": 0, "type": "int16", "scale": 0}]}, "scale"),
        ({"unit_id": None}, "unit"), ({"protocol": "carrier pigeon"}, "protocol"), ({"parameters": [{"name": "a", "type": "int16"}]}, "address"),
    ):  # fmt: skip
        data = {k: v for k, v in {**good, **wrong}.items() if v is not None}
        described.write_text(json.dumps(data))
        with pytest.raises(Refusal) as refused:
            load_description(described)
        assert says in refused.value.sentence
        code, _, error = told(capsys, "read", "--link", "tcp:127.0.0.1:1", "--description", described)
        assert code == 2
        assert error.startswith(str(described))


def _has_multicast() -> bool:
    """Whether this machine carries frames between programs without a CAN interface."""
    import can

    with contextlib.suppress(Exception), can.Bus(interface="udp_multicast", channel="239.74.163.9", port=43119, fd=False) as one, can.Bus(interface="udp_multicast", channel="239.74.163.9", port=43119, fd=False) as two:  # fmt: skip
        one.send(can.Message(arbitration_id=0x1, data=[1]))
        return two.recv(1.0) is not None
    return False


@pytest.mark.thorough
def test_a_node_of_a_can_bus_answers_canopens_own_client(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    import canopen
    from canopen.sdo.exceptions import SdoAbortedError

    from crisp_compass.drive.can_bus import dictionary

    if not _has_multicast():
        pytest.skip("this machine carries no multicast")
    with served(tmp_path, "can:239.74.163.9:43117") as (_, where, told_):
        described = load_description(tmp_path / "drive.json")
        objects = {lot: by_name(told_, lot) for lot in ("commands", "parameters", "telemetry")}
        network = canopen.Network()
        network.connect(interface="udp_multicast", channel="239.74.163.9", port=43117, fd=False)
        node = canopen.RemoteNode(1, dictionary(described))
        network.add_node(node)
        node.sdo.RESPONSE_TIMEOUT = 2.0

        def put(name: str, value: float, lot: str = "commands") -> None:
            node.sdo[objects[lot][name]["index"]].raw = value

        with pytest.raises(SdoAbortedError) as refused:
            put("speed", 8000)
        assert refused.value.code == 0x08000022  # nobody is armed
        with pytest.raises(SdoAbortedError) as refused:
            put("current_limit", 65535, "parameters")
        assert refused.value.code == 0x06090030
        with pytest.raises(SdoAbortedError):
            put("armed", 1, "telemetry")
        put("arm", 1)
        put("speed", 8000)
        for k in range(40):
            put("heartbeat", k + 1)
            time.sleep(0.02)
        assert node.sdo[objects["telemetry"]["speed"]["index"]].raw == pytest.approx(80_000, rel=0.02)
        time.sleep(told_["watchdog"]["seconds"] + 0.1)
        assert node.sdo[objects["telemetry"]["armed"]["index"]].raw == 0
        network.disconnect()
        to = ("--link", where, "--description", tmp_path / "drive.json", "--json")
        code, said, _ = told(capsys, "write", "current_limit=6.004", *to)
        assert code == 0
        assert said["written"]["current_limit"]["value"] == 6.0
        code, said, _ = told(capsys, "compare", WINCH, *to)
        assert not any(row["differs"] for row in said["compared"].values())
