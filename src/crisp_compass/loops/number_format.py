"""A PI controller in the firmware's own numbers, and back: float, per unit, discrete, series, Q-format integers with shifts.

Physical form (the only one the rest knows): u = Kp·e + Ki·∫e in V/A and V/(A·s), sampled as I[k] = I[k−1] + Ki·Ts·e[k].
Full scale: the largest integer of a word, 2^(bits−1), stands for ``i_base`` amperes or ``v_base`` volts.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from crisp_compass.errors import Refusal
from crisp_compass.estimates import Finding
from crisp_compass.loops.current import AxisLoop, axis_loop


@dataclass(frozen=True)
class Scales:
    """What full scale means: ``i_base`` [A] of what goes into the controller, ``v_base`` [V] of what comes out, word length ``bits``, sampling ``loop_hz`` [Hz]; of a speed loop
    rad/s and A, and ``names`` what the two are called."""

    i_base: float
    v_base: float
    loop_hz: float
    bits: int = 16
    names: tuple[str, str] = ("current", "voltage")

    @property
    def full(self) -> int:
        """Counts of full scale, 2^(bits−1)."""
        return 1 << (self.bits - 1)


@dataclass(frozen=True)
class QGain:
    """A gain as integer and right shift: value · 2^shift; ``error`` relative, of the rounding."""

    integer: int
    shift: int
    error: float

    @property
    def value(self) -> float:
        """The gain that the integer stands for, counts out per count in."""
        return float(self.integer) / 2.0**self.shift


@dataclass(frozen=True)
class Forms:
    """One controller in every form.

    ``kp``/``ki`` V/A, V/(A·s); ``ki_ts`` V/A per sample; ``ti`` [s] of the series form Kp·(1 + 1/(Ti·s)); ``b0``, ``b1`` of the
    incremental form u[k] = u[k−1] + b0·e[k] + b1·e[k−1]; ``kp_pu``, ``ki_ts_pu`` per unit; ``kp_q``, ``ki_q`` integers;
    ``least_error`` [A] the smallest error that moves the output by the proportional part; findings of rounding and overflow.
    """

    kp: float
    ki: float
    ki_ts: float
    ti: float
    b0: float
    b1: float
    kp_pu: float
    ki_ts_pu: float
    kp_q: QGain
    ki_q: QGain
    least_error: float
    findings: tuple[Finding, ...]


def quantise(gain: float, bits: int, names: tuple[str, str] = ("current", "voltage")) -> QGain:
    """Return a gain with the largest shift (0 … 30) at which its integer still fits a signed word of ``bits``.

    Raises Refusal where even without a shift it does not fit, or it rounds to nothing.
    """
    most = (1 << (bits - 1)) - 1
    if not (gain > 0 and math.isfinite(gain)):
        raise Refusal(f"a gain of {gain:g} has no integer", "gains must be above zero")
    if round(gain) > most:
        raise Refusal(
            f"a gain of {gain:.4g} counts per count overflows {bits} bits",
            f"choose a smaller {names[0]} scale or a larger {names[1]} scale, or a longer word",
        )
    shift = max(min(30, math.floor(math.log2((most + 0.499) / gain))), 0)
    integer = round(gain * 2.0**shift)
    if integer == 0:
        raise Refusal(
            f"a gain of {gain:.4g} counts per count rounds to nothing in {bits} bits",
            f"choose a larger {names[0]} scale or a smaller {names[1]} scale, or a longer word",
        )
    return QGain(integer, shift, integer / (gain * 2.0**shift) - 1)


def to_forms(kp: float, ki: float, scales: Scales) -> Forms:
    """Return every form of a controller.

    Raises
    ------
    Refusal
        Gains or scales not above zero, a word that is not 8 to 32 bits, a gain that overflows or vanishes in it.
    """
    _check(scales)
    if not (kp > 0 and ki > 0):
        raise Refusal("the gains are not above zero", "design the loop first")
    ts = 1 / scales.loop_hz
    ratio = scales.i_base / scales.v_base
    kp_pu, ki_ts_pu = kp * ratio, ki * ts * ratio
    kp_q, ki_q = quantise(kp_pu, scales.bits, scales.names), quantise(ki_ts_pu, scales.bits, scales.names)
    findings = []
    for name, gain in (("Kp", kp_q), ("Ki·Ts", ki_q)):
        if abs(gain.error) > 0.005:
            text = f"{name} is {gain.integer} with a shift of {gain.shift}: rounding makes it {100 * gain.error:+.1f} % off.".replace(
                "-", "−"
            )
            findings.append(Finding("caution", "coarse-gain", text))
    if kp_pu > 1:
        text = f"An error of {100 / kp_pu:.0f} % of the {scales.names[0]} scale already asks for the whole {scales.names[1]} scale: saturate the product before it is added."
        findings.append(Finding("info", "full-voltage", text))
    least = max(1.0, 1.0 / kp_pu) * scales.i_base / scales.full
    return Forms(
        kp, ki, ki * ts, kp / ki, b0=kp + ki * ts, b1=-kp, kp_pu=kp_pu, ki_ts_pu=ki_ts_pu, kp_q=kp_q, ki_q=ki_q, least_error=least, findings=tuple(findings)
    )  # fmt: skip


@dataclass(frozen=True)
class Read:
    """What integers mean: gains in SI, the design crossover they belong to [Hz], the loop they make, and a verdict."""

    kp: float
    ki: float
    bandwidth_hz: float
    zero_over_pole: float
    loop: AxisLoop
    verdict: str
    findings: tuple[Finding, ...]


def from_integers(
    kp_q: QGain,
    ki_q: QGain,
    scales: Scales,
    *,
    r: float,
    inductance: float,
    delay_samples: float,
    ki_folded: bool = True,
) -> Read:
    """Return what the firmware's integers mean for a winding of ``r`` [Ω] and ``inductance`` [H].

    ``ki_folded`` says that the sampling period is inside Ki (I += Ki·e each sample); else the firmware multiplies by Ts.

    Raises
    ------
    Refusal
        Integers that are not above zero or do not fit the word, shifts outside 0 … 31, figures of the winding not above zero.
    """
    kp, ki = gains_of(kp_q, ki_q, scales, ki_folded=ki_folded)
    if not (r > 0 and inductance > 0):
        raise Refusal("resistance and inductance must be above zero", "settle them first")
    loop = axis_loop(r, inductance, kp, ki, loop_hz=scales.loop_hz, delay_samples=delay_samples)
    bandwidth = kp / (2 * math.pi * inductance)
    zero = ki / kp / (r / inductance)
    verdict, findings = _judge(loop, bandwidth, zero, scales, folded=ki_folded)
    return Read(kp, ki, bandwidth, zero, loop=loop, verdict=verdict, findings=tuple(findings))


def gains_of(kp_q: QGain, ki_q: QGain, scales: Scales, *, ki_folded: bool = True) -> tuple[float, float]:
    """Return Kp and Ki in SI that a firmware's integers stand for; raises Refusal for integers that are not above zero or do not fit the word, and shifts outside 0 … 31."""
    _check(scales)
    most = (1 << (scales.bits - 1)) - 1
    for name, gain in (("Kp", kp_q), ("Ki", ki_q)):
        if not 0 < gain.integer <= most:
            raise Refusal(f"{name} = {gain.integer} does not fit {scales.bits} bits", f"1 to {most} is possible")
        if not 0 <= gain.shift <= 31:
            raise Refusal(f"a shift of {gain.shift} is not possible", "0 to 31")
    ratio = scales.v_base / scales.i_base
    return kp_q.value * ratio, ki_q.value * ratio * (scales.loop_hz if ki_folded else 1.0)


