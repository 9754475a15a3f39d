"""The live stream: frames both ways, lost rows, triggers, what is measured, and the simulated drive's own stream in its own process."""

from __future__ import annotations

import contextlib
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as some

from crisp_compass.capture import read_capture
from crisp_compass.cli.main import run
from crisp_compass.drive.description import Description, Entry, load_description
from crisp_compass.drive.headroom import headroom_of
from crisp_compass.drive.live import LiveStore, Rolling, Trigger, capture_columns, measure, thinned
from crisp_compass.drive.live_line import LiveReader
from crisp_compass.drive.stream import Decoder, frames_of
from drive.test_stream import stuffed

DEMO = Path(__file__).parents[2] / "demo"
TOLD = (
    Entry(name="i_a", type="int16", scale=0.01, unit="A", signal="i_a", limit="current_limit"), Entry(name="angle", type="uint16", scale=360 / 65536, unit="deg", signal="angle"),
    Entry(name="flags", type="uint16", bits={"0": "armed", "2": "hall_1"}),
)  # fmt: skip


@settings(max_examples=40, deadline=None)
@given(some.lists(some.lists(some.integers(0, 65535), min_size=3, max_size=3), min_size=1, max_size=30), some.integers(0, 200_000))
def test_frames_are_those_of_the_slow_encoder_and_come_back(rows: list[list[int]], first: int) -> None:
    words = np.array(rows, dtype=np.int64)
    frames = frames_of(first, words)
    unstuffed = frames[0][:-1]
    plain, at = b"", 0
    while at < len(unstuffed):
        plain += unstuffed[at + 1 : at + unstuffed[at]] + b"\0"
        at += unstuffed[at]
    assert stuffed(plain[:-1]) == frames[0]
    decoder = Decoder(Description(protocol="stream", stream="frames", telemetry=tuple(Entry(name=f"w{k}", type="uint16") for k in range(3))))
    numbers, values = decoder.feed(b"".join(frames))
    assert (np.diff(numbers) == 1).all()
    assert numbers[0] % 65536 == first % 65536
    assert (values == words).all()


def _store(seconds: float = 1.0) -> LiveStore:
    return LiveStore(TOLD, 1e-3, seconds)


