"""What a plan asks for that cannot be, in sentences for a person."""

import numpy as np

from kobrel.errors import PlanError
from kobrel.plan.anchors import subject_points
from kobrel.plan.model import Plan, PointAnchor, Shot
from kobrel.plan.survey import GONE, Survey, survey
from kobrel.stage.stage import Stage


def findings(plan: Plan, stage: Stage) -> list[str]:
    """Missing nodes and cameras, marks on nothing, subjects that a shot focuses on unseen."""
    found = [
        f"Subject {subject.number} {subject.name}: its node {subject.anchor.node} is not in scene "
        f"{subject.anchor.scene}. Pick it again."
        for subject in plan.subjects
        if not isinstance(subject.anchor, PointAnchor)
        and np.isnan(subject_points(subject.anchor, [0.0], stage)).any()
    ]
    if not plan.shots:
        found.append("The plan has no shots.")
    for shot in plan.shots:
        try:
            found += _of_shot(plan, shot, survey(plan, shot, stage))
        except PlanError as error:
            found.append(str(error))
    return found


def _of_shot(plan: Plan, shot: Shot, numbers: Survey) -> list[str]:
    found = []
    for mark in shot.marks:
        if mark.target.kind != "subject":
            continue
        subject = plan.subject(mark.target.number)
        if subject is None:
            found.append(
                f"Shot {shot.label}, frame {mark.frame:g}: the mark is on subject "
                f"{mark.target.number}, which is not there."
            )
        elif shot.first <= mark.frame <= shot.last:
            row = numbers.subjects.index(subject.number)
            if numbers.state[row, numbers.index_of(mark.frame)] == GONE:
                found.append(
                    f"Shot {shot.label}, frame {mark.frame:g}: the focus is on {subject.name}, "
                    "which is out of the picture."
                )
    return found
