"""What a click or a hovering pointer in Picture means, by card and by tool."""

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QGuiApplication

from kobrel.errors import KobrelError
from kobrel.plan.measure.camera import Sight
from kobrel.plan.model import StandInAnchor, SubjectEnd, SubjectTarget
from kobrel.plan.names import is_of_a_file, thing_name
from kobrel.plan.pictures.plates import PlateAnchor
from kobrel.plan.space.anchors import on_surface
from kobrel.plan.space.moves import vector
from kobrel.plan.space.plates import plate_number
from kobrel.plan.space.stand_ins import number_of
from kobrel.session.commands import blocking, pulling, rendered_image, taping
from kobrel.session.commands.focusing import focus_at_m, focus_distance, focus_on, focus_on_subject
from kobrel.session.commands.plates import placing
from kobrel.session.commands.subject_list import add_subject
from kobrel.session.commands.visibility import isolate, set_shown
from kobrel.session.numbers import Now
from kobrel.session.selection import ChosenNode, ChosenStandIn
from kobrel.session.session import Session
from kobrel.session.tools import PLACING_TABS, Tool
from kobrel.stage.stage import Pick


@dataclass(frozen=True)
class Probed:
    """What lies under the pointer."""

    pick: Pick
    sight: Sight
    name: str


class Pointing:
    """Reads the stage through Picture for a session."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def pick(self, at: QPointF, box: QRectF) -> Pick | None:
        """What is seen at a place within the picture's box."""
        camera = self._session.camera
        if camera is None or not box.contains(at):
            return None
        origin, toward = camera.ray(at.x() - box.left(), at.y() - box.top(), box.width(), box.height())
        return self._session.pick(origin, toward)

    def probe(self, at: QPointF, box: QRectF) -> Probed | None:
        """The numbers of what is seen at a place."""
        pick, now = self.pick(at, box), self._session.now
        return self._probed(now, pick) if now is not None and pick is not None else None

    @staticmethod
    def _probed(now: Now, pick: Pick) -> Probed:
        return Probed(pick, now.camera.see(pick.point), thing_name(now.plan, pick.place))

    def words(self, probed: Probed) -> str:
        """The probe's reading in one line."""
        session, sight = self._session, probed.sight
        return (
            f"{probed.name}   {session.length(float(sight.axial_m))} on axis, "
            f"{session.length(float(sight.straight_m))} straight, {float(sight.blur_px):.1f} px blur"
        )

    def copy(self, probed: Probed) -> None:
        """Put the reading on the clipboard."""
        QGuiApplication.clipboard().setText(self.words(probed))
        self._session.say(f"Copied: {self.words(probed)}")

    def focus(self, now: Now, pick: Pick) -> None:
        """Put the focus at the distance of what was picked."""
        if not pulling.put_point(self._session, vector(pick.point)):
            focus_at_m(self._session, focus_distance(now.camera, pick.point))

    def take(self, now: Now, pick: Pick, at: QPointF, box: QRectF) -> None:
        """A click on a thing: whatever the tool or the card makes of it."""
        session, tool = self._session, self._session.selection.tool
        number, plate = number_of(pick.place.scene), plate_number(pick.place.scene)
        if session.view.playing:
            self._pull_to(pick)
        elif tool is not None and tool.does == "place" and tool.stand_in is not None:
            blocking.place(session, tool.stand_in, pick.point)
        elif tool is not None and tool.does == "tape":
            where = at - box.topLeft()
            end, what = taping.snapped(now, pick, where.x(), where.y(), box.width())
            taping.take_end(session, end)
            if what in ("vertex", "edge") and session.selection.tool is not None:
                session.say(f"Snapped to a {what} of {taping.end_name(session, end)}.")
        elif tool is not None and tool.does == "aim":
            session.aim(pick.point)
        elif tool is not None:
            self.copy(self._probed(now, pick))
        elif session.view.card in PLACING_TABS:
            if plate is not None:
                placing.choose(session, plate)
            elif number is None:
                with session.as_one():
                    session.selection.item = None
                    session.selection.item = ChosenNode(pick.place)
            else:
                session.selection.item = ChosenStandIn(number)
        elif plate is not None:
            self._make_plate_subject(plate)
        elif number is not None and session.plan.stand_in(number) is not None:
            session.selection.item = ChosenStandIn(number)
            already = next(
                (s.number for s in session.plan.subjects if s.anchor == StandInAnchor(number=number)), None
            )
            if already is None:
                blocking.make_subject(session)
            else:
                self._add_surface(pick)
        else:
            self._add_surface(pick)

    def _make_plate_subject(self, number: int) -> None:
        """Make a plate a subject, or focus on the one that it is."""
        session = self._session
        known = next((s for s in session.plan.subjects if s.anchor == PlateAnchor(number=number)), None)
        if known is not None:
            focus_on_subject(session, known.number)
            return
        placing.choose(session, number)
        placing.make_subject(session)

    def measure(self, now: Now, at: QPointF, box: QRectF) -> None:
        """A click on one side of an edge or a disc of a rendered image, and then on the other."""
        session, tool = self._session, self._session.selection.tool
        if tool is None or not box.contains(at):
            return
        place = (at.x() - box.left()) / box.width(), (at.y() - box.top()) / box.height()
        if tool.place is None:
            session.selection.tool = Tool("measure", place=place)
            session.say("Click the other side of the edge or disc")
            return
        session.selection.tool = None
        try:
            session.say(rendered_image.measure(session, now.camera, tool.place, place))
        except KobrelError as error:
            session.say(str(error))

    def _pull_to(self, pick: Pick) -> None:
        """While the shot plays: a mark on the subject that was clicked, if it is one."""
        for subject in self._session.plan.subjects:
            anchor = subject.anchor
            stands = isinstance(anchor, StandInAnchor) and anchor.number == number_of(pick.place.scene)
            stands |= isinstance(anchor, PlateAnchor) and anchor.number == plate_number(pick.place.scene)
            place = (getattr(anchor, "scene", None), getattr(anchor, "node", None))
            if stands or place == (pick.place.scene, pick.place.path):
                focus_on(self._session, SubjectTarget(number=subject.number))
                return
        self._session.say("Click a subject or its tag to pull to it during playback")

    def actions(self, pick: Pick) -> list[tuple[str, Callable[[], object]]]:
        """What can be done with what was picked: its name in a menu, and the work."""
        session, now = self._session, self._session.now
        if now is None:
            return []
        probed = self._probed(now, pick)
        name = probed.name
        result: list[tuple[str, Callable[[], object]]] = [
            (f"Make {name} a subject", lambda: self._add_surface(pick)),
            ("Focus here", lambda: self.focus(now, pick)),
            ("Start a tape here", lambda: self._tape_from(pick)),
            ("Copy its distance", lambda: self.copy(probed)),
        ]
        if is_of_a_file(pick.place.scene):
            result += [
                (f"Hide {name}", lambda: set_shown(session, pick.place, False)),
                (f"Isolate {name}", lambda: isolate(session, pick.place)),
            ]
        return result

    def _tape_from(self, pick: Pick) -> None:
        taping.begin(self._session)
        taping.take_end(self._session, on_surface(pick))

    def _add_surface(self, pick: Pick) -> None:
        add_subject(self._session, thing_name(self._session.plan, pick.place), on_surface(pick))

    def take_tag(self, number: int) -> None:
        """A click on a subject's tag: with a tape in the making its end, else the focus goes there."""
        tool = self._session.selection.tool
        if tool is not None and tool.does == "tape":
            with self._session.as_one():
                self._session.selection.subject = number
                taping.take_end(self._session, SubjectEnd(number=number))
        else:
            focus_on_subject(self._session, number)
