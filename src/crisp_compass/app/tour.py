"""The tour: drives the real window through every main view and writes a picture of each."""

from __future__ import annotations

import math
import os
import re
import sys
import time
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QCoreApplication, QEvent, QSettings, QThreadPool
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QWidget

from crisp_compass.app.document import demo_folder
from crisp_compass.app.drills import DrillsWindow
from crisp_compass.app.drive_session import DriveSession
from crisp_compass.app.finder import Finder
from crisp_compass.app.main import has_display, make_application
from crisp_compass.app.page.played_page import PlayedPage
from crisp_compass.app.theme import THEME
from crisp_compass.app.waypoints.current_loop.design import CurrentLoopPage
from crisp_compass.app.waypoints.current_loop.stepping import SteppingPage
from crisp_compass.app.waypoints.drive.connect import ConnectPage
from crisp_compass.app.waypoints.drive.live import LivePage
from crisp_compass.app.waypoints.motion.axis import AxisPage
from crisp_compass.app.waypoints.run.braking import BrakingPage
from crisp_compass.app.waypoints.run.drive import RunPage
from crisp_compass.app.waypoints.speed_loop.design import SpeedLoopPage
from crisp_compass.app.waypoints.speed_loop.reference import ReferencePage
from crisp_compass.app.waypoints.speed_loop.resonance import ResonancePage
from crisp_compass.app.waypoints.start_up.sequence import SequencePage
from crisp_compass.app.waypoints.start_up.success_map import MapPage
from crisp_compass.app.window import Window
from crisp_compass.capture import write_capture
from crisp_compass.course.points import rows_of, with_rows
from crisp_compass.course.waypoints import BY_KEY
from crisp_compass.errors import Refusal
from crisp_compass.motion.points import Row
from crisp_compass.plant.simulation import prepare
from crisp_compass.studies.scenarios import run_scenario
from crisp_compass.trainer.drills import BY_KEY as BY_KEY_OF_DRILLS
from crisp_compass.trainer.judge import expert


def write_tour(out: Path, size: str = "1280x800", *, brief: bool = False) -> list[Path]:
    """Write a picture of every main view into a folder, or of a few (``brief``); raises Refusal for a size that is none or a folder that cannot be made."""
    match = re.fullmatch(r"(\d{3,4})x(\d{3,4})", size)
    if not match:
        raise Refusal(f"“{size}” is no size", "write it like 1280x800", where="--size")
    try:
        out.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise Refusal(f"the folder cannot be made ({error.strerror})", where="--out") from None
    if not has_display():
        os.environ["QT_QPA_PLATFORM"] = "offscreen"
    make_application()
    print("Preparing the simulation; the first time on a machine this takes a minute or two", file=sys.stderr, flush=True)
    prepare()
    tour = Tour(out, (int(match[1]), int(match[2])))
    return tour.run_brief() if brief else tour.run()


#: Views of the winch before its run: leg and section.
_WINCH = (
    ("plate", ""), ("plate", "Checks"), ("resistance", ""), ("inductance", ""), ("commutation", "Sense and offset"), ("pwm", ""), ("current_loop", ""),
    ("current_loop", "Measured step"), ("speed_loop", ""),
)  # fmt: skip


#: Turns of the event loop without work after which the window is at rest.
_QUIET = 12
#: Telemetry of a drive that a picture shows, s.
_SHOWN_S = 6.0
#: Seconds after which something is wrong and not only slow: nobody's machine is asked to be quick.
_LONGEST = 900.0