def _judge(loop: AxisLoop, bandwidth: float, zero: float, scales: Scales, folded: bool) -> tuple[str, list[Finding]]:
    """Say whether the integers are sound, and which slip of a factor would explain it where they are not."""
    findings = []
    m = loop.margins
    if not m.stable:
        findings.append(
            Finding("stop", "unstable", "These integers make the loop unstable with this winding and delay.")
        )
    elif m.rings:
        findings.append(
            Finding(
                "caution",
                "small-margin",
                f"Only {m.phase_margin_deg:.0f}° and {m.gain_margin_db:.1f} dB margin are left: it will ring.",
            )
        )
    slips = {
        1 / scales.loop_hz: "the sampling period is folded into Ki twice",
        scales.loop_hz: "the sampling period is not folded into Ki" if folded else "the sampling period is folded into Ki already",
        2 * math.pi: "a factor of 2π between Ki and Kp", 1 / (2 * math.pi): "a factor of 2π between Ki and Kp",
    }  # fmt: skip
    if not 0.2 < zero < 5:
        near = [text for factor, text in slips.items() if abs(math.log(zero / factor)) < 0.7]
        hint = f": {near[0]}?" if near else "."
        text = f"The zero Ki/Kp lies at {zero:.3g} times the winding's R/L{hint}"
        findings.append(Finding("caution", "zero-off-pole", text))
    share = bandwidth / scales.loop_hz
    if share < 1 / 200:
        findings.append(
            Finding(
                "caution",
                "slow",
                f"A bandwidth of {bandwidth:.3g} Hz is a {1 / share:.0f}th of the loop rate: a factor may be missing (2π, per unit against volts).",
            )
        )
    if any(f.level == "stop" for f in findings):
        return "wrong", findings
    return ("doubtful" if findings else "sound"), findings


def _check(scales: Scales) -> None:
    for name, value in (
        (f"{scales.names[0]} scale", scales.i_base),
        (f"{scales.names[1]} scale", scales.v_base),
        ("loop rate", scales.loop_hz),
    ):
        if not (value > 0 and math.isfinite(value)):
            raise Refusal(f"the {name} is {value:g}", "a value above zero is needed")
    if not 8 <= scales.bits <= 32:
        raise Refusal(f"a word of {scales.bits} bits is not possible", "8 to 32")
