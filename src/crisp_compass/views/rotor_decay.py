"""The open stator's voltage after cut-off, with the decay of the rotor's flux."""

from __future__ import annotations

from crisp_compass.bench.models import Bench
from crisp_compass.bench.records import Evidence
from crisp_compass.bench.rules import settled_value
from crisp_compass.capture import Capture
from crisp_compass.identify.decay import DecayResult
from crisp_compass.quantities import show, show_with_error
from crisp_compass.views.picture import Curve, DialView, Pane, Said, View

_HINT = "Run the motor free, switch it off and capture one to three line voltages while the rotor still turns. The terminals keep their voltage for several rotor time constants: do not touch them."
_DIAL = DialView(
    caption="No current flows: the flux of the rotor fades as it turns", rotor=40.0, voltage=(130.0, 0.6)
)


def said(bench: Bench, evidence: Evidence | None, _: object) -> Said:
    """Return the rotor time constant with its bar, beside what the tests say."""
    if evidence is None:
        return Said("No capture yet", "", _HINT, dial=_DIAL)
    found = evidence.estimates["rotor_time_constant"]
    half = (found.interval95[1] - found.interval95[0]) / 2 if found.interval95 else 0.0
    shown, doubt = show_with_error(found.value, half, "s")
    other = settled_value(bench, "circuit.rotor_time_constant")
    beside = ""
    if other is not None and other.value > 0:
        share = 100 * (found.value / other.value - 1)
        beside = f"The tests say {show(other.value, 's')}: {abs(share):.2g} % {'less' if share > 0 else 'more'}. "
    return Said(
        f"Tr {shown}", f"{doubt}, 95 %, rotor time constant", f"{beside}{evidence.method[:1].upper()}{evidence.method[1:]}.", dial=_DIAL
    )  # fmt: skip


def panes(capture: Capture, result: DecayResult) -> tuple[Pane, ...]:
    """Return the voltage with its fit, and the residual."""
    name, x = result.channels[0], ("time after cut-off", "s")
    measured = Curve("measured", "measured", result.time, result.voltage[:, 0], dense=True, wide=True)
    fit = Curve("fit", "fit", result.time, result.model[:, 0], dense=True)
    left = Curve("residual", "measured", result.time, result.residual[:, 0], dense=True)
    return (
        Pane("decay", x, (f"voltage {name}", "V"), (measured, fit), printed=True),
        Pane("residual", x, ("residual", "V"), (left,), zero=True, printed=True),
    )


VIEW = View(said, panes)