class Tour:
    """One tour into ``out`` at ``size``."""

    def __init__(self, out: Path, size: tuple[int, int]) -> None:
        self.out, self.size = out, size
        self.written: list[Path] = []

    def run_brief(self) -> list[Path]:
        """Visit a few views; return the pictures."""
        THEME.use("light")
        winch = self._window("winch")
        for key in ("plate", "pwm", "hand_over"):
            winch.travel(key)
            self._picture(winch, key)
        self._end(winch)
        return self.written

    def run(self) -> list[Path]:
        """Visit every main view; return the pictures."""
        THEME.use("light")
        winch = self._window("winch")
        for key, section in _WINCH:
            winch.travel(key, section)
            if section == "Sense and offset":
                winch.document.set_field("view", "wrong_angle", math.radians(60))
            if section == "Measured step":
                winch.take_file(demo_folder() / "winch" / "winch-current-step.csv")
                self._wait(lambda: bool(winch.document.bench.evidence.get("current_loop")))
            if key == "current_loop" and not section:
                page = winch.page
                assert isinstance(page, CurrentLoopPage)
                self._wait(lambda p=page: p.band is not None)  # type: ignore[misc]
            if key == "speed_loop":
                speed = winch.page
                assert isinstance(speed, SpeedLoopPage)
                self._wait(lambda p=speed: p.trial is not None)  # type: ignore[misc]
            self._picture(winch, f"{key}-{section.lower()}" if section else key)
        self._drive(winch)
        self._run_view(winch)
        for field, value in (("i_continuous", 3.0), ("weakening", 4.0)):
            winch.document.set_field("run", field, value)
        winch.travel("run", "Limits")
        self._picture(winch, "run-limits")
        winch.travel("hand_over")
        self._picture(winch, "hand-over")
        self._end(winch)
        self._six_step()
        thruster = self._window("thruster")
        THEME.use("night")
        thruster.travel("plate", "Sensor cable")
        self._picture(thruster, "plate-sensor-cable-night")
        THEME.use("light")
        thruster.take_file(demo_folder() / "thruster" / "thruster-hand-turn.csv")
        self._wait(lambda: bool(thruster.document.bench.evidence.get("commutation")))
        thruster.travel("commutation")
        self._picture(thruster, "commutation")
        self._end(thruster)
        carousel = self._window("carousel")
        carousel.travel("current_loop", "Open-loop stepping")
        stepping = carousel.page
        assert isinstance(stepping, SteppingPage)
        self._wait(lambda: stepping.found is not None)
        self._picture(carousel, "stepper-open-loop-stepping")
        self._end(carousel)
        hatch = self._window("hatch")
        hatch.travel("speed_loop")
        self._picture(hatch, "brushed-speed-loop")
        self._end(hatch)
        self._start_up()
        hoist = self._window("hoist")
        hoist.travel("circuit")
        self._picture(hoist, "induction-circuit")
        self._end(hoist)
        self._around_the_speed()
        self._motion()
        self._guidance()
        self._axis()
        self._beginning()
        return self.written

    def _window(self, name: str) -> Window:
        window = Window(QSettings(str(self.out / ".tour.ini"), QSettings.Format.IniFormat))
        window.document.load(demo_folder() / name / f"{name}.bench.json")
        window.resize(*self.size)
        window.show()
        return window

    def _drive(self, window: Window) -> None:
        """Start the simulated drive as a device, run it, and look at what it holds."""
        window.travel("drive")
        page, session = window.page, window.document.drive
        assert isinstance(page, ConnectPage)
        page.simulated.click()
        self._wait(lambda: session.state in ("connected", "lost"))
        if session.state == "connected":
            page.arm.click()
            self._wait(lambda: session.armed)
            page.speed.show_value(100.0)
            page.speed.moved.emit(100.0)
            self._wait(lambda: len(session.history) > 1 and session.history[-1][0] - session.history[0][0] > _SHOWN_S)
        self._picture(window, "drive")
        page.on_main()
        for section in ("Identify", "Commissioning"):
            window.travel("drive", section)
            self._picture(window, f"drive-{section.lower()}")
        self._live(window, session)
        session.close(wait=True)

    def _live(self, window: Window, session: DriveSession) -> None:
        """Look at a step of the speed as the drive tells it, from the trigger on."""
        window.travel("drive", "Live")
        page = window.page
        assert isinstance(page, LivePage)
        if session.state == "connected":
            session.talk().arm()
            self._wait(lambda: session.armed and page.source.store is not None and page.source.store.rows > 0)
            for field, value in ((page.span, 0.5), (page.before, 0.05), (page.level, 100.0)):
                field.show_value(value)
            page.trigger.show_value("speed_ref")
            page.trigger.moved.emit("speed_ref")
            session.talk().run_at(120.0)
            self._wait(lambda: page.triggered)
        self._picture(window, "drive-live")
        session.stop()

    def _six_step(self) -> None:
        """Run the same motor under block commutation."""
        window = self._window("winch")
        window.document.set_field("current_loop", "commutation", "block")
        for key in ("current_loop", "speed_loop"):
            propose = BY_KEY[key].propose
            assert propose is not None
            window.document.settle(key, propose(window.document.bench), reason="six-step tried")
        self._run_view(window, "six-step-run")
        self._end(window)

    def _around_the_speed(self) -> None:
        """Follow a ramp; shake a shaft that twists, and read what was captured; stop on a supply that takes nothing back."""
        winch = self._window("winch")
        for field, value in (("rounding", 0.03), ("feed_forward", "both")):
            winch.document.set_field("speed_loop", field, value)
        winch.travel("speed_loop", "Reference")
        followed = winch.page
        assert isinstance(followed, ReferencePage)
        self._wait(lambda: followed.found is not None)
        self._picture(winch, "speed-loop-reference")
        self._end(winch)
        winch = self._window("winch")
        for field, share in (("resonance_hz", 95.0), ("load_share", 0.55)):
            winch.document.set_field("coupling", field, share)
        trace, _ = run_scenario(winch.document.bench, "shake")
        shaken = self.out / "shaken.csv"
        write_capture(shaken, trace["t"], {k: trace[k] for k in ("speed_ref", "speed", "i_q")}, {"excitation": "noise", "origin": "simulated"})
        winch.travel("speed_loop", "Resonance")
        winch.take_file(shaken)
        page = winch.page
        assert isinstance(page, ResonancePage)
        self._wait(lambda: page.reading.evaluated is not None)
        page.take_shaft.click()
        page.take_notch.click()
        self._picture(winch, "speed-loop-resonance")
        shaken.unlink()
        for field, number in (("capacitance", 1e-3), ("brake_ohm", 22.0), ("brake_on", 58.0), ("stops_every", 2.0), ("brake_most", 10.0)):
            winch.document.set_field("bus", field, number)
        winch.document.set_field("bus", "sinks", "no")
        winch.document.set_field("run", "v_max", 66.0)
        winch.travel("run", "Braking")
        braking = winch.page
        assert isinstance(braking, BrakingPage)
        self._wait(lambda: braking.found is not None)
        self._picture(winch, "run-braking")
        for name, told in (
            ("insulation", "F"), ("to_housing", 0.85), ("to_air", 1.55), ("winding_time", 22.0), ("housing_time", 840.0), ("magnet", "neodymium"), ("duty", "S3"), ("current", 9.0),
            ("on_time", 40.0), ("period", 180.0),
        ):  # fmt: skip
            winch.document.set_field("heat", name, told)
        winch.document.set_field("run", "i_continuous", 5.5)
        winch.travel("run", "Heat")
        self._picture(winch, "run-heat")
        self._end(winch)

    def _motion(self) -> None:
        """A move of the winch, and the carousel's table with its row that fails."""
        for demo, section, name in (("winch", "Move", "motion-move"), ("carousel", "Points", "motion-points")):
            window = self._window(demo)
            if demo == "winch":
                for field, told in (("distance", 30.0), ("rounding", 0.02)):
                    window.document.set_field("motion", field, told)
            window.travel("motion", section)
            page = window.page
            assert isinstance(page, PlayedPage)
            self._wait(lambda p=page: p.found is not None)  # type: ignore[misc]
            self._picture(window, name)
            self._end(window)

    def _axis(self) -> None:
        """A stepped field that an encoder watches, with an obstacle in its way; the axis that runs its table."""
        window = self._window("carousel")
        window.document.set_field("stepping", "encoder", "watches")
        for field, told in (("distance", 6.0 * math.pi), ("window", 2e-3)):
            window.document.set_field("motion", field, told)
        window.travel("motion", "Watching")
        page = window.page
        assert isinstance(page, PlayedPage)
        self._wait(lambda: page.found is not None)
        self._picture(window, "motion-watching")
        rows = [Row(r.target, dwell=0.1) for r in rows_of(window.document.bench)[:12]]
        window.document.edit("twelve points", with_rows(window.document.bench, rows))
        window.travel("motion", "Axis")
        axis = window.page
        assert isinstance(axis, AxisPage)
        self._wait(lambda: axis.drive is not None)
        axis.run(again=False)
        axis._timer.stop()  # the tour moves time itself, so the picture is the same on any machine
        for _ in range(125):
            axis.advance(0.033)
        self._picture(window, "motion-axis")
        axis.halt()
        self._end(window)

    def _beginning(self) -> None:
        """An empty window with what can be done now, and anything being sought over it."""
        window = Window(QSettings(str(self.out / ".tour.ini"), QSettings.Format.IniFormat))
        window.resize(*self.size)
        window.show()
        finder = Finder(window)
        finder.show()
        finder.line.setText("current limit")
        self._wait()
        whole, over = window.grab(), finder.grab()
        painter = QPainter(whole)
        painter.drawPixmap(whole.width() - over.width() - 40, whole.height() - over.height() - 60, over)
        painter.end()
        path = self.out / f"{len(self.written) + 1:02d}-first-start-and-find.png"
        whole.save(str(path))
        self.written.append(path)
        finder.close()
        self._end(window)

    def _guidance(self) -> None:
        """The guide beside a page, at night; a drill with its debrief."""
        THEME.use("night")
        window = self._window("winch")
        window.travel("run", "Limits")
        window.toggle_guide()
        self._picture(window, "guide-night")
        self._end(window)
        THEME.use("light")
        drills = DrillsWindow(kept_in=self.out / ".drills.json")
        drills.resize(*self.size)
        drills.show()
        drills.begin(BY_KEY_OF_DRILLS["leads-and-halls"], 3)
        case = drills.case
        assert case is not None
        readings, cause, _ = expert(case)
        for reading in readings:
            drills.do([m.key for m in case.drill.measures].index(reading.measure))
        drills.group.button([c.key for c in case.drill.causes].index(cause)).setChecked(True)
        drills.finish()
        self._wait(lambda: drills.verdict is not None)
        self._picture(drills, "drills")
        drills.close()
        (self.out / ".drills.json").unlink(missing_ok=True)

    def _start_up(self) -> None:
        """Start the pump, and map a smaller number of starts than the page does by itself."""
        pump = self._window("pump")
        pump.travel("start_up")
        sequence = pump.page
        assert isinstance(sequence, SequencePage)
        self._wait(lambda: sequence.found is not None)
        self._picture(pump, "start-up-sequence")
        pump.travel("start_up", "Success map")
        page = pump.page
        assert isinstance(page, MapPage)
        page.cells, page.draws, page.tries = 20, 2, 120
        page.on_main()
        self._wait(lambda: page.rate is not None)
        page.map.choose(8, 12)
        self._wait(lambda: len(page.played.data("true")[0]) > 0)
        self._picture(pump, "start-up-success-map")
        self._end(pump)

    def _run_view(self, window: Window, name: str = "run") -> None:
        window.travel("run")
        page = window.page
        assert isinstance(page, RunPage)
        page.start()
        page._timer.stop()  # the tour moves time itself, so the picture is the same on any machine
        for k in range(100):
            if k == 60:
                window.document.set_field("run", "load", 0.35)
            page.advance(0.03)
        self._picture(window, name)
        page.stop()

    def _end(self, window: Window) -> None:
        window.page.leave()
        window.document.undo_stack.setClean()
        window.document.drop_autosave()
        window.close()
        window.deleteLater()
        QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        (self.out / ".tour.ini").unlink(missing_ok=True)

    def _wait(self, done: Callable[[], bool] = lambda: True, limit: float = _LONGEST) -> None:
        end, quiet = time.monotonic() + limit, 0
        while quiet < _QUIET:  # an answer asks for a layout, and that for a repaint
            QThreadPool.globalInstance().waitForDone(20)
            QCoreApplication.processEvents()
            at_rest = done() and QThreadPool.globalInstance().activeThreadCount() == 0
            quiet = quiet + 1 if at_rest else 0
            if time.monotonic() > end:
                raise TimeoutError("the window did not come to rest")

    def _picture(self, window: QWidget, name: str) -> None:
        self._wait()
        path = self.out / f"{len(self.written) + 1:02d}-{name.replace('_', '-').replace(' ', '-')}.png"
        window.grab().save(str(path))
        self.written.append(path)
