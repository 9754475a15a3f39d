"""CANopen: the object dictionary of a description, the simulated drive as a node, and a drive at the other end of a bus (canopen, python-can).

Objects are read and written by SDO (CiA 301). A bus names nobody, so as on a serial line only the heartbeat tells that whoever armed the drive is there.
"""

from __future__ import annotations

import contextlib
import ipaddress
import logging
import signal
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from crisp_compass.drive.can_profile import ProcessData, Profile
from crisp_compass.drive.description import Description, Entry
from crisp_compass.drive.link import LOOK, Count, DeniedError
from crisp_compass.drive.registers import from_bytes, physical, to_bytes
from crisp_compass.drive.served import ServedDrive
from crisp_compass.drive.served_rules import Denial
from crisp_compass.errors import Refusal

#: Time between two looks at the plant, s; an answer that takes longer is none, s.
_TICK_S, _WAIT_S = 0.005, 1.5
_PORT = 43113
#: CiA 301, table 22.
_NO_OBJECT, _READ_ONLY, _LENGTH, _RANGE, _STATE = 0x06020000, 0x06010002, 0x06070010, 0x06090030, 0x08000022
_ABORTS = {Denial.ADDRESS: _READ_ONLY, Denial.LIMITS: _RANGE, Denial.STATE: _STATE}
_WORDS = {
    _NO_OBJECT: "it has no such object", 0x06090011: "it has no such subindex", _READ_ONLY: "it can only be read", 0x06010001: "it can only be written", _LENGTH: "the length is wrong",
    _RANGE: "the value is outside its limits", 0x06090031: "the value is above its limit", 0x06090032: "the value is below its limit", _STATE: "it is not armed, or somebody else commands it",
}  # fmt: skip


def bus_of(link: str) -> dict[str, Any]:
    """Return what python-can opens for ``can:CHANNEL``: a multicast address (with a port), ``virtual:NAME``, ``INTERFACE:CHANNEL``, or a network interface."""
    channel = link.removeprefix("can:")
    interface, _, rest = channel.partition(":")
    if not channel:
        raise Refusal("it names no channel", "write can:vcan0, can:239.74.163.2 or can:INTERFACE:CHANNEL", where="--link")
    with contextlib.suppress(ValueError):
        if ipaddress.ip_address(interface).is_multicast and (not rest or rest.isdigit()):
            return {"interface": "udp_multicast", "channel": interface, "port": int(rest or _PORT), "fd": False}
    if rest:
        return {"interface": interface, "channel": rest, **({} if interface in ("virtual", "socketcan") else {"bitrate": 500_000})}
    return {"interface": "socketcan", "channel": channel}


