"""The drive's terminals: groups that drives commonly have, what their inputs make of the levels on them, and what a broken wire does.

What fails safe: a function that stops is given by the level of an open input, one that lets run by the other (common practice, as EN 60204-1 has it for stops).
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from crisp_compass.bench.models import Bench
from crisp_compass.bench.settings.terminals import Axis, DigitalInput, Function, Group, Terminal, TerminalSettings
from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding

#: Groups by key: what a person adds, the kind of its rows, terminals with what goes there.
GROUPS: dict[str, tuple[str, Group, tuple[tuple[str, str], ...]]] = {
    "mains_1": ("Mains, one phase", "mains", (("L", "mains, phase"), ("N", "mains, neutral"), ("PE", "protective earth"))),
    "mains_3": ("Mains, three phases", "mains", (("L1", "mains, phase 1"), ("L2", "mains, phase 2"), ("L3", "mains, phase 3"), ("PE", "protective earth"))),
    "logic": ("Logic supply", "logic", (("24V", "logic supply, +"), ("0V", "logic supply, −"))),
    "pair": ("Link, two wires", "link", (("A", "pair, A"), ("B", "pair, B"), ("COM", "common of the pair"))),
    "can": ("Link, CAN", "link", (("CANH", "bus, high"), ("CANL", "bus, low"), ("CANG", "common of the bus"))),
    "inputs": ("Digital inputs", "inputs", (("DI1", ""), ("DI2", ""), ("DI3", ""), ("DI4", ""), ("DCOM", "common of the inputs"))),
    "relay": ("Relay", "outputs", (("R-C", "relay, common"), ("R-NO", "relay, closes"), ("R-NC", "relay, opens"))),
    "reference": ("Reference voltage", "reference", (("REF", "reference out"), ("AI", "analogue input"), ("AG", "analogue ground"))),
    "generator": ("Generator on the shaft", "generator", (("TG+", "generator, +"), ("TG−", "generator, −"))),
}  # fmt: skip
#: Functions: what a person calls each, and whether it lets run (else it stops, or chooses).
FUNCTIONS: dict[Function, str] = {
    "enable": "enable", "inhibit": "inhibit", "stop": "stop", "safety": "safety input", "direction": "direction", "jog_forwards": "jog forwards", "jog_backwards": "jog backwards",
    "home": "home switch", "limit_forwards": "limit forwards", "limit_backwards": "limit backwards",
}  # fmt: skip
_HOLDS: tuple[Function, ...] = ("safety", "stop", "inhibit")
_STOPS: tuple[Function, ...] = (*_HOLDS, "limit_forwards", "limit_backwards")
_HELD = {"safety": "no torque, by the drive's own circuit", "stop": "stops, and stands", "inhibit": "off: the shaft coasts"}


@dataclass(frozen=True)
class TruthRow:
    """Levels of the inputs in their order (``high``, ``low``, empty: either), and what the shaft does."""

    levels: tuple[str, ...]
    does: str


def function_of(text: str) -> Function:
    """Return the function that a person typed; raises Refusal with what there is."""
    word = " ".join(text.strip().lower().replace("_", " ").split())
    found = next((k for k, name in FUNCTIONS.items() if word in (name, k.replace("_", " "))), None)
    if found is None:
        raise Refusal(f"“{text.strip()[:30]}” is no function of an input", f"it may be {', '.join(FUNCTIONS.values())}")
    return found


def with_group(settings: TerminalSettings, key: str) -> TerminalSettings:
    """Return the terminals with a group added; what stands already stays as it is. Raises Refusal where all of it is there."""
    title, group, rows = GROUPS[key]
    there = {r.terminal for r in settings.rows}
    new = tuple(Terminal(terminal=t, to=to, group=group) for t, to in rows if t not in there)
    if not new:
        raise Refusal(f"{title.lower()}: its terminals are there", "change them in the table")
    order = [*dict.fromkeys(g for _, g, _ in GROUPS.values()), "other"]
    return settings.model_copy(update={"rows": tuple(sorted((*settings.rows, *new), key=lambda r: order.index(r.group)))})


def with_input(settings: TerminalSettings, function: Function) -> TerminalSettings:
    """Return the terminals with a function on the next input that is free, by the level at which a broken wire does no harm."""
    taken = {i.terminal for i in settings.inputs}
    inputs = [r.terminal for r in settings.rows if r.group == "inputs" and "common" not in r.to]
    free = next((t for t in inputs if t not in taken), f"DI{len(settings.inputs) + 1}")
    active: Literal["high", "low"] = "low" if function in _STOPS else "high"
    return settings.model_copy(update={"inputs": (*settings.inputs, DigitalInput(terminal=free, function=function, active=active))})


def _level(given: bool, one: DigitalInput) -> str:
    return one.active if given else "low" if one.active == "high" else "high"


def truth_table(inputs: Sequence[DigitalInput]) -> list[TruthRow]:
    """Return what the inputs make of their levels, the strongest first: every state of them is in one row, which leaves empty what may be either; nothing without inputs."""
    if not inputs:
        return []
    by = {i.function: n for n, i in enumerate(inputs)}
    rows: list[TruthRow] = []

    def row(given: dict[Function, bool], does: str) -> None:
        levels = [""] * len(inputs)
        for function, on in given.items():
            if function in by:
                levels[by[function]] = _level(on, inputs[by[function]])
        rows.append(TruthRow(tuple(levels), does))

    free: dict[Function, bool] = {}
    for function in _HOLDS:
        if function in by:
            row({**free, function: True}, _HELD[function])
            free[function] = False
    if "enable" in by:
        row({**free, "enable": False}, "off: the shaft coasts")
        free["enable"] = True
    ways: tuple[tuple[Function, Function, Function, str], ...] = (
        ("jog_forwards", "jog_backwards", "limit_forwards", "forwards"), ("jog_backwards", "jog_forwards", "limit_backwards", "backwards"),
    )  # fmt: skip
    if "jog_forwards" in by and "jog_backwards" in by:
        row({**free, "jog_forwards": True, "jog_backwards": True}, "stands: two jogs at once")
    for jog, other, limit, way in ways:
        if jog in by:
            row({**free, jog: True, other: False, limit: False}, f"creeps {way}")
            if limit in by:
                row({**free, jog: True, other: False, limit: True}, f"stands: limit {way}")
    idle: dict[Function, bool] = {**free, "jog_forwards": False, "jog_backwards": False}
    if "direction" in by:
        for _, _, limit, way in ways:
            asked: dict[Function, bool] = {**idle, "direction": way == "backwards"}
            row({**asked, limit: False}, f"turns {way}")
            if limit in by:
                row({**asked, limit: True}, f"stands: limit {way}")
        return rows
    row({**idle, "limit_forwards": False, "limit_backwards": False}, "turns at the command")
    if "limit_forwards" in by:
        row({**idle, "limit_forwards": True, "limit_backwards": False}, "turns backwards only")
    if "limit_backwards" in by:
        row({**idle, "limit_backwards": True, "limit_forwards": False}, "turns forwards only")
    if "limit_forwards" in by and "limit_backwards" in by:
        row({**idle, "limit_forwards": True, "limit_backwards": True}, "stands: both limits are given")
    return rows


def broken_wire(one: DigitalInput) -> tuple[str, bool]:
    """Return what a broken wire of an input does, and whether that is safe: an open input reads low."""
    given = one.active == "low"
    if one.function == "enable":
        return ("it stays enabled", False) if given else ("it is no longer enabled", True)
    if one.function in _STOPS:
        return (f"{FUNCTIONS[one.function]} is given", True) if given else (f"{FUNCTIONS[one.function]} is never given", False)
    if one.function in ("jog_forwards", "jog_backwards"):
        return ("it creeps by itself", False) if given else ("it does not jog", True)
    return (f"{FUNCTIONS[one.function]} is given" if given else f"{FUNCTIONS[one.function]} is never given"), True


def findings_of(bench: Bench) -> list[Finding]:
    """Return what a person must know of the terminals before anything is switched on."""
    s, found = bench.settings.terminals, []
    groups = {r.group for r in s.rows}
    names = {r.terminal for r in s.rows}
    if "mains" in groups:
        found.append(Finding("caution", "mains", "Mains wiring is work for qualified people by local code. The bus keeps its charge after switching off: wait as long as the maker says, and measure before touching."))
        if "PE" not in names:
            found.append(Finding("caution", "no-earth", "There is mains and no protective earth among the terminals: add PE."))
    unsafe = [f"{i.terminal}: {broken_wire(i)[0]}" for i in s.inputs if not broken_wire(i)[1]]
    if unsafe:
        found.append(Finding("caution", "broken-wire", f"A broken wire goes unseen. {'; '.join(unsafe)}. Give it by the other level."))
    if s.inputs and not {"enable", "inhibit", "stop", "safety"} & {i.function for i in s.inputs}:
        found.append(Finding("caution", "nothing-stops", "None of the inputs stops the drive: assign enable or stop."))
    if any(i.function == "safety" for i in s.inputs):
        found.append(Finding("caution", "safety", "What the safety input is good for says the drive's certificate and your risk assessment, by local rules; this table does not."))
    found += [Finding("caution", "twice", text) for text in _twice(s)]
    found += [Finding("caution", "chain", text) for text in _chain(s.axes)]
    return found


def _twice(s: TerminalSettings) -> list[str]:
    texts = [f"The terminal {t} stands {n} times in the chart." for t, n in Counter(r.terminal for r in s.rows).items() if n > 1]
    texts += [f"{t} has {n} functions: the drive takes one." for t, n in Counter(i.terminal for i in s.inputs).items() if n > 1]
    return texts + [f"{FUNCTIONS[f]} is on {n} inputs." for f, n in Counter(i.function for i in s.inputs).items() if n > 1]


def _chain(axes: Sequence[Axis]) -> list[str]:
    """Return what is wrong with a chain: each address once, and the termination at its ends alone (TIA-485-A, ISO 11898-2)."""
    texts = [f"The address {a} stands {n} times on the link: two drives would answer at once." for a, n in Counter(x.address for x in axes).items() if n > 1]
    inner = [x.name or str(x.address) for x in axes[1:-1] if x.terminated]
    if inner:
        texts.append(f"{', '.join(inner)} is terminated in the middle of the chain: only its two ends are.")
    if len(axes) > 1 and not axes[-1].terminated:
        texts.append(f"The last drive of the chain, {axes[-1].name or axes[-1].address}, is not terminated.")
    return texts
