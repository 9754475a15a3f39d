"""The wiring chart: leads, colours, pins, terminals; what swapping two of them does.

Colour codes after IEC 60757 (letters from memory).
"""

from __future__ import annotations

from dataclasses import dataclass

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Lead, LedgerEntry
from crisp_compass.errors import Refusal
from crisp_compass.motor import all_leads, family_of, three_phases
from crisp_compass.sensing import SENSORS

#: Code → (name, sRGB); green-yellow carries two colours.
COLOURS: dict[str, tuple[str, str]] = {
    "BK": ("black", "#1C1C1C"), "BN": ("brown", "#6B3F1D"), "RD": ("red", "#C0272D"), "OG": ("orange", "#E07B1A"),
    "YE": ("yellow", "#E8C81E"), "GN": ("green", "#2E8B3D"), "BU": ("blue", "#1F5FBF"), "VT": ("violet", "#7A3FA0"),
    "GY": ("grey", "#8C8C8C"), "WH": ("white", "#F4F4F0"), "PK": ("pink", "#E79AB5"), "TQ": ("turquoise", "#2BA9A4"),
    "GNYE": ("green-yellow", "#2E8B3D"),
}  # fmt: skip
_NAMES = {name: code for code, (name, _) in COLOURS.items()} | {"gray": "GY", "purple": "VT", "green/yellow": "GNYE"}
MOTOR = ("U", "V", "W")
HALLS = ("H1", "H2", "H3")


def colour_code(text: str) -> str:
    """Return the code of a colour typed as code or name; raises Refusal for an unknown one, empty stays empty."""
    word = text.strip()
    if not word:
        return ""
    if word.upper().replace("-", "").replace("/", "") in COLOURS:
        return word.upper().replace("-", "").replace("/", "")
    if word.lower() in _NAMES:
        return _NAMES[word.lower()]
    raise Refusal(f"“{word}” is no wire colour known here", f"use one of {', '.join(n for n, _ in COLOURS.values())}")


def default_leads(bench: Bench) -> tuple[Lead, ...]:
    """Return the leads that this motor and sensor have, to be filled in."""
    motor = family_of(bench).leads
    sensor = SENSORS[bench.settings.sensor.kind].leads
    return tuple(Lead(name=n, terminal=t) for n, t in [*motor, ("PE", "PE"), *sensor])


def leads_of(bench: Bench) -> tuple[Lead, ...]:
    """Return the chart as kept, of the leads that this motor and sensor have: those of another sensor are left out."""
    kept, own = {lead.name: lead for lead in bench.leads}, default_leads(bench)
    others = {name for sensor in SENSORS.values() for name, _ in sensor.leads} | all_leads()
    further = (lead for lead in bench.leads if lead.name not in others | {lead.name for lead in own})
    return (*(kept.get(lead.name, lead) for lead in own), *further)


def _with(bench: Bench, leads: list[Lead]) -> tuple[Lead, ...]:
    """Return a changed chart with what is written of another sensor's leads: it is not shown, and not lost."""
    shown = {lead.name for lead in leads}
    return (*leads, *(lead for lead in bench.leads if lead.name not in shown))


def set_lead(bench: Bench, index: int, **fields: str) -> Bench:
    """Return the bench with one lead's text changed; a colour is checked."""
    leads = list(leads_of(bench))
    if "colour" in fields:
        fields["colour"] = colour_code(fields["colour"])
    leads[index] = leads[index].model_copy(update={k: v.strip() for k, v in fields.items()})
    return bench.model_copy(update={"leads": _with(bench, leads)})


def swap_leads(bench: Bench, first: int, second: int, when: str) -> Bench:
    """Return the bench with two leads' terminals exchanged and a ledger line."""
    leads = list(leads_of(bench))
    if first == second:
        raise Refusal("two different leads are needed", "mark two rows of the chart")
    a, b = leads[first], leads[second]
    leads[first] = a.model_copy(update={"terminal": b.terminal})
    leads[second] = b.model_copy(update={"terminal": a.terminal})
    line = LedgerEntry(when=when, kind="wiring", text=f"leads {a.name} and {b.name} exchanged, power off")
    return bench.model_copy(update={"leads": _with(bench, leads), "ledger": (*bench.ledger, line)})


@dataclass(frozen=True)
class Consequence:
    """What the chart means: direction of the field (+1, −1, 0 unknown), turn of the phases in °, and sentences."""

    direction: int
    shift_deg: int
    texts: tuple[str, ...]