@contextlib.contextmanager
def _network(link: str) -> Iterator[Any]:
    import can
    import canopen

    for name in ("canopen", "can"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    network = canopen.Network()
    network.NOTIFIER_CYCLE = 0.1  # what hanging up waits for
    try:
        network.connect(**bus_of(link))
    except (can.CanError, OSError, ValueError, TypeError, NotImplementedError) as error:
        why = str(error).splitlines()[0][:120] if str(error) else type(error).__name__
        raise Refusal(f"the bus cannot be opened ({why})", "look at the interface's name and that it is up", where="--link") from None
    try:
        yield network
    finally:
        network.disconnect()


def dictionary(description: Description) -> Any:
    """Return the object dictionary of a description."""
    from canopen import objectdictionary as od

    kinds = {"int16": od.INTEGER16, "uint16": od.UNSIGNED16, "int32": od.INTEGER32, "uint32": od.UNSIGNED32, "float32": od.REAL32}
    found: Any = od.ObjectDictionary()  # type: ignore[no-untyped-call]
    found.node_id = description.unit_id
    parts: dict[int, list[Entry]] = {}
    for entry in description.entries():
        parts.setdefault(entry.index or 0, []).append(entry)
    for index, entries in parts.items():
        alone = len(entries) == 1 and not entries[0].subindex
        record = None if alone else od.ODRecord(f"object {index:04X}", index)
        for entry in entries:
            variable = od.ODVariable(entry.name, index, entry.subindex or 0)
            variable.data_type = kinds[entry.type]
            variable.access_type = {"r": "ro", "w": "wo"}.get(entry.access or "rw", "rw")
            if record is None:
                found.add_object(variable)
            else:
                record.add_member(variable)
        if record is not None:
            found.add_object(record)
    return found


def dictionary_of_node(drive: ServedDrive) -> Any:
    """Return the object dictionary of the simulated drive as a node: its own objects and those of the profile."""
    found = dictionary(drive.description)
    Profile(drive, object()).add_to(found, drive.description.unit_id)
    return found


def serve_can(drive: ServedDrive, link: str, ready: Callable[[str], None]) -> None:
    """Serve as a node of the bus until SIGTERM or SIGINT; ``ready`` is told the link that others take."""
    import canopen
    from canopen.sdo.exceptions import SdoAbortedError

    entries = {(e.index, e.subindex or 0): e for e in drive.description.entries()}
    guard, client = threading.Lock(), object()
    ended: list[int] = []  # no event: a signal that comes within its wait would wait for the lock that this holds
    profile = Profile(drive, client)

    def on_read(index: int, subindex: int, od: Any) -> Any:
        if profile.has(index, subindex):
            with guard:
                return profile.read(index, subindex)
        entry = entries.get((index, subindex))
        if entry is None:
            return None
        with guard:
            raw = drive.read(entry)
        return raw if entry.type == "float32" else int(raw)

    def on_write(index: int, subindex: int, od: Any, data: bytes) -> None:
        if profile.has(index, subindex):
            if len(data) != profile.size(index, subindex):
                raise SdoAbortedError(_LENGTH)
            with guard:
                refused = profile.write(index, int.from_bytes(data, "little", signed=od.data_type in (0x02, 0x04)), subindex)
            if refused is not None:
                raise SdoAbortedError(_ABORTS[refused])
            return
        entry = entries.get((index, subindex))
        if entry is None:
            raise SdoAbortedError(_NO_OBJECT)
        if len(data) != 2 * entry.width:
            raise SdoAbortedError(_LENGTH)
        raw = from_bytes(entry, data[::-1])
        with guard:
            denied = drive.deny(entry, raw, client)
            if denied is None:
                drive.write(entry, raw, client)
        if denied is not None:
            raise SdoAbortedError(_ABORTS[denied])

    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda told, _: ended.append(told))
    with _network(link) as network:
        node: Any = canopen.LocalNode(drive.description.unit_id, dictionary_of_node(drive))
        network.add_node(node)
        node.add_read_callback(on_read)
        node.add_write_callback(on_write)
        node.nmt.state = "OPERATIONAL"
        node.nmt.start_heartbeat(500)
        data = ProcessData(node, profile, guard)
        ready(link)
        last = time.monotonic()
        while not ended:
            time.sleep(_TICK_S)
            now = time.monotonic()
            with guard:
                drive.tick(now - last)
                fell = profile.follow()
                data.pass_time(now - last)
            if fell:
                node.emcy.send(fell, 1)
            last = now
        node.nmt.stop_heartbeat()


class CanLink:
    """An open line to a node. Raises Refusal beginning with ``--link`` where nothing answers."""

    def __init__(self, node: Any, description: Description) -> None:
        self._node, self.description, self.count = node, description, Count()

    def read(self, entries: Sequence[Entry]) -> dict[str, float]:
        """Return the physical values of entries by name; nothing for what the node refuses."""
        found = {}
        for entry in entries:
            with contextlib.suppress(DeniedError):
                data = self._checked(lambda e=entry: self._node.sdo.upload(e.index, e.subindex or 0))  # type: ignore[misc]
                if len(data) != 2 * entry.width:
                    raise Refusal(f"{entry.name} came as {len(data)} bytes instead of {2 * entry.width}", LOOK, where="--link")
                found[entry.name] = physical(entry, from_bytes(entry, data[::-1]))
        return found

    def write(self, entry: Entry, raw: float) -> None:
        """Write a raw number; raises DeniedError where the node refuses."""
        self._checked(lambda: self._node.sdo.download(entry.index, entry.subindex or 0, to_bytes(entry, raw)[::-1]))

    def _checked(self, ask: Callable[[], Any]) -> Any:
        import can
        from canopen.sdo.exceptions import SdoAbortedError, SdoCommunicationError

        self.count.asked += 1
        try:
            return ask()
        except SdoAbortedError as aborted:
            raise DeniedError(aborted.code, _WORDS.get(aborted.code)) from None
        except (SdoCommunicationError, can.CanError, OSError):
            raise Refusal(f"nothing sensible answers as node {self.description.unit_id}", LOOK, where="--link") from None


@contextlib.contextmanager
def open_can(link: str, description: Description) -> Iterator[CanLink]:
    """Give an open line to a node and close it at the end."""
    import canopen

    with _network(link) as network:
        node: Any = canopen.RemoteNode(description.unit_id, dictionary(description))
        network.add_node(node)
        node.sdo.RESPONSE_TIMEOUT = _WAIT_S
        yield CanLink(node, description)
