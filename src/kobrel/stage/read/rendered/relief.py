"""A rendered image as a relief before its camera, which stands in for a scene.

Every cell of a grid over the picture is a small square at its own depth, tilted with its neighbours on the
same surface; squares of two things do not share corners, so nothing hangs between them. In a sequence the
corners move from frame to frame.
"""

from dataclasses import replace
from functools import lru_cache, partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kobrel.compiled import kernel
from kobrel.errors import SceneError
from kobrel.stage.deform import Deformation, Sampled
from kobrel.stage.motion import Motion, Track, TransformOp
from kobrel.stage.pictures.colours import as_bytes
from kobrel.stage.read.rendered.depth import Source, metres
from kobrel.stage.read.rendered.frames import frames_beside, gaps, path_at, read_frame
from kobrel.stage.read.rendered.pose import poses_of
from kobrel.stage.read.sanitising import sanitise
from kobrel.stage.scene import CameraSource, Material, Mesh, Node, Progress, Scene, Texture, no_progress

CELLS = 480
"""Cells across the picture, at most."""
_SENSOR_MM = 36.0
_SAME = 0.08
"""Part by which neighbours on one surface may differ in distance."""
PICTURE, CAMERA, TAKEN_FROM = "/picture", "/camera", "/taken-from"


@kernel
def _corners(depth, half_width, out):  # type: ignore[no-untyped-def]  # noqa: ANN001, ANN202
    """Corners of the cells, (rows * columns * 4, 3): each corner at the mean depth of those of the four cells
    around it that lie on the cell's own surface.
    """
    rows, columns = depth.shape
    tall = half_width * rows / columns
    for y in range(rows):
        for x in range(columns):
            own = depth[y, x]
            for k in range(4):
                cx, cy = x + (k & 1), y + (k >> 1)
                total, count = 0.0, 0
                for j in (cy - 1, cy):
                    for i in (cx - 1, cx):
                        if 0 <= j < rows and 0 <= i < columns:
                            other = depth[j, i]
                            if abs(other - own) < _SAME * min(own, other):
                                total += 1.0 / other
                                count += 1
                away = count / total if count > 0 else own
                at = (y * columns + x) * 4 + k
                if not np.isfinite(own):  # nothing is there: a square without a size
                    out[at, 0], out[at, 1], out[at, 2] = 0.0, 0.0, -1.0
                    continue
                out[at, 0] = (2.0 * cx / columns - 1.0) * half_width * away
                out[at, 1] = (1.0 - 2.0 * cy / rows) * tall * away
                out[at, 2] = -away


def _points(finished: Source, frame: int | None) -> NDArray[np.float32]:
    """Corners of the relief's cells at a frame."""
    return relief_points(cells(finished, frame), finished.half_width)


def relief_points(depth: NDArray[np.float64], half_width: float) -> NDArray[np.float32]:
    """Corners of cells, four each, (n, 3), from the distances along the axis in their middles, (h, w)."""
    out = np.zeros((depth.size * 4, 3), np.float32)
    _corners(depth, half_width, out)
    return out


