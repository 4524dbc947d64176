"""The session: what is worked on and chosen, the tool in hand, the drag, and the way back.

Views are functions of it and keep no copy of any value. They change it by its methods and by the
commands in :mod:`kobrel.session.commands`, and are told by one event for each change.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from numpy.typing import ArrayLike
from psygnal import Signal

from kobrel.memo import Parts
from kobrel.optics.exposure import StopSteps
from kobrel.plan import edit
from kobrel.plan import glass as glasses
from kobrel.plan.keys import Key, Keyed
from kobrel.plan.model import MadeCamera, Plan, Shot
from kobrel.plan.staging import Library, stage_of, staged_alike
from kobrel.plan.terms.own import OwnTerms
from kobrel.plan.variants.proofs import ORDERS, Order
from kobrel.session import settings as keys
from kobrel.session.evented import Field
from kobrel.session.settings import Settings
from kobrel.session.state import SightReport, State
from kobrel.session.tools import Below, CutMode, DialEnd, Gaps, Seen, Tool, WallMode, WallSource, Wanted
from kobrel.session.undo import History, Step
from kobrel.stage.stage import Pick, Place, Stage

_STAGES_KEPT = 12
"""How many stages of plans that were in work are kept, so that undo finds them."""
_STEPS: tuple[StopSteps, ...] = ("full", "half", "third", "free")
_NOTHING_CHOSEN: dict[str, object] = {
    "tool": None, "walk": None, "selected_plate": None, "also_plates": frozenset(),
    "dial_start": None, "selected_dial": None,
    "selected_stand_in": None, "selected_tape": None, "selected_node": None,
    "selected_mark": None, "also_marked": frozenset(), "selected_subject": None, "chosen_proofs": (),
    "wall_mode": "all",
}  # fmt: skip
_KEPT_BY_A_DRAG = ("history", "shot_index", "frame", *_NOTHING_CHOSEN)


@dataclass(frozen=True, eq=False)
class _Message:
    """Something said; the same words said again are another message."""

    text: str


class Session(State):
    """See the module.

    Events
    ------
    changed : names of the fields that changed
    said : a short message for the person
    wanted : something is asked of the window
    aimed : a meter was aimed at a point, (3,) metres on the stage
    closing : the window goes

    Fields
    ------
    history : what was done, and can be undone
    dragging, playing : whether something is dragged, or the shot plays
    play_range : a shot's name, and the first and last of its frames that are played; None is all of any shot
    selected_mark, also_marked : frame of the chosen mark, and those of others chosen besides
    selected_plate, also_plates : number of the chosen plate, and those of others chosen besides
    keeps_framing : whether a plate grows as it goes farther, so that it looks the same
    keeps_gaps : whether, and by what, the other chosen plates keep their gaps when one is moved
    cut_mode : what becomes of a shape that is drawn
    selected_dial : name of the chosen dial
    dial_start : the low end of a dial that is being made
    chosen_proofs : names of the proofs that are chosen, the first one first
    wall, wall_mode : what hangs on the wall, and how it is seen
    card, below, seen : what is seen
    file_as_it_is : whether a finished picture is shown without the shot's blur
    pointed_term : key of the quantity under the pointer, which the views show
    own_terms : a person's own terms that are known
    thrown, throw_px : whether all is shown out of focus, and by how many pixels
    picture_scale : pixels on the screen for each at delivery
    """

    history = Field(History())
    dragging = Field(False)
    playing = Field(False)
    play_range: Field[tuple[str, int, int] | None] = Field(None)
    tool: Field[Tool | None] = Field(None)
    selected_stand_in: Field[int | None] = Field(None)
    selected_plate: Field[int | None] = Field(None)
    also_plates: Field[frozenset[int]] = Field(frozenset())
    keeps_framing = Field(True)
    keeps_gaps: Field[Gaps] = Field("")
    cut_mode: Field[CutMode] = Field("lift")
    selected_dial: Field[str | None] = Field(None)
    dial_start: Field[DialEnd | None] = Field(None)
    selected_tape: Field[str | None] = Field(None)
    selected_node: Field[Place | None] = Field(None)
    selected_subject: Field[int | None] = Field(None)
    selected_mark: Field[float | None] = Field(None)
    also_marked: Field[frozenset[float]] = Field(frozenset())
    chosen_proofs: Field[tuple[str, ...]] = Field(())
    wall: Field[WallSource] = Field("wall")
    wall_mode: Field[WallMode] = Field("all")
    proof_order: Field[Order] = Field("kept")
    seen: Field[Seen] = Field("")
    card = Field(3)
    below: Field[Below] = Field("")
    stop_steps: Field[StopSteps] = Field("free")
    subject_order = Field("")
    file_as_it_is = Field(False)
    pointed_term = Field("")
    own_terms: Field[tuple[OwnTerms, ...]] = Field(())
    thrown = Field(False)
    throw_px = Field(60.0)
    picture_scale = Field(0.5)
    theme = Field("dark")
    _message = Field(_Message(""))

    said = Signal(str)
    wanted = Signal(str)
    aimed = Signal(object)
    closing = Signal()

    def __init__(self, settings: Settings | None = None) -> None:
        super().__init__()
        self.settings = settings or Settings()
        self._drags = 0
        self._before_drag: dict[str, Any] = {}
        self._stages: list[tuple[Plan, Library, Stage]] = []
        self.watch({"_message"}, self._tell_message)
        steps = self.settings.get(keys.STOP_STEPS)
        self._set(
            stop_steps=next((s for s in _STEPS if s == steps), "free"),
            subject_order=self.settings.get(keys.SUBJECT_ORDER),
            throw_px=self.settings.get(keys.THROW_PX),
            theme=self.settings.get(keys.THEME),
            proof_order=next((o for o in ORDERS if o == self.settings.get(keys.PROOF_ORDER)), "kept"),
        )

    def say(self, text: str) -> None:
        """Tell the person something in a line, after all changes that were made before."""
        self._set(_message=_Message(text))

    def _tell_message(self) -> None:
        self.said.emit(self._message.text)

    def want(self, what: Wanted) -> None:
        """Ask something of the window."""
        self.wanted.emit(what)

    def aim(self, point: ArrayLike) -> None:
        """Aim the meter at a point on the stage, (3,) metres."""
        self.aimed.emit(point)

    def close(self) -> None:
        """Tell that the window goes."""
        self.closing.emit()

    # What is shown

    def show_plan(
        self,
        plan: Plan,
        stage: Stage,
        library: Library,
        shot_index: int = 0,
        frame: int | None = None,
        history: History | None = None,
    ) -> None:
        """Work on another plan; what could be undone is forgotten, unless its own history comes with it."""
        index = min(max(0, shot_index), max(0, len(plan.shots) - 1))
        shot = plan.shots[index] if plan.shots else None
        first = shot.first if shot else 1001
        at = first if shot is None or frame is None else min(max(frame, shot.first), shot.last)
        self._set(
            plan=plan, stage=stage if shot is None else stage.of_shot(shot.name), library=library,
            shot_index=index, frame=at,
            history=history or History(),
            dragging=False, play_range=None, **_NOTHING_CHOSEN,
        )  # fmt: skip

    def show_shot(self, index: int) -> None:
        """Turn to another shot, at its first frame."""
        if index != self.shot_index and 0 <= index < len(self.plan.shots):
            shot = self.plan.shots[index]
            self._set(
                shot_index=index, frame=shot.first, stage=self.stage.of_shot(shot.name), walk=None,
                selected_mark=None, also_marked=frozenset(),
            )  # fmt: skip

    def show_frame(self, frame: float) -> None:
        """Go to a frame of the shot; beyond its ends counts as the end."""
        shot = self.shot
        if shot is not None:
            self._set(frame=min(max(round(frame), shot.first), shot.last))

    def show_below(self, what: Below) -> None:
        """Show something else in the chart's room, or the chart."""
        self._set(below=what)

    def show_seen(self, what: Seen) -> None:
        """Show something else in Picture's room, or Picture."""
        self._set(seen=what)

    def show_wall(self, source: WallSource) -> None:
        """Hang the plan's proofs on the wall, or the rungs of the last ladder."""
        if source != self.wall:
            self._set(wall=source, wall_mode="all", chosen_proofs=())

    def see_proofs(self, mode: WallMode) -> None:
        """See proofs otherwise."""
        self._set(wall_mode=mode)

    def set_proof_order(self, order: Order) -> None:
        """Choose the order of the wall, and remember it."""
        self.settings.put(keys.PROOF_ORDER, order)
        self._set(proof_order=order)

    def point_at_term(self, key: str) -> None:
        """Show a quantity in the views, or none."""
        self._set(pointed_term=key)

    def set_own_terms(self, owns: Sequence[OwnTerms]) -> None:
        """Know a person's own terms."""
        self._set(own_terms=tuple(owns))

    def choose_proofs(self, names: Sequence[str]) -> None:
        """Choose proofs by their names, the first one first."""
        self._set(chosen_proofs=tuple(names))

    def show_card(self, card: int) -> None:
        """Turn to a card."""
        self._set(card=card)

    def set_theme(self, theme: str) -> None:
        """Choose the colours, and remember them."""
        self.settings.put(keys.THEME, theme)
        self._set(theme=theme)

    def set_picture_scale(self, scale: float) -> None:
        """Tell how large the picture is shown: pixels on the screen for each at delivery."""
        self._set(picture_scale=scale)

    def walk_with(self, camera: MadeCamera | None) -> None:
        """Look from elsewhere, without changing the shot; None looks through its camera again."""
        self._set(walk=camera)

    def set_playing(self, playing: bool) -> None:
        """Tell whether the shot plays."""
        self._set(playing=playing)

    @property
    def played(self) -> tuple[int, int]:
        """First and last frame of the shot that are played."""
        shot = self.shot
        if shot is None:
            return 0, 0
        name, first, last = self.play_range or ("", 0, -1)
        first, last = (max(first, shot.first), min(last, shot.last)) if name == shot.name else (0, -1)
        return (first, last) if first <= last else (shot.first, shot.last)

    def play_only(self, first: float, last: float) -> None:
        """Play only these frames of the shot; its own are all."""
        shot = self.shot
        if shot is not None:
            low, high = sorted((round(first), round(last)))
            whole = low <= shot.first and high >= shot.last
            self._set(play_range=None if whole else (shot.name, low, high))

    def set_stop_steps(self, steps: StopSteps) -> None:
        """Choose which stops are taken when one steps or drags."""
        self.settings.put(keys.STOP_STEPS, steps)
        self._set(stop_steps=steps)

    def set_subject_order(self, order: str) -> None:
        """Choose the order of the list of subjects: "" by hand, or by "distance"."""
        self.settings.put(keys.SUBJECT_ORDER, order)
        self._set(subject_order=order)

    def throw(self, on: bool, px: float | None = None) -> None:
        """Show everything out of focus by as many pixels (below 0 as before the focus), or as it is."""
        throw_px = self.throw_px if px is None else px
        self.settings.put(keys.THROW_PX, throw_px)
        self._set(thrown=on, throw_px=throw_px)
        if on and self.thrown_px == 0.0:
            self.say("An orthographic view cannot be thrown out of focus.")

    @property
    def thrown_px(self) -> float:
        """By how much everything is shown out of focus; 0 where it is shown as it is."""
        camera = self.camera
        able = camera is not None and camera.projection != "orthographic"
        return self.throw_px if self.thrown and able else 0.0

    def show_file_as_it_is(self, on: bool) -> None:
        """Show a finished picture without the shot's blur, or with it."""
        self._set(file_as_it_is=on)

    def take_sight(self, parts: Parts, report: SightReport) -> None:
        """Take what was found along the lines of sight of some parts."""
        self._set(sight=(parts, report))

    # What is chosen

    def use(self, tool: Tool | None) -> None:
        """Take up a tool, or lay it down."""
        self._set(tool=tool)

    def select(self, stand_in: int | None = None, tape: str | None = None) -> None:
        """Choose a stand-in or a tape, or neither."""
        self._set(
            selected_stand_in=stand_in, selected_tape=tape, selected_plate=None, also_plates=frozenset()
        )

    def select_plates(self, number: int | None, besides: frozenset[int] = frozenset()) -> None:
        """Choose a plate, and others besides."""
        self._set(
            selected_plate=number, also_plates=besides - {number}, selected_stand_in=None, selected_tape=None
        )

    def set_cut_mode(self, mode: CutMode) -> None:
        """Say what becomes of a shape that is drawn."""
        self._set(cut_mode=mode)

    def select_dial(self, name: str | None) -> None:
        """Choose a dial."""
        self._set(selected_dial=name)

    def set_dial_start(self, start: DialEnd | None) -> None:
        """Take the low end of a dial that is being made, or forget it."""
        self._set(dial_start=start)

    def keep_of_plates(self, framing: bool, gaps: Gaps) -> None:
        """Say what stays the same when a plate is moved."""
        self._set(keeps_framing=framing, keeps_gaps=gaps)

    def select_node(self, place: Place | None) -> None:
        """Choose a part of a scene."""
        self._set(selected_node=place)

    def select_subject(self, number: int | None) -> None:
        """Choose a subject."""
        self._set(selected_subject=number)

    def select_mark(self, frame: float | None) -> None:
        """Choose a mark."""
        self._set(selected_mark=frame, also_marked=frozenset())

    def select_also(self, frame: float) -> None:
        """Choose a mark besides, or leave it out again."""
        self._set(also_marked=self.also_marked ^ {frame})

    def select_marks(self, frames: list[float]) -> None:
        """Choose several marks."""
        self._set(selected_mark=frames[0] if frames else None, also_marked=frozenset(frames[1:]))

    # Edits

    def edit(self, name: str, plan: Plan, **chosen: object) -> None:
        """Replace the plan, with a way back; edits of one drag become one step.

        Parameters
        ----------
        chosen : other fields that go with the edit, such as the mark that it makes; they are set even
            where the plan stays the same
        """
        values: dict[str, object] = {}
        if plan != self.plan:
            step = Step(name, self.plan, plan, self._drags if self.dragging else 0)
            values = {**self._with_plan(plan), "history": self.history.with_step(step)}
        self._set(**{**values, **chosen})
        self._want_missing()

    def edit_shot(self, name: str, change: Callable[[Shot], Shot], **chosen: object) -> None:
        """Replace the shot in work."""
        if self.shot is not None:
            self.edit(name, edit.with_shot(self.plan, self.shot_index, change(self.shot)), **chosen)

    def edit_glass(self, name: str, **changes: object) -> None:
        """Change some fields of the shot's glass."""
        self.edit_shot(name, lambda shot: shot.but(glass=shot.glass.but(**changes)))

    def edit_keyed(self, name: str, field: str, change: Callable[[Keyed], Keyed]) -> None:
        """Change a keyed value of the glass, ``f_number`` or ``focal_mm``."""

        def changed(shot: Shot) -> Shot:
            keyed = change(getattr(shot.glass, field))
            glass = shot.glass
            made = glasses.with_focal(glass, keyed) if field == "focal_mm" else glass.but(**{field: keyed})
            return shot.but(glass=made)

        self.edit_shot(name, changed)

    def set_keyed(self, name: str, field: str, value: float) -> None:
        """Change stop or focal length: its key at this frame, or the value where it has none."""
        self.edit_keyed(name, field, lambda keyed: keyed.set(Key(frame=self.frame, value=value)))

    def undo(self) -> None:
        """Take the last edit back."""
        step = self.history.last
        if step is not None:
            self._set(**{**self._with_plan(step.old), "history": self.history.undone()})
            self._want_missing()

    def redo(self) -> None:
        """Do again what was undone last."""
        step = self.history.next
        if step is not None:
            self._set(**{**self._with_plan(step.new), "history": self.history.redone()})
            self._want_missing()

    def mark_saved(self) -> None:
        """The plan as it is now counts as saved."""
        self._set(history=self.history.marked_saved())

    def mark_unsaved(self) -> None:
        """The plan's file is gone: no state of it counts as saved."""
        self._set(history=replace(self.history, saved=None))

    def restage(self, library: Library, like: Stage) -> None:
        """Files were read: set the stage with them; `like` has what was built already."""
        stage = stage_of(self.plan, library, like)
        self._set(library=library, stage=stage if self.shot is None else stage.of_shot(self.shot.name))

    def _with_plan(self, plan: Plan) -> dict[str, object]:
        """The fields that go with another plan: its stage, and shot, frame and mark within it."""
        stage = self._stage_for(plan)
        names = [shot.name for shot in plan.shots]
        index = min(self.shot_index, max(0, len(names) - 1))
        if self.shot is not None and self.shot.name in names:
            index = names.index(self.shot.name)
        values: dict[str, object] = {"plan": plan, "stage": stage, "shot_index": index}
        if plan.shots:
            shot = plan.shots[index]
            values["stage"] = stage.of_shot(shot.name)
            marks = [mark.frame for mark in shot.marks]
            values["frame"] = min(max(self.frame, shot.first), shot.last)
            values["selected_mark"] = self.selected_mark if self.selected_mark in marks else None
            values["also_marked"] = self.also_marked & frozenset(marks)
        return values

    def _stage_for(self, plan: Plan) -> Stage:
        """The stage of another plan: one of the last few where it had it before, as when edits are undone.

        Pixels of plates may have been made since, so a stage with plates is always set anew.
        """
        if staged_alike(self.plan, plan):
            return self.stage
        kept = [each for each in self._stages if each[2] is not self.stage.whole]
        self._stages = [*kept, (self.plan, self.library, self.stage.whole)][-_STAGES_KEPT:]
        for before, library, stage in reversed(self._stages):
            if library is self.library and not plan.plates and staged_alike(before, plan):
                return stage
        return stage_of(plan, self.library, self.stage)

    def _want_missing(self) -> None:
        if self.library.missing(self.plan):
            self.want("files")

    # Drags

    def begin_drag(self) -> None:
        """Something starts to be dragged: edits become one step until the drag ends."""
        if not self.dragging:
            self._drags += 1
            self._before_drag = {name: self._values[name] for name in ("plan", *_KEPT_BY_A_DRAG)}
            self._set(dragging=True)

    def end_drag(self) -> None:
        """The drag is over."""
        self._set(dragging=False)

    def cancel_drag(self) -> None:
        """The drag is over, and all is as it was before it."""
        if self.dragging:
            before = self._before_drag
            kept = {name: before[name] for name in _KEPT_BY_A_DRAG}
            self._set(**{**self._with_plan(before["plan"]), **kept, "dragging": False})

    # Rays

    def pick(self, origin: ArrayLike, direction: ArrayLike) -> Pick | None:
        """What a ray meets at the frame; None too while the stage is still being built."""
        if not self.stage.built:
            return None
        return self.stage.pick(self.frame, origin, direction, self.camera.eye if self.camera else None)
