"""Every page of the window, in the order of the course."""

from __future__ import annotations

from crisp_compass.app.page.agreement import (
    FluxAgreement,
    InductanceAgreement,
    MechanicsAgreement,
    ResistanceAgreement,
)
from crisp_compass.app.page.base import Page
from crisp_compass.app.waypoints.commutation.alignment import AlignPage
from crisp_compass.app.waypoints.commutation.direction_check import SensesPage
from crisp_compass.app.waypoints.commutation.edges import EdgesPage
from crisp_compass.app.waypoints.commutation.encoder import EncoderPage
from crisp_compass.app.waypoints.commutation.hand_turn import CommutationPage
from crisp_compass.app.waypoints.commutation.lead_orders import OrdersPage
from crisp_compass.app.waypoints.commutation.pole_search import PolesPage
from crisp_compass.app.waypoints.current_loop.design import CurrentLoopPage
from crisp_compass.app.waypoints.current_loop.measured import MeasuredPage
from crisp_compass.app.waypoints.current_loop.number_format import FormatPage
from crisp_compass.app.waypoints.current_loop.torque_speed import WeakeningPage
from crisp_compass.app.waypoints.current_loop.trials import TrialsPage
from crisp_compass.app.waypoints.flux.capture import FluxPage
from crisp_compass.app.waypoints.hand_over.files import HandOverPage
from crisp_compass.app.waypoints.inductance.capture import InductancePage
from crisp_compass.app.waypoints.mechanics.capture import MechanicsPage
from crisp_compass.app.waypoints.plate.checks import ChecksPage
from crisp_compass.app.waypoints.plate.interference import InterferencePage
from crisp_compass.app.waypoints.plate.motor import PlatePage
from crisp_compass.app.waypoints.plate.sensor_cable import CablePage
from crisp_compass.app.waypoints.plate.supply import SupplyPage
from crisp_compass.app.waypoints.plate.wiring import WiringPage
from crisp_compass.app.waypoints.pwm.carrier import CarrierPage
from crisp_compass.app.waypoints.pwm.command import CommandPage
from crisp_compass.app.waypoints.pwm.dead_time import DeadTimePage
from crisp_compass.app.waypoints.pwm.schemes import SchemesPage
from crisp_compass.app.waypoints.pwm.timer import PwmPage
from crisp_compass.app.waypoints.resistance.capture import ResistancePage
from crisp_compass.app.waypoints.resistance.meter import MeterPage
from crisp_compass.app.waypoints.run.drive import RunPage
from crisp_compass.app.waypoints.speed_loop.design import SpeedLoopPage

#: The sections of every leg, its main one first.
PAGES: tuple[type[Page], ...] = (
    PlatePage, SupplyPage, WiringPage, CablePage, ChecksPage, InterferencePage, ResistancePage, MeterPage, ResistanceAgreement,
    InductancePage, InductanceAgreement, FluxPage, FluxAgreement, MechanicsPage, MechanicsAgreement, CommutationPage, EdgesPage, EncoderPage, AlignPage, PolesPage, SensesPage, OrdersPage, PwmPage, CarrierPage, SchemesPage, DeadTimePage, CommandPage,
    CurrentLoopPage, MeasuredPage, TrialsPage, FormatPage, WeakeningPage, SpeedLoopPage, RunPage, HandOverPage,
)  # fmt: skip
