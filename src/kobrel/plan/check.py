"""What a plan asks for that cannot be, or should be looked at, in sentences for a person."""

import math

import numpy as np

from kobrel.errors import PlanError
from kobrel.optics.units import METRES, UNIT_NAMES, LengthUnit, format_length
from kobrel.plan.glass import lens_doubts
from kobrel.plan.instrument import BACKGROUND
from kobrel.plan.masks import mask_fault
from kobrel.plan.measure.arrival import Diagnostic, shot_doubts
from kobrel.plan.measure.occlusion import Sightlines, sightlines
from kobrel.plan.measure.pace import pace_doubts
from kobrel.plan.measure.survey import GONE, Survey, spans, survey
from kobrel.plan.model import Plan, PointAnchor, Shot, StandInAnchor, SubjectEnd
from kobrel.plan.names import is_of_a_file
from kobrel.plan.pictures.plates import PlateAnchor
from kobrel.plan.plates.edges import edge_report
from kobrel.plan.solve.brief import UNMET, judge
from kobrel.plan.space.anchors import is_drawn, subject_points
from kobrel.stage.scene import Progress, Scene, no_progress
from kobrel.stage.stage import Place, Stage

_PEOPLE = ("person", "people", "human", "man", "woman", "boy", "girl", "child", "figure", "actor", "ferryman",
           "passenger", "character")  # fmt: skip
_PERSON_M = (0.45, 2.6)
_TALL_M = 1.7
_SCENE_M = (0.02, 50_000.0)
_SPECK_M = 1e-3
"""The smallest scene of a file that tells its unit."""


def findings(plan: Plan, stage: Stage) -> list[str]:
    """Missing nodes and cameras, marks and tapes on nothing, subjects focused on unseen, and
    scenes in a unit that cannot be meant.
    """
    found = [
        f"Subject {subject.number} {subject.name}: object {subject.anchor.node} not found in scene "
        f"{subject.anchor.scene}. Pick it again."
        for subject in plan.subjects
        if not isinstance(subject.anchor, PointAnchor | StandInAnchor | PlateAnchor)
        and np.isnan(subject_points(subject.anchor, [0.0], stage)).any()
    ]
    found += [
        f"Subject {subject.number} {subject.name}: its stand-in no longer exists. Pick it again."
        for subject in plan.subjects
        if isinstance(subject.anchor, StandInAnchor) and plan.stand_in(subject.anchor.number) is None
    ]
    found += [
        f"Subject {subject.number} {subject.name}: its plate no longer exists. Pick it again."
        for subject in plan.subjects
        if isinstance(subject.anchor, PlateAnchor) and plan.plate(subject.anchor.number) is None
    ]
    found += [
        f"Dial {dial.name} drives a plate that no longer exists."
        for dial in plan.dials
        if any(drive.plate is not None and plan.plate(drive.plate) is None for drive in dial.drives)
    ]
    found += [
        f"Dial {dial.name} drives the lens of shot {dial.shot}, which does not exist."
        for dial in plan.dials
        if any(drive.plate is None for drive in dial.drives)
        and dial.shot not in {shot.name for shot in plan.shots}
    ]
    found += [
        f"Tape {tape.name}: subject {end.number} at its end no longer exists."
        for tape in plan.tapes
        for end in (tape.start, tape.end)
        if isinstance(end, SubjectEnd) and plan.subject(end.number) is None
    ]
    for name in stage.scenes:
        if is_of_a_file(name):
            found += [doubt.text for doubt in unit_doubts(name, stage)]
    found += mask_faults(plan)
    if not plan.shots:
        found.append("The plan has no shots.")
    for shot in plan.shots:
        try:
            found += _of_shot(plan, shot, survey(plan, shot, stage))
            found += [doubt.text for doubt in shot_doubts(plan, shot, stage)]
            found += _rate_doubt(plan, shot, stage)
        except PlanError as error:
            found.append(str(error))
    return found


