"""The digital inputs of the simulated drive, as a bench assigns them: switches that somebody sets, and what they make of arming and of a speed."""

from __future__ import annotations

from collections.abc import Sequence

from crisp_compass.bench.settings.terminals import DigitalInput, Function
from crisp_compass.drive.description import Entry

#: Functions that let nothing run while they are given.
_HOLDS: frozenset[Function] = frozenset(("safety", "stop", "inhibit"))


class Inputs:
    """Levels as a word, bit by bit in the order of the bench; at first nothing holds the drive."""

    def __init__(self, assigned: Sequence[DigitalInput]) -> None:
        self._assigned = tuple(assigned)
        self.word = sum(1 << n for n, i in enumerate(assigned) if (i.active == "high") == (i.function == "enable"))

    @property
    def bits(self) -> dict[str, str]:
        """Terminals by the number of their bit."""
        return {str(n): i.terminal for n, i in enumerate(self._assigned)}

    def entries(self) -> tuple[Entry, Entry] | None:
        """Return the command that sets the switches and the telemetry that tells the levels; None without inputs. They have no address yet."""
        if not self._assigned:
            return None
        most = float((1 << len(self._assigned)) - 1)
        switches = Entry(name="inputs", type="uint16", table="holding", access="rw", min=0.0, max=most, bits=self.bits, text="levels of the inputs, as switches on the bench would set them")
        levels = Entry(name="inputs", type="uint16", table="input", access="r", bits=self.bits, text="levels of the inputs")
        return switches, levels

    def _given(self) -> set[Function]:
        return {i.function for n, i in enumerate(self._assigned) if bool(self.word >> n & 1) == (i.active == "high")}

    @property
    def hold(self) -> bool:
        """Whether they let nothing run."""
        given = self._given()
        return bool(given & _HOLDS) or ("enable" not in given and any(i.function == "enable" for i in self._assigned))

    def with_function(self, function: Function, *, given: bool) -> int:
        """Return the word with the levels of a function given or not."""
        word = self.word
        for n, i in enumerate(self._assigned):
            if i.function == function:
                word = word | 1 << n if given == (i.active == "high") else word & ~(1 << n)
        return word

    def bars(self, way: float) -> bool:
        """Tell whether a limit switch lies in the ``way`` (±1) of a move."""
        given = self._given()
        return (way > 0 and "limit_forwards" in given) or (way < 0 and "limit_backwards" in given)

    def allowed(self, speed: float) -> float:
        """Return the speed that is left of one that is asked for: turned round by direction, none into a limit."""
        given = self._given()
        wanted = -speed if "direction" in given else speed
        into = (wanted > 0 and "limit_forwards" in given) or (wanted < 0 and "limit_backwards" in given)
        return 0.0 if into else wanted
