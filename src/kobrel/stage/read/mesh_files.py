"""Scenes from OBJ, PLY and STL, read by trimesh."""

import re
from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from numpy.typing import NDArray

from kobrel.errors import SceneError
from kobrel.files import bytes_of
from kobrel.stage.motion import matrix_motion
from kobrel.stage.pictures.colours import to_linear
from kobrel.stage.pictures.pixels import require_size
from kobrel.stage.read.checks import mesh_fault
from kobrel.stage.read.files import Beside, text_of
from kobrel.stage.scene import Cutout, Material, Mesh, Node, Progress, Scene, Texture

_MOST_BYTES = 4 * 2**30
_UNDRAWN = {"l": "lines", "p": "points", "curv": "curves", "surf": "surfaces"}
"""Elements of OBJ that are no faces, by their first words."""
_FIRST_WORD = re.compile(r"\n[ \t]*(" + "|".join(_UNDRAWN) + r")[ \t]")


def load_mesh_file(path: Path, progress: Progress) -> Scene:
    """Read a scene of meshes; its unit is taken as a metre.

    Parameters
    ----------
    path : the file
    progress : told how far it is; may raise to cancel

    Raises
    ------
    SceneError
        The file cannot be read.
    """
    progress(f"Opening {path.name}", 0.0)
    if path.stat().st_size > _MOST_BYTES:
        raise SceneError("the file is too large for its kind.", file=path, remedy="Export it as USD.")
    beside = Beside(path.parent)
    try:
        source, left_out = _opened(path, beside)
    except Exception as error:  # each of trimesh's readers fails in its own way
        raise SceneError(
            "not readable, it is damaged or of another kind than its name says.",
            file=path,
            remedy="Export the scene again.",
        ) from error
    nodes: list[Node] = []
    warnings = list(left_out)
    meshes: dict[str, Mesh | None] = {}
    for count, name in enumerate(source.graph.nodes_geometry):
        progress(f"Reading {path.name}", count / max(1, len(source.graph.nodes_geometry)))
        matrix, geometry_name = source.graph[name]
        geometry = source.geometry[geometry_name]
        if geometry_name not in meshes:
            meshes[geometry_name] = _mesh(geometry, str(name), warnings)
        mesh = meshes[geometry_name]
        if mesh is not None:
            material = _material(geometry, str(geometry_name), mesh, beside)
            nodes.append(Node(f"/{name}", motion=matrix_motion(matrix), mesh=mesh, materials=(material,)))
    if not nodes and not warnings:
        raise SceneError("no mesh is in it.", file=path, remedy="Export the scene again, with its faces.")
    return Scene(
        path, tuple(nodes), warnings=tuple(warnings + beside.warnings), says_unit=False, says_up=False
    )


def _opened(path: Path, beside: Beside) -> tuple[trimesh.Scene, list[str]]:
    """What trimesh makes of a file, and what it leaves out without a word."""
    kind = path.suffix.lower().lstrip(".")
    if kind != "obj":
        return trimesh.load_scene(str(path), process=False), []
    import io

    text = text_of(bytes_of(path, SceneError, _MOST_BYTES))
    scene = trimesh.load_scene(io.StringIO(text), file_type=kind, resolver=beside, process=False)
    counts = Counter(match[1] for match in _FIRST_WORD.finditer(text))
    found = ", ".join(f"{what} ({counts[word]})" for word, what in _UNDRAWN.items() if counts[word])
    return scene, [f"{path.name}: skipped {found}; only faces are drawn."] if found else []


