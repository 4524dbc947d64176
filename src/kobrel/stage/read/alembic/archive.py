"""What an archive holds: transforms, meshes whose points move, and cameras."""

from collections import Counter
from dataclasses import replace
from pathlib import Path
from typing import Any

import imath  # noqa: F401  the values' own types must be known first
import numpy as np
from alembic3d import Abc, AbcGeom
from numpy.typing import NDArray

from kobrel.errors import SceneError
from kobrel.stage.deform import Deformation, Sampled
from kobrel.stage.motion import Motion, Track, TransformOp
from kobrel.stage.read.alembic.samples import CENTIMETRE, Found, Points
from kobrel.stage.read.checks import fan_corners, mesh_fault
from kobrel.stage.read.normals import shared_corners
from kobrel.stage.scene import OWN_SQUEEZE, CameraSource, Mesh, Node, Progress

_LEFT_OUT = {
    AbcGeom.IPoints: "points", AbcGeom.ICurves: "curves", AbcGeom.INuPatch: "a patch",
    AbcGeom.ILight: "a light",
}  # fmt: skip
_MOST_OBJECTS = 1_000_000
_NEVER = Track.constant([0.0])
_MOST_SQUEEZE = 4.0


class Archive:
    """An archive that is open.

    Raises
    ------
    RuntimeError
        The file cannot be read; its library says why in its own words.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._archive = Abc.IArchive(str(path))

    def scene(self, progress: Progress) -> Found:
        """All of it, its unit taken as a centimetre.

        Raises
        ------
        SceneError, RuntimeError
            It cannot be read.
        """
        return _Reader(self._path, _frame_rate(self._archive)).read(self._archive.getTop(), progress)

    def points(self, part: str, second: float) -> NDArray[np.float32]:
        """(V, 3) points of a mesh, by its full name, at a time."""
        item = self._archive.getTop()
        for name in part.strip("/").split("/"):
            item = item.getChild(name)
        kind = AbcGeom.ISubD if AbcGeom.ISubD.matches(item.getHeader()) else AbcGeom.IPolyMesh
        sample = _own(kind, item).getSchema().getValue(Abc.ISampleSelector(second))
        return np.array(sample.getPositions(), np.float32)


def _frame_rate(archive: Any) -> float:
    """Samples a second of what is sampled evenly, the most frequent rate; 24 where nothing is."""
    rates: Counter[float] = Counter()
    for number in range(1, min(archive.getNumTimeSamplings(), 1000)):
        kind = archive.getTimeSampling(number).getTimeSamplingType()
        step = float(kind.getTimePerCycle()) if kind.isUniform() else 0.0
        if 1 / 1000 < step < 1:
            rates[round(1 / step, 3)] += int(archive.getMaxNumSamplesForTimeSamplingIndex(number))
    return rates.most_common(1)[0][0] if rates else 24.0


class _Reader:
    def __init__(self, path: Path, fps: float) -> None:
        self._path, self._fps = path, fps
        self._nodes: list[Node] = []
        self._cameras: list[tuple[Any, int]] = []
        self._frames: list[float] = []
        self.warnings: list[str] = []

    def read(self, top: Any, progress: Progress) -> Found:
        waiting = [(top.getChild(k), -1) for k in range(top.getNumChildren())][::-1]
        while waiting:
            if len(self._nodes) % 64 == 0:
                progress(f"Reading {self._path.name}", len(self._nodes) / (len(self._nodes) + len(waiting)))
            if len(self._nodes) > _MOST_OBJECTS:
                raise SceneError("it has too many parts.", file=self._path, remedy="Export fewer.")
            item, parent = waiting.pop()
            if AbcGeom.IFaceSet.matches(item.getHeader()):
                continue
            try:
                self._add(item, parent)
            except RuntimeError:
                self.warnings.append(f"{item.getFullName()}: skipped, it is damaged.")
                continue
            here = len(self._nodes) - 1
            waiting += [(item.getChild(k), here) for k in range(item.getNumChildren())][::-1]
        cameras = tuple(self._camera(schema, node) for schema, node in self._cameras)
        moving = [frame for frame in self._frames if abs(frame) < 1e9]
        return Found(
            tuple(self._nodes),
            cameras,
            self._fps,
            round(min(moving)) if moving else None,
            round(max(moving)) if moving else None,
            tuple(self.warnings),
        )

    def _times(self, schema: Any) -> tuple[list[float], NDArray[np.float64]]:
        """The times of a schema's samples in seconds, and as frames."""
        sampling = schema.getTimeSampling()
        count = 1 if schema.isConstant() else max(int(schema.getNumSamples()), 1)
        seconds = [float(sampling.getSampleTime(number)) for number in range(count)]
        frames = np.round(np.asarray(seconds) * self._fps, 6)
        if count > 1:
            self._frames += [float(frames[0]), float(frames[-1])]
        return seconds, frames

    def _add(self, item: Any, parent: int) -> None:
        header, path = item.getHeader(), item.getFullName()
        node = Node(path, parent, shown=self._shown(item))
        if AbcGeom.IXform.matches(header):
            node = self._moved(node, _own(AbcGeom.IXform, item).getSchema())
        elif AbcGeom.IPolyMesh.matches(header) or AbcGeom.ISubD.matches(header):
            smooth = bool(AbcGeom.ISubD.matches(header))
            kind = AbcGeom.ISubD if smooth else AbcGeom.IPolyMesh
            self._nodes.append(node)
            self._add_mesh(_own(kind, item).getSchema(), len(self._nodes) - 1, smooth)
            return
        elif AbcGeom.ICamera.matches(header):
            self._cameras.append((_own(AbcGeom.ICamera, item).getSchema(), len(self._nodes)))
        else:
            for kind, name in _LEFT_OUT.items():
                if kind.matches(header):
                    self.warnings.append(f"{path}: skipped, {name} are not drawn.")
        self._nodes.append(node)

    def _moved(self, node: Node, schema: Any) -> Node:
        seconds, frames = self._times(schema)
        samples = [schema.getValue(Abc.ISampleSelector(second)) for second in seconds]
        matrices = np.stack([_matrix(sample.getMatrix()) for sample in samples])
        motion = Motion((TransformOp("matrix", Track(frames, matrices)),))
        return replace(node, motion=motion, resets=not samples[0].getInheritsXforms())

    def _shown(self, item: Any) -> Track | None:
        """When a thing is seen; None is always, as far as it is up to the thing itself."""
        found = AbcGeom.GetVisibilityProperty(item)
        if not found or not found.valid() or not found.getNumSamples():
            return None
        sampling = found.getTimeSampling()
        seconds = [float(sampling.getSampleTime(n)) for n in range(int(found.getNumSamples()))]
        hidden = AbcGeom.ObjectVisibility.kVisibilityHidden
        states = [AbcGeom.GetVisibility(item, Abc.ISampleSelector(second)) for second in seconds]
        seen = np.array([[state != hidden] for state in states], float)
        if seen.all():
            return None
        return _NEVER if not seen.any() else Track(np.asarray(seconds) * self._fps, seen, held=True)

    def _add_mesh(self, schema: Any, index: int, smooth: bool) -> None:
        """A mesh for a node; where its faces change, one below it for each time, seen in its turn."""
        node = self._nodes[index]
        seconds, frames = self._times(schema)
        variance = AbcGeom.MeshTopologyVariance.kHeterogenousTopology
        if schema.getTopologyVariance() == variance and len(seconds) > 1:
            for number, second in enumerate(seconds):
                made = _mesh(schema, second, smooth)
                seen = (np.arange(len(seconds)) == number).astype(float)
                turn = Track(frames, seen[:, None], held=True)
                if not isinstance(made, str):
                    own = f"{node.path}/at {frames[number]:g}"
                    self._nodes.append(Node(own, index, mesh=made, shown=turn))
            return
        made = _mesh(schema, seconds[0], smooth)
        if isinstance(made, str):
            self.warnings.append(f"{node.path}: skipped, {made}.")
            return
        if len(seconds) > 1:
            made = self._moving(made, node.path, seconds, frames)
        self._nodes[index] = replace(node, mesh=made)

    def _moving(self, mesh: Mesh, path: str, seconds: list[float], frames: NDArray[np.float64]) -> Mesh:
        points = Points(path, tuple(seconds), mesh.points)
        if mesh.normals is not None:
            mesh = replace(mesh, normals=None, smooth=True, shared=shared_corners(mesh))
        return replace(mesh, deformation=Deformation(Sampled(frames, points)))

    def _camera(self, schema: Any, node: int) -> CameraSource:
        """A camera: lens in mm, apertures and offsets in cm, distances in the scene's unit."""
        unit_m = CENTIMETRE
        seconds, frames = self._times(schema)
        samples = [schema.getValue(Abc.ISampleSelector(second)) for second in seconds]

        def track(name: str, factor: float = 1.0) -> Track:
            values = np.array([[float(getattr(sample, f"get{name}")()) * factor] for sample in samples])
            return Track(frames, np.where(np.isfinite(values), values, 0.0))

        def positive(values: Track, otherwise: float) -> Track:
            return values if np.all(values.values > 0) else Track.constant([otherwise])

        kept = _kept_squeeze(schema)
        squeeze = kept or min(max(float(track("LensSqueezeRatio").values[0, 0]), 1.0), _MOST_SQUEEZE)
        wide = 10.0 / kept if kept else 10.0
        f_number, focus = track("FStop"), track("FocusDistance", unit_m)
        return CameraSource(
            self._nodes[node].path,
            node,
            positive(track("FocalLength"), 50.0),
            positive(track("HorizontalAperture", wide), 36.0),
            positive(track("VerticalAperture", 10.0), 24.0),
            f_number if np.all(f_number.values > 0) else None,
            focus if np.all(focus.values > 0) else None,
            near_clip_m=max(float(track("NearClippingPlane", unit_m).values[0, 0]), 0.0),
            squeeze=squeeze,
            shift_mm=(
                float(track("HorizontalFilmOffset", wide).values[0, 0]),
                float(track("VerticalFilmOffset", 10.0).values[0, 0]),
            ),
        )


