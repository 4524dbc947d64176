"""What the window works on: plan, shot, frame, stage, and the way back.

Views are functions of these; they keep no copy of any value, and change them only here.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal, cast

import numpy as np
from numpy.typing import ArrayLike
from PySide6.QtCore import QObject, QSettings, Signal
from PySide6.QtGui import QUndoStack

from kobrel.desk.history import Change
from kobrel.desk.work import Work
from kobrel.errors import PlanError
from kobrel.optics.exposure import NARROWEST_STOP, WIDEST_STOP, StopSteps, marked_stop, step_stop
from kobrel.plan import edit, pulls
from kobrel.plan import glass as glasses
from kobrel.plan.camera import camera_at
from kobrel.plan.instrument import WishKind
from kobrel.plan.model import (
    Anchor,
    DistanceTarget,
    End,
    MadeCamera,
    Plan,
    Shot,
    StandInKind,
    Subject,
    SubjectTarget,
    Target,
)
from kobrel.plan.parts import Keyed
from kobrel.plan.staging import Library, stage_of, staged_alike
from kobrel.stage.stage import Pick, Place, Stage

ON_SUBJECT_DPT = 1e-6
_CONES_DEG = (0.001, 89.0)
_THROW_PX = 60.0
Below = Literal["", "maps", "discs", "mask", "strip"]
"""What stands in the chart's room: the chart, maps of trade-offs, discs of blur, the mask, or the strip
across shots."""
Room = Literal["", "picture"]
"""What is given more room than the card alone would: nothing, or the picture."""
_STEPS: tuple[StopSteps, ...] = ("full", "half", "third", "free")


@dataclass(frozen=True)
class Tool:
    """What the next clicks do: place a stand-in of a kind, make a tape from its first end on,
    copy what the probe reads, aim a meter, or paint a wish (or none) over a subject's line.
    """

    does: Literal["place", "tape", "probe", "aim", "wish"]
    stand_in: StandInKind | None = None
    start: End | None = None
    wish: WishKind | None = None
    px: float = 8.0


class Session(Work):
    """The state of the window: what is worked on, what is chosen, and the way back.

    Signals
    -------
    changed : plan, shot, frame or stage is another
    said : a short message for the person
    files_wanted : the plan names files that are still to be read
    aimed : a meter was aimed at a point, (3,) metres on the stage
    play_wanted : the shot is to be played, or paused
    played : whether it plays now
    shot_wanted : the shot's name and frames are to be shown for changing
    movie_wanted : a movie of the shot is to be written
    room_given : something else is to have more room, or nothing any more
    closing : the window goes
    """

    changed = Signal()
    said = Signal(str)
    files_wanted = Signal()
    aimed = Signal(object)
    play_wanted = Signal()
    played = Signal(bool)
    shot_wanted = Signal()
    movie_wanted = Signal()
    room_given = Signal()
    closing = Signal()

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.undo = QUndoStack(self)
        self.played.connect(self._keep_playing)
        self.settings = QSettings()
        self.library = Library()
        self.card = 3
        self.below: Below = ""
        self.room: Room = ""
        kept = str(self.settings.value("stop_steps", "free"))
        self.stop_steps: StopSteps = next((s for s in _STEPS if s == kept), "free")
        self.picture_scale = 0.5  # pixels on the screen for each at delivery
        self.thrown = False
        self.throw_px = float(str(self.settings.value("throw_px", _THROW_PX)))
        self.tool: Tool | None = None
        self.selected_stand_in: int | None = None
        self.selected_tape: str | None = None
        self.selected_node: Place | None = None
        self.dragging = self.playing = False
        self.selected_mark: float | None = None
        self.also_marked: frozenset[float] = frozenset()
        self.selected_subject: int | None = None
        self._drag_number = 0

    # Changes

    def show_plan(
        self, plan: Plan, stage: Stage, library: Library, shot_index: int = 0, frame: int | None = None
    ) -> None:
        """Work on another plan; forgets what could be undone."""
        self.plan, self.stage, self.library = plan, stage, library
        self.tool = self.walk = self.selected_stand_in = self.selected_tape = self.selected_node = None
        self.shot_index = min(max(0, shot_index), max(0, len(plan.shots) - 1))
        self.selected_mark = self.selected_subject = None
        self.undo.clear()
        self.undo.setClean()
        shot = self.shot
        self.frame = shot.first if shot else 1001
        if shot and frame is not None:
            self.frame = min(max(frame, shot.first), shot.last)
        self.changed.emit()

    def show_shot(self, index: int) -> None:
        """Turn to another shot, at its first frame."""
        if index != self.shot_index and 0 <= index < len(self.plan.shots):
            self.shot_index = index
            self.selected_mark = self.walk = None
            shot = self.shot
            self.frame = shot.first if shot else 1001
            self.changed.emit()

    def show_frame(self, frame: float) -> None:
        """Go to a frame of the shot; beyond its ends counts as the end."""
        shot = self.shot
        if shot is None:
            return
        wanted = min(max(round(frame), shot.first), shot.last)
        if wanted != self.frame:
            self.frame = wanted
            self.changed.emit()

    def select_mark(self, frame: float | None) -> None:
        """Choose a mark."""
        if frame != self.selected_mark or self.also_marked:
            self.selected_mark, self.also_marked = frame, frozenset()
            self.changed.emit()

    def select_also(self, frame: float) -> None:
        """Choose a mark besides, or let go of it."""
        self.also_marked ^= {frame}
        self.changed.emit()

    def edit(self, name: str, plan: Plan) -> None:
        """Replace the plan, with a way back; while a drag goes on, steps merge into one."""
        if plan == self.plan:
            return
        self.undo.push(Change(self, name, self.plan, plan, self._drag_number if self.dragging else 0))

    def edit_shot(self, name: str, change: Callable[[Shot], Shot]) -> None:
        """Replace the shot in work."""
        if self.shot is not None:
            self.edit(name, edit.with_shot(self.plan, self.shot_index, change(self.shot)))

    def edit_glass(self, name: str, **changes: object) -> None:
        """Change some fields of the shot's glass."""
        self.edit_shot(name, lambda shot: shot.but(glass=shot.glass.but(**changes)))

    def begin_drag(self) -> None:
        """A hand starts to move something."""
        self._drag_number += 1
        self.dragging = True

    def _keep_playing(self, playing: bool) -> None:
        self.playing = playing

    def begin_walk_step(self) -> None:
        """A hand walks: pictures are wanted in haste until it rests."""
        if not self.dragging:
            self.begin_drag()

    def end_drag(self) -> None:
        """The hand rests."""
        if self.dragging:
            self.dragging = False
            self.changed.emit()

    def put(self, plan: Plan) -> None:
        """Take a plan without a trace in the history (its commands call this)."""
        if not staged_alike(self.plan, plan):
            self.stage = stage_of(plan, self.library, self.stage)
        old, names = self.shot, [shot.name for shot in plan.shots]
        if old is not None and old.name in names:
            self.shot_index = names.index(old.name)
        self.plan = plan
        self.shot_index = min(self.shot_index, max(0, len(plan.shots) - 1))
        shot = self.shot
        if shot:
            self.frame = min(max(self.frame, shot.first), shot.last)
            if self.selected_mark not in [mark.frame for mark in shot.marks]:
                self.selected_mark = None
        self.changed.emit()
        if self.library.missing(plan):
            self.files_wanted.emit()

    def restage(self, library: Library, like: Stage) -> None:
        """Files were read: set the stage with them; `like` has what was built already."""
        self.library = library
        self.stage = stage_of(self.plan, library, like)
        self.changed.emit()

    def pick(self, origin: ArrayLike, direction: ArrayLike) -> Pick | None:
        """What a ray meets at the frame; None too while the stage is still being built."""
        return self.stage.pick(self.frame, origin, direction) if self.stage.built else None

    def use(self, tool: Tool | None) -> None:
        """Take up a tool, or lay it down."""
        if tool != self.tool:
            self.tool = tool
            self.changed.emit()

    def show_below(self, what: Below) -> None:
        """Show something else in the chart's room, or the chart."""
        if what != self.below:
            self.below = what
            self.changed.emit()

    def give_room(self, what: Room) -> None:
        """Give something more room, or nothing any more."""
        if what != self.room:
            self.room = what
            self.room_given.emit()

    def set_stop_steps(self, steps: StopSteps) -> None:
        """Choose which stops are taken when one steps or drags."""
        self.stop_steps = steps
        self.settings.setValue("stop_steps", steps)
        self.changed.emit()

    def throw(self, on: bool, px: float | None = None) -> None:
        """Show everything out of focus by as many pixels (below 0 as before the focus), or as it is."""
        self.throw_px = self.throw_px if px is None else px
        self.settings.setValue("throw_px", self.throw_px)
        self.thrown = on
        if on and self.thrown_px == 0.0:
            self.said.emit("An orthographic view cannot be thrown out of focus.")
        self.changed.emit()

    @property
    def thrown_px(self) -> float:
        """By how much everything is shown out of focus; 0 where it is shown as it is."""
        camera = self.camera
        able = camera is not None and camera.projection != "orthographic"
        return self.throw_px if self.thrown and able else 0.0

    def select(self, stand_in: int | None = None, tape: str | None = None) -> None:
        """Choose a stand-in or a tape, or neither."""
        if (stand_in, tape) != (self.selected_stand_in, self.selected_tape):
            self.selected_stand_in, self.selected_tape = stand_in, tape
            self.changed.emit()

    def select_node(self, place: Place | None) -> None:
        """Choose a part of a scene."""
        if place != self.selected_node:
            self.selected_node = place
            self.changed.emit()

    def walk_with(self, camera: MadeCamera | None) -> None:
        """Look from elsewhere, without changing the shot; None goes back to its camera."""
        if camera != self.walk:
            self.walk = camera
            self.changed.emit()

    # Things that several views do

    def target_label(self, target: Target) -> str:
        """What a mark is on, in words."""
        name = self.plan.name_of(target)
        return name if name is not None else self.length(cast(DistanceTarget, target).metres)

    def focus_on(self, target: Target) -> None:
        """Put the focus on something at this frame."""
        shot = self.shot
        if shot is None:
            return
        several = len(shot.marks) > 1 or self.playing
        focused = pulls.set_mark if self.playing else pulls.refocus
        self.edit_shot(f"Focus on {self.target_label(target)}", lambda s: focused(s, self.frame, target))
        if several:
            self.selected_mark = float(self.frame)
            self.said.emit(f"Mark at {self.frame}: {self.target_label(target)}")
        else:
            self.said.emit(f"Focus: {self.target_label(target)}, in the whole shot. M sets a mark.")

    def focus_at_m(self, metres: float) -> None:
        """Put the focus at a distance at this frame."""
        self.focus_on(DistanceTarget(metres=metres))

    def set_mark(self) -> None:
        """Set a mark at this frame on what is now in focus: a subject if it is on one."""
        camera = self.camera
        if camera is None:
            return
        target: Target = self.subject_in_focus() or DistanceTarget(metres=float(camera.focus_m))
        self.edit_shot(f"Set mark at {self.frame}", lambda s: pulls.set_mark(s, self.frame, target))
        self.selected_mark = float(self.frame)
        self.said.emit(f"Mark at {self.frame}: {self.target_label(target)}")
        self.changed.emit()

    def subject_in_focus(self) -> SubjectTarget | None:
        """The subject that the focus is exactly on at this frame."""
        numbers = self.survey
        if numbers is None:
            return None
        focus = float(numbers.camera.focus_m[self.row])
        for row, number in enumerate(numbers.subjects):
            distance = float(numbers.focus_distance_m[row, self.row])
            if distance > 0 and abs(1 / distance - 1 / focus) < ON_SUBJECT_DPT:
                return SubjectTarget(number=number)
        return None

    def add_subject(self, name: str, anchor: Anchor, half_depth_m: float = 0.0) -> Subject:
        """Make something a subject."""
        plan, subject = edit.add_subject(self.plan, name, anchor)
        if half_depth_m:
            plan = edit.with_subject(plan, subject.number, half_depth_m=half_depth_m)
        self.selected_subject = subject.number
        self.edit(f"Add subject {subject.name}", plan)
        self.said.emit(f"Subject {subject.number}: {subject.name}")
        return subject

    def remove_subject(self, number: int) -> None:
        """Delete a subject; marks on it keep its distance."""
        subject = self.plan.subject(number)
        if subject is None:
            return
        self.edit(f"Delete subject {subject.name}", edit.remove_subject(self.plan, number, self._focus_at))

    def _focus_at(self, shot: Shot, frame: float) -> float:
        try:
            return float(camera_at(self.plan, shot, frame, self.stage).focus_m)
        except PlanError:
            return 3.0

    def set_keyed(self, name: str, field: str, value: float) -> None:
        """Change stop or focal length: its key at this frame, or the value where it has none."""
        self.edit_keyed(name, field, lambda keyed: edit.set_value(keyed, self.frame, value))

    def edit_keyed(self, name: str, field: str, change: Callable[[Keyed], Keyed]) -> None:
        """Change a keyed value of the glass, ``f_number`` or ``focal_mm``."""
        if self.shot is None:
            return
        changed = change(getattr(self.shot.glass, field))
        if field == "focal_mm":
            self.edit_shot(name, lambda s: s.but(glass=glasses.with_focal(s.glass, changed)))
        else:
            self.edit_glass(name, **{field: changed})

    def sharp_to(self, limit_m: float) -> None:
        """Let the sharp band end at a distance, by the stop; an orthographic view's by its cone."""
        camera = self.camera
        if camera is None:
            return
        if camera.projection == "orthographic":
            cone = float(np.clip(camera.cone_for_limit(limit_m), *_CONES_DEG))
            self.edit_glass(f"Cone of light {cone:.3g}°", cone_deg=float(f"{cone:.3g}"))
        else:
            stop = float(np.clip(camera.stop_for_limit(limit_m), WIDEST_STOP, NARROWEST_STOP))
            stop = marked_stop(stop, self.stop_steps)
            self.set_keyed(f"Stop f/{stop:.3g}", "f_number", stop)

    def step_stop(self, thirds: int) -> None:
        """Open or close the iris by thirds of a stop; an orthographic view's cone alike."""
        camera, glass = self.camera, self.glass
        if camera is None or glass is None:
            return
        if camera.projection == "orthographic":
            half = np.tan(np.radians(glass.cone_deg) / 2) * 2.0 ** (-thirds / 6)
            cone = float(np.clip(np.degrees(2 * np.arctan(half)), *_CONES_DEG))
            self.edit_glass(f"Cone of light {cone:.3g}°", cone_deg=float(f"{cone:.4g}"))
            self.said.emit(f"Cone of light {cone:.3g}°")
            return
        stop = step_stop(float(camera.f_number), thirds)
        self.set_keyed(f"Stop f/{stop:g}", "f_number", stop)
        self.said.emit(f"Stop f/{stop:g}")
