"""Plates as scenes: each is a small scene of its own, so that moving one rebuilds nothing else."""

from dataclasses import replace
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import ArrayLike

from kobrel.optics.lens import Numbers
from kobrel.plan.pictures.drawn import Specks
from kobrel.plan.pictures.plates import PLATE_PREFIX, Beyond, Dial, DrivenOfPlate, Plate
from kobrel.plan.pull.dials import LEVELS, drive_of, driven, frames_of_keys, value_at
from kobrel.plan.space.stand_ins import MOST_SAMPLES
from kobrel.stage.deform import Deformation
from kobrel.stage.motion import Motion, Track, TransformOp, matrix_motion
from kobrel.stage.plates import (
    BLOCK,
    CLEAR,
    MIRRORED,
    NEVER_SOLID,
    REPEATED,
    SOLID,
    STRETCHED,
    Drift,
    FadeRule,
    PlateFace,
    PlatePixels,
    PlateSource,
)
from kobrel.stage.scene import Cutout, Material, Mesh, Node, Scene

ROOT, FACE = "/", "/picture"
_BEYOND: dict[Beyond, int] = {
    "nothing": STRETCHED, "stretched": STRETCHED, "mirrored": MIRRORED, "repeated": REPEATED,
}  # fmt: skip
_ASTRAY = 0.35
"""How much the ways of specks differ, radians."""
_CELLS = 64
"""Cells of a picture, across or down, that are told apart."""
_GROUND_ROWS, _GROUND_COLUMNS, _NEAR_HORIZON = 200, 17, 1e-3


def scene_of(number: int) -> str:
    """The name that a plate has among the scenes of a stage."""
    return f"{PLATE_PREFIX}{number}"


def plate_number(scene: str) -> int | None:
    """The plate's number behind a scene's name on the stage, or None for another scene."""
    tail = scene.removeprefix(PLATE_PREFIX)
    return int(tail) if tail != scene and tail.isdigit() else None


def dials_of(plate: Plate, dials: tuple[Dial, ...]) -> tuple[Dial, ...]:
    """The dials that drive something of a plate."""
    return tuple(dial for dial in dials if any(d.plate == plate.number for d in dial.drives))


def pivot_at(plate: Plate, dials: tuple[Dial, ...], frames: ArrayLike) -> Numbers:
    """Where a plate's pivot stands at frames: (F, 3)."""
    at = np.atleast_1d(np.asarray(frames, float))
    places = np.broadcast_to(plate.places().at(at), (len(at), 3))
    found = drive_of(dials, plate.number, "distance")
    if found is None or found[1].eye_m is None:
        return np.array(places)
    eye = np.asarray(found[1].eye_m)
    away = places - eye
    long = np.linalg.norm(away, axis=1, keepdims=True)
    wanted = np.maximum(driven(found[1], found[0].level.at(at)), 1e-3)
    return np.asarray(eye + away / np.where(long > 0, long, 1.0) * wanted[:, None])


def poses_at(plate: Plate, dials: tuple[Dial, ...], frames: ArrayLike, camera: object = None) -> Numbers:
    """A plate's places (F, 4, 4), its scale within.

    Parameters
    ----------
    camera : with poses at these frames, for a plate that faces it; without one it stands as it is turned
    """
    at = np.atleast_1d(np.asarray(frames, float))
    scale = value_at(plate, dials, "scale", at)
    result = np.tile(np.eye(4), (len(at), 1, 1))
    pose = getattr(camera, "pose", None)
    roll = np.radians(value_at(plate, dials, "roll_deg", at))
    if plate.faces and not plate.lies and pose is not None:
        spin = np.tile(np.eye(3), (len(at), 1, 1))
        spin[:, 0, 0] = spin[:, 1, 1] = np.cos(roll)
        spin[:, 1, 0], spin[:, 0, 1] = np.sin(roll), -np.sin(roll)
        result[:, :3, :3] = np.broadcast_to(pose, (len(at), 4, 4))[:, :3, :3] @ spin
    else:
        turns: tuple[tuple[str, DrivenOfPlate], ...] = (
            ("Y", "turn_deg"),
            ("X", "tilt_deg"),
            ("Z", "roll_deg"),
        )
        ops = tuple(
            TransformOp("rotate", _track(at, value_at(plate, dials, what, at)), axis) for axis, what in turns
        )
        result[:, :3, :3] = Motion(ops).matrices(at)[:, :3, :3]
    result[:, :3, :3] *= scale[:, None, None]
    result[:, :3, 3] = pivot_at(plate, dials, at)
    return result


def _track(times: Numbers, values: Numbers) -> Track:
    """Samples (F,) as a track of (F, 1); a constant where they do not differ."""
    if len(times) == 1 or np.all(values == values[:1]):
        return Track.constant(values[:1])
    return Track(times, values[:, None])