def _kept_squeeze(schema: Any) -> float | None:
    """The squeeze that Kobrel wrote beside an aperture as wide as the squeezed picture shows, if it did."""
    own = schema.getUserProperties()
    if not own.valid() or own.getPropertyHeader(OWN_SQUEEZE) is None:
        return None
    try:
        kept = float(Abc.IDoubleProperty(own, OWN_SQUEEZE).getValue(Abc.ISampleSelector(0.0)))
    except (RuntimeError, ValueError):  # of another type
        return None
    return kept if 1.0 <= kept <= _MOST_SQUEEZE else None


def _own(kind: Any, item: Any) -> Any:
    return kind(item.getParent(), item.getName())


def _matrix(matrix: Any) -> NDArray[np.float64]:
    """A matrix for rows as one for columns, (4, 4)."""
    return np.array([[matrix[row][column] for row in range(4)] for column in range(4)], float)


def _mesh(schema: Any, second: float, smooth: bool) -> Mesh | str:
    """A mesh at a time, or why it cannot be drawn. Its faces are given clockwise."""
    sample = schema.getValue(Abc.ISampleSelector(second))
    points = np.array(sample.getPositions(), np.float32).reshape(-1, 3)
    indices = np.array(sample.getFaceIndices(), np.int32).ravel()
    counts = np.array(sample.getFaceCounts(), np.int32).ravel()
    fault = mesh_fault(points, indices, int(counts.sum()), counts)
    if fault:
        return fault
    corners = fan_corners(counts.astype(np.int64))[:, ::-1]

    def spread(parameter: Any, width: int) -> NDArray[np.float32] | None:
        if not parameter.valid() or not parameter.getNumSamples():
            return None
        values = np.array(parameter.getExpandedValue(Abc.ISampleSelector(second)).getVals(), np.float32)
        if values.shape == (len(indices), width):
            return np.ascontiguousarray(values[corners])
        return (
            np.ascontiguousarray(values[indices[corners]]) if values.shape == (len(points), width) else None
        )

    normals = None if smooth else spread(schema.getNormalsParam(), 3)
    return Mesh(
        points,
        np.ascontiguousarray(indices[corners]).view(np.uint32),
        normals,
        smooth,
        spread(schema.getUVsParam(), 2),
    )
