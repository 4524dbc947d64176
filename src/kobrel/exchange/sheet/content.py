"""What a shot's sheet says, in words and numbers, before it is laid out."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from kobrel.exchange.sheet.canvas import jpeg
from kobrel.exchange.sheet.plates import plate_words
from kobrel.optics.lens import Numbers
from kobrel.optics.units import Measure, format_length, timecode
from kobrel.picture.denoise import can_denoise
from kobrel.picture.develop import as_shown
from kobrel.picture.tracer import exposed
from kobrel.picture.view import View
from kobrel.plan.instrument import Lens
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.pace import Pace, closest_m, pace
from kobrel.plan.measure.survey import Survey, survey
from kobrel.plan.model import Mark, Plan, Shot, SubjectTarget
from kobrel.plan.solve.brief import UNMET, Judged, judge
from kobrel.stage.stage import Stage

MOST_PICTURES = 6
MOST_PASSES = 8
_PICTURE_PX, _LEAST_PASSES, _PASSES_IN_ALL = 340, 3, 200


@dataclass(frozen=True)
class MarkRow:
    """A mark as the crew reads it; words, and its frame's row of the survey."""

    number: int
    frame: float
    row: int
    timecode: str
    on: str
    along: str
    straight: str
    stop: str
    near: str
    far: str
    depth: str
    move: str
    ring: str

    @property
    def cells(self) -> tuple[str, ...]:
        """The row under :data:`MARK_HEADS`."""
        return (
            str(self.number), f"{self.frame:g}", self.timecode, self.on, self.along, self.straight, self.stop,
            self.near, self.far, self.depth, self.move, self.ring,
        )  # fmt: skip


MARK_HEADS = (
    "", "Frame", "Timecode", "On", "On axis", "Straight-line", "Stop", "Near", "Far", "Depth", "Frames",
    "Ring °/s",
)  # fmt: skip


@dataclass(frozen=True, eq=False)
class ShotSheet:
    """A shot on a sheet.

    Parameters
    ----------
    pictures : caption and JPEG of each
    facts : what it is and how it is set
    brief : what each subject must be, and whether it is so
    plates : a row of words for each plate, see :mod:`kobrel.exchange.sheet.plates`
    """

    plan: Plan
    shot: Shot
    numbers: Survey
    pace: Pace
    unit: Measure
    marks: tuple[MarkRow, ...]
    pictures: tuple[tuple[str, bytes], ...]
    facts: tuple[tuple[str, str], ...]
    brief: tuple[tuple[str, str, bool], ...]
    plates: tuple[tuple[str, ...], ...] = ()

    @property
    def aspect(self) -> float:
        """Width over height of its pictures."""
        return float(self.numbers.camera.aspect)

    @property
    def heading(self) -> str:
        """What stands at its head."""
        shot = self.shot
        begins = timecode(shot.first, shot.fps)
        return f"{shot.first}–{shot.last}, {shot.length} frames at {shot.fps:g} fps, from {begins}"


def shot_sheet(
    plan: Plan,
    shot: Shot,
    stage: Stage,
    unit: Measure,
    tell: Callable[[str], None],
    passes: int = MOST_PASSES,
) -> ShotSheet:
    """Gather a shot's sheet, its pictures drawn exactly.

    Parameters
    ----------
    passes : of each picture
    tell : called with what is being done; may raise to stop

    Raises
    ------
    PlanError
        The shot has no camera.
    """
    stage = stage.of_shot(shot.name)
    numbers = survey(plan, shot, stage)
    made = pace(shot, numbers)
    marks = mark_rows(plan, shot, numbers, made, unit)
    return ShotSheet(
        plan, shot, numbers, made, unit, marks, _pictures(plan, shot, stage, numbers, marks, tell, passes),
        facts(shot, numbers, unit), brief_lines(judge(plan, shot, numbers)),
        plate_words(plan, shot, stage, unit),
    )  # fmt: skip


