"""A serial line that is not known yet: found by its framing and address, or told apart by what comes instead of an answer."""

from __future__ import annotations

import json
import os
import pty
import select
import termios
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import pytest
from pymodbus.framer import FramerRTU

from crisp_compass.cli.main import run
from crisp_compass.drive.bus_load import look_s, period_s
from crisp_compass.drive.description import Description, Entry
from crisp_compass.drive.line_search import Framing, framings, search
from crisp_compass.errors import Refusal

RATE = {termios.B19200: 19200, termios.B9600: 9600, termios.B115200: 115200}


def framed(body: bytes) -> bytes:
    return body + FramerRTU.compute_CRC(body).to_bytes(2, "big")


@contextmanager
def device(answer: Callable[[bytes, int], bytes], *, first: bytes = b"") -> Iterator[str]:
    """A pseudo-terminal whose other end sees the rate that was set, as wires would; it knows no parity, and a search leaves out what a port does not have."""
    master, line = pty.openpty()
    ended = threading.Event()

    def work() -> None:
        heard = b""
        while not ended.is_set():
            if not select.select([master], [], [], 0.01)[0]:
                if first:
                    os.write(master, first)
                continue
            heard += os.read(master, 256)
            while len(heard) >= 8:
                flags = termios.tcgetattr(master)
                os.write(master, answer(heard[:8], RATE.get(flags[5], 0)))
                heard = heard[8:]

    thread = threading.Thread(target=work)
    thread.start()
    try:
        yield os.ttyname(line)
    finally:
        ended.set()
        thread.join()
        os.close(line)
        os.close(master)


def drive(unit: int, baud: int, *, echo: bool = False, only: bytes = b"\x03\x02\x00\x2a") -> Callable[[bytes, int], bytes]:
    """A device of one address; at another rate it sends what nobody can read, and to another unit nothing."""

    def answer(request: bytes, at: int) -> bytes:
        back = request if echo else b""
        if at != baud:
            return back
        return back + (framed(bytes((unit,)) + only) if request[0] == unit and framed(request[:6]) == request else b"")

    return answer


def test_framing_and_address_are_found_by_asking() -> None:
    with device(drive(7, 19200)) as port:
        told: list[float] = []
        found = search(port, range(5, 9), tell=lambda part, _: told.append(part))
        assert (found.unit, found.framing, found.value) == (7, Framing(19200), True)
        assert told == sorted(told)
    with device(drive(3, 9600, echo=True, only=b"\x83\x02")) as port:  # an exception is an answer; the echo before it is not
        found = search(port, (3,), Framing(9600))
        assert (found.unit, found.framing, found.value) == (3, Framing(9600), False)
    with device(drive(2, 9600), first=b"\x01") as port:
        assert search(port, (2,), Framing(9600)).unasked
    assert framings(Framing(9600))[0] == Framing(9600)
    assert len(framings(Framing(9600))) == len(framings())


def test_the_command_finds_it_or_says_in_one_sentence_why_not(capsys: pytest.CaptureFixture[str]) -> None:
    with device(drive(2, 9600)) as port:
        assert run(["drive", "find", "--link", f"serial:{port}", "--units", "1-3", "--json"]) == 0
        answer = json.loads(capsys.readouterr().out)
        assert (answer["unit_id"], answer["baud"], answer["parity"], answer["value"]) == (2, 9600, "N", True)
    assert run(["drive", "find"]) == 0
    capsys.readouterr()
    for asked, words in (
        (["--link", "tcp:127.0.0.1:502"], "--link: “tcp:127.0.0.1:502” is no serial line"), (["--link", "serial:/dev/null", "--units", "0-300"], "--units: “0-300” are no addresses"),
        (["--link", "serial:/dev/ttyNONE"], "/dev/ttyNONE: there is no such port"),
    ):  # fmt: skip
        assert run(["drive", "find", *asked]) == 2
        assert capsys.readouterr().err.startswith(words)


def answers_as(unit: int) -> Callable[[bytes, int], bytes]:
    return lambda request, *_: framed(bytes((unit, 3, 2, 0, 1)))


def late_echo(held: int) -> Callable[[bytes, int], bytes]:
    """A slow adapter: the last bytes of each echo come with the next question's."""
    waiting = [b""]

    def answer(request: bytes, _: int) -> bytes:
        heard, waiting[0] = waiting[0] + request[: 8 - held], request[8 - held :]
        return heard

    return answer


@pytest.mark.parametrize(
    ("answer", "first", "words"),
    [
        (drive(9, 19200), b"", "nothing answers: unit 1 at 8 framings"),
        (drive(9, 0, echo=True), b"", "only our own requests come back"),
        (late_echo(3), b"", "only our own requests come back"),
        (lambda *_: b"\x5a\x00\xf3", b"", "swap the two wires of the pair"),
        (answers_as(4), b"", ""),
        (drive(9, 19200), b"\x02\x03", "who was not asked"),
    ],
    ids=["silence", "echo", "an echo in pieces", "garbage", "another address", "two masters"],
)
def test_what_comes_instead_of_an_answer_is_told_apart(answer: Callable[[bytes, int], bytes], first: bytes, words: str) -> None:
    with device(answer, first=first) as port:
        if not words:  # it answered as another unit than was asked, and is asked as that one
            assert search(port, (1,), Framing(19200)).unit == 4
            return
        with pytest.raises(Refusal, match=words):
            search(port, (1,))


def test_a_port_that_is_not_there_or_is_none() -> None:
    with pytest.raises(Refusal, match="there is no such port"):
        search("/dev/ttyNONE", (1,))
    with pytest.raises(Refusal, match="no serial port"):
        search("/dev/null", (1,))


def test_looks_take_no_more_of_a_line_than_their_share() -> None:
    """Worked by hand: 30 registers in a row at 9,600 baud, even parity: 8 + 5 + 60 bytes and two silences of 3.5, 11 bits each, 91.7 ms."""
    entries = tuple(Entry(name=f"p{k}", address=k, type="int16", table="input", access="r") for k in range(30))
    told = Description(protocol="modbus rtu", unit_id=1, baud=9600, parity="E", telemetry=entries)
    look = look_s(told, entries, serial=True)
    assert look == pytest.approx(80 * 11 / 9600)
    assert period_s(look, 0.05) == pytest.approx(80 * 11 / 9600 / 0.8)
    assert period_s(0.001, 0.05) == 0.05
    assert look_s(told, entries, serial=False) == 0.0
