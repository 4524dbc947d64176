"""Joints in a tree, placed at many frames at once."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.stage.motion import Array, Motion, Track, TransformOp, together

_PARTS = (("translate", 3), ("quaternion", 4), ("scale", 3))
NONE = -1
_MOST_SAMPLES = 16_000_000
"""Samples that are copied so that joints can be worked out together; beyond it each is for itself."""
Brackets = tuple[NDArray[np.int64], Array]


class PartTables(NamedTuple):
    """One part of the joints' transforms, for a kernel: J joints.

    Parameters
    ----------
    values : (n, 3) or (n, 4) samples of all joints, end to end
    start : (J,) where each joint's begin, or -1 where it has none
    group : (J,) which row of times it goes by
    """

    values: Array
    start: NDArray[np.int64]
    group: NDArray[np.int64]


class _Tables(NamedTuple):
    """All joints for a kernel; `times` are the groups' samples, `others` the joints of another form."""

    parts: tuple[PartTables, PartTables, PartTables]
    times: list[Array]
    others: list[int]
    own: NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Joints:
    """Joints in a tree: J of them, each after the one above it.

    Parameters
    ----------
    parents : index of the joint above each, or -1
    motions : each one's place in that joint's space
    """

    parents: tuple[int, ...]
    motions: tuple[Motion, ...]
    _last: list[tuple[bytes, Array, NDArray[np.bool_], Brackets]] = field(default_factory=list)

    def places(self, frames: Array, wanted: ArrayLike) -> Array:
        """(F, J, 3, 4) places of all joints; only those that are wanted, and those above them, are worked
        out. Those of the frames that were asked for last are kept.
        """
        from kobrel.stage.bending import place_joints

        key, last = frames.tobytes(), self._last[:1]
        if last and last[0][0] == key:
            _, places, done, brackets = last[0]
        else:
            places = np.zeros((len(frames), len(self.parents), 3, 4))
            done = np.zeros(len(self.parents), bool)
            brackets = self._brackets(frames)
            self._last[:] = [(key, places, done, brackets)]
        needed = self._with_those_above(np.asarray(wanted, int), done)
        if needed.any():
            tables = self._tables
            others = self._others(frames, needed)
            place_joints(
                self._parents,
                needed,
                *brackets,
                *(array for each in tables.parts for array in each),
                tables.own,
                others,
                places,
            )
            done |= needed
        return places

    @cached_property
    def _parents(self) -> NDArray[np.int64]:
        return np.asarray(self.parents, np.int64)

    def _with_those_above(self, wanted: NDArray[np.int64], done: NDArray[np.bool_]) -> NDArray[np.bool_]:
        needed = np.zeros(len(self.parents), bool)
        for each in wanted.tolist():
            joint = each
            while joint >= 0 and not needed[joint] and not done[joint]:
                needed[joint] = True
                joint = self.parents[joint]
        return needed

    def _brackets(self, frames: Array) -> Brackets:
        """For each frame and group (F, G) the sample before it, and the part of the way to the next."""
        found = [Track(times, times).bracket(frames) for times in self._tables.times]
        none = np.zeros((len(frames), 1))
        low = np.stack([none[:, 0], *(low for low, _ in found)], axis=1).astype(np.int64)
        return low, np.concatenate([none, *(part[:, None] for _, part in found)], axis=1)

    def _others(self, frames: Array, needed: NDArray[np.bool_]) -> Array:
        """(F, n, 3, 4) transforms of the joints of another form."""
        result = np.zeros((len(frames), max(len(self._tables.others), 1), 3, 4))
        for columns, motion in self._alike:
            if needed[self._tables.others][columns].any():
                places = motion.matrices(frames)
                result[:, columns] = (places if places.ndim == 4 else places[:, None])[..., :3, :]
        return result

    @cached_property
    def _alike(self) -> list[tuple[list[int], Motion]]:
        """The joints of another form by their form, columns of :meth:`_others`, to be worked out together."""
        found: dict[tuple[object, ...], list[int]] = {}
        for column, joint in enumerate(self._tables.others):
            found.setdefault(self.motions[joint].form, []).append(column)
        joints, alike = self._tables.others, list[tuple[list[int], Motion]]()
        for columns in found.values():
            motions = [self.motions[joints[column]] for column in columns]
            samples = len(columns) * max((op.track.values.size for op in motions[0].ops), default=0)
            if len(columns) > 1 and samples <= _MOST_SAMPLES:
                alike.append((columns, together(motions)))
            else:
                alike += [([column], motion) for column, motion in zip(columns, motions, strict=True)]
        return alike

    @cached_property
    def _tables(self) -> _Tables:
        groups: dict[bytes, int] = {}
        times: list[Array] = []
        others = [joint for joint, motion in enumerate(self.motions) if not _is_plain(motion.ops)]
        parts = []
        for kind, width in _PARTS:
            values, before = [np.zeros((0, width))], 0
            start = np.full(len(self.motions), NONE, np.int64)
            group = np.zeros(len(self.motions), np.int64)
            for joint, motion in enumerate(self.motions):
                track = next((op.track for op in motion.ops if op.kind == kind), None)
                if track is None or not _is_plain(motion.ops):
                    continue
                if len(track.times) > 1:
                    name = track.times.tobytes()
                    if name not in groups:
                        groups[name] = len(groups) + 1
                        times.append(track.times)
                    group[joint] = groups[name]
                start[joint], before = before, before + len(track.values)
                values.append(track.values)
            parts.append(PartTables(np.concatenate(values), start, group))
        own = np.full(len(self.motions), NONE, np.int64)
        own[others] = np.arange(len(others))
        return _Tables((parts[0], parts[1], parts[2]), times, others, own)


def _is_plain(ops: Sequence[TransformOp]) -> bool:
    """Whether a transform is a move, a turn and a scale, in this order, each straight between samples."""
    order = [kind for kind, _ in _PARTS]
    kinds = [op.kind for op in ops]
    if any(kind not in order for kind in kinds) or [k for k in order if k in kinds] != kinds:
        return False
    tracks = [op.track for op in ops]
    straight = all(not t.held and t.tangents is None and t.smooth is None and not t.half for t in tracks)
    return straight and not any(op.inverse for op in ops)
