"""Many copies of a mesh in one node: plants of a field, drops, lamps of a wall."""

import re
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.stage.motion import Array, Track, from_quaternions

_COPY = re.compile(r"(.*)\[(\d+)\]")


def copy_of_path(path: str) -> tuple[str, int | None]:
    """A node's path and the number of its copy, from the path of one of its copies.

    >>> copy_of_path("/Field/plant[12]")
    ('/Field/plant', 12)
    """
    found = _COPY.fullmatch(path)
    return (found[1], int(found[2])) if found else (path, None)


@dataclass(frozen=True, eq=False)
class Copies:
    """Places of N copies in their node's parent's space.

    Parameters
    ----------
    places, turns, sizes : tracks of (K, N, 3), of quaternions (K, N, 4) and of (K, N, 3)
    shown : track of (K, N), above 0 where a copy is seen; None is always
    within : (4, 4) applied to each copy first
    around : copies of the whole, for copies within copies; number n is copy n // N of it
    """

    places: Track
    turns: Track | None = None
    sizes: Track | None = None
    shown: Track | None = None
    within: Array | None = None
    around: "Copies | None" = None

    @property
    def count(self) -> int:
        """How many there are."""
        return int(self.places.values.shape[1]) * (self.around.count if self.around else 1)

    @property
    def moves(self) -> bool:
        """Whether any of them moves."""
        tracks = [t for t in (self.places, self.turns, self.sizes) if t is not None]
        return any(t.moves for t in tracks) or (self.around is not None and self.around.moves)

    @property
    def flickers(self) -> bool:
        """Whether any of them comes or goes."""
        own = self.shown is not None and self.shown.moves
        return own or (self.around is not None and self.around.flickers)

    def at(self, frame: float) -> Array:
        """(N, 4, 4) their places at a frame."""
        own = self._matrices(np.array([frame]), slice(None))[0]
        if self.around is None:
            result: Array = own
            return result
        return np.asarray((self.around.at(frame)[:, None] @ own).reshape(-1, 4, 4))

    def seen_at(self, frame: float) -> NDArray[np.bool_]:
        """(N,) which of them are there at a frame."""
        own = self.places.values.shape[1]
        seen = np.ones(own, bool) if self.shown is None else self.shown.at([frame])[0] > 0
        return (
            seen
            if self.around is None
            else np.repeat(self.around.seen_at(frame), own) & np.tile(seen, self.around.count)
        )

    def one(self, number: int, frames: ArrayLike) -> Array:
        """One copy's places at frames, (F, 4, 4) or (1, 4, 4) where it stands still."""
        outer, inner = divmod(min(max(number, 0), self.count - 1), int(self.places.values.shape[1]))
        own = self._matrices(np.atleast_1d(np.asarray(frames, float)), slice(inner, inner + 1))[:, 0]
        return own if self.around is None else self.around.one(outer, frames) @ own

    def _matrices(self, frames: Array, which: slice) -> Array:
        """(F, n, 4, 4) of some of the inner copies."""

        def part(track: Track) -> Track:
            return Track(track.times, track.values[:, which], held=track.held)

        places = part(self.places).at(frames)
        turns = None if self.turns is None else from_quaternions(part(self.turns).slerp_at(frames))
        sizes = None if self.sizes is None else part(self.sizes).at(frames)
        count = max([len(places), *(len(values) for values in (turns, sizes) if values is not None)])
        result = np.zeros((count, places.shape[1], 4, 4))
        result[..., [0, 1, 2, 3], [0, 1, 2, 3]] = 1.0
        if turns is not None:
            result[..., :3, :3] = turns[..., :3, :3]
        if sizes is not None:
            result[..., :3, :3] *= sizes[..., None, :]
        result[..., :3, 3] = places
        return result if self.within is None else result @ self.within
