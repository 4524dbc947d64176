"""Values over time: keys at frames, and tracks that stand still or follow their keys.

All values over time are set, keyed and read here, whoever owns them: a lens, a mark's point, a stand-in,
a plate, a dial, a camera.
"""

import itertools
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Any, ClassVar, Generic, Self, TypeVar

import numpy as np
from numpy.typing import ArrayLike
from pydantic import Field, model_validator

from kobrel.optics.ease import PLAIN, eased, swinging
from kobrel.optics.lens import Numbers
from kobrel.plan.parts import (
    Ease,
    EaseHandles,
    Finite,
    Frame,
    Part,
    PositiveFinite,
    PullEase,
    Vector,
    require_rising,
)
from kobrel.stage import motion


class AtFrame(Part):
    """Something that stands at a frame."""

    frame: Frame


K = TypeVar("K", bound=AtFrame)


def key_at(keys: Iterable[K], frame: float) -> K | None:
    """The key at a frame, if there is one."""
    return next((key for key in keys if key.frame == frame), None)


def last_key(keys: Sequence[K], frame: float) -> K | None:
    """The last key up to a frame: the one whose ease goes on from there."""
    return next((key for key in reversed(keys) if key.frame <= frame), None)


def keys_around(keys: Iterable[K], frame: float) -> tuple[K, K] | None:
    """The keys between which a value moves at a frame; None before the first and from the last on."""
    return next((pair for pair in itertools.pairwise(keys) if pair[0].frame <= frame < pair[1].frame), None)


def in_order(keys: Iterable[K]) -> tuple[K, ...]:
    """Keys by their frames."""
    return tuple(sorted(keys, key=lambda key: key.frame))


def changed_at(keys: Iterable[K], frame: float, /, **changes: Any) -> tuple[K, ...]:
    """Keys with the one at a frame changed in some fields, which may be its frame."""
    return in_order(key.replace(**changes) if key.frame == frame else key for key in keys)


def without_key(keys: Iterable[K], frame: float) -> tuple[K, ...]:
    """Keys without the one at a frame."""
    return tuple(key for key in keys if key.frame != frame)


def replaced_between(keys: Iterable[K], fresh: Sequence[K]) -> tuple[K, ...]:
    """Keys with others in place of all from the first of those to the last."""
    first, last = fresh[0].frame, fresh[-1].frame
    return in_order([*(key for key in keys if not first <= key.frame <= last), *fresh])


class Track(Part, Generic[K]):
    """Values that stand still, or follow keys if there are any.

    A key has the fields of the track that are named in `over_time`, at its frame, and how the value goes on
    from there.
    """

    over_time: ClassVar[tuple[str, ...]] = ("value",)
    if TYPE_CHECKING:  # each kind declares its own, so that a file names them in their order
        keys: tuple[K, ...] = ()

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        require_rising([key.frame for key in self.keys], "keys")
        return self

    def _of(self, key: K) -> dict[str, Any]:
        return {name: getattr(key, name) for name in self.over_time}

    def key_at(self, frame: float) -> K | None:
        """Its key at a frame, if there is one."""
        return key_at(self.keys, frame)

    def last_key(self, frame: float) -> K | None:
        """Its last key up to a frame."""
        return last_key(self.keys, frame)

    def set(self, key: K) -> Self:
        """With the values of a key: by that key where there are keys, or else altogether."""
        return self.with_key(key) if self.keys else self.replace(**self._of(key))

    def with_key(self, key: K) -> Self:
        """With a key; one that is at its frame takes the values, and goes on as it did."""
        old = self.key_at(key.frame)
        if old is not None:
            return self.with_key_changed(key.frame, **self._of(key))
        return self.replace(keys=in_order([*self.keys, key]))

    def with_key_changed(self, frame: float, /, **changes: Any) -> Self:
        """With the key at a frame changed in some fields, which may be its frame."""
        return self.replace(keys=changed_at(self.keys, frame, **changes))

    def without_key(self, frame: float) -> Self:
        """Without the key at a frame; the last key leaves its values behind."""
        gone, left = self.key_at(frame), without_key(self.keys, frame)
        if gone is None or left:
            return self.replace(keys=left)
        return self.replace(keys=(), **self._of(gone))

    def toggled(self, key: K) -> Self:
        """With a key, or without the one that is at its frame."""
        return self.with_key(key) if self.key_at(key.frame) is None else self.without_key(key.frame)

    def with_ease(self, frame: float, ease: PullEase) -> Self:
        """Going on otherwise from the last key up to a frame."""
        last = self.last_key(frame)
        return self if last is None else self.with_key_changed(last.frame, ease=ease)

    def each(self, change: Callable[[Any], Any]) -> Self:
        """With its value changed, and that of each key; of a track of one value."""
        (name,) = self.over_time
        keys = tuple(key.replace(**{name: change(getattr(key, name))}) for key in self.keys)
        return self.replace(keys=keys, **{name: change(getattr(self, name))})

    def times(self, by: float) -> Self:
        """With its value and that of each key times a number; of a track of one number."""
        return self.each(lambda value: value * by)

    def reached(self) -> list[Any]:
        """The values of its keys, or that at which it stands still; of a track of one value."""
        (name,) = self.over_time
        return [getattr(key, name) for key in self.keys] or [getattr(self, name)]


