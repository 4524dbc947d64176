"""The plan from above on a sheet, to scale: camera, things, subjects, distances, and what is sharp."""

import math
from dataclasses import dataclass

import numpy as np
from scipy.spatial import ConvexHull, QhullError

from kobrel.exchange.sheet.canvas import Canvas, Point, text_width
from kobrel.exchange.sheet.content import ShotSheet
from kobrel.optics import projection
from kobrel.optics.iris import polygon_area
from kobrel.optics.lens import Numbers
from kobrel.optics.units import Measure, format_length
from kobrel.plan.measure.camera import Camera
from kobrel.plan.measure.survey import GONE
from kobrel.plan.model import Plan
from kobrel.plan.plates.placing import corners_at
from kobrel.plan.space.plates import ROOT, scene_of
from kobrel.stage.stage import Place, Stage

_SCALES = tuple(step * 10**k for k in range(6) for step in (1, 1.25, 1.5, 2, 2.5, 3, 4, 5, 6, 7.5))
_REACH, _FOOT, _HEAD = 1.12, 9.0, 6.0
_MOST_BOXES, _COVERS, _MOST_COVER = 500, 200.0, 0.5
_TICK_PT, _LINE = 6.5, 2.9


@dataclass(frozen=True)
class _Plane:
    """The paper: where the camera stands on it, how many mm a metre has, and its edges."""

    camera: Camera
    apex: Point
    mm: float
    left: float
    top: float
    right: float
    foot: float

    def place(self, across_m: float, ahead_m: float) -> Point:
        """Where something to the right of and ahead of the camera stands."""
        return self.apex[0] + across_m * self.mm, self.apex[1] - ahead_m * self.mm

    def holds(self, point: Point) -> bool:
        """Whether a place is on the paper."""
        return self.left <= point[0] <= self.right and self.top <= point[1] <= self.foot

    @property
    def reach_m(self) -> float:
        """How far ahead the paper reaches."""
        return (self.apex[1] - self.top) / self.mm

    @property
    def edges(self) -> tuple[float, float]:
        """The picture's left and right edge in its own coordinates."""
        half, middle = (
            float(np.ravel(part[0])[0]) for part in (self.camera.half_widths(), self.camera.middle())
        )
        return middle - half, middle + half

    def clipped(self, points: list[Point]) -> list[Point]:
        """A convex outline within the paper (Sutherland and Hodgman)."""
        for axis, sign, limit in (
            (0, 1, self.left),
            (0, -1, self.right),
            (1, 1, self.top),
            (1, -1, self.foot),
        ):
            kept: list[Point] = []
            for before, here in zip(points[-1:] + points[:-1], points, strict=True):
                a, b = (sign * (p[axis] - limit) for p in (before, here))
                if (a >= 0) != (b >= 0):
                    t = a / (a - b)
                    kept.append(
                        (before[0] + (here[0] - before[0]) * t, before[1] + (here[1] - before[1]) * t)
                    )
                if b >= 0:
                    kept.append(here)
            points = kept
        return points

    def cut(self, start: Point, end: Point) -> list[Point]:
        """A line from within the paper up to where it leaves it."""
        t = 1.0
        for axis, low, high in ((0, self.left, self.right), (1, self.top, self.foot)):
            way = end[axis] - start[axis]
            if way:
                t = min(t, *(v for v in ((low - start[axis]) / way, (high - start[axis]) / way) if v > 0))
        return [start, (start[0] + (end[0] - start[0]) * t, start[1] + (end[1] - start[1]) * t)]


