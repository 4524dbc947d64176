"""What is worked on, and its numbers: plan, shot, frame and stage, surveyed once for all views."""

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QObject

from kobrel.desk.history import same
from kobrel.errors import PlanError
from kobrel.optics.units import Measure, format_length, measure, scene_measure
from kobrel.plan import edit
from kobrel.plan.brief import Judged, judge
from kobrel.plan.camera import Camera
from kobrel.plan.instrument import Glass
from kobrel.plan.model import MadeCamera, Plan, Shot
from kobrel.plan.pace import Pace, UnseenRack, pace, unseen_racks
from kobrel.plan.sight import Sightlines
from kobrel.plan.stand_ins import number_of
from kobrel.plan.survey import Survey, survey
from kobrel.stage.stage import Stage


@dataclass(frozen=True, eq=False)
class Looked:
    """What was found along the lines of sight, and what to look out for, in sentences."""

    sight: Sightlines
    warnings: tuple[str, ...]


class Work(QObject):
    """Plan, shot, frame and stage, and the numbers that follow from them, kept while they hold."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.plan = Plan()
        self.stage = Stage()
        self.shot_index = 0
        self.frame = 1001
        self.walk: MadeCamera | None = None
        self.looked: tuple[tuple[object, ...], Looked] | None = None
        self.problem = ""
        self._camera: tuple[tuple[object, ...], Camera] | None = None
        self._survey: tuple[tuple[object, ...], Survey | None] | None = None
        self._judged: tuple[Survey, Judged | None] | None = None
        self._paced: tuple[Survey, Pace, list[UnseenRack]] | None = None

    @property
    def shot(self) -> Shot | None:
        """The shot in work, or None in an empty plan."""
        return self.plan.shots[self.shot_index] if self.plan.shots else None

    @property
    def unit(self) -> Measure:
        """The unit in which lengths are shown: the plan's, or that of its first scene."""
        if self.plan.unit != "scene":
            return measure(self.plan.unit)
        first = next((s.unit_m for name, s in self.stage.scenes.items() if number_of(name) is None), 1.0)
        return scene_measure(first)

    def length(self, metres: float) -> str:
        """A length in the chosen unit."""
        return format_length(float(metres), self.unit)

    @property
    def survey(self) -> Survey | None:
        """All numbers of the shot, or None where its camera is missing (then see `problem`).

        While somebody walks about, they are those of the walker's camera.
        """
        key = (*self.work, self.walk)
        if self._survey and same(self._survey[0], key):
            return self._survey[1]
        result, self.problem = None, ""
        shot = self.shot
        if shot is not None:
            seen = edit.with_camera(shot, self.walk) if self.walk else shot
            try:
                result = survey(self.plan, seen, self.stage, last=self._survey[1] if self._survey else None)
                result = self._as_before(key, result)
            except PlanError as error:
                self.problem = str(error)
        self._survey = (key, result)
        return result

    def _as_before(self, key: tuple[object, ...], fresh: Survey) -> Survey:
        """The last survey where only things moved that no number depends on: views need not repaint."""
        last, old = self._survey or (key, None)
        plan, index, _stage, walk = last
        unchanged = (
            old is not None
            and isinstance(plan, Plan)
            and (index, walk) == (key[1], key[3])
            and plan.shots == self.plan.shots
            and plan.subjects == self.plan.subjects
            and np.array_equal(old.points, fresh.points, equal_nan=True)
            and np.array_equal(old.camera.pose, fresh.camera.pose)
            and np.array_equal(old.camera.focus_m, fresh.camera.focus_m)
            and old.camera.near_clip_m == fresh.camera.near_clip_m
        )
        return old if unchanged and old is not None else fresh

    @property
    def work(self) -> tuple[object, ...]:
        """What the numbers of the shot depend on, to tell whether they still hold."""
        return (self.plan, self.shot_index, self.stage)

    @property
    def found(self) -> Looked | None:
        """What was last found along the lines of sight, if it still holds."""
        return self.looked[1] if self.looked and same(self.looked[0], self.work) else None

    @property
    def row(self) -> int:
        """Index of the frame within the survey."""
        return self.frame - self.shot.first if self.shot else 0

    @property
    def camera(self) -> Camera | None:
        """The camera at the frame."""
        numbers = self.survey
        if numbers is None:
            return None
        key = (numbers, self.row)
        if self._camera is None or not same(self._camera[0], key):
            self._camera = key, numbers.camera.frame(self.row)
        return self._camera[1]

    @property
    def judged(self) -> Judged | None:
        """How the shot fares against its brief; None where there is none, or nothing to judge."""
        numbers, shot = self.survey, self.shot
        if numbers is None or shot is None:
            return None
        if self._judged is None or self._judged[0] is not numbers:
            self._judged = numbers, judge(self.plan, shot, numbers)
        return self._judged[1]

    @property
    def pace(self) -> Pace | None:
        """The speed of the shot's focus."""
        paced = self._pace_of()
        return paced[1] if paced else None

    @property
    def unseen_racks(self) -> list[UnseenRack]:
        """Racks of the shot that show nothing."""
        paced = self._pace_of()
        return paced[2] if paced else []

    def _pace_of(self) -> tuple[Survey, Pace, list[UnseenRack]] | None:
        numbers, shot = self.survey, self.shot
        if numbers is None or shot is None:
            return None
        if self._paced is None or self._paced[0] is not numbers:
            self._paced = numbers, pace(shot, numbers), unseen_racks(shot, numbers)
        return self._paced

    @property
    def glass(self) -> Glass | None:
        """The glass of the shot in work."""
        return self.shot.glass if self.shot else None