class PlaceKey(AtFrame):
    """A place at a frame; `ease` is the way to the next key."""

    position_m: Vector
    ease: Ease = "smooth"


class Placed(Track[PlaceKey]):
    """Something with a place, or with keys of it."""

    over_time: ClassVar[tuple[str, ...]] = ("position_m",)
    position_m: Vector
    keys: tuple[PlaceKey, ...] = ()

    def places(self) -> motion.Track:
        """Its places over time, (K, 3)."""
        if not self.keys:
            return motion.Track.constant(self.position_m)
        return motion.Track(
            np.array([key.frame for key in self.keys], float),
            np.array([key.position_m for key in self.keys], float),
            np.array([key.ease == "smooth" for key in self.keys]),
        )

    def place_at(self, frame: float) -> Numbers:
        """Its place at a frame, (3,) metres."""
        return np.asarray(self.places().at([frame])[0])


class Key(AtFrame):
    """A value at a frame; `ease` is the way to the next key."""

    value: PositiveFinite
    ease: PullEase = "smooth"
    handles: EaseHandles = PLAIN


class Keyed(Track[Key]):
    """A value that stands still, or follows keys if there are any."""

    value: PositiveFinite
    keys: tuple[Key, ...] = ()

    def at(self, frames: ArrayLike) -> Numbers:
        """Its values at frames, (F,), moving in the logarithm: by stops, and zooms by ratio."""
        at = np.atleast_1d(np.asarray(frames, dtype=float))
        if not self.keys:
            return np.full(at.shape, self.value)
        return np.exp(_eased_between(self.keys, np.log([key.value for key in self.keys]), at))


class Settle(Part):
    """How a value overshoots and settles once it has arrived at a key."""

    part: PositiveFinite = Field(0.15, description="Of the way, the first swing.")
    swings: float = Field(1.5, ge=0.5, le=12, description="Whole swings, there and back.")
    decay: float = Field(3.0, ge=0, le=12, description="How fast they die away; 0 evenly.")
    frames: PositiveFinite = Field(24.0, description="How long it goes on.")


class LevelKey(AtFrame):
    """Any value at a frame; `ease` is the way to the next key, where it may overshoot."""

    value: Finite
    ease: PullEase = "smooth"
    handles: EaseHandles = PLAIN
    settle: Settle | None = None


class Level(Track[LevelKey]):
    """Any value that stands still, or follows keys if there are any."""

    value: Finite = 0.0
    keys: tuple[LevelKey, ...] = ()

    def at(self, frames: ArrayLike) -> Numbers:
        """Its values at frames, (F,); where a key says so they overshoot the next one, and settle."""
        at = np.atleast_1d(np.asarray(frames, dtype=float))
        if not self.keys:
            return np.full(at.shape, self.value)
        values = np.asarray([key.value for key in self.keys])
        result = _eased_between(self.keys, values, at)
        times = [key.frame for key in self.keys]
        for k, (key, after) in enumerate(itertools.pairwise(self.keys)):
            settle, way = key.settle, after.value - key.value
            if settle is None or way == 0:
                continue
            room = times[k + 2] - after.frame if k + 2 < len(times) else np.inf  # until the next key
            swing = swinging((at - after.frame) / min(settle.frames, room), settle.swings, settle.decay)
            result = result + way * settle.part * swing
        return result

    def value_at(self, frame: float) -> float:
        """Its value at a frame."""
        return float(self.at([frame])[0])

    def toggled_at(self, frame: float) -> Self:
        """With a key of its value at a frame, or without the one there."""
        return self.toggled(LevelKey(frame=frame, value=self.value_at(frame)))


def _eased_between(keys: Sequence[Key] | Sequence[LevelKey], values: Numbers, at: Numbers) -> Numbers:
    """Values of keys, (K,), at frames (F,), by the eases of the keys; held before the first and after the
    last.
    """
    times = np.asarray([key.frame for key in keys])
    before = np.clip(np.searchsorted(times, at, side="right") - 1, 0, len(times) - 1)
    after = np.minimum(before + 1, len(times) - 1)
    span = times[after] - times[before]
    u = np.clip((at - times[before]) / np.where(span > 0, span, 1.0), 0.0, 1.0)
    part = np.zeros_like(u)
    for k in np.unique(before[span > 0]):
        here = before == k
        part[here] = eased(u[here], keys[k].ease, keys[k].handles)
    return np.asarray(values[before] * (1 - part) + values[after] * part)
