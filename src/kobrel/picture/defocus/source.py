"""Rendered images for Picture: read when they are asked for, and laid down with blur."""

from collections.abc import Callable
from pathlib import Path

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray
from PIL import Image

from kobrel.picture.defocus.layered import defocused
from kobrel.picture.tracer import Sharp, never
from kobrel.picture.view import View
from kobrel.plan.pictures.rendered import RenderedImage
from kobrel.stage.read.rendered.depth import metres
from kobrel.stage.read.rendered.frames import Pixels, frames_beside, read_frame

_KEPT = 4


class FrameSource:
    """Frames of a rendered image.

    Parameters
    ----------
    plain : they are shown without blur
    """

    def __init__(self, finished: RenderedImage, plain: bool = False) -> None:
        self.finished, self.plain = finished, plain
        self._read: LRUCache[int, tuple[Pixels, NDArray[np.float32]]] = LRUCache(_KEPT)
        self._there = frames_beside(Path(finished.path)) if finished.sequence else []

    def stands_for(self, frame: float) -> int:
        """The frame that is shown: where one is missing, the one nearest to it."""
        return min(self._there, key=lambda there: abs(there - frame), default=round(frame))

    def sharp(self, frame: float, view: View) -> Sharp:
        """The frame at a view's size, without blur; of a view that shows less than the picture its middle.

        Raises
        ------
        SceneError
            A file cannot be read.
        """
        pixels, depth = self._pixels(self.stands_for(frame))
        part = min(1.0, view.numbers.half_x / self.finished.half_width)
        tall, wide = depth.shape
        across, up = wide * part, min(tall, wide * part * view.height / view.width)
        box = ((wide - across) / 2, (tall - up) / 2, (wide + across) / 2, (tall + up) / 2)
        size = view.width, view.height
        colour = np.stack(
            [
                np.asarray(Image.fromarray(pixels.colour[..., c]).resize(size, Image.Resampling.BOX, box))
                for c in range(3)
            ],
            axis=-1,
        )
        found = np.asarray(Image.fromarray(depth).resize(size, Image.Resampling.NEAREST, box))
        return Sharp(np.ascontiguousarray(colour), np.ascontiguousarray(found))

    def _pixels(self, frame: int) -> tuple[Pixels, NDArray[np.float32]]:
        """A frame as its files have it, and its distances."""
        if frame not in self._read:
            finished = self.finished
            pixels = read_frame(finished, frame if finished.sequence else None)
            height, width = pixels.depth.shape
            x = ((np.arange(width) + 0.5) / width * 2 - 1) * finished.half_width
            y = ((np.arange(height) + 0.5) / height * 2 - 1) * finished.half_width * height / width
            self._read[frame] = pixels, metres(pixels.depth, finished.rule, (x, y))
        return self._read[frame]


class Laid:
    """A rendered image with its blur, in the place of a film: one exposure makes all of it.

    Parameters
    ----------
    passes_asked : how many passes that exposure counts for
    """

    def __init__(self, view: View, source: FrameSource, frame: float, passes_asked: int) -> None:
        self.view = view
        self.passes = 0
        self._source, self._frame, self._asked = source, frame, passes_asked
        self._made: NDArray[np.float32] | None = None

    def expose(self, stop: Callable[[], bool] = never) -> None:
        """Blur it.

        Raises
        ------
        Cancelled
            `stop` said so.
        """
        sharp = self._source.sharp(self._frame, self.view)
        plain = self._source.plain
        self._made = sharp.colour if plain else defocused(self.view, sharp.colour, sharp.depth, stop)
        self.passes = max(1, self._asked)

    def picture(self) -> NDArray[np.float32]:
        """(H, W, 3) in linear light."""
        assert self._made is not None
        return self._made
