"""The one way in for scene files of every kind."""

from dataclasses import replace
from pathlib import Path

import numpy as np

from kobrel.errors import SceneError
from kobrel.stage.scene import SCENE_SUFFIXES, USD_SUFFIXES, Node, Progress, Scene, no_progress


def load_scene(path: Path, unit_m: float | None = None, progress: Progress = no_progress) -> Scene:
    """Read a scene file of any kind that Kobrel knows.

    Parameters
    ----------
    path : the file
    unit_m : metres in one unit, instead of what the file says
    progress : told how far it is; may raise :class:`Cancelled`

    Raises
    ------
    SceneError
        The file is missing, empty, of an unknown kind or broken. Parts that cannot be
        drawn are skipped instead, with a warning in the scene.
    """
    suffix = path.suffix.lower()
    if suffix not in SCENE_SUFFIXES:
        known = ", ".join(SCENE_SUFFIXES)
        raise SceneError("not a kind of scene that Kobrel reads.", file=path, remedy=f"It reads {known}.")
    if not path.is_file():
        raise SceneError("no such file.", file=path)
    if path.stat().st_size == 0:
        raise SceneError("the file is empty.", file=path, remedy="Export the scene again.")
    if suffix in USD_SUFFIXES:
        from kobrel.stage.read.usd import load_usd

        scene = load_usd(path, unit_m, progress)
    else:
        from kobrel.stage.read.mesh_files import load_mesh_file

        scene = load_mesh_file(path, unit_m, progress)
    return _without_flat_nodes(scene)


def _without_flat_nodes(scene: Scene) -> Scene:
    """The scene without meshes whose transform squeezes them to nothing."""
    nodes, warnings = list(scene.nodes), list(scene.warnings)
    frames = np.zeros(1) if scene.first_frame is None else np.array([float(scene.first_frame)])
    for index, node in enumerate(scene.nodes):
        if node.mesh is None:
            continue
        matrix = scene.world(index, frames)[0]
        if not np.all(np.isfinite(matrix)) or abs(np.linalg.det(matrix[:3, :3])) < 1e-30:
            nodes[index] = Node(node.path, node.parent, node.motion, node.resets)
            warnings.append(f"{node.path}: left out, its scale is zero.")
    return replace(scene, nodes=tuple(nodes), warnings=tuple(warnings))
