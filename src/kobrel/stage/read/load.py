"""The one way in for scene files of every kind."""

from dataclasses import replace
from pathlib import Path

import numpy as np

from kobrel.errors import SceneError
from kobrel.stage.scene import (
    ALEMBIC_SUFFIX,
    GLTF_SUFFIXES,
    SCENE_SUFFIXES,
    USD_SUFFIXES,
    Choices,
    Mesh,
    Progress,
    Scene,
    no_progress,
)


def load_scene(path: Path, progress: Progress = no_progress, choices: Choices = ()) -> Scene:
    """Read a scene file of any kind that Kobrel knows.

    Parameters
    ----------
    path : the file
    progress : told how far it is; may raise :class:`Cancelled`
    choices : of its variants, purposes or scenes, instead of its own

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
        from kobrel.stage.read.usd.reader import load_usd

        scene = load_usd(path, progress, choices)
    elif suffix in GLTF_SUFFIXES:
        from kobrel.stage.read.gltf.reader import load_gltf

        scene = load_gltf(path, progress, choices)
    elif suffix == ALEMBIC_SUFFIX:
        from kobrel.stage.read.alembic.samples import load_alembic

        scene = load_alembic(path, progress)
    else:
        from kobrel.stage.read.mesh_files import load_mesh_file

        scene = load_mesh_file(path, progress)
    return _without_impossible_meshes(scene)


def _without_impossible_meshes(scene: Scene) -> Scene:
    """The scene without meshes that are not finite, or that their transform always squeezes to nothing."""
    nodes, warnings = list(scene.nodes), list(scene.warnings)
    whole: dict[Mesh, bool] = {}
    for index, node in enumerate(scene.nodes):
        mesh = node.mesh
        if mesh is None:
            continue
        if mesh not in whole:
            whole[mesh] = _is_finite(mesh)
        if not whole[mesh]:
            nodes[index] = replace(node, mesh=None)
            warnings.append(f"{node.path}: left out, it has points that are not numbers.")
        if not whole[mesh] or scene.moves(index) or node.copies is not None:
            continue
        matrix = scene.world(index, np.zeros(1))[0]
        if not np.all(np.isfinite(matrix)) or abs(np.linalg.det(matrix[:3, :3])) < 1e-30:
            nodes[index] = replace(node, mesh=None)
            warnings.append(f"{node.path}: left out, its transform makes nothing of it.")
    return replace(scene, nodes=tuple(nodes), warnings=tuple(warnings))


def _is_finite(mesh: Mesh) -> bool:
    """Whether all points are numbers: a sum is, if every part is; else they are looked at one by one."""
    with np.errstate(over="ignore", invalid="ignore"):
        return bool(np.isfinite(mesh.points.sum())) or bool(np.isfinite(mesh.points).all())
