"""The numbers of the shot in work, made once for all views."""

from collections.abc import Iterable
from typing import Any, NamedTuple, SupportsFloat, cast

import numpy as np

from kobrel.errors import PlanError
from kobrel.memo import Memo, Parts, same
from kobrel.optics.units import Measure, format_length, format_lengths
from kobrel.plan import edit
from kobrel.plan.instrument import Glass
from kobrel.plan.measure.arrival import Diagnostic
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.occlusion import Sightlines
from kobrel.plan.measure.pace import Pace, UnseenRack, pace, unseen_racks
from kobrel.plan.measure.survey import Survey, survey
from kobrel.plan.model import DistanceTarget, Plan, Shot, SubjectTarget, Target
from kobrel.plan.solve.brief import Judged, judge
from kobrel.plan.staging import unit_of
from kobrel.session.document import Document
from kobrel.session.evented import Field, Values
from kobrel.stage.stage import Stage

ON_SUBJECT_DPT = 1e-6
NUMBERS = (Document.plan, Document.shot_index, Document.stage, Document.walk)
"""The fields that the numbers of a shot depend on."""
AT_FRAME = (*NUMBERS, Document.frame)
"""The fields that numbers at the frame depend on."""


class Now(NamedTuple):
    """The shot in work at its frame, with its numbers; there is none without a shot and its camera.

    Parameters
    ----------
    row : index of the frame within the survey
    survey : numbers of all frames
    camera : at the frame
    """

    plan: Plan
    shot: Shot
    stage: Stage
    frame: int
    row: int
    survey: Survey
    camera: Camera

    @property
    def glass(self) -> Glass:
        """The glass of the shot."""
        return self.shot.glass


class SightReport(NamedTuple):
    """What was found along the lines of sight, what would spoil a render, in sentences, and what can
    hardly be meant.
    """

    lines: Sightlines
    warnings: tuple[str, ...]
    doubts: tuple[Diagnostic, ...] = ()


class ShotNumbers(Document):
    """The document with the numbers that follow from it.

    Fields
    ------
    sight : the last sight report, with the parts that it is of
    """

    sight: Field[tuple[Parts, SightReport] | None] = Field(None)

    def __init__(self, values: Values) -> None:
        super().__init__(values)
        self._surveys = Memo[tuple[Survey | None, str]]()
        self._now = Memo[Now | None]()
        self._judged = Memo[Judged | None]()
        self._pace = Memo[Pace]()
        self._racks = Memo[list[UnseenRack]]()

    @property
    def parts(self) -> Parts:
        """What the numbers of the shot depend on, to tell whether they still hold."""
        return (self.plan, self.shot_index, self.stage)

    # Numbers

    @property
    def survey(self) -> Survey | None:
        """All numbers of the shot, or None where its camera is missing (then see `problem`). While the
        view camera is elsewhere, they are of that camera.
        """
        return self._surveys.get((*self.parts, self.walk), self._take_survey)[0]

    @property
    def problem(self) -> str:
        """Why there are no numbers; "" where there are, or where there is no shot."""
        return self._surveys.get((*self.parts, self.walk), self._take_survey)[1]

    def _take_survey(self) -> tuple[Survey | None, str]:
        shot, before = self.shot, self._surveys.last
        if shot is None:
            return None, ""
        seen = edit.with_camera(shot, self.walk) if self.walk else shot
        last = before[0] if before else None
        try:
            return self._unless_alike(last, survey(self.plan, seen, self.stage, last=last)), ""
        except PlanError as error:
            return None, str(error)

    def _unless_alike(self, last: Survey | None, fresh: Survey) -> Survey:
        """The last survey where only things moved that no number depends on: views need not repaint."""
        now = self._now.last
        unchanged = (
            last is not None
            and now is not None
            and now.survey is last
            and now.shot is self.shot
            and now.plan.shots == self.plan.shots
            and now.plan.subjects == self.plan.subjects
            and now.plan.dials == self.plan.dials
            and np.array_equal(last.points, fresh.points, equal_nan=True)
            and np.array_equal(last.camera.pose, fresh.camera.pose)
            and np.array_equal(last.camera.focus_m, fresh.camera.focus_m)
            and last.camera.near_clip_m == fresh.camera.near_clip_m
        )
        return last if unchanged and last is not None else fresh

    @property
    def now(self) -> Now | None:
        """The shot at its frame with its numbers, or None where there are none."""
        numbers = self.survey
        return self._now.get((numbers, self.plan, self.stage, self.shot_index, self.frame), self._take_now)

    def _take_now(self) -> Now | None:
        numbers, shot, last = self.survey, self.shot, self._now.last
        if numbers is None or shot is None:
            return None
        row = self.frame - shot.first
        known = last is not None and last.survey is numbers and last.row == row
        camera = last.camera if last is not None and known else numbers.camera.frame(row)
        return Now(self.plan, shot, self.stage, self.frame, row, numbers, camera)

    @property
    def camera(self) -> Camera | None:
        """The camera at the frame."""
        now = self.now
        return now.camera if now else None

    @property
    def row(self) -> int:
        """Index of the frame within the survey."""
        return self.frame - self.shot.first if self.shot else 0

    @property
    def judged(self) -> Judged | None:
        """How the shot fares against its brief; None where there is none, or nothing to judge."""
        now = self.now
        if now is None:
            return None
        return self._judged.get((now.survey,), lambda: judge(now.plan, now.shot, now.survey))

    def pace_of(self, now: Now) -> Pace:
        """The speed of the shot's focus."""
        return self._pace.get((now.survey,), lambda: pace(now.shot, now.survey))

    def unseen_racks_of(self, now: Now) -> list[UnseenRack]:
        """Racks of the shot that show nothing."""
        return self._racks.get((now.survey,), lambda: unseen_racks(now.shot, now.survey))

    @property
    def doubts(self) -> tuple[Diagnostic, ...]:
        """What of the shot can hardly be meant, as far as it is known yet."""
        report = self.sight_report
        return report.doubts if report is not None and self.walk is None else ()

    @property
    def sight_report(self) -> SightReport | None:
        """What was last found along the lines of sight, if it still holds."""
        return self.sight[1] if self.sight and same(self.sight[0], self.parts) else None

    def subject_in_focus(self) -> SubjectTarget | None:
        """The subject that the focus is exactly on at this frame."""
        now = self.now
        if now is None:
            return None
        for row, number in enumerate(now.survey.subjects):
            distance = float(now.survey.focus_distance_m[row, now.row])
            if distance > 0 and abs(1 / distance - 1 / float(now.camera.focus_m)) < ON_SUBJECT_DPT:
                return SubjectTarget(number=number)
        return None

    # Words

    @property
    def unit(self) -> Measure:
        """The unit in which lengths are shown: the plan's, or that of its first scene."""
        return unit_of(self.plan, self.stage)

    def length(self, metres: SupportsFloat) -> str:
        """A length in the chosen unit."""
        return format_length(float(metres), self.unit)

    def lengths(self, metres: Iterable[Any]) -> list[str]:
        """Lengths as shown, told apart where they differ."""
        return format_lengths([float(each) for each in metres], self.unit)

    def target_label(self, target: Target) -> str:
        """What a mark is on, in words."""
        name = self.plan.name_of(target)
        return name if name is not None else self.length(cast(DistanceTarget, target).metres)
