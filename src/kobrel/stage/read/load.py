"""The one way in for scene files of every kind."""

from pathlib import Path

from kobrel.errors import SceneError
from kobrel.files import require_file
from kobrel.stage.read.sanitising import sanitise
from kobrel.stage.scene import (
    ALEMBIC_SUFFIX,
    GLTF_SUFFIXES,
    SCENE_SUFFIXES,
    USD_SUFFIXES,
    Choices,
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
    if str(path).encode("utf-8", "replace").decode() != str(path):
        raise SceneError(
            "its name is no text in UTF-8, a plan cannot name it.", file=path, remedy="Rename it."
        )
    if require_file(path, SceneError) == 0:
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
    return sanitise(scene)
