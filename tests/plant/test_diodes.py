"""A motor that turns faster than its bus: with the switches off the diodes rectify its back-EMF, brake it and lift the bus."""

from __future__ import annotations

import math

import numpy as np
import pytest

from crisp_compass.plant import state
from crisp_compass.plant.parameters import OFF, Control, Drive, Inverter, Load, Machine, Sensing
from crisp_compass.plant.simulation import Simulation

MOTOR = Machine(0.4, 1e-3, 1e-3, 0.0168, 7.0)


def bridge(speed: float, volts: float, seconds: float, step: float = 5e-7) -> tuple[float, float]:
    """Mean power into a bus of fixed voltage and mean torque [N·m], by legs that are high, low or open: ideal diodes, written out phase by phase with small steps of Euler's rule."""
    w, leak = 7.0 * speed, 1e-3
    i, angle, power, torque, count = np.zeros(3), 0.3, 0.0, 0.0, 0
    shift = 2 * math.pi / 3 * np.arange(3)
    for k in range(round(seconds / step)):
        emf = -w * MOTOR.psi * np.sin(angle - shift)
        # a leg whose current flows out of the motor is high, into it low; an open one follows, until it passes a rail
        leg = np.where(i < -1e-9, volts / 2, np.where(i > 1e-9, -volts / 2, np.nan))
        star = np.nanmean(leg - emf) if np.isfinite(leg).any() else 0.0
        if np.isnan(leg).all():
            high, low = int(np.argmax(emf)), int(np.argmin(emf))
            if emf[high] - emf[low] > volts:
                leg[high], leg[low] = volts / 2, -volts / 2
                star = float(np.nanmean(leg - emf))
        open_ = np.isnan(leg)
        floats = emf + star
        leg = np.where(open_ & (floats > volts / 2), volts / 2, np.where(open_ & (floats < -volts / 2), -volts / 2, leg))
        conducts = np.isfinite(leg)
        if conducts.sum() >= 2:
            star = float(np.mean((leg - emf - MOTOR.r * i)[conducts]))
            change = np.where(conducts, (np.nan_to_num(leg) - emf - star - MOTOR.r * i) / leak, 0.0) * step
            fresh = i + change
            fresh = np.where((i * fresh < 0) & (np.abs(i) > 1e-9), 0.0, fresh)
            i = np.where(conducts, fresh - fresh[conducts].mean(), 0.0)
        if k * step > 0.5 * seconds:
            power += volts / 2 * float(np.abs(i).sum())
            torque += float(np.sum(emf * i)) / speed
            count += 1
        angle += w * step
    return power / count, torque / count


@pytest.mark.thorough
@pytest.mark.parametrize("speed", [260.0, 330.0])
def test_the_diodes_feed_the_bus_and_brake_the_shaft(speed: float) -> None:
    """Against a bridge of ideal diodes phase by phase: within 4 % of power and torque, just above the bus, where single legs conduct, within 8 %."""
    volts = 48.0
    drive = Drive(MOTOR, Load(1e6, 0.0, 0.0), Inverter(volts, 1e-6), Sensing(), Control(5e-5))
    sim = Simulation(drive)
    sim.turn_at(speed)
    sim.command(OFF)
    sim.advance(0.03)
    powers, torques = [], []
    for _ in range(600):
        trace = sim.advance(5e-5)
        powers.append(-float(sim.state[state.DRAWN]))
        torques.append(float(trace["torque"][-1]))
    power, torque = bridge(speed, volts, 0.02)
    assert power > 10
    assert np.mean(powers) == pytest.approx(power, rel=0.04 if speed > 300 else 0.08)
    assert np.mean(torques) == pytest.approx(torque, rel=0.04 if speed > 300 else 0.08)


def test_below_the_bus_nothing_flows_and_above_it_a_capacitor_is_charged_to_the_lines_peak() -> None:
    still = Simulation(Drive(MOTOR, Load(1e6, 0.0, 0.0), Inverter(48.0), Sensing(), Control(5e-5)))
    still.turn_at(220.0)
    assert math.sqrt(3) * 7 * 220 * MOTOR.psi < 48
    quiet = still.advance(0.05)
    assert np.hypot(quiet["i_d"], quiet["i_q"]).max() == 0.0
    charged = Simulation(Drive(MOTOR, Load(1e6, 0.0, 0.0), Inverter(48.0, 0.05, capacitance=1e-3, sink=0.0), Sensing(), Control(5e-5)))
    charged.turn_at(330.0)
    trace = charged.advance(0.6, every=20)
    peak = math.sqrt(3) * 7 * 330 * MOTOR.psi
    assert trace["v_bus"][-1] == pytest.approx(peak, rel=0.03)
    assert np.hypot(trace["i_d"], trace["i_q"])[-20:].max() < 0.5