def _rate_doubt(plan: Plan, shot: Shot, stage: Stage) -> list[str]:
    """Whether a scene that moves counts its frames at another rate than the shot."""
    names = [name for name, scene in stage.scenes.items() if is_of_a_file(name) and scene.moving]
    return [
        f"Shot {shot.label} is {shot.fps:g} fps, scene {name} is {stage.scenes[name].fps:g} fps: motion "
        f"will be {'slower' if stage.scenes[name].fps > shot.fps else 'faster'}."
        for name in names
        if abs(stage.scenes[name].fps - shot.fps) > 0.01
    ]


def mask_faults(plan: Plan) -> list[str]:
    """What keeps masks of the shots' irises from being used."""
    faults = [(shot, mask_fault(shot.iris)) for shot in plan.shots]
    return [f"Shot {shot.label}: {fault}" for shot, fault in faults if fault]


def _of_shot(plan: Plan, shot: Shot, numbers: Survey) -> list[str]:
    found = [
        f"Shot {shot.label}: its brief names subject {requirement.subject}, which does not exist."
        for requirement in shot.brief
        if requirement.subject != BACKGROUND and plan.subject(requirement.subject) is None
    ]
    if shot.keeps is not None and plan.subject(shot.keeps.subject) is None:
        found.append(
            f"Shot {shot.label}: its camera keeps the size of subject {shot.keeps.subject}, "
            "which does not exist."
        )
    for mark in shot.marks:
        if mark.target.kind != "subject":
            continue
        subject = plan.subject(mark.target.number)
        if subject is None:
            found.append(
                f"Shot {shot.label}, frame {mark.frame:g}: the mark is on subject "
                f"{mark.target.number}, which does not exist."
            )
        elif shot.first <= mark.frame <= shot.last:
            row = numbers.subjects.index(subject.number)
            where = f"Shot {shot.label}, frame {mark.frame:g}: the focus is on {subject.name}, "
            if numbers.state[row, numbers.index_of(mark.frame)] == GONE:
                found.append(f"{where}which is out of the picture.")
            elif not is_drawn(subject.anchor, [mark.frame], numbers.of[1]).all():
                found.append(f"{where}which is switched off there.")
    return found


def shot_warnings(plan: Plan, shot: Shot, stage: Stage, progress: Progress = no_progress) -> list[str]:
    """What would spoil a render of a shot: things cut by the near clip, subjects that leave the
    picture or are hidden.

    Raises
    ------
    PlanError
        The shot's camera is in no scene of the stage.
    Cancelled
        `progress` asked to stop.
    """
    return warnings_from(plan, shot, survey(plan, shot, stage), sightlines(plan, shot, stage, progress))


def warnings_from(plan: Plan, shot: Shot, numbers: Survey, sight: Sightlines) -> list[str]:
    """As :func:`shot_warnings`, from numbers at hand."""

    def length(metres: float) -> str:
        return format_length(metres, plan_unit(plan))

    found = []
    clip = numbers.camera.near_clip_m
    cut = sight.nearest_m < clip
    if cut.any():
        found.append(
            f"{sight.nearest} comes within {length(float(sight.nearest_m.min()))} and is clipped by the "
            f"near plane ({length(clip)}) at {spans(numbers.frames, cut, 'all frames', '')}."
        )
    for row, number in enumerate(numbers.subjects):
        subject = plan.subject(number)
        gone = numbers.state[row] == GONE
        if subject is None:
            continue
        if gone.any() and not gone.all():
            found.append(f"{subject.name} is out of frame at {spans(numbers.frames, gone, '', '')}.")
        undrawn = ~is_drawn(subject.anchor, numbers.frames, numbers.of[1])
        if undrawn.any():
            frames = spans(numbers.frames, undrawn, "all frames", "")
            found.append(f"{subject.name} is switched off at {frames}: nothing of it is drawn there.")
        if sight.hidden[row].any():
            frames = spans(numbers.frames, sight.hidden[row], "all frames", "")
            found.append(f"{subject.name} is hidden by {sight.by[row]} at {frames}.")
    largest, frame = sight.largest_disc(numbers)
    if shot.most_px is not None and largest > shot.most_px * (1 + 1e-6):
        found.append(
            f"Blur reaches {largest:.0f} px at frame {frame:g}; the renderer's maximum is "
            f"{shot.most_px:g} px. Raise the maximum, stop down, or keep objects farther away."
        )
    found += lens_doubts(shot, numbers) + pace_doubts(plan, shot, numbers) + _unmet(plan, shot, numbers)
    return found + _edges(plan, numbers)


