"""Telemetry streams: the exported sender compiled and listened to, a million rows, broken frames, lines of text.

COBS is checked against the examples of its paper (S. Cheshire, M. Baker 1999) as this file's own slow encoder repeats them.
"""

from __future__ import annotations

import contextlib
import json
import shutil
import socket
import struct
import subprocess
import threading
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from crisp_compass.capture import read_capture
from crisp_compass.cli.main import run
from crisp_compass.drive.description import Description, Entry
from crisp_compass.drive.modbus_server import crc16
from crisp_compass.drive.stream import IDENTIFIER, Decoder, unstuffed
from crisp_compass.firmware.folder import files_of
from crisp_compass.firmware.plan import plan_of
from crisp_compass.firmware.save import write_files
from firmware.sources import FLAGS, NO_VECTORS
from firmware.test_folder import demo

TOLD = Description(
    protocol="stream", stream="frames", period_s=1e-3,
    telemetry=(Entry(name="n", type="float32", unit="rad/s", signal="speed"), Entry(name="raw", type="int16", scale=0.5), Entry(name="word", type="uint32")),
)  # fmt: skip


def stuffed(data: bytes) -> bytes:
    """COBS, byte by byte."""
    out, block = b"", b""
    for byte in data + b"\0":
        if byte:
            block += bytes((byte,))
        else:
            out, block = out + bytes((len(block) + 1,)) + block, b""
    return out + b"\0"


def frame(counter: int, n: float, raw: int, word: int) -> bytes:
    data = struct.pack("<BHfhI", IDENTIFIER, counter % 65536, n, raw, word)
    return stuffed(data + crc16(data).to_bytes(2, "little"))


def test_cobs_by_its_papers_examples() -> None:
    for plain, coded in (("00", "0101"), ("0000", "010101"), ("112200 33".replace(" ", ""), "0311220233"), ("11223344", "0511223344"), ("11000000", "0211010101")):
        assert stuffed(bytes.fromhex(plain)) == bytes.fromhex(coded) + b"\0"
        found, right = unstuffed(np.frombuffer(bytes.fromhex(coded), np.uint8).astype(np.int64)[None, :])
        assert right.all()
        assert bytes(found[0].astype(np.uint8)) == bytes.fromhex(plain)


def test_a_million_rows_in_any_portions_and_none_is_lost() -> None:
    rng = np.random.default_rng(3)
    one = b"".join(frame(k, float(k), k % 20000 - 10000, k * 977) for k in range(65536))
    decoder, got, at, last = Decoder(TOLD), 0, 0, -1
    whole = one * 16  # the counter runs over sixteen times
    while at < len(whole):
        size = int(rng.integers(1, 300_000))
        numbers, values = decoder.feed(whole[at : at + size])
        at += size
        if len(numbers):
            assert numbers[0] == last + 1
            assert (np.diff(numbers) == 1).all()
            k = numbers % 65536
            assert (values[:, 0] == k).all()
            assert (values[:, 1] == 0.5 * (k % 20000 - 10000)).all()
            last, got = int(numbers[-1]), got + len(numbers)
    assert got == 16 * 65536 > 1_000_000
    assert decoder.lost == decoder.broken == 0


def test_broken_frames_show_no_wrong_value_and_are_counted() -> None:
    rng, frames = np.random.default_rng(5), [frame(k, float(k), k, k) for k in range(20_000)]
    spoiled = set(rng.choice(20_000, 200, replace=False).tolist())
    sent = []
    for k, data in enumerate(frames):
        place = int(rng.integers(0, len(data)))
        wrong = data[:place] + bytes((int(rng.integers(0, 256)),)) + data[place + int(rng.integers(0, 2)) :]
        sent.append(wrong if k in spoiled else data)
    decoder = Decoder(TOLD)
    numbers, values = decoder.feed(b"".join(sent))
    assert (values[:, 0] == numbers).all()
    assert len(numbers) >= 20_000 - 2 * len(spoiled)
    assert decoder.lost >= 150


