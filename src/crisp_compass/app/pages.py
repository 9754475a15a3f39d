"""Every page of the window, in the order of the course."""

from __future__ import annotations

from crisp_compass.app.legs.agreement import (
    FluxAgreement,
    InductanceAgreement,
    MechanicsAgreement,
    ResistanceAgreement,
)
from crisp_compass.app.legs.align_page import AlignPage
from crisp_compass.app.legs.base import LegPage
from crisp_compass.app.legs.cable_page import CablePage
from crisp_compass.app.legs.carrier_page import CarrierPage
from crisp_compass.app.legs.checks import ChecksPage
from crisp_compass.app.legs.command_page import CommandPage
from crisp_compass.app.legs.commutation import CommutationPage
from crisp_compass.app.legs.current_loop import CurrentLoopPage
from crisp_compass.app.legs.dead_time_page import DeadTimePage
from crisp_compass.app.legs.edges_page import EdgesPage
from crisp_compass.app.legs.encoder_page import EncoderPage
from crisp_compass.app.legs.flux import FluxPage
from crisp_compass.app.legs.format_page import FormatPage
from crisp_compass.app.legs.hand_over import HandOverPage
from crisp_compass.app.legs.inductance import InductancePage
from crisp_compass.app.legs.interference_page import InterferencePage
from crisp_compass.app.legs.measured_page import MeasuredPage
from crisp_compass.app.legs.mechanics import MechanicsPage
from crisp_compass.app.legs.meter import MeterPage
from crisp_compass.app.legs.orders_page import OrdersPage
from crisp_compass.app.legs.plate import PlatePage
from crisp_compass.app.legs.poles_page import PolesPage
from crisp_compass.app.legs.pwm import PwmPage
from crisp_compass.app.legs.resistance import ResistancePage
from crisp_compass.app.legs.run import RunPage
from crisp_compass.app.legs.schemes_page import SchemesPage
from crisp_compass.app.legs.senses_page import SensesPage
from crisp_compass.app.legs.speed_loop import SpeedLoopPage
from crisp_compass.app.legs.supply import SupplyPage
from crisp_compass.app.legs.trials_page import TrialsPage
from crisp_compass.app.legs.weakening_page import WeakeningPage
from crisp_compass.app.legs.wiring_page import WiringPage

#: The sections of every leg, its main one first.
PAGES: tuple[type[LegPage], ...] = (
    PlatePage, SupplyPage, WiringPage, CablePage, ChecksPage, InterferencePage, ResistancePage, MeterPage, ResistanceAgreement,
    InductancePage, InductanceAgreement, FluxPage, FluxAgreement, MechanicsPage, MechanicsAgreement, CommutationPage, EdgesPage, EncoderPage, AlignPage, PolesPage, SensesPage, OrdersPage, PwmPage, CarrierPage, SchemesPage, DeadTimePage, CommandPage,
    CurrentLoopPage, MeasuredPage, TrialsPage, FormatPage, WeakeningPage, SpeedLoopPage, RunPage, HandOverPage,
)  # fmt: skip