def _edges(plan: Plan, numbers: Survey) -> list[str]:
    """Plates that are meant to cover the frame and show an edge."""
    reports = [
        (plate, edge_report(plan, plate, numbers.of[1], numbers.camera, numbers.frames))
        for plate in plan.plates
        if plate.shown
    ]
    return [f"{plate.name}: {report.words}" for plate, report in reports if report.needed > 0]


def _unmet(plan: Plan, shot: Shot, numbers: Survey) -> list[str]:
    """Requirements of the brief that are not met."""
    judged = judge(plan, shot, numbers)
    if judged is None:
        return []
    return [
        f"Not met: {text}, at {spans(numbers.frames, states == UNMET, 'all frames', '')}."
        for text, states in zip(judged.brief.texts, judged.verdicts, strict=True)
        if (states == UNMET).any()
    ]


def plan_unit(plan: Plan) -> LengthUnit:
    """The unit to write lengths in, metres for scenes' own."""
    return "m" if plan.unit == "scene" else plan.unit


def unit_doubts(name: str, stage: Stage) -> list[Diagnostic]:
    """Whether a scene's size says that its unit is another: people of 17 mm, a world of a speck."""
    scene = stage.scenes[name]
    person = _a_person(name, scene, stage)
    if person is not None:
        path, height = person
        if _PERSON_M[0] <= height <= _PERSON_M[1]:
            return []
        unit = better_unit(height, scene.unit_m, _TALL_M)
        text = (
            f"Scene {name}: {path} is {format_length(height, 'mm' if height < 0.1 else 'm')} tall. The "
            f"scene's unit is probably {_unit_name(unit)}."
        )
        return [_unit_doubt(text, name, unit)]
    low, high = stage.bounds()
    size = float(np.linalg.norm(high - low))
    smallest = _SPECK_M if scene.says_unit else _SCENE_M[0]
    if len(stage.scenes) > 1 or not stage.triangle_count or smallest <= size <= _SCENE_M[1]:
        return []
    unit = better_unit(size, scene.unit_m, 10.0)
    shown = format_length(size, "mm" if size < 1 else "m")
    text = f"Scene {name}: all of it is {shown} wide. {_unit_name(unit)} as its unit may be meant."
    return [_unit_doubt(text, name, unit)]


def _unit_doubt(text: str, scene: str, unit: LengthUnit) -> Diagnostic:
    return Diagnostic(text, "unit", f"Use {_unit_name(unit).lower()}", scene, METRES[unit])


def _unit_name(unit: LengthUnit) -> str:
    return "Feet" if unit == "ft" else UNIT_NAMES[unit]


def better_unit(length_m: float, unit_m: float, wanted_m: float) -> LengthUnit:
    """The unit that brings a length nearest to a wanted one.

    >>> better_unit(0.017, 0.01, 1.7)
    'm'
    """

    def off(unit: LengthUnit) -> float:
        return abs(math.log(length_m / unit_m * METRES[unit] / wanted_m))

    units: tuple[LengthUnit, ...] = ("m", "cm", "mm", "in", "ft")
    return min(units, key=off)


def _a_person(name: str, scene: Scene, stage: Stage) -> tuple[str, float] | None:
    """The first node whose name tells of a person and that has a shape, and its height."""
    at = [float(scene.first_frame or 0)]
    for node in scene.nodes:
        words = node.name.lower().replace("-", "_").rstrip("0123456789").split("_")
        if not any(word in _PEOPLE for word in words):
            continue
        rows = stage.rows_below(Place(name, node.path))
        if rows:
            corners = stage.boxes(at[0])[rows].reshape(-1, 3)
            corners = corners[np.isfinite(corners[:, 1])]
            if len(corners):
                return node.path, float(np.ptp(corners[:, 1])) or 1e-9
    return None
