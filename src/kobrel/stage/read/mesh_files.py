"""Scenes from glTF, GLB, OBJ, PLY and STL, read by trimesh."""

from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from numpy.typing import NDArray

from kobrel.errors import SceneError
from kobrel.stage.motion import Track, matrix_motion
from kobrel.stage.read.checks import mesh_fault
from kobrel.stage.scene import CameraSource, Material, Mesh, Node, Progress, Scene, Texture

_UNITLESS = {".obj", ".ply", ".stl"}


def load_mesh_file(path: Path, unit_m: float | None, progress: Progress) -> Scene:
    """Read a scene of meshes.

    Parameters
    ----------
    path : the file
    unit_m : metres in one unit; None is one metre
    progress : told how far it is; may raise to cancel

    Raises
    ------
    SceneError
        The file cannot be read.
    """
    progress(f"Opening {path.name}", 0.0)
    try:
        source = trimesh.load_scene(str(path), process=False)
    except Exception as error:  # each of trimesh's readers fails in its own way
        raise SceneError(f"not readable ({error}).", file=path, remedy="Export the scene again.") from error
    nodes: list[Node] = []
    warnings: list[str] = []
    meshes: dict[str, Mesh | None] = {}
    for count, name in enumerate(source.graph.nodes_geometry):
        progress(f"Reading {path.name}", count / max(1, len(source.graph.nodes_geometry)))
        matrix, geometry_name = source.graph[name]
        geometry = source.geometry[geometry_name]
        if geometry_name not in meshes:
            meshes[geometry_name] = _mesh(geometry, str(name), warnings)
        mesh = meshes[geometry_name]
        if mesh is not None:
            material = _material(geometry, str(geometry_name))
            nodes.append(Node(f"/{name}", motion=matrix_motion(matrix), mesh=mesh, materials=(material,)))
    if unit_m is None and path.suffix.lower() in _UNITLESS:
        warnings.append(f"{path.name}: the format has no unit; one unit is taken as one metre.")
    cameras = _camera(source, nodes)
    root = np.diag([unit_m or 1.0] * 3 + [1.0])
    return Scene(path, tuple(nodes), cameras, root, unit_m or 1.0, warnings=tuple(warnings))


def _mesh(geometry: Any, name: str, warnings: list[str]) -> Mesh | None:
    if not isinstance(geometry, trimesh.Trimesh):
        warnings.append(f"{name}: left out, only meshes are drawn.")
        return None
    points = np.ascontiguousarray(geometry.vertices, np.float32)
    triangles = np.ascontiguousarray(geometry.faces)
    fault = mesh_fault(points, triangles)
    if fault:
        warnings.append(f"{name}: left out, {fault}.")
        return None
    triangles = triangles.astype(np.uint32)
    given = "vertex_normals" in geometry._cache.cache
    normals = np.asarray(geometry.vertex_normals, np.float32)[triangles] if given else None
    uv = getattr(geometry.visual, "uv", None)
    corners = np.asarray(uv, np.float32)[triangles] if uv is not None and len(uv) == len(points) else None
    return Mesh(points, triangles, normals=normals, uv=corners)


def _material(geometry: Any, name: str) -> Material:
    visual = geometry.visual
    material = getattr(visual, "material", None)
    if material is None:
        colours = getattr(visual, "vertex_colors", None) if visual.defined else None
        if colours is None or not len(colours):
            return Material(name)
        return Material(name, base=_linear(np.asarray(colours)[:, :3].mean(axis=0) / 255.0))
    if isinstance(material, trimesh.visual.material.PBRMaterial):
        return Material(
            name,
            # glTF keeps its factors in linear light; trimesh hands them on as bytes.
            base=_factor(material.baseColorFactor, (0.8, 0.8, 0.8)),
            emission=_factor(material.emissiveFactor, (0.0, 0.0, 0.0)),
            base_texture=_texture(material.baseColorTexture, f"{name} base"),
            emission_texture=_texture(material.emissiveTexture, f"{name} emission"),
        )
    diffuse = np.asarray(material.main_color, dtype=float)[:3] / 255.0
    texture = _texture(getattr(material, "image", None), f"{name} base")
    return Material(name, base=_linear(diffuse), base_texture=texture)


def _factor(value: Any, default: tuple[float, float, float]) -> tuple[float, float, float]:
    if value is None:
        return default
    numbers = np.asarray(value)
    scaled = numbers[:3].astype(float) / (255.0 if numbers.dtype == np.uint8 else 1.0)
    return (float(scaled[0]), float(scaled[1]), float(scaled[2]))


def _linear(srgb: NDArray[np.float64]) -> tuple[float, float, float]:
    linear = np.where(srgb <= 0.04045, srgb / 12.92, ((srgb + 0.055) / 1.055) ** 2.4)
    return (float(linear[0]), float(linear[1]), float(linear[2]))


def _texture(image: Any, name: str) -> Texture | None:
    if image is None:
        return None
    return Texture(name, pixels=np.ascontiguousarray(np.asarray(image.convert("RGB")), np.uint8))


def _camera(source: Any, nodes: list[Node]) -> tuple[CameraSource, ...]:
    """The file's camera, on a 36 mm wide sensor that gives its angles of view."""
    if not source.has_camera:
        return ()
    # trimesh gives the upward angle of the file, and across it times the picture's aspect.
    across, vertical = np.radians(source.camera.fov)
    aspect = across / vertical
    focal = 18.0 / (aspect * np.tan(vertical / 2))
    name = source.camera.name or "camera"
    nodes.append(Node(f"/{name}", motion=matrix_motion(source.camera_transform)))
    return (
        CameraSource(
            path=f"/{name}",
            node=len(nodes) - 1,
            focal_mm=Track.constant([focal]),
            width_mm=Track.constant([36.0]),
            height_mm=Track.constant([2 * focal * np.tan(vertical / 2)]),
        ),
    )
