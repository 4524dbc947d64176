"""The gate of scene files: whatever a reader found passes here before it reaches stage, plan or kernels.

Every number is finite and within the bounds below, every index within what it counts. What is not is
mended or left out, and said in the scene's warnings.
"""

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kobrel.optics.units import exact_fps
from kobrel.stage.motion import Track
from kobrel.stage.scene import CameraSource, Cutout, FileLight, Material, Mesh, Node, Scene

UNIT_M = (1e-6, 1e6)
"""Metres in one unit."""
FPS = (0.1, 1000.0)
MOST_FRAME = 1_000_000
"""Frames lie between minus this and this."""
MOST_LENGTH = 20_000
"""Frames of a scene's range."""
MOST_LIGHT = 1e12
"""Radiance of what glows, and each part of a colour."""
MOST_PLACE = 1e12
"""How far from the origin a point may lie, units."""
MOST_M = 1e8
"""How far from the origin what stands still may reach, metres."""
MOST_BLADES = 64
MOST_COPIES = 1_000_000
"""Copies of meshes in a scene; each takes some 500 bytes."""
FOCAL_MM, SENSOR_MM, F_NUMBER, FOCUS_M = (0.1, 1e5), (0.1, 1e4), (0.05, 4096.0), (1e-4, np.inf)
_FLAT = 1e-30
_ASSUMED = {"focal_mm": 50.0, "width_mm": 36.0, "height_mm": 20.25}


def sanitise(scene: Scene) -> Scene:
    """The scene as it may be used."""
    warnings = list(scene.warnings)
    name = scene.path.name
    unit = scene.unit_m
    if not UNIT_M[0] <= unit <= UNIT_M[1]:
        warnings.append(f"{name}: invalid unit ({unit:g} m); 1 cm is assumed.")
        unit = 0.01
    fps = scene.fps
    if not FPS[0] <= fps <= FPS[1]:
        warnings.append(f"{name}: {fps:g} fps make no sense; 24 are assumed.")
        fps = 24.0
    first, last = _range(scene, warnings)
    scene = replace(scene, unit_m=unit, fps=exact_fps(fps), first_frame=first, last_frame=last)
    read, made = scene.cameras_in, None
    if read is not None:

        def made(unit_m: float) -> tuple[tuple[CameraSource, ...], list[str]]:
            found, told = read(unit_m)
            return _cameras(found, told), told

    seen = any(node.mesh is not None or node.copies is not None for node in scene.nodes)
    if not (seen or scene.cameras or scene.light or warnings):
        warnings.append(f"{name}: nothing in it is seen: it has no mesh, no camera and no light.")
    return replace(
        scene,
        nodes=_nodes(scene, warnings),
        cameras=_cameras(scene.cameras, warnings),
        cameras_in=made,
        light=_light(scene.light, name, warnings),
        warnings=tuple(warnings),
    )


def _range(scene: Scene, warnings: list[str]) -> tuple[int | None, int | None]:
    first, last = scene.first_frame, scene.last_frame
    if first is None or last is None:
        return None, None
    if not -MOST_FRAME <= first <= last <= MOST_FRAME:
        if first <= last:
            warnings.append(f"{scene.path.name}: the frame range {first}–{last} is ignored.")
        return None, None
    if last - first >= MOST_LENGTH:
        warnings.append(
            f"{scene.path.name}: of its frames {first} to {last} the first {MOST_LENGTH} are taken."
        )
        last = first + MOST_LENGTH - 1
    return first, last


# Nodes