def _mesh(geometry: Any, name: str, warnings: list[str]) -> Mesh | None:
    if not isinstance(geometry, trimesh.Trimesh):
        warnings.append(f"{name}: skipped, only meshes are drawn.")
        return None
    points = np.ascontiguousarray(geometry.vertices, np.float32)
    triangles = np.ascontiguousarray(geometry.faces)
    if points.ndim != 2 or points.shape[1] != 3:
        warnings.append(f"{name}: skipped, its points have not three numbers each.")
        return None
    fault = mesh_fault(points, triangles)
    if fault:
        warnings.append(f"{name}: skipped, {fault}.")
        return None
    triangles = triangles.astype(np.uint32)
    given = "vertex_normals" in geometry._cache.cache
    normals = np.asarray(geometry.vertex_normals, np.float32)[triangles] if given else None
    uv = getattr(geometry.visual, "uv", None)
    corners = np.asarray(uv, np.float32)[triangles] if uv is not None and len(uv) == len(points) else None
    return Mesh(points, triangles, normals, uv=corners, colours=_colours(geometry, triangles))


def _colours(geometry: Any, triangles: NDArray[np.uint32]) -> NDArray[np.uint8] | None:
    """Colours of the points at the corners, where they differ."""
    visual = geometry.visual
    if getattr(visual, "kind", None) == "face":
        found = np.asarray(visual.face_colors)[:, :3]
        return np.ascontiguousarray(np.repeat(found[:, None], 3, axis=1), np.uint8)
    if getattr(visual, "kind", None) != "vertex":
        return None
    found = np.asarray(visual.vertex_colors)[:, :3]
    return np.ascontiguousarray(found[triangles], np.uint8) if np.ptp(found, axis=0).any() else None


def _material(geometry: Any, name: str, mesh: Mesh, beside: Beside) -> Material:
    if mesh.colours is not None:
        return Material(name, base=(1.0, 1.0, 1.0))
    visual = geometry.visual
    material = getattr(visual, "material", None)
    if material is None:
        colours = getattr(visual, "vertex_colors", None) if visual.defined else None
        if colours is None or not len(colours):
            return Material(name)
        return Material(name, base=_colour(np.asarray(colours)[0, :3] / 255.0))
    diffuse = np.asarray(material.main_color, dtype=float)[:3] / 255.0
    image = getattr(material, "image", None)
    if image is None:
        return Material(name, base=_colour(diffuse), rough=_rough(material), cutout=_cutout(material, beside))
    try:
        require_size(image.width, image.height, name)
        pixels = np.ascontiguousarray(np.asarray(image.convert("RGB")), np.uint8)
    except (SceneError, OSError, ValueError, SyntaxError):
        beside.warnings.append(f"{name}: its picture cannot be read; what it is on is drawn plain.")
        return Material(name, base=_colour(diffuse), rough=_rough(material), cutout=_cutout(material, beside))
    texture = Texture(f"{name} base", pixels=pixels)
    cutout = _cutout(material, beside)
    return Material(name, (1.0, 1.0, 1.0), base_texture=texture, rough=_rough(material), cutout=cutout)


def _rough(material: Any) -> float:
    """Roughness, from Blinn's exponent `Ns` (Walter et al., "Microfacet Models for Refraction", 2007)."""
    said = getattr(material, "kwargs", None) or {}
    try:
        exponent = float(np.ravel(said.get("ns", 0.0))[0])
    except (TypeError, ValueError, IndexError):
        exponent = 0.0
    return float((2.0 / (exponent + 2.0)) ** 0.25) if 0.0 < exponent < np.inf else Material.rough


def _cutout(material: Any, beside: Beside) -> Cutout | None:
    """How far a surface can be seen through, by the material's `d` and `map_d`."""
    said = getattr(material, "kwargs", None) or {}
    try:
        opacity = float(np.ravel(said.get("d", 1.0))[0])
    except (TypeError, ValueError, IndexError):
        opacity = 1.0
    name = said.get("map_d")
    path = beside.find(" ".join(name) if isinstance(name, list) else str(name)) if name else None
    if path is not None:
        return Cutout(opacity, Texture(str(path), path=path), "red")
    return Cutout(max(opacity, 0.0)) if opacity < 1.0 else None


def _colour(srgb: NDArray[np.float64]) -> tuple[float, float, float]:
    red, green, blue = (float(part) for part in to_linear(srgb))
    return red, green, blue