def draw_plan(
    canvas: Canvas, sheet: ShotSheet, stage: Stage, x: float, y: float, width: float, height: float
) -> None:
    """The stage at the shot's first frame: the camera stands below and looks up."""
    numbers = sheet.numbers
    camera = numbers.camera.frame(0)
    canvas.box(x, y, width, height, line=0.15, shade="quiet")
    room = height - _FOOT - _HEAD
    ratio = next((s for s in _SCALES if _reach_m(sheet) / s * 1000.0 <= room), _SCALES[-1])
    plane = _Plane(
        camera, (x + width / 2.0, y + height - _FOOT), 1000.0 / ratio,
        x + 0.3, y + 0.3, x + width - 0.3, y + height - 0.3,
    )  # fmt: skip
    for outline in _outlines(sheet.plan, stage, float(numbers.frames[0]), camera):
        cut = plane.clipped([plane.place(*point) for point in outline])
        if len(cut) > 2:
            covers = polygon_area(np.asarray(cut)) > _MOST_COVER * width * height
            canvas.area(cut, "paper" if covers else "wash", 0.12, "faint")
    _draw_plates(canvas, plane, sheet)
    _draw_surfaces(canvas, plane, sheet.unit)
    _draw_way(canvas, plane, numbers.camera.pose[:, :3, 3])
    left, foot = plane.apex
    canvas.area([plane.apex, (left - 1.8, foot + 3.2), (left + 1.8, foot + 3.2)], "ink")
    _draw_subjects(canvas, plane, sheet)
    _draw_scale(canvas, x + 2.0, y + height - 2.2, plane.mm, ratio, sheet.unit, width)


def _draw_plates(canvas: Canvas, plane: _Plane, sheet: ShotSheet) -> None:
    """Plates as lines, with their names."""
    for plate in sheet.plan.plates:
        if plate.lies or not plate.shown:
            continue
        corners = corners_at(plate, sheet.plan.dials, plane.camera, [sheet.shot.first])[0, :2]
        across, _up, ahead = plane.camera.before(corners)
        ends = [plane.place(float(a), float(b)) for a, b in zip(across, ahead, strict=True)]
        seen = plane.clipped(ends) if ahead.min() > 0 else []
        if len(seen) > 1:
            left = min(seen)
            canvas.line([left, max(seen)], 0.4)
            canvas.text(left[0] + 0.8, left[1] - 0.7, plate.name, _TICK_PT, shade="quiet")


def _draw_subjects(canvas: Canvas, plane: _Plane, sheet: ShotSheet) -> None:
    """Subjects with their distances, where there is room beside their numbers."""
    numbers = sheet.numbers
    tags: list[Point] = []
    drawn: list[int] = []
    across, _up, ahead = plane.camera.before(numbers.points[:, 0])
    for row, number in enumerate(numbers.subjects):
        spot = plane.place(float(across[row]), float(ahead[row]))
        if not (np.isfinite(spot).all() and plane.holds(spot)):
            continue
        tag = spot[0] + 2.6, spot[1] - 2.6
        while any(math.dist(tag, other) < 4.2 for other in tags):
            tag = tag[0], tag[1] - 4.2
        tags.append(tag)
        drawn.append(number)
        canvas.ring(*spot, 0.5, "ink", 0.1)
        canvas.line([spot, tag], 0.15)
        if numbers.state[row, 0] != GONE:
            words = format_length(float(numbers.focus_distance_m[row, 0]), sheet.unit)
            wide = text_width(words, _TICK_PT)
            canvas.box(tag[0] + 1.6, tag[1] - 1.3, wide + 1.4, 2.7, fill="paper", line=0.0)
            canvas.text(tag[0] + 2.4, tag[1] + 0.8, words, _TICK_PT)
    for number, tag in zip(drawn, tags, strict=True):
        canvas.tag(*tag, number)


def _reach_m(sheet: ShotSheet) -> float:
    numbers = sheet.numbers
    seen = numbers.focus_distance_m[(numbers.state != GONE) & (numbers.focus_distance_m > 0)]
    focus = numbers.camera.focus_m[np.isfinite(numbers.camera.focus_m)]
    far = [float(np.max(part)) for part in (seen, focus) if part.size]
    return max(far or [3.0]) * _REACH