def _nodes(scene: Scene, warnings: list[str]) -> tuple[Node, ...]:
    nodes = list(scene.nodes)
    meshes: dict[Mesh, tuple[Mesh | None, str]] = {}
    materials: dict[int, tuple[Material, ...]] = {}
    copied = 0
    for index, node in enumerate(scene.nodes):
        mesh = node.mesh
        if mesh is None:
            continue
        if mesh not in meshes:
            meshes[mesh] = _mesh(mesh)
        fit, why = meshes[mesh]
        if why:
            warnings.append(f"{node.path}: {why}.")
        own = materials.setdefault(id(node.materials), _materials(node, warnings))
        slots = None if fit is None else fit.slots
        if slots is not None and int(slots.max(initial=0)) >= len(own):
            fit = replace(fit, slots=np.minimum(slots, len(own) - 1)) if fit is not None else None
            warnings.append(f"{node.path}: some of its faces name a surface that it has not.")
        if fit is not None and not scene.moves(index) and node.copies is None:
            matrix = scene.world(index, np.zeros(1))[0]
            if not np.all(np.isfinite(matrix)) or abs(np.linalg.det(matrix[:3, :3])) < _FLAT:
                warnings.append(f"{node.path}: skipped, its transform is degenerate.")
                fit = None
            elif _farthest(fit, matrix) > MOST_M:
                warnings.append(f"{node.path}: skipped, it extends farther than {MOST_M:g} m.")
                fit = None
        if fit is not None and node.copies is not None:
            copied += node.copies.count
            if copied > MOST_COPIES:
                warnings.append(
                    f"{node.path}: skipped, its {node.copies.count:,} copies are more than the "
                    f"{MOST_COPIES:,} that a scene may have."
                )
                copied -= node.copies.count
                fit = None
        if fit is not mesh or own is not node.materials:
            nodes[index] = replace(node, mesh=fit, materials=own)
    return tuple(nodes)


def _farthest(mesh: Mesh, matrix: NDArray[np.float64]) -> float:
    """How far from the origin a mesh reaches at most, metres."""
    reach = _reach(mesh.points) * np.sqrt(3.0)
    return float(reach * float(np.linalg.norm(matrix[:3, :3])) + float(np.linalg.norm(matrix[:3, 3])))


def _mesh(mesh: Mesh) -> tuple[Mesh | None, str]:
    """A mesh as it may be drawn, and what is wrong with it."""
    reach = _reach(mesh.points)
    if not np.isfinite(reach):
        return None, "skipped, it has points that are not numbers"
    if reach > MOST_PLACE:
        return None, f"skipped, it has points farther than {MOST_PLACE:g} units away"
    if mesh.triangles.size and int(mesh.triangles.max()) >= len(mesh.points):
        return None, f"skipped, a face points at vertex {int(mesh.triangles.max())} of {len(mesh.points)}"
    count, told = len(mesh.triangles), list[str]()
    changes: dict[str, Any] = {}
    if mesh.normals is not None and (mesh.normals.shape != (count, 3, 3) or not _is_finite(mesh.normals)):
        changes["normals"] = None
        told.append("its normals are not numbers; it is drawn with flat faces")
    uv = mesh.uv
    if uv is not None and (uv.shape != (count, 3, 2) or not _is_finite(uv)):
        fits = uv.shape == (count, 3, 2)
        changes["uv"] = np.nan_to_num(uv, nan=0.0, posinf=0.0, neginf=0.0) if fits else None
        told.append("some of its texture coordinates are not numbers")
    for field, shape in (("slots", (count,)), ("colours", (count, 3, 3)), ("shared", (count, 3))):
        given = getattr(mesh, field)
        if given is not None and given.shape != shape:
            changes[field] = None
            told.append(f"its {field} do not fit its faces")
    return (replace(mesh, **changes) if changes else mesh), "; ".join(told)


def _reach(values: NDArray[np.floating]) -> float:
    """The largest number, either sign; NaN if one is."""
    flat = values.ravel()
    return float(max(flat.max(), -flat.min())) if len(flat) else 0.0


def _is_finite(values: NDArray[np.floating]) -> bool:
    """Whether all are numbers: a sum is, if every part is; else they are looked at one by one."""
    with np.errstate(over="ignore", invalid="ignore"):
        return bool(np.isfinite(values.sum())) or bool(np.isfinite(values).all())


def _materials(node: Node, warnings: list[str]) -> tuple[Material, ...]:
    fit = tuple(map(_material, node.materials))
    if all(a is b for a, b in zip(fit, node.materials, strict=True)):
        return node.materials
    warnings.append(f"{node.path}: colour or glow of its surface was out of bounds.")
    return fit


