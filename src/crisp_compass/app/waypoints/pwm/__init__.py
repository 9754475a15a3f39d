"""Pages of PWM, the main one first."""

from __future__ import annotations

from crisp_compass.app.waypoints.pwm.carrier import CarrierPage
from crisp_compass.app.waypoints.pwm.command import CommandPage
from crisp_compass.app.waypoints.pwm.dead_time import DeadTimePage
from crisp_compass.app.waypoints.pwm.schemes import SchemesPage
from crisp_compass.app.waypoints.pwm.timer import PwmPage

PAGES = (
    PwmPage,
    CarrierPage,
    SchemesPage,
    DeadTimePage,
    CommandPage,
)