def _outlines(plan: Plan, stage: Stage, frame: float, camera: Camera) -> list[list[Point]]:
    """Outlines of what stands there, right and ahead of the camera, the largest first; what would cover
    everything is left out, and plates, which are drawn as lines.
    """
    boxes = stage.boxes(frame)
    others = np.ones(len(boxes), bool)
    for plate in plan.plates:
        others[stage.rows_below(Place(scene_of(plate.number), ROOT))] = False
    across, _up, ahead = camera.before(boxes[others])
    wide = np.ptp(across, axis=1) + np.ptp(ahead, axis=1) if len(across) else np.zeros(0)
    found = []
    for k in np.argsort(-wide)[:_MOST_BOXES]:
        if len(wide) > 3 and wide[k] > _COVERS * max(float(np.median(wide)), 1e-9):
            continue
        points = np.stack([across[k], ahead[k]], axis=1)
        try:
            found.append([(float(a), float(b)) for a, b in points[ConvexHull(points).vertices]])
        except (QhullError, ValueError):  # it is flat, seen from above
            continue
    return found


def _draw_surfaces(canvas: Canvas, plane: _Plane, unit: Measure) -> None:
    """The angle of view, the focus, and the near and far limit with their distances."""
    camera, kind = plane.camera, plane.camera.projection
    for edge in plane.edges:
        start = float(projection.edge(kind, edge, 0.0)[0])
        end, along = (float(v) for v in projection.edge(kind, edge, plane.reach_m))
        canvas.line(plane.cut(plane.place(start, 0.0), plane.place(end, along)), 0.15, "quiet")
    near, far = (float(np.ravel(v)[0]) for v in camera.limits_m)
    shown: list[tuple[float, str, float]] = []
    for distance, name, width, dash in (
        (float(camera.focus_m), "focus", 0.55, 0.0), (near, "near", 0.25, 1.2), (far, "far", 0.25, 1.2),
    ):  # fmt: skip
        if not distance < plane.reach_m:
            continue
        points = [plane.place(*point) for point in _surface(plane, distance)]
        canvas.line([(min(max(px, plane.left), plane.right), py) for px, py in points], width, "ink", dash)
        shown.append((plane.place(0.0, distance)[1] - 0.7, name, distance))
    _draw_distances(canvas, plane, shown, unit)


def _draw_distances(
    canvas: Canvas, plane: _Plane, shown: list[tuple[float, str, float]], unit: Measure
) -> None:
    """The distances of the surfaces at the left edge, one above the other where they are close."""
    foot = plane.foot - 6.0
    for at, name, distance in sorted(shown, reverse=True):
        foot = min(at, foot)
        words = f"{name} {format_length(distance, unit)}"
        canvas.text(plane.left + 1.0, foot, words, _TICK_PT, bold=name == "focus")
        foot -= _LINE


def _surface(plane: _Plane, distance: float) -> list[Point]:
    """A flat or spherical surface at a distance, from edge to edge of the picture."""
    camera = plane.camera
    if camera.surface == "plane":
        return [
            (float(projection.edge(camera.projection, edge, distance)[0]), distance) for edge in plane.edges
        ]
    ends = plane.edges if camera.projection == "fisheye" else tuple(math.atan(edge) for edge in plane.edges)
    turns = np.linspace(ends[0], ends[1], 25)
    return [(distance * math.sin(turn), distance * math.cos(turn)) for turn in turns]


def _draw_way(canvas: Canvas, plane: _Plane, places: Numbers) -> None:
    """Where the camera moves over the shot."""
    if np.ptp(places, axis=0).max() < 1e-3:
        return
    across, _up, ahead = plane.camera.before(places)
    points = [plane.place(float(a), float(b)) for a, b in zip(across, ahead, strict=True)]
    inside = [point for point in points if plane.holds(point)]
    if len(inside) > 1:
        canvas.line(inside, 0.3, "quiet", 0.8)


def _draw_scale(
    canvas: Canvas, x: float, y: float, mm: float, ratio: float, unit: Measure, width: float
) -> None:
    most = width * 0.35
    step = 10.0 ** math.floor(math.log10(most / mm / unit.metres))
    length = next(s * step for s in (5.0, 2.0, 1.0) if s * step * unit.metres * mm <= most)
    end = x + length * unit.metres * mm
    canvas.line([(x, y - 1.2), (x, y), (end, y), (end, y - 1.2)], 0.25)
    canvas.text(end + 1.2, y, f"{length:g} {unit.symbol}, 1 : {ratio:g}", _TICK_PT, shade="quiet")