def passes_for(shots: Sequence[Shot]) -> int:
    """Passes of each picture of a sheet: fewer where there are many shots, so that none waits long."""
    pictures = sum(min(len(shot.marks) + 2, MOST_PICTURES) for shot in shots)
    return min(max(_PASSES_IN_ALL // pictures, _LEAST_PASSES), MOST_PASSES)


def mark_rows(plan: Plan, shot: Shot, numbers: Survey, made: Pace, unit: Measure) -> tuple[MarkRow, ...]:
    """The marks within the shot, in order."""
    found = []
    marks = [mark for mark in shot.marks if shot.first <= mark.frame <= shot.last] or list(shot.marks[:1])
    for number, mark in enumerate(marks, 1):
        row = numbers.index_of(mark.frame)
        camera = numbers.camera.frame(row)
        near, far = float(numbers.near_m[row]), float(numbers.far_m[row])
        before = marks[number - 2] if number > 1 else None
        along, straight = _distances(mark, numbers, row)
        found.append(
            MarkRow(
                number, max(mark.frame, float(numbers.frames[0])), row, timecode(mark.frame, shot.fps),
                plan.name_of(mark.target) or "a distance", format_length(along, unit),
                format_length(straight, unit), f"{float(camera.f_number):.3g}", format_length(near, unit),
                format_length(far, unit), format_length(far - near, unit),
                *_move(before, mark, numbers, made),
            )
        )  # fmt: skip
    return tuple(found)


def _distances(mark: Mark, numbers: Survey, row: int) -> tuple[float, float]:
    """The focus at a mark along the axis and straight: of a subject its own."""
    focus = float(numbers.camera.focus_m[row])
    target = mark.target
    if isinstance(target, SubjectTarget) and target.number in numbers.subjects:
        subject = numbers.subjects.index(target.number)
        return float(numbers.sight.axial_m[subject, row]), float(numbers.sight.straight_m[subject, row])
    return focus, focus


def _move(before: Mark | None, mark: Mark, numbers: Survey, made: Pace) -> tuple[str, str]:
    """Frames of the move to a mark, and how fast the ring turns at most on the way."""
    if before is None or before.target == mark.target:
        return "–", "–"
    way = (numbers.frames >= before.leaves) & (numbers.frames < mark.frame)
    speed = float(np.max(made.deg_s[way])) if way.any() else 0.0
    return f"{mark.frame - before.leaves:g}", f"{speed:.0f}"


def facts(shot: Shot, numbers: Survey, unit: Measure) -> tuple[tuple[str, str], ...]:
    """Lens, sensor, stop, filters and exposure in words."""
    camera, glass, exposure = numbers.camera, shot.glass, shot.exposure
    pairs = [
        ("Lens", f"{_range(camera.focal_mm, 4)} mm" + _lens_set_name(glass.lens)),
        ("Stop", f"f/{_range(camera.f_number, 3)}"),
        ("T-stop", f"T {_range(camera.t_stop, 3)}"),
        ("Sensor", f"{glass.sensor.width_mm:g} × {glass.sensor.height_mm:g} mm"),
        ("Angle of view", _angles(camera)),
        ("Delivered", f"{camera.width_px} × {camera.height_px}, {camera.aspect:.3g} : 1"),
        ("Squeeze", f"{glass.squeeze:g}" if glass.squeeze > 1 else ""),
        ("Lens model", "thin lens, it breathes" if camera.model == "thin" else "render camera"),
        ("Focus surface", "sphere" if camera.surface == "sphere" else "flat, distances on axis"),
        ("Sharpness limit", f"{camera.coc_px:.3g} px, {camera.coc_mm:.3g} mm on the sensor"),
        ("Hyperfocal", format_length(float(np.ravel(camera.hyperfocal_m)[0]), unit)),
        ("ND", f"{exposure.nd_stops:g} stops" if exposure.nd_stops else "none"),
        ("ISO", f"{exposure.iso:g}"),
        ("Shutter", f"{exposure.shutter_deg:g}°"),
        ("Exposure", _exposure(camera.off_ev)),
        ("Ring", f"{shot.ring.throw_deg:g}° from {format_length(closest_m(shot), unit)} to ∞"),
    ]
    return tuple((name, words) for name, words in pairs if words)


def _lens_set_name(lens: Lens | None) -> str:
    """What a lens out of a lens set is called, where that says more than its focal length."""
    return "" if lens is None or lens.name == f"{lens.focal_mm[0]:g} mm" else f", {lens.name}"


def _angles(camera: Camera) -> str:
    across, up = (np.ravel(part) for part in camera.view_angles_deg)
    if not across.any():
        return "orthographic"
    return f"{_range(across, 3)}° × {_range(up, 3)}°"


def _exposure(off_ev: Numbers) -> str:
    worst = float(np.ravel(off_ev)[np.argmax(np.abs(np.ravel(off_ev)))])
    return "as metered" if abs(worst) < 0.05 else f"{worst:+.1f} stops from metered"


def _range(values: Numbers, figures: int) -> str:
    """The least and the greatest, or the one."""
    ends = (float(np.min(values)), float(np.max(values)))
    return "–".join(dict.fromkeys(f"{end:.{figures}g}" for end in ends))


def brief_lines(judged: Judged | None) -> tuple[tuple[str, str, bool], ...]:
    """Each requirement of a brief, how it fares, and whether it is met; nothing where there is none."""
    if judged is None:
        return ()
    found = []
    for words, verdicts in zip(judged.brief.texts, judged.verdicts, strict=True):
        missed = int(np.count_nonzero(verdicts == UNMET))
        frames = f"missed in {missed} frame{'' if missed == 1 else 's'}"
        found.append((words, frames if missed else "met", not missed))
    return tuple(found)


def _pictures(
    plan: Plan,
    shot: Shot,
    stage: Stage,
    numbers: Survey,
    marks: tuple[MarkRow, ...],
    tell: Callable[[str], None],
    passes: int,
) -> tuple[tuple[str, bytes], ...]:
    """The picture at first, at the marks and at last."""
    named = {shot.first: "first"}
    for mark in marks:
        frame = round(mark.frame)
        named[frame] = ", ".join(filter(None, (named.get(frame, ""), f"mark {mark.number}")))
    named[shot.last] = ", ".join(filter(None, (named.get(shot.last, ""), "last")))
    frames = sorted(named)
    if len(frames) > MOST_PICTURES:
        picked = np.unique(np.round(np.linspace(0, len(frames) - 1, MOST_PICTURES)).astype(int))
        frames = [frames[k] for k in picked]
    found = []
    for frame in frames:
        tell(f"Shot {shot.label}, frame {frame}")
        camera = numbers.camera.frame(numbers.index_of(frame))
        height = max(1, round(_PICTURE_PX / camera.aspect))
        view = View(stage.snapshot(frame, eye=camera.eye), camera, plan.light, _PICTURE_PX, height)
        pixels = as_shown(exposed(view, passes, denoise=can_denoise()), plan.light, camera)
        found.append((f"{frame}, {named[frame]}", jpeg(pixels)))
    return tuple(found)
