"""Direction and sign at low speed: which of phase order and encoder sense is wrong, and what mends it.

The field is turned slowly in the drive's positive sense (angle forced, current held). Seen from the drive, exchanging
two motor leads mirrors the machine; so the shaft's way shows the phase order, and the encoder's count against the field
shows whether both agree. Where they disagree a closed loop pulls the rotor to where the torque is nought and holds it
there, or runs away (common practice: check commanded, estimated and really measured speed and sign first).
"""

from __future__ import annotations

from dataclasses import dataclass

from crisp_compass.errors import Refusal
from crisp_compass.sensing import SENSORS


@dataclass(frozen=True)
class Directions:
    """Verdict on one slow turn with a forced field.

    ``phases`` and ``encoder`` True where right, ``closes`` whether a closed loop works as it stands, ``current`` False
    where the observer disagrees with the field (the current channels belong to other phases). ``lead_fixes`` the ways to put
    it right, the shortest first.
    """

    phases: bool
    encoder: bool
    closes: bool
    current: bool
    what: str
    lead_fixes: tuple[str, ...]


def judge_directions(
    commanded: float, seen: float, measured: float, observed: float | None = None, sensor: str = "incremental"
) -> Directions:
    """Judge the signs of a slow turn.

    Parameters
    ----------
    commanded
        Speed asked for, positive in the wanted sense (any unit; only signs count).
    seen
        The shaft's real speed as an eye or a tachometer sees it, positive in the wanted sense.
    measured
        The speed that the drive's sensor shows.
    observed
        The speed that the drive's observer estimates, where it has one.
    sensor
        Its kind: what is measured with, for the words.

    Raises
    ------
    Refusal
        A speed of nought: the shaft must turn.
    """
    for name, value in (("commanded", commanded), ("seen", seen), ("measured", measured)):
        if value == 0:
            raise Refusal(
                f"the {name} speed is zero", "turn the field slowly, with current enough to take the shaft along"
            )
    way = 1 if commanded > 0 else -1
    phases, agrees = seen * way > 0, measured * way > 0
    # the encoder as mounted counts right if it shows the shaft's real sense
    encoder = (measured > 0) == (seen > 0)
    current = observed is None or observed == 0 or observed * way > 0
    what, lead_fixes = _VERDICTS[phases, agrees]
    name, fix = SENSORS[sensor].sequence, SENSORS[sensor].turn_round
    return Directions(
        phases, encoder, agrees, current, what=what.format(sensor=name), lead_fixes=tuple(m.format(fix=fix) for m in lead_fixes)
    )


_SWAP = "exchange two motor leads (power off, link discharged)"
_VERDICTS: dict[tuple[bool, bool], tuple[str, tuple[str, ...]]] = {
    (True, True): ("Phase order and {sensor} are right: the loop can be closed.", ()),
    (True, False): (
        "The phases are right, the {sensor} runs the wrong way: a closed loop would lock the rotor or run away.",
        ("{fix}",),
    ),
    (False, False): (
        "The shaft turns the wrong way and the {sensor} shows it rightly: the phase order is wrong, and a closed loop would lock the rotor or run away.",
        (f"{_SWAP}: one change mends both",),
    ),
    (False, True): (
        "The loop can be closed, but the shaft turns backwards: phase order and {sensor} are both reversed.",
        ("invert the direction in the drive, for command and display alike", f"{_SWAP} and {{fix}}"),
    ),
}  # fmt: skip

#: The four combinations of where shaft and encoder went, and what each means, for a table.
COMBINATIONS: tuple[tuple[str, str], ...] = (
    ("forward, forward", "both right: close the loop"),
    ("forward, reverse", "sensor runs the wrong way: exchange A and B (encoder) or two wires (halls)"),
    ("reverse, reverse", "phase order wrong: exchange two motor leads, which corrects both"),
    ("reverse, forward", "both reversed: it would run backwards"),
)