def _material(material: Material) -> Material:
    changes: dict[str, Any] = {}
    for field in ("base", "emission"):
        given = getattr(material, field)
        fit = _colour(given)
        if fit != tuple(given):
            changes[field] = fit
    for field in ("rough", "metal"):
        given = getattr(material, field)
        part = _within(float(given), 0.0, 1.0, getattr(Material, field))
        if part != given:
            changes[field] = part
    cut = material.cutout
    if cut is not None and not (0 <= cut.opacity <= 1 and 0 <= cut.cutoff <= 1):
        opacity, cutoff = (_within(value, 0.0, 1.0, 1.0) for value in (cut.opacity, cut.cutoff))
        changes["cutout"] = Cutout(opacity, cut.texture, cut.channel, cutoff)
    return replace(material, **changes) if changes else material


def _colour(given: tuple[float, float, float]) -> tuple[float, float, float]:
    red, green, blue = (_within(float(part), 0.0, MOST_LIGHT, 0.0) for part in given)
    return red, green, blue


def _within(value: float, low: float, high: float, otherwise: float) -> float:
    """A number within bounds; another for NaN."""
    return otherwise if np.isnan(value) else min(max(value, low), high)


def _light(light: FileLight | None, name: str, warnings: list[str]) -> FileLight | None:
    if light is None:
        return None
    toward = light.toward
    if toward is not None and not np.isfinite(toward).all():
        warnings.append(f"{name}: its distant light points nowhere and is skipped.")
        toward = None
    turn = light.turn_deg if np.isfinite(light.turn_deg) else 0.0
    return replace(
        light, toward=toward, colour=_colour(light.colour), about=_colour(light.about), turn_deg=turn
    )


# Cameras


def _cameras(cameras: tuple[CameraSource, ...], warnings: list[str]) -> tuple[CameraSource, ...]:
    return tuple(_camera(camera, warnings) for camera in cameras)


def _camera(camera: CameraSource, warnings: list[str]) -> CameraSource:
    changes: dict[str, Any] = {}
    wrong: list[str] = []
    for field, words, (low, high) in (
        ("focal_mm", "focal length", FOCAL_MM), ("width_mm", "sensor", SENSOR_MM),
        ("height_mm", "sensor", SENSOR_MM), ("f_number", "stop", F_NUMBER), ("focus_m", "focus", FOCUS_M),
    ):  # fmt: skip
        track: Track | None = getattr(camera, field)
        if track is not None and not bool(np.all((track.values >= low) & (track.values <= high))):
            changes[field] = Track.constant([_ASSUMED[field]]) if field in _ASSUMED else None
            wrong.append(words)
    for field, words, low, high, otherwise in (
        ("squeeze", "squeeze", 1.0, 4.0, 1.0), ("cone_deg", "light cone", 1e-3, 89.0, 1.0),
        ("field_m", "field", 1e-6, 1e6, 4.0), ("near_clip_m", "near clip", 0.0, 1e6, 0.0),
        ("far_clip_m", "far clip", 0.0, np.inf, np.inf),
    ):  # fmt: skip
        value = getattr(camera, field)
        if not low <= value <= high:
            changes[field] = otherwise
            wrong.append(words)
    if not all(abs(part) <= SENSOR_MM[1] for part in camera.shift_mm):
        changes["shift_mm"] = (0.0, 0.0)
        wrong.append("lens shift")
    iris = camera.iris
    if iris.blades != 0 and not 3 <= iris.blades <= MOST_BLADES:
        changes["iris"] = type(iris)()
        wrong.append("iris")
    elif not np.isfinite(iris.rotation_deg):
        changes["iris"] = replace(iris, rotation_deg=0.0)
        wrong.append("iris")
    if not changes:
        return camera
    told = ", ".join(dict.fromkeys(wrong))
    warnings.append(f"{camera.path}: invalid {told}; the default is used.")
    return replace(camera, **changes)
