"""Finding again what a plan is tied to, in a scene that was exported anew."""

from collections import defaultdict
from typing import TypeVar

import numpy as np

from kobrel.plan.model import (
    Anchor,
    BoundsAnchor,
    End,
    FileCamera,
    NearestAnchor,
    OriginAnchor,
    Plan,
    Shot,
    SurfaceAnchor,
)
from kobrel.stage.scene import Scene
from kobrel.stage.stage import Place, Stage

_NODE_KINDS = (SurfaceAnchor, BoundsAnchor, OriginAnchor, NearestAnchor)
_ON_SURFACE = 1e-4
"""How far, of a mesh's size, a picked point may lie off it."""
_SAME_PLACE = 0.02
"""How far, of a thing's size, its middle and size may be off for it to be the same."""
T = TypeVar("T", Anchor, End)


def rebound(plan: Plan, stage: Stage, before: Stage | None = None) -> tuple[Plan, list[str]]:
    """The plan with its cameras, subjects and tapes on the parts of the scenes that they mean.

    Where a path is gone the part is found by its name, else by its place: a picked point by the mesh that
    it lies on, anything else by where it was before.

    Parameters
    ----------
    before : the stage as it was, where it is known

    Returns
    -------
    The plan, and in sentences what was found elsewhere.
    """
    finder = _Finder(stage, before)
    subjects = tuple(
        s.replace(anchor=finder.anchor(s.anchor, f"Subject {s.number} {s.name}")) for s in plan.subjects
    )
    tapes = tuple(
        t.replace(start=finder.anchor(t.start, f"Tape {t.name}"), end=finder.anchor(t.end, f"Tape {t.name}"))
        for t in plan.tapes
    )
    shots = tuple(finder.shot(shot) for shot in plan.shots)
    if not finder.told:
        return plan, []
    return plan.replace(subjects=subjects, tapes=tapes, shots=shots), finder.told


class _Finder:
    def __init__(self, stage: Stage, before: Stage | None) -> None:
        self._stage, self._before = stage, before
        self.told: list[str] = []

    def anchor(self, anchor: T, whose: str) -> T:
        """An anchor on the part that it means; as it is where that is there, or not to be found."""
        if not isinstance(anchor, _NODE_KINDS):
            return anchor
        scene = self._stage.scenes.get(anchor.scene)
        if scene is None or scene.find(anchor.node) >= 0:
            return anchor
        found, how = _by_name(scene, anchor.node), "name"
        if not found:
            found, how = self._by_place(scene, anchor), "place"
        if not found:
            return anchor
        self.told.append(f"{whose}: found by its {how} on {found}.")
        return anchor.replace(node=found)

    def shot(self, shot: Shot) -> Shot:
        """A shot with the camera that it means."""
        camera = shot.camera
        scene = self._stage.scenes.get(camera.scene) if isinstance(camera, FileCamera) else None
        if not isinstance(camera, FileCamera) or scene is None or scene.camera(camera.path) is not None:
            return shot
        cameras = {source.path for source in scene.cameras}
        found = _best(camera.path, [path for path in cameras if _name(path) == _name(camera.path)])
        if not found and len(cameras) == 1:
            found = next(iter(cameras))
        if not found:
            return shot
        self.told.append(f"Shot {shot.label}: its camera was found on {found}.")
        return shot.replace(camera=camera.replace(path=found))

    def _by_place(self, scene: Scene, anchor: Anchor) -> str:
        if isinstance(anchor, SurfaceAnchor) and (found := self._with_point(scene, anchor)):
            return found
        return self._where_it_was(scene, anchor) if isinstance(anchor, _NODE_KINDS) else ""

    def _with_point(self, scene: Scene, anchor: SurfaceAnchor) -> str:
        """The only mesh on whose surface a picked point lies."""
        from kobrel.stage.nearest import Closest

        goal = np.asarray([anchor.local], float)
        paths = []
        for node in scene.nodes:
            if node.mesh is None:
                continue
            low, high = node.mesh.bounds()
            size = float(np.linalg.norm(high - low))
            if np.any(goal[0] < low - _ON_SURFACE * size) or np.any(goal[0] > high + _ON_SURFACE * size):
                continue
            near = Closest(node.mesh).nearest(goal, np.eye(4)[None], np.zeros(1))[0]
            if np.linalg.norm(near - goal[0]) <= _ON_SURFACE * size:
                paths.append(node.path)
        return paths[0] if len(paths) == 1 else ""

    def _where_it_was(self, scene: Scene, anchor: Anchor) -> str:
        """The thing whose bounds are where those of the lost one were."""
        if self._before is None or not isinstance(anchor, _NODE_KINDS):
            return ""
        lost = _bounds(self._before, Place(anchor.scene, anchor.node))
        if lost is None:
            return ""
        size = float(np.linalg.norm(lost[1] - lost[0]))
        for node in scene.nodes:
            here = _bounds(self._stage, Place(anchor.scene, node.path)) if node.mesh is not None else None
            if (
                here is not None
                and max(map(float, map(np.linalg.norm, (here[0] - lost[0], here[1] - lost[1]))))
                < _SAME_PLACE * size
            ):
                return node.path
        return ""


def _bounds(stage: Stage, place: Place) -> tuple[np.ndarray, np.ndarray] | None:
    """Lowest and highest corner of a thing on the stage at the first frame; None where it has none."""
    rows = stage.rows_below(place)
    if not rows:
        return None
    corners = stage.boxes(float(stage.scenes[place.scene].first_frame or 0))[rows].reshape(-1, 3)
    return corners.min(axis=0), corners.max(axis=0)


def _name(path: str) -> str:
    return path.rstrip("/").rsplit("/", 1)[-1]


def _by_name(scene: Scene, path: str) -> str:
    """The node with the name that a path ends in; of several the one that shares most of the path."""
    same = defaultdict(list)
    for node in scene.nodes:
        same[node.name].append(node.path)
    return _best(path, same[_name(path)])


def _best(path: str, paths: list[str]) -> str:
    """Of some paths the one that shares most parts with another; "" where two share as many."""
    if not paths:
        return ""
    parts = path.strip("/").split("/")

    def shared(other: str) -> int:
        return len(set(parts) & set(other.strip("/").split("/")))

    ranked = sorted(paths, key=shared, reverse=True)
    return "" if len(ranked) > 1 and shared(ranked[0]) == shared(ranked[1]) else ranked[0]
