"""Kill or suspend an armed client of the simulated drive again and again, and look that its motor stands in time: python tools/drive_kills.py 500

Clients are ready beforehand and killed at a random moment of the run; what is counted is a drive still armed after its watchdog's time, or a shaft that turns after the stop's.
"""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from pymodbus.client import ModbusTcpClient

ROOT = Path(__file__).resolve().parents[1]
#: A client that runs at a speed, turns a field, or puts a torque current on, as an identification does.
CLIENT = """
import sys, time
from pathlib import Path
from crisp_compass.drive.conversation import Conversation
from crisp_compass.drive.description import load_description
from crisp_compass.drive.hand import Hand
told = load_description(Path(sys.argv[2]))
sys.stdin.readline()
talk = Conversation(sys.argv[1], told, lambda e: None)
talk.start()
def turn(line, busy):
    hand = Hand(line, told, busy.pass_time)
    hand.arm()
    hand.begin(2, level=3.0, speed=80.0, ramp=300.0) if sys.argv[3] == "field" else hand.begin(3, level=2.0)
    hand.wait(60.0)
if sys.argv[3] == "speed":
    talk.arm(); talk.run_at(80.0)
else:
    talk.occupy(turn)
while True:
    talk.alive(); time.sleep(0.02)
"""


def main(times: int) -> int:
    """Return how often a motor did not stand in time."""
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder) / "drive.json"
        server = subprocess.Popen(
            [sys.executable, "-m", "crisp_compass", "drive", "serve", str(ROOT / "demo/winch/winch.bench.json"), "--link", "tcp:127.0.0.1:0", "--description", str(out)],
            stdout=subprocess.PIPE, text=True,
        )  # fmt: skip
        assert server.stdout is not None
        link = server.stdout.readline().strip()
        told = json.loads(out.read_text())
        telemetry = {e["name"]: e["address"] for e in told["telemetry"]}
        watcher = ModbusTcpClient("127.0.0.1", port=int(link.rpartition(":")[2]))
        watcher.connect()

        def read(name: str, count: int) -> int:
            words = watcher.read_input_registers(telemetry[name], count=count, device_id=1).registers
            return int.from_bytes(b"".join(w.to_bytes(2, "big") for w in words), "big", signed=True)

        def ready(k: int) -> subprocess.Popen[bytes]:
            return subprocess.Popen([sys.executable, "-c", CLIENT, link, str(out), ("speed", "field", "torque")[k % 3]], stdin=subprocess.PIPE)

        waiting, failed = [ready(0)], 0
        for k in range(times):
            waiting.append(ready(k + 1))  # the next one loads meanwhile
            client = waiting.pop(0)
            assert client.stdin is not None
            client.stdin.write(b"\n")
            client.stdin.flush()
            end = time.monotonic() + 60
            while not read("armed", 1):
                assert time.monotonic() < end
            time.sleep(random.Random(k).uniform(0.0, 0.4))
            os.kill(client.pid, signal.SIGSTOP if k % 4 == 0 else signal.SIGKILL)
            time.sleep(told["watchdog"]["seconds"] + 0.05)
            armed = read("armed", 1)
            time.sleep(told["watchdog"]["stop_s"])
            speed = read("speed", 2) * 0.001
            if armed or abs(speed) > 1.0:
                failed += 1
                print(f"{k}: armed {armed}, {speed:.2f} rad/s")
            client.kill()
            client.wait()
        for client in waiting:
            client.kill()
        server.terminate()
        print(f"{times} clients ended while armed: {failed} motors not at rest in time; the server ended with {server.wait(10)}")
    return failed


if __name__ == "__main__":
    sys.exit(1 if main(int(sys.argv[1]) if len(sys.argv) > 1 else 500) else 0)