def consequence(bench: Bench) -> Consequence:
    """Compare the chart with U, V, W on A, B, C (windings of their own: each end on its terminal) and the sensor's leads on their
    own inputs."""
    leads = leads_of(bench)
    if not three_phases(bench):
        return _of_windings(bench, leads)
    phases = _order(leads, MOTOR, ("A", "B", "C"))
    texts = []
    if phases is None:
        return Consequence(
            0, 0, ("The chart does not put U, V and W on A, B and C once each: name the drive's terminals A, B, C.",)
        )
    parity = _parity(phases)
    shift = 120 * phases[0] if parity > 0 else 0
    sensor = SENSORS[bench.settings.sensor.kind]
    if phases == (0, 1, 2):
        texts.append("U, V, W lie on A, B, C: the field A → B → C turns the shaft the motor's positive way.")
    elif parity > 0:
        texts.append(
            f"The three leads are turned on by one: same direction, but the rotor's zero lies {shift}° of electrical angle away."
        )
        texts += _said(sensor.turned)
    else:
        texts.append("Two phases are exchanged: the field A → B → C turns the shaft backwards.")
        texts += _said(sensor.mirrored)
    halls = _order(leads, HALLS, ("hall_1", "hall_2", "hall_3")) if sensor.edges else None
    if halls is not None and halls != (0, 1, 2):
        if _parity(halls) > 0:
            texts.append("The hall leads are turned on by one: the table moves by 120°.")
        else:
            texts.append("Two hall leads are exchanged: the sequence of codes is reversed.")
        if _parity(halls) < 0 and parity < 0:
            texts.append(
                "With two phases and two halls exchanged, field and sensor agree again and the shaft turns backwards."
            )
    return Consequence(parity, shift, tuple(texts))


def _said(text: str) -> tuple[str, ...]:
    return (text,) if text else ()


def _of_windings(bench: Bench, leads: tuple[Lead, ...]) -> Consequence:
    """Say what exchanged and turned-over windings do.

    With the currents I·cos θ and I·sin θ in A and B, turning one winding over or exchanging both mirrors the field: the shaft turns
    backwards; two of these together turn it by 90° or 180° instead.
    """
    names, sensor = [name for name, _ in family_of(bench).leads], SENSORS[bench.settings.sensor.kind]
    places = {lead.name: lead.terminal.strip().upper().replace("-", "−") for lead in leads}
    found = [places.get(n, "") for n in names]
    if sorted(found) != sorted(names):
        return Consequence(
            0, 0, (f"The chart does not put {', '.join(names)} on the terminals {', '.join(names)} once each.",)
        )
    pairs = [found[k : k + 2] for k in range(0, len(found), 2)]
    if any(a[0] != b[0] for a, b in pairs):
        text = "One end of A and one of B share a bridge: no winding is between its two legs. Find the pairs with the ohmmeter first."
        return Consequence(0, 0, (text,))
    over = [a.endswith("−") for a, _ in pairs]
    if len(pairs) == 1:
        back = over[0]
        text = (
            "M+ and M− are exchanged: the shaft turns backwards."
            if back
            else "M+ and M− lie as named: a positive voltage turns the shaft forwards."
        )
        return Consequence(-1 if back else 1, 0, (text, *(_said(sensor.mirrored) if back else ())))
    exchanged = pairs[0][0][0] == "B"
    mirrored = (over[0] != over[1]) != exchanged
    what = [
        t
        for t, said in (
            (("A and B are exchanged"), exchanged),
            ("A is turned over", over[0]),
            ("B is turned over", over[1]),
        )
        if said
    ]
    if not what:
        return Consequence(1, 0, ("A and B lie as named: the field A → B turns the shaft the motor's positive way.",))
    begin = f"{', '.join(what)}: "
    if mirrored:
        return Consequence(
            -1,
            0,
            (f"{begin}the shaft turns backwards.", *_said(sensor.mirrored)),
        )
    shift = 180 if over[0] and over[1] and not exchanged else 90
    return Consequence(
        1,
        shift,
        (
            f"{begin}same direction, the rotor's zero lies {shift}° of electrical angle away.",
            *_said(sensor.turned),
        ),
    )


def _order(leads: tuple[Lead, ...], names: tuple[str, ...], terminals: tuple[str, ...]) -> tuple[int, ...] | None:
    places = {lead.name: lead.terminal.strip().lower() for lead in leads}
    known = [t.lower() for t in terminals]
    found = [known.index(places[n]) if places.get(n) in known else -1 for n in names]
    return tuple(found) if sorted(found) == [0, 1, 2] else None


def _parity(order: tuple[int, ...]) -> int:
    inversions = sum(order[i] > order[j] for i in range(3) for j in range(i + 1, 3))
    return 1 if inversions % 2 == 0 else -1