def fade_of(plate: Plate) -> FadeRule | None:
    """How a plate's opacity follows blur or distance, if it does."""
    return None if plate.fade is None else FadeRule(plate.fade.by, plate.fade.whole, plate.fade.gone)


@lru_cache(maxsize=256)
def plate_scene(plate: Plate, dials: tuple[Dial, ...], source: PlateSource | None) -> Scene:
    """The scene of a plate: a root that carries it, and its picture.

    Parameters
    ----------
    dials : those that drive something of it
    source : its pixels; without them nothing is seen, but its place is there
    """
    keyed = frames_of_keys(plate, dials)
    times = np.zeros(1)
    if keyed:
        first, last = np.floor(keyed[0]), np.ceil(keyed[-1])
        times = np.arange(first, min(last, first + MOST_SAMPLES) + 1.0)

    def level(what: DrivenOfPlate) -> Track:
        return _track(times, value_at(plate, dials, what, times))

    tracks = {what: level(what) for what in LEVELS}
    scale = tracks["scale"]
    place = plate.places()
    if drive_of(dials, plate.number, "distance") is not None:
        sampled = pivot_at(plate, dials, times)
        place = Track(times, sampled) if len(times) > 1 else Track.constant(sampled[0])
    steps = (
        TransformOp("translate", place),
        TransformOp("rotate", tracks["turn_deg"], "Y"),
        TransformOp("rotate", tracks["tilt_deg"], "X"),
        TransformOp("rotate", tracks["roll_deg"], "Z"),
        TransformOp("scale", Track(scale.times, np.repeat(scale.values, 3, axis=1))),
    )
    root = Node(ROOT, motion=Motion(steps))
    if source is None or not plate.shown:
        return Scene(Path(plate.name), (root,))
    face = PlateFace(
        source, tracks["opacity"], plate.faces and not plate.lies, tracks["roll_deg"], fade_of(plate),
        _BEYOND[plate.beyond],
    )  # fmt: skip
    mesh, solid_from, local = _shape(plate, source)
    face = replace(face, local=local, solid_from=solid_from)
    gain = 2.0**plate.brightness_ev
    look = Material(plate.name, (0.0, 0.0, 0.0), (gain, gain, gain), rough=1.0, cutout=Cutout(), plate=face)
    return Scene(Path(plate.name), (root, Node(FACE, 0, matrix_motion(local), mesh=mesh, materials=(look,))))


def _shape(plate: Plate, source: PlateSource) -> tuple[Mesh, int, Numbers]:
    """The plate's mesh, the triangle from which on it is wholly there, and what carries it to the pivot's
    space, (4, 4). The meshes of flat plates do not depend on how large they are or where they stand.
    """
    wide, tall = plate.height_m * plate.picture.aspect, plate.height_m
    if isinstance(plate.picture.drawn, Specks):
        to_pivot = np.eye(4)
        to_pivot[:2, 3] = (0.5 - plate.pivot[0]) * wide, (plate.pivot[1] - 0.5) * tall
        return _specks_mesh(plate.picture.drawn, wide, tall), NEVER_SOLID, to_pivot
    if plate.lies:
        return _ground_mesh(plate, source.window), NEVER_SOLID, np.eye(4)
    local = np.diag([wide, tall, 1.0, 1.0])
    local[:2, 3] = -plate.pivot[0] * wide, (plate.pivot[1] - 1.0) * tall
    more = plate.beyond_part if plate.beyond != "nothing" else 0.0
    return *_flat_mesh(source, more), local


@lru_cache(maxsize=32)
def _specks_mesh(specks: Specks, wide: float, tall: float) -> Mesh:
    """A square for each speck, about the middle of their box."""
    chance = np.random.default_rng(specks.seed)
    size = np.array([wide, tall, specks.depth_m])
    count = specks.count
    start = chance.random((count, 3))
    half = 0.5 * specks.size_m * chance.uniform(0.5, 1.5, count)
    angle = np.radians(specks.direction_deg) + chance.normal(0.0, _ASTRAY, count)
    speed = specks.speed_m * chance.uniform(0.5, 1.5, count)
    way = np.stack([np.cos(angle), np.sin(angle), np.zeros(count)], axis=-1) * speed[:, None]
    drift = Drift(start, way / np.maximum(size, 1e-9), -size / 2, size, half)
    corner = np.array([[0, 1, 2], [0, 2, 3]], np.uint32)
    triangles = (4 * np.arange(count, dtype=np.uint32)[:, None, None] + corner).reshape(-1, 3)
    uv = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], np.float32)[corner]
    return Mesh(
        drift.whole(0.0), triangles, uv=np.tile(uv, (count, 1, 1)),
        deformation=Deformation(drift) if specks.speed_m else None,
    )  # fmt: skip


