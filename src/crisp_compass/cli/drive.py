"""``drive``: the simulated drive on a wire, and any drive whose owner describes it: read, write, compare, record."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from crisp_compass.cli.bench import BenchFile
from crisp_compass.cli.identify import Force, Json
from crisp_compass.cli.output import command, emit, new_file
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding

drive = typer.Typer(help="A drive on a wire: serve the simulated one; read, write, compare and record any that is described.", no_args_is_help=True)

ToLink = Annotated[str, typer.Option("--link", help="tcp:HOST:PORT, pty:DEVICE, serial:DEVICE or can:CHANNEL.")]
Described = Annotated[str, typer.Option("--description", metavar="D.json", help="What the drive is: its registers by name.")]


@drive.command("serve")
@command
def serve(
    bench: BenchFile,
    link: Annotated[str, typer.Option("--link", help="tcp:HOST:PORT (port 0: any that is free), pty or can:CHANNEL.")],
    description: Annotated[str, typer.Option("--description", metavar="OUT.json", help="Where the description of this drive is written.")],
    lost: Annotated[float, typer.Option(min=0.0, max=0.9, help="Share of answers that never come, to try a client on a bad line.")] = 0.0,
    broken: Annotated[float, typer.Option(min=0.0, max=0.9, help="Share of serial answers with a wrong bit.")] = 0.0,
    latency: Annotated[float, typer.Option(min=0.0, max=2.0, help="Seconds that each answer takes.")] = 0.0,
    seed: Annotated[int, typer.Option(help="The same seed spoils the same answers.")] = 1,
    tune_skips: Annotated[bool, typer.Option("--tune-skips", help="Its auto-tune ends without having run, and does not say so.")] = False,
    eds: Annotated[str | None, typer.Option("--eds", metavar="OUT.eds", help="On a CAN bus: where the node's electronic data sheet is written.")] = None,
    force: Force = False,
    until_stdin_closes: Annotated[bool, typer.Option("--until-stdin-closes", help="End, too, when standard input does: with the program that started it.")] = False,
) -> None:
    """Put the simulated drive of a bench behind Modbus or CANopen until it is ended."""
    import asyncio

    from crisp_compass.bench import load_bench
    from crisp_compass.drive.description import save_description
    from crisp_compass.drive.modbus_server import Line, serve_pty, serve_tcp
    from crisp_compass.drive.served import ServedDrive

    kind = link.partition(":")[0]
    if kind not in ("tcp", "can") and link != "pty":
        raise Refusal(f"“{link[:80]}” is no link to listen at", "write tcp:HOST:PORT, pty or can:CHANNEL", where="--link")
    bad = Line(lost, broken, latency, seed)
    if kind == "can" and bad != Line(seed=seed):
        raise Refusal("a bad line is simulated for tcp and pty", "leave --lost, --broken and --latency out", where="--link")
    target = new_file(description, bench, force=force)
    if eds is not None and kind != "can":
        raise Refusal("only a node of a CAN bus has an electronic data sheet", "leave it out, or listen at can:CHANNEL", where="--eds")
    sheet = new_file(eds, bench, force=force) if eds is not None else None
    loaded = load_bench(bench)
    try:
        served = ServedDrive(loaded, protocol={"tcp": "modbus-tcp", "pty": "modbus-rtu", "can": "canopen"}[kind], tune_skips=tune_skips)
    except Refusal as refusal:
        raise refusal.at(bench) from None

    if until_stdin_closes:
        import os
        import signal
        import threading

        def watch() -> None:
            while os.read(0, 4096):  # not by sys.stdin, whose lock a thread that waits would hold at the interpreter's end
                pass
            os.kill(os.getpid(), signal.SIGTERM)

        threading.Thread(target=watch, daemon=True).start()

    def ready(where: str) -> None:
        save_description(target, served.description)
        print(where, flush=True)

    if kind == "can":
        from crisp_compass.drive.can_bus import dictionary_of_node, serve_can
        from crisp_compass.drive.importing import export_eds

        if sheet is not None:
            export_eds(dictionary_of_node(served), sheet, served.description.name)
        serve_can(served, link, ready)
    elif kind == "tcp":
        asyncio.run(serve_tcp(served, link, ready, bad))
    else:
        asyncio.run(serve_pty(served, ready, bad))


@drive.command("describe")
@command
def describe(
    file: Annotated[str, typer.Argument(metavar="FILE", help="An electronic data sheet (.eds, .dcf), or a table of registers (.csv).")],
    output: Annotated[str, typer.Option("-o", "--output", metavar="D.json", help="The description.")],
    protocol: Annotated[str, typer.Option(help="Of a table: modbus tcp, modbus rtu or canopen.")] = "modbus tcp",
    unit_id: Annotated[int, typer.Option("--unit-id", min=0, max=247, help="Modbus unit or CANopen node.")] = 1,
    force: Force = False,
    json: Json = False,
) -> None:
    """Make a description of a drive from its electronic data sheet or from a table of its registers."""
    from pathlib import Path

    from crisp_compass.drive.description import save_description
    from crisp_compass.drive.importing import import_description

    target = new_file(output, file, force=force)
    made, findings = import_description(Path(file), protocol=protocol, unit_id=unit_id)
    save_description(target, made)
    keys = {lot: len(getattr(made, lot)) for lot in ("parameters", "commands", "telemetry", "faults")}
    emit("drive describe", json, findings=findings, keys={**keys, "output": output}, text=[f"{n} {lot}" for lot, n in keys.items() if n])


@drive.command("find")
@command
def find(
    link: Annotated[str | None, typer.Option("--link", help="serial:DEVICE or pty:DEVICE; left out: the ports of this machine.")] = None,
    units: Annotated[str, typer.Option(metavar="FIRST-LAST", help="Addresses that are asked, one after the other.")] = "1-16",
    baud: Annotated[int | None, typer.Option(min=300, max=12_000_000, help="Asked first at this rate.")] = None,
    json: Json = False,
) -> None:
    """Find framing and address of a drive on a serial line by asking; one register is read, nothing is written."""
    from crisp_compass.drive.line_search import Framing, can_interfaces, search, serial_ports

    if link is None:
        ports = [*serial_ports(), *can_interfaces()]
        text = [f"{p.link}  {p.text}" for p in ports] or ["No serial port and no CAN interface is there."]
        emit("drive find", json, findings=[], keys={"ports": [{"link": p.link, "text": p.text} for p in ports]}, text=text)
        return
    kind, _, device = link.partition(":")
    if kind not in ("serial", "pty") or not device:
        raise Refusal(f"“{link[:80]}” is no serial line", "write serial:DEVICE", where="--link")
    first, _, last = units.partition("-")
    if not first.isdigit() or not (last or first).isdigit() or not 1 <= int(first) <= int(last or first) <= 247:
        raise Refusal(f"“{units[:30]}” are no addresses", "write FIRST-LAST between 1 and 247", where="--units")
    found = search(device, range(int(first), int(last or first) + 1), Framing(baud) if baud else None)
    findings = [Finding("caution", "unasked", "Somebody sends on this line who was not asked: let one master ask.")] if found.unasked else []
    keys = {"unit_id": found.unit, "baud": found.framing.baud, "parity": found.framing.parity, "stop_bits": found.framing.stop_bits, "value": found.value}
    emit("drive find", json, findings=findings, keys=keys, text=[f"unit {found.unit} answers at {found.framing.text}"])


@drive.command("read")
@command
def read(
    link: ToLink,
    description: Described,
    names: Annotated[list[str] | None, typer.Argument(metavar="[NAME]...", help="Values to read; all that can be read if left out.")] = None,
    json: Json = False,
) -> None:
    """Read values of a drive."""
    from crisp_compass.drive.description import load_description
    from crisp_compass.drive.link import open_link

    described = load_description(description)
    entries = [_known(described.to_read(n), n) for n in names] if names else described.readable()
    for entry in entries:
        if not entry.readable:
            raise Refusal("it can only be written", "name another value", where=entry.name)
    with open_link(link, described) as line:
        found = line.read(entries)
    findings = [
        Finding("caution", "read-refused", f"The drive does not let {e.name} be read.") for e in entries if e.name not in found
    ]  # fmt: skip
    values: dict[str, Any] = {e.name: {"value": found[e.name], "unit": e.unit} for e in entries if e.name in found}
    text = []
    for entry in entries:
        if entry.name in found:
            bits = ", ".join(name for bit, name in (entry.bits or {}).items() if int(found[entry.name] / entry.scale) >> int(bit) & 1)
            text.append(f"{entry.name:24}{found[entry.name]:.9g} {entry.unit}{f' ({bits})' if bits else ''}".rstrip())
    emit("drive read", json, findings=findings, keys={"values": values}, text=text)


@drive.command("write")
@command
def write(
    settings: Annotated[list[str], typer.Argument(metavar="NAME=VALUE...", help="Values in the description's units.")],
    link: ToLink,
    description: Described,
    json: Json = False,
) -> None:
    """Write values to a drive and read them back."""
    from crisp_compass.drive.description import load_description
    from crisp_compass.drive.link import open_link
    from crisp_compass.drive.writing import write_and_check

    described = load_description(description)
    asked = [_asked(described, text) for text in settings]
    with open_link(link, described) as line:
        became = [write_and_check(line, described, entry, value) for entry, value in asked]
    findings = [f for w in became for f in w.findings()]
    written: dict[str, Any] = {
        w.entry.name: {"asked": w.asked, "value": w.value, "unit": w.entry.unit, "rounded": w.rounded} for w in became if not w.refused
    }  # fmt: skip
    text_lines = [f"{name:24}{w['value']:.9g} {w['unit']}".rstrip() for name, w in written.items()]
    emit("drive write", json, findings=findings, keys={"written": written}, text=text_lines)


@drive.command("compare")
@command
def compare(bench: BenchFile, link: ToLink, description: Described, json: Json = False) -> None:
    """Hold the values of a drive against those that a bench has settled."""
    from crisp_compass.bench import load_bench
    from crisp_compass.drive.compare import compare_with
    from crisp_compass.drive.description import load_description
    from crisp_compass.drive.link import open_link

    described, loaded = load_description(description), load_bench(bench)
    entries = [e for e in described.entries() if e.bench and e.readable]
    if not entries:
        raise Refusal("no value of it names a settled value", "say which one it holds in “bench”, as topic.name", where=description)
    with open_link(link, described) as line:
        found = line.read(entries)
    compared = compare_with(loaded, entries, found)
    keys = {
        "compared": {c.name: {"bench": c.key, "settled": c.settled, "drive": c.held, "unit": c.unit, "differs": c.differs} for c in compared.rows}
    }  # fmt: skip
    text = [
        f"{c.name:24}drive {'–' if c.held is None else f'{c.held:.6g}'}   bench {'–' if c.settled is None else f'{c.settled:.6g}'} {c.unit}{'   DIFFERS' if c.differs else ''}".rstrip()
        for c in compared.rows
    ]  # fmt: skip
    emit("drive compare", json, findings=compared.findings, keys=keys, text=text)


@drive.command("record")
@command
def record(
    link: ToLink,
    description: Described,
    signals: Annotated[str, typer.Option(help="Telemetry to record, with commas: its names, or those of its signals.")],
    seconds: Annotated[float, typer.Option(min=0.01, max=3600, help="How long.")],
    output: Annotated[str, typer.Option("-o", "--output", metavar="FILE.csv", help="The capture.")],
    live: Annotated[bool, typer.Option("--live", help="From the drive's own stream, every row of it, where its description names one.")] = False,
    force: Force = False,
    json: Json = False,
) -> None:
    """Record telemetry of a drive as a capture."""
    from crisp_compass.drive.description import load_description
    from crisp_compass.drive.link import open_link
    from crisp_compass.drive.link import record as take
    from crisp_compass.drive.recording import as_capture, telemetry_of
    from crisp_compass.drive.stream import StreamLink
    from crisp_compass.files import write_atomically

    described = load_description(description)
    if live:
        stream = described.live_stream()
        if stream is None:
            raise Refusal("its description names no stream of its own (live)", "leave --live out", where=description)
        link, described = described.live.link if described.live is not None else link, stream
    entries = telemetry_of(described, signals)
    target = new_file(output, description, force=force)
    findings = []
    with open_link(link, described) as line:
        if isinstance(line, StreamLink):
            times, rows, missing = line.collect(entries, seconds)
            if missing:
                findings.append(Finding("caution", "frames-lost", f"{missing} frames of the stream were lost or broken."))
        else:
            times, rows = take(line, entries, seconds)
    write_atomically(target, as_capture(described, entries, times, rows))
    span = times[-1] - times[0]
    rate = (len(times) - 1) / span if span > 0 else 0.0
    keys = {"rows": len(times), "seconds": span, "rows_per_s": rate, "signals": [e.signal or e.name for e in entries]}
    emit("drive record", json, findings=findings, keys=keys, text=[f"{len(times)} rows in {span:.3f} s, {rate:.0f} a second"])


def _known(entry: Any, name: str) -> Any:
    if entry is None:
        raise Refusal("the description has no such value", "look at its names", where=name[:80])
    return entry


def _asked(described: Any, text: str) -> tuple[Any, float]:
    """Return entry and value of ``NAME=VALUE``; raises Refusal beginning with the name."""
    from crisp_compass.drive.description import limits, within

    name, equals, given = text.partition("=")
    if not equals or not name:
        raise Refusal("this is no NAME=VALUE", "write for instance ramp=500", where=text[:80] or "NAME=VALUE")
    entry = _known(described.to_write(name), name)
    if not entry.writable:
        raise Refusal("it can only be read", "name another value", where=name)
    try:
        value = float(given)
    except ValueError:
        raise Refusal(f"“{given[:40]}” is no number", f"write it in {entry.unit or 'plain numbers'}", where=name) from None
    if not within(entry, value):
        low, high = limits(entry)
        raise Refusal(f"{given[:40]} is outside {low:.6g} to {high:.6g} {entry.unit}".rstrip(), "nothing was sent", where=name)
    return entry, value