def _rows(first: int, count: int) -> tuple[np.ndarray, np.ndarray]:
    k = first + np.arange(count)
    return k.astype(float), np.column_stack([np.sin(2 * np.pi * k / 40), (k * 3.0) % 360, (k // 10) % 2 * 5.0])


def test_what_is_kept_is_what_came_in_any_portions_and_lost_rows_stay_empty() -> None:
    rng = np.random.default_rng(5)
    store, at = _store(), 70_000  # the counter of somebody who joins late
    lost: list[int] = []
    while at < 75_000:
        count = int(rng.integers(1, 300))
        numbers, values = _rows(at, count)
        keep = rng.random(count) > 0.02
        store.append(numbers[keep], values[keep])
        lost += numbers[~keep].astype(int).tolist()
        at += count
    now = store.now
    t, x = store.stretch(now - 0.9, now, range(4))
    k = np.round((t - now) / 1e-3).astype(int) + (at - 1 if at - 1 not in lost else max(set(range(70_000, at)) - set(lost)))
    assert np.allclose(np.diff(t), 1e-3)
    known = np.array([n not in set(lost) for n in k])
    assert (np.isfinite(x[0]) == known).all()
    assert np.allclose(x[0][known], np.sin(2 * np.pi * k / 40)[known], atol=1e-6)
    assert ((x[2] == (k // 10) % 2) | ~known).all()  # both named bits of the word
    assert ((x[2] == x[3]) | ~known).all()
    # the line breaks off and its counter begins anew: times go on
    store.broke_off()
    store.append(*_rows(3, 50))
    assert store.now > now
    assert len(store.stretch(now + 1e-4, store.now, [0])[0]) >= 50
    assert store.rows > 4000


def test_a_rolling_view_is_the_extremes_of_every_row() -> None:
    store = _store(5.0)
    rng = np.random.default_rng(2)
    rolling = Rolling(store, [0], 1.0, 100)
    assert rolling.update()[0].size == 0
    sent = []
    for first in range(0, 4000, 50):
        numbers, values = _rows(first, 50)
        values[:, 0] = rng.standard_normal(50)
        store.append(numbers, values)
        sent += values[:, 0].tolist()
        t, x = rolling.update()
    assert -1.0 <= t[0] <= t[-1] <= 0.0
    whole = np.array(sent[-len(t) * 5 :], dtype=np.float32)  # a block of ten rows is two points
    assert np.allclose(x[0][0::2], whole.reshape(-1, 10).min(axis=1))
    assert np.allclose(x[0][1::2], whole.reshape(-1, 10).max(axis=1))
    t, x = thinned(*store.stretch(0.0, store.now, [0]), 100)
    assert x[0].max() == np.array(sent, dtype=np.float32).max()
    assert len(t) < 250


def test_a_trigger_finds_the_crossing_and_waits_for_what_comes_behind_it() -> None:
    store = _store(5.0)
    store.append(*_rows(0, 30))
    rising = Trigger(store, 0, 0.5, rising=True, before=0.01, after=0.02)
    falling = Trigger(store, 0, 0.5, rising=False, before=0.0, after=0.0)
    never = Trigger(store, 0, 1.5, rising=True, before=0.0, after=0.0)
    found: list[float] = []
    for first in range(30, 400, 7):
        store.append(*_rows(first, 7))
        at = rising.found()
        if at is not None:
            found.append(at)
            assert store.now >= at + 0.02
        fell = falling.found()
        if fell is not None:
            assert abs(((fell / 1e-3) % 40) - 17) < 1e-6  # the first row below, sin of 150° and more
        assert never.found() is None
    assert found
    assert all(abs(((at / 1e-3) % 40) - 4) < 1e-6 for at in found)  # the first row above, sin of 30° and more


def test_what_is_measured_and_what_is_no_wave() -> None:
    t = np.arange(0, 1, 1e-3)
    wave = measure(t, 2.0 + 3.0 * np.sin(2 * np.pi * 17 * t))
    assert abs(wave.hertz - 17) < 0.05
    assert abs(wave.mean - 2.0) < 1e-3
    assert abs(wave.rms - np.sqrt(4 + 4.5)) < 1e-3  # of a sine on a mean: √(m² + a²/2)
    assert measure(t, np.full(1000, 4.0)).hertz == 0.0
    burst = np.where((t < 0.1) | (t > 0.9), np.sin(2 * np.pi * 50 * t), 0.0)
    assert measure(t, burst).hertz == 0.0
    assert np.isnan(measure(t, np.full(1000, np.nan)).mean)


def test_a_capture_of_it_goes_on_where_an_angle_wraps_and_leaves_out_what_was_lost(tmp_path: Path) -> None:
    store = _store()
    numbers, values = _rows(0, 500)
    store.append(np.delete(numbers, [200, 201]), np.delete(values, [200, 201], axis=0))
    t, columns = capture_columns(store, 0.0, store.now)
    assert len(t) == 498
    assert set(columns) == {"i_a", "angle", "hall_1"}
    assert np.allclose(columns["angle"], np.radians(3.0 * np.round(t / 1e-3)), atol=1e-4)


def test_bits_of_one_name_in_two_words_are_two_channels() -> None:
    told = tuple(Entry(name=n, type="uint16", bits={"1": "stall", "2": n}) for n in ("last", "before"))
    assert [c.name for c in LiveStore(told, None, 1.0).channels] == ["last.stall", "last", "before.stall", "before"]


def test_headroom_asks_what_the_drive_holds_now() -> None:
    told = Description(protocol="modbus tcp", unit_id=1, parameters=(Entry(name="current_limit", address=0, type="uint16", unit="A"),))
    store = _store()
    store.append(*_rows(0, 100))
    (head,) = headroom_of(store, 0.0, store.now, told, {"current_limit": 4.0})
    assert head.limit == 4.0
    assert abs(head.most - 1.0) < 1e-3
    assert headroom_of(store, 0.0, store.now, told, {}) == []  # nobody says what the limit is


@contextlib.contextmanager
def serving(tmp_path: Path, *options: str) -> Iterator[tuple[str, Description, Path]]:
    where = tmp_path / "live.json"
    arguments = [sys.executable, "-m", "crisp_compass", "drive", "serve", str(DEMO / "winch" / "winch.bench.json"), "--link", "tcp:127.0.0.1:0", "--description", str(where), *options]
    with subprocess.Popen(arguments, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        try:
            link = process.stdout.readline().strip()
            yield link, load_description(where), where
        finally:
            process.terminate()


def _listened(told: Description, rows: int) -> tuple[LiveStore, LiveReader]:
    stream = told.live_stream()
    assert stream is not None
    assert told.live is not None
    store = LiveStore(stream.telemetry, stream.period_s, 5.0)
    reader = LiveReader(told.live.link, stream, store)
    reader.start()
    end = time.monotonic() + 60
    while store.rows < rows:
        assert time.monotonic() < end, reader.why
        time.sleep(0.02)
    reader.close()
    return store, reader


@pytest.mark.thorough
def test_sixteen_channels_in_every_period_come_without_a_loss_and_become_a_capture(tmp_path: Path) -> None:
    with serving(tmp_path) as (link, told, where):
        assert told.live is not None
        assert len(told.live.channels) == 16
        assert told.live.period_s == 5e-5
        store, reader = _listened(told, 20_000)
        assert reader.failed == 0
        t, x = store.stretch(0.0, store.now, [store.place("v_bus"), store.place("armed")])
        assert np.allclose(np.diff(t), 5e-5)
        assert np.allclose(x[0], 48.0, atol=0.01)
        assert not x[1].any()
        out = tmp_path / "c.csv"
        assert run(["drive", "record", "--link", link, "--description", str(where), "--signals", "i_a,speed,angle", "--seconds", "0.2", "-o", str(out), "--live"]) == 0
        taken = read_capture(out)
        assert np.allclose(np.diff(taken.time), 5e-5, atol=1e-9)
        assert run(["drive", "record", "--link", link, "--description", str(where), "--signals", "i_zz", "--seconds", "1", "-o", str(out), "--live", "--force"]) == 2


def test_no_broken_frame_shows_a_wrong_value(tmp_path: Path) -> None:
    with serving(tmp_path, "--broken", "0.01", "--seed", "4") as (_, told, _where):
        store, reader = _listened(told, 40_000)
        assert 0.005 < reader.failed / reader.asked < 0.05
        _, x = store.stretch(0.0, store.now, range(len(store.channels)))
        bus = x[store.place("v_bus")]
        assert np.isnan(bus).sum() > 100  # what is lost is missing
        assert np.allclose(bus[np.isfinite(bus)], 48.0, atol=0.01)
        assert np.nanmax(np.abs(x[store.place("i_a")])) < 0.2  # at rest: the converter's noise
