"""Nodes of glTF over time: transforms, their animation, and the weights of morph targets."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from kobrel.errors import SceneError
from kobrel.stage.motion import Array, Motion, Track, TransformOp, matrix_motion
from kobrel.stage.read.gltf.container import Container
from kobrel.stage.read.gltf.document import Animation, NodePart, OwnClock, own

FPS = 24.0
"""Frames a second: the format counts in seconds."""
_WHOLE = 3e-7
_PARTS = {"translation": 3, "rotation": 4, "scale": 3}


class Animations:
    """The tracks of an animation, or of all that do not meet, by node and path.

    Parameters
    ----------
    chosen : number of the animation to play; None is all
    warnings : where it is told what was left out
    """

    def __init__(self, container: Container, chosen: int | None, warnings: list[str]) -> None:
        self.clock = own(OwnClock, container.document.asset.extras) or OwnClock(fps=FPS, first=0.0)
        self.tracks: dict[tuple[int, str], Track] = {}
        self._container, self._warnings = container, warnings
        played = container.document.animations
        for animation in played if chosen is None else played[chosen : chosen + 1]:
            self._take(animation)

    def _take(self, animation: Animation) -> None:
        container = self._container
        for channel in animation.channels:
            target = channel.target
            if target.node is None or target.path not in (*_PARTS, "weights"):
                what = target.path if target.node is not None else "a pointer"
                told = f"animation {animation.name}: what moves {what} is skipped."
                if told not in self._warnings:
                    self._warnings.append(told)
                continue
            sampler = container.of(animation.samplers, channel.sampler, "sampler")
            times = self._frames(np.asarray(container.numbers(sampler.input), float).ravel())
            values = np.asarray(container.numbers(sampler.output), float)
            track = self._track(times, values, target.path, sampler.interpolation)
            if track is not None:
                self.tracks[target.node, target.path] = track

    def _frames(self, seconds: Array) -> Array:
        """The frames of times; whole ones are rid of the digits that single precision made up."""
        frames = self.clock.first + seconds * self.clock.fps
        whole = np.round(frames)
        return np.where(
            np.abs(frames - whole) < _WHOLE * np.maximum(np.abs(seconds * self.clock.fps), 1.0), whole, frames
        )

    def _track(self, times: Array, values: Array, path: str, way: str) -> Track | None:
        steps = 3 if way == "CUBICSPLINE" else 1
        if not len(times) or np.any(np.diff(times) <= 0) or values.size % (len(times) * steps):
            raise SceneError(
                f"the times of an animation's {path} do not fit its values.",
                file=self._container.path, remedy="Export the scene again.",
            )  # fmt: skip
        width = values.size // (len(times) * steps)
        if path != "weights" and width != _PARTS[path]:
            self._warnings.append(f"an animation's {path} is skipped, it has {width} numbers.")
            return None
        shaped = values.reshape(len(times), steps, width)
        if path == "rotation":
            shaped = shaped[..., [3, 0, 1, 2]]
        if steps == 1 and path == "rotation":  # small whole numbers make them unequally long
            long = np.linalg.norm(shaped, axis=-1, keepdims=True)
            shaped = shaped / np.where(long > 0, long, 1.0)
        if steps == 1:
            return Track(times, shaped[:, 0], held=way == "STEP")
        slopes = shaped[:, [0, 2]] / self.clock.fps
        return Track(times, shaped[:, 1], tangents=slopes if len(times) > 1 else None)

    @property
    def ends(self) -> tuple[int, int] | None:
        """First and last frame of all of it; None where nothing moves."""
        moving = [track.times for track in self.tracks.values() if len(track.times) > 1]
        if not moving:
            return None
        first, last = min(t[0] for t in moving), max(t[-1] for t in moving)
        return int(np.floor(first + 1e-6)), int(np.ceil(last - 1e-6))

    def motion(self, index: int, node: NodePart) -> Motion:
        """A node's own transform."""
        animated = any((index, path) in self.tracks for path in _PARTS)
        if node.matrix is not None and not animated:
            return matrix_motion(np.asarray(node.matrix, float).reshape(4, 4).T)
        turn = node.rotation and (node.rotation[3], *node.rotation[:3])
        still = (("translation", "translate", node.translation), ("rotation", "quaternion", turn),
                 ("scale", "scale", node.scale))  # fmt: skip
        ops = []
        for path, kind, value in still:
            track = self.tracks.get((index, path))
            if track is None and value is not None and (kind != "quaternion" or any(value)):
                track = Track.constant(value)
            if track is not None:
                ops.append(TransformOp(kind, track))  # type: ignore[arg-type]
        return Motion(tuple(ops))

    def weights(self, index: int, rest: tuple[float, ...], count: int) -> Track | None:
        """The weights of a node's morph targets, (K, count); None where all of them are nought for ever."""
        track = self.tracks.get((index, "weights"))
        if track is None:
            still: NDArray[Any] = np.zeros((1, count))
            still[0, : len(rest)] = rest[:count]
            return Track(np.zeros(1), still) if still.any() else None
        return track if track.values.shape[1] == count else None
