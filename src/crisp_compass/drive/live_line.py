"""The live stream of a drive at both ends: the simulated one sends it to whoever listens, and a thread listens to that of any drive that has one."""

from __future__ import annotations

import asyncio
import random
import threading
import time

from crisp_compass.drive.description import Description, Live
from crisp_compass.drive.live import LiveStore
from crisp_compass.drive.served import ServedDrive
from crisp_compass.drive.stream import open_stream
from crisp_compass.errors import Refusal

#: Bytes that wait for a slow listener before frames are dropped; its counter tells it so.
_MOST_WAITING = 1 << 20
#: Silence after which a listener asks again, s.
_AGAIN_S = 0.3
#: Time in which rows gather before they are taken, s.
_BUNCH_S = 0.01


class LiveServer:
    """Sends the frames of a simulated drive to every listener; ``lost`` and ``broken`` are the shares of frames that never come or come wrong."""

    def __init__(self, drive: ServedDrive, *, lost: float = 0.0, broken: float = 0.0, seed: int = 1) -> None:
        self._drive, self._lost, self._broken = drive, lost, broken
        self._random = random.Random(seed)
        self._writers: set[asyncio.StreamWriter] = set()
        self._server: asyncio.Server | None = None

    async def open(self, host: str) -> None:
        """Listen at a free port of ``host``; the drive's description names it from then on. Raises Refusal where nothing can listen there."""
        try:
            self._server = await asyncio.start_server(self._serve, host, 0)
        except (OSError, UnicodeError) as error:
            raise Refusal(f"nothing can listen at {host} ({getattr(error, 'strerror', None) or 'no such host'})", "name another host", where="--link") from None
        port = self._server.sockets[0].getsockname()[1]
        drive = self._drive
        live = Live(link=f"tcp:{host}:{port}", period_s=drive.period, channels=drive.live.channels)
        drive.description = drive.description.model_copy(update={"live": live})

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._writers.add(writer)
        self._drive.hears = self._send
        try:
            while await reader.read(1024):  # nothing that is said here is heard
                pass
        except (ConnectionError, asyncio.CancelledError):
            pass
        finally:
            self._writers.discard(writer)
            if not self._writers:
                self._drive.hears = None
            writer.close()

    def _send(self, frames: list[bytes]) -> None:
        if self._lost or self._broken:
            frames = [self._spoiled(f) for f in frames if self._random.random() >= self._lost]
        data = b"".join(frames)
        for writer in list(self._writers):
            if writer.transport.get_write_buffer_size() < _MOST_WAITING:
                writer.write(data)

    def _spoiled(self, frame: bytes) -> bytes:
        if self._random.random() >= self._broken:
            return frame
        place = self._random.randrange(len(frame) - 1)
        return frame[:place] + bytes((frame[place] ^ (1 << self._random.randrange(8)),)) + frame[place + 1 :]

    def close(self) -> None:
        """Listen no more and let go of every listener."""
        if self._server is not None:
            self._server.close()
        for writer in list(self._writers):
            writer.close()


class LiveReader:
    """Listens in a thread of its own and fills a store; asks again where the line broke off."""

    def __init__(self, link: str, stream: Description, store: LiveStore) -> None:
        self._link, self._stream, self.store = link, stream, store
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._work, name="live", daemon=True)
        #: Why nothing comes, empty while something does; frames that were lost or broken on the way, and all of them.
        self.why = "it has not answered yet"
        self.failed = self.asked = 0

    def start(self) -> None:
        """Begin to listen."""
        self._thread.start()

    def close(self) -> None:
        """Listen no more; the thread ends by itself."""
        self._ended.set()

    def _work(self) -> None:
        while not self._ended.is_set():
            try:
                with open_stream(self._link, self._stream) as line:
                    while not self._ended.is_set():
                        self.store.append(*line.rows())
                        self.why = ""
                        self._ended.wait(_BUNCH_S)  # many rows at once cost no more than few
                        self.asked, self.failed = line.count.asked, line.count.failed
            except Refusal as refusal:
                self.why = refusal.sentence.removeprefix("--link: ")
            except Exception as error:  # whatever a device sends: the window lives on
                self.why = f"the stream broke off ({type(error).__name__})"
            self.store.broke_off()
            if not self._ended.is_set():
                time.sleep(_AGAIN_S)