@contextlib.contextmanager
def sending(data: bytes) -> Iterator[str]:
    """A sender on TCP that tells its bytes once and stays."""
    server = socket.create_server(("127.0.0.1", 0))

    def work() -> None:
        with contextlib.suppress(OSError):
            peer, _ = server.accept()
            with peer:
                peer.sendall(data)
                peer.recv(1)

    thread = threading.Thread(target=work, daemon=True)
    thread.start()
    yield f"tcp:127.0.0.1:{server.getsockname()[1]}"
    thread.join(5)
    server.close()


SENDER = """#include "cc_plant.h"
#include "cc_telemetry.h"
#include <stdio.h>
int main(void) {
    static cc_drive d; static cc_plant p; static cc_pulses o; static cc_telemetry_state t; uint8_t out[CC_TELEMETRY_BYTES]; long k;
    cc_init(&d); cc_plant_init(&p, 0.0); cc_set_speed(&d, 80.0f); cc_run(&d, CC_RUN_SPEED);
    for (k = 0; k < 12000; k++) {
        cc_input in; cc_plant_read(&p, &in); cc_step(&d, &in, &o);
        if (k % (long)CC_TELEMETRY_EVERY == 0) fwrite(out, 1, cc_telemetry_frame(&t, &d, &in, out), stdout);
        cc_plant_step(&p, &o);
    }
    return 0;
}
"""


@pytest.mark.skipif(shutil.which("gcc") is None, reason="gcc is not installed")
def test_the_exported_sender_is_recorded_as_a_capture(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    write_files(tmp_path, files_of(plan_of(demo("winch")), NO_VECTORS, "t"))
    (tmp_path / "main.c").write_text(SENDER)
    sources = [f"src/{p.name}" for p in sorted((tmp_path / "src").glob("*.c")) if "fixed" not in p.name]
    subprocess.run(["gcc", *FLAGS, "-std=c99", "-fsanitize=undefined", "-fno-sanitize-recover=all", "-Iinclude", "-c", "src/cc_telemetry.c"], cwd=tmp_path, check=True)
    subprocess.run(["gcc", "-O1", "-std=c99", "-Iinclude", "-Ipc", "main.c", "pc/cc_plant.c", *sources, "-lm", "-o", "sender"], cwd=tmp_path, check=True)
    data = subprocess.run(["./sender"], cwd=tmp_path, check=True, capture_output=True).stdout
    out = tmp_path / "run.csv"
    with sending(data) as link:
        words = ["drive", "record", "--link", link, "--description", str(tmp_path / "telemetry.json"), "--signals", "speed,i_q_ref,i_a", "--seconds", "0.5", "-o", str(out), "--json"]
        assert run(words) == 0
    said = json.loads(capsys.readouterr().out)
    assert said["rows"] == 1200
    assert not said["findings"]
    capture = read_capture(out)
    assert np.diff(capture.time) == pytest.approx(10 / 20e3, rel=1e-6)  # every tenth period: the counter's own clock
    assert capture["speed"][-1] == pytest.approx(80.0, rel=5e-3)  # SI inside, rpm in the file
    with sending(b"GET / HTTP/1.1\r\n\0" * 5000) as link:
        assert run(["drive", "record", "--link", link, *words[4:-3], "-o", str(tmp_path / "b.csv")]) == 2
    assert capsys.readouterr().err.startswith("--link: what comes is no frame")


def test_lines_of_text_are_read_by_name_or_in_order() -> None:
    told = TOLD.model_copy(update={"stream": "lines"})
    decoder = Decoder(told)
    numbers, values = decoder.feed(b"n=1.5 raw=4 word=7\r\nspeed=2,raw=2,word=1\nrubbish\n3.5,6,9\nn=1 raw=")
    assert numbers.tolist() == [0, 1, 2]
    assert values.tolist() == [[1.5, 2.0, 7.0], [2.0, 1.0, 1.0], [3.5, 3.0, 9.0]]
    assert decoder.broken == 1
    numbers, values = decoder.feed(b"8 word=0\n")
    assert numbers.tolist() == [3]
    assert values[0].tolist() == [1.0, 4.0, 0.0]