def cells(finished: Source, frame: int | None) -> NDArray[np.float64]:
    """Distances along the axis, metres, in the middles of the relief's cells."""
    pixels = read_frame(finished, frame)
    height, width = pixels.depth.shape
    step = max(1, -(-width // CELLS))
    tall = finished.half_width * height / width
    x = ((np.arange(width) + 0.5) / width * 2 - 1) * finished.half_width
    y = ((np.arange(height) + 0.5) / height * 2 - 1) * tall
    found = metres(pixels.depth, finished.rule, (x, y))[step // 2 :: step, step // 2 :: step]
    return found.astype(float)


def _triangles(rows: int, columns: int) -> tuple[NDArray[np.uint32], NDArray[np.float32]]:
    """Two triangles for each cell, and where they lie in the picture, v upward."""
    first = np.arange(rows * columns, dtype=np.uint32)[:, None] * 4
    triangles = (first[:, :, None] + np.array([[0, 2, 1], [1, 2, 3]], np.uint32)[None]).reshape(-1, 3)
    y, x = np.divmod(np.arange(rows * columns), columns)
    at = np.stack(
        [np.stack([(x + (k & 1)) / columns, 1.0 - (y + (k >> 1)) / rows], axis=-1) for k in range(4)],
        axis=1,
    ).reshape(-1, 2)
    return triangles, at[triangles].astype(np.float32)


def load_relief(finished: Source, progress: Progress = no_progress) -> Scene:
    """A rendered image, or a sequence of them, as a scene with the camera that it was made by.

    Raises
    ------
    SceneError
        A file cannot be read, or frames of the sequence differ in size.
    """
    path = Path(finished.path)
    progress(f"Reading {path.name}", 0.0)
    pixels = read_frame(finished)
    told = list(pixels.told)
    frames = frames_beside(path) if finished.sequence else []
    if gaps(frames):
        told.append(f"Frames {gaps(frames)} are missing; what is before them goes over into what is behind.")
    depth = cells(finished, None)
    triangles, uv = _triangles(*depth.shape)
    points = _points(finished, frames[0] if frames else None)
    if not np.isfinite(depth).any():
        raise SceneError("no valid depth found.", file=path, remedy="Check the depth settings.")
    deformation = None
    if len(frames) <= 1:
        there = np.repeat(np.isfinite(depth).ravel(), 2)
        triangles, uv = triangles[there], uv[there]
    else:
        times = np.asarray(frames, float)
        deformation = Deformation(Sampled(times, partial(_sample, finished, frames, len(points))))
    mesh = Mesh(points, triangles, uv=uv, deformation=deformation, rides=True)
    texture = Texture(path.name, pixels=as_bytes(pixels.colour))
    material = Material("picture", base=(1.0, 1.0, 1.0), base_texture=texture, rough=1.0)
    carrier = _carrier(finished, path, frames)
    parent = len(carrier) - 1
    nodes = (*carrier, Node(PICTURE, parent, mesh=mesh, materials=(material,)), Node(CAMERA, parent))
    focal = _SENSOR_MM / 2.0 / finished.half_width
    height, width = pixels.depth.shape
    camera = CameraSource(
        CAMERA,
        len(nodes) - 1,
        Track.constant([focal]),
        Track.constant([_SENSOR_MM]),
        Track.constant([_SENSOR_MM * height / width]),
    )
    scene = Scene(
        path, nodes, (camera,), fps=24.0, first_frame=frames[0] if frames else None,
        last_frame=frames[-1] if frames else None, warnings=tuple(told), says_rate=False,
    )  # fmt: skip
    return sanitise(scene)


def _carrier(finished: Source, path: Path, frames: list[int]) -> tuple[Node, ...]:
    """What carries the picture to where it was taken from, if its header says so; a sequence says it frame by
    frame. Places count in the unit of its distances.
    """
    whole = frames if len(frames) > 1 else [frames[0] if frames else 0]
    paths = {float(frame): path_at(finished.path, frame, finished.sequence) for frame in whole}
    poses = poses_of(paths if finished.sequence else {0.0: path})
    if not poses:
        return ()
    matrices = np.stack(list(poses.values()))
    matrices[:, :3, 3] *= finished.rule.unit_m if finished.rule.kind == "distance" else 1.0
    track = Track.constant(matrices[0]) if len(matrices) == 1 else Track(np.array(list(poses)), matrices)
    return (Node(TAKEN_FROM, motion=Motion((TransformOp("matrix", track),))),)


@lru_cache(maxsize=32)
def without_pose(scene: Scene) -> Scene:
    """A rendered image as if its header did not say where it was taken from."""
    if not has_pose(scene):
        return scene
    nodes = tuple(replace(node, parent=-1) for node in scene.nodes[1:])
    cameras = tuple(replace(camera, node=camera.node - 1) for camera in scene.cameras)
    return replace(scene, nodes=nodes, cameras=cameras)


def has_pose(scene: Scene) -> bool:
    """Whether its header said where it was taken from."""
    return scene.nodes[0].path == TAKEN_FROM


def _sample(finished: Source, frames: list[int], count: int, number: int) -> NDArray[np.float32]:
    points = _points(finished, frames[number])
    if len(points) != count:
        raise SceneError(
            f"frame {frames[number]} has another size than those before it.", file=finished.path,
            remedy="Export the sequence at one size.",
        )  # fmt: skip
    return points