@lru_cache(maxsize=256)
def _flat_mesh(source: PlateSource, more: float) -> tuple[Mesh, int]:
    """The parts of a picture where something is, one wide and high, up to so much beyond its edges; first
    those that are partly there, then those that are wholly there, and the first triangle of these.
    """
    left, top, right, bottom = source.window
    if source.plays or more:
        boxes = np.array([[left - more, top - more, right + more, bottom + more]])
        solid_from = NEVER_SOLID
    else:
        boxes, partly = _boxes(source.at(0.0))
        boxes = boxes * np.array([right - left, bottom - top] * 2) + np.array([left, top] * 2)
        solid_from = 2 * partly
    corners = boxes[:, [[0, 3], [2, 3], [2, 1], [0, 1]]].reshape(-1, 2)  # (4 n, 2), counter-clockwise
    points = np.column_stack([corners[:, 0], 1.0 - corners[:, 1], np.zeros(len(corners))])
    uv = np.column_stack(
        [(corners[:, 0] - left) / (right - left), 1.0 - (corners[:, 1] - top) / (bottom - top)]
    )
    corner = np.array([[0, 1, 2], [0, 2, 3]], np.uint32)
    triangles = (4 * np.arange(len(boxes), dtype=np.uint32)[:, None, None] + corner).reshape(-1, 3)
    return Mesh(points.astype(np.float32), triangles, uv=uv.astype(np.float32)[triangles]), solid_from


def _boxes(pixels: PlatePixels) -> tuple[Numbers, int]:
    """Boxes (n, 4) that hold all of a picture that is there, left, top, right and bottom in its parts; and
    how many of them are partly there, which come first.
    """
    blocks = pixels.blocks
    step = -(-max(blocks.shape) // _CELLS)
    edges = [np.append(np.arange(0, count, step), count) for count in blocks.shape]
    least, most = (
        fold.reduceat(fold.reduceat(part, edges[0][:-1], axis=0), edges[1][:-1], axis=1)
        for fold, part in ((np.logical_and, blocks == SOLID), (np.logical_or, blocks != CLEAR))
    )
    kinds = np.where(least, 2, np.where(most, 1, 0))
    ends = [np.minimum(edge * BLOCK / size, 1.0) for edge, size in zip(
        edges, (pixels.height, pixels.width), strict=True
    )]  # fmt: skip
    found: dict[int, list[tuple[float, ...]]] = {1: [], 2: []}
    for row, kind in enumerate(kinds):
        cuts = np.flatnonzero(np.diff(kind)) + 1
        for first, last in zip([0, *cuts], [*cuts, len(kind)], strict=True):
            if kind[first]:
                box = (ends[1][first], ends[0][row], ends[1][last], ends[0][row + 1])
                found[int(kind[first])].append(box)
    return np.array(found[1] + found[2], float).reshape(-1, 4), len(found[1])


def ground_tilt(plate: Plate) -> float:
    """How far the camera that took a ground's picture looked down, radians, by where its horizon is."""
    return float(np.arctan((0.5 - plate.horizon) * plate.height_m))


def ground_ways(plate: Plate, places: ArrayLike) -> Numbers:
    """Ways (..., 3) from where a ground's picture was taken to places (..., 2) of it, its axes level.

    Its height is that of the picture a metre away.
    """
    at = np.asarray(places, float)
    x = (at[..., 0] - 0.5) * plate.height_m * plate.picture.aspect
    y, z = (0.5 - at[..., 1]) * plate.height_m, -np.ones(at.shape[:-1])
    down = ground_tilt(plate)
    return np.stack([x, y * np.cos(down) + z * np.sin(down), z * np.cos(down) - y * np.sin(down)], axis=-1)


def _ground_mesh(plate: Plate, window: tuple[float, float, float, float]) -> Mesh:
    """What a picture shows below its horizon, on a plane one below where it was taken. Its rows grow with
    the distance from the horizon, so that within each the picture is as good as even.
    """
    left, top, right, bottom = window
    below = np.geomspace(_NEAR_HORIZON, max(bottom - plate.horizon, 2 * _NEAR_HORIZON), _GROUND_ROWS)
    x, y = np.meshgrid(np.linspace(left, right, _GROUND_COLUMNS), plate.horizon + below)
    places = np.stack([x, y], axis=-1).reshape(-1, 2)
    ways = ground_ways(plate, places)
    points = ways / np.maximum(-ways[:, 1:2], 1e-9)
    uv = np.stack([(places[:, 0] - left) / (right - left), 1 - (places[:, 1] - top) / (bottom - top)], -1)
    first = (np.arange(_GROUND_ROWS - 1)[:, None] * _GROUND_COLUMNS + np.arange(_GROUND_COLUMNS - 1)).ravel()
    after = first + _GROUND_COLUMNS
    triangles = np.concatenate(
        [np.stack([first, after, after + 1], -1), np.stack([first, after + 1, first + 1], -1)]
    ).astype(np.uint32)
    return Mesh(points.astype(np.float32), triangles, uv=uv.astype(np.float32)[triangles])
