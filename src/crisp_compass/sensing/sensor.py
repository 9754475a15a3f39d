"""What an angle sensor is to the rest of the program: nothing else asks which kind a bench has."""

from __future__ import annotations

from dataclasses import dataclass

#: What tells the plant's firmware angle or speed: counts, the sectors of halls, the armature's voltage, an estimator.
ENCODER, HALLS, ARMATURE, OBSERVER = 0, 1, 2, 3


@dataclass(frozen=True)
class Sensor:
    """One kind of sensor of angle or speed.

    Attributes
    ----------
    key
        What ``sensor.kind`` says for it.
    label, called
        As the plate's choice shows it, and as a sentence names it.
    leads
        Its leads on the wiring chart, each with the drive's terminal that it belongs on.
    kernel
        What tells the plant's firmware the angle with it.
    counted
        Whether ``sensor.counts_per_rev`` means something.
    steps
        Steps a turn for the plant where they are not the counted ones.
    edges
        Edges an electrical turn whose time is the speed; 0 where the speed is not told by edges.
    tells_angle
        Whether it tells the rotor's angle, so that a motor that needs it can be run.
    turned
        What to do after the motor's leads were turned on by one, so that the rotor's zero lies elsewhere; empty: nothing.
    mirrored
        What to do after two of the motor's leads were exchanged, so that the field turns the shaft backwards; empty: nothing.
    sequence, turn_round
        What of it can run the wrong way, and what turns it round; empty where it has no sense.
    proven_by
        Kinds of capture that prove how it sits.
    """

    key: str
    label: str
    called: str
    leads: tuple[tuple[str, str], ...] = ()
    kernel: int = ENCODER
    counted: bool = False
    steps: float | None = None
    edges: int = 0
    tells_angle: bool = True
    turned: str = ""
    mirrored: str = ""
    sequence: str = ""
    turn_round: str = ""
    proven_by: tuple[str, ...] = ()
