"""Drawing with rays: exact passes, the sharp picture, depth, and blur diameters."""

import os
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cache, cached_property

import numpy as np
from numpy.typing import NDArray

from kobrel.picture.denoise import denoised
from kobrel.picture.discs import corner_loss_stops
from kobrel.picture.emitters import SmallLights
from kobrel.picture.tracing.gloss import table
from kobrel.picture.tracing.rows import draw_rows
from kobrel.picture.view import View
from kobrel.stage.scene import Cancelled
from kobrel.turns import TURNS, give_way

_BANDS_A_THREAD = 4
_LIGHT_PARTS = 4
"""In how many parts the small lights are spread: their sums are added, so it is part of the result."""
_MOST_BLOCKS, _LEAST_BLOCK = 16, 8
_LEAST_DISCS = 8
"""Passes of small lights' discs that a denoised picture has at the least."""
_MOST_LIFT = 3.0
THREADS = "KOBREL_THREADS"
"""Variable of the environment: how many threads draw."""
_NONE_DRAWN = np.zeros(0, np.uint8)
_NO_DEPTH = np.zeros((0, 0), np.float32)


@cache
def _pool() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(thread_count(), thread_name_prefix="kobrel-rays", initializer=give_way)


def thread_count() -> int:
    """Threads that draw: one a core, two at the least; or as :data:`THREADS` says."""
    said = os.environ.get(THREADS, "")
    return int(said) if said.isdecimal() and 0 < int(said) <= 1024 else max(2, os.cpu_count() or 2)


def in_bands(height: int, work: Callable[[tuple[int, int]], None], stop: Callable[[], bool]) -> None:
    """Do work on bands of rows, (top, end), in all threads.

    Raises
    ------
    Cancelled
        `stop` said so between two bands; some rows are then missing.
    """
    edges = np.linspace(0, height, min(height, thread_count() * _BANDS_A_THREAD) + 1).astype(int)

    waits = TURNS.needed()

    def band(rows: tuple[int, int]) -> bool:
        if waits:
            TURNS.wait()
        if stop():
            return False
        work(rows)
        return True

    bands = zip(edges[:-1].tolist(), edges[1:].tolist(), strict=True)
    if not all(list(_pool().map(band, bands))):
        raise Cancelled("Drawing was stopped.")


def never() -> bool:
    """Do not stop."""
    return False


@dataclass(frozen=True, eq=False)
class Sharp:
    """The picture without blur.

    `colour` is (H, W, 3) linear; `depth` is (H, W) metres along the axis (fisheye: straight),
    infinite where the frame is empty. Full light is drawn at random: the colour is the mean of that many
    samples.
    """

    colour: NDArray[np.float32]
    depth: NDArray[np.float32]
    samples: int = 1

    @cached_property
    def halves(self) -> "Halves":
        """The picture at half its size, and that at half of it and so on, end to end: pixels (n, 3), and
        where each starts, its width and its height.
        """
        return _halves(self.colour)


Halves = tuple[NDArray[np.float32], NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]


def _halves(colour: NDArray[np.float32]) -> Halves:
    """See :attr:`Sharp.halves`."""
    parts = [_halved(colour)]
    while min(parts[-1].shape[:2]) >= 8 and len(parts) < 6:
        parts.append(_halved(parts[-1]))
    sizes = [part.shape[0] * part.shape[1] for part in parts]
    return (
        np.concatenate([part.reshape(-1, 3) for part in parts]),
        np.cumsum([0, *sizes[:-1]]),
        np.asarray([part.shape[1] for part in parts]),
        np.asarray([part.shape[0] for part in parts]),
    )


def _halved(colour: NDArray[np.float32]) -> NDArray[np.float32]:
    """Half the size, rounded up: each pixel the mean of four."""
    odd = colour.shape[0] % 2, colour.shape[1] % 2
    even = np.pad(colour, ((0, odd[0]), (0, odd[1]), (0, 0)), mode="edge") if any(odd) else colour
    total = even[0::2, 0::2] + even[1::2, 0::2] + even[0::2, 1::2] + even[1::2, 1::2]
    return np.asarray(total * np.float32(0.25))


def sharp_picture(view: View, stop: Callable[[], bool] = never, samples: int = 1) -> Sharp:
    """Draw everything sharp, in full light by so many samples.

    Raises
    ------
    Cancelled
        `stop` said so.
    """
    count = samples if view.light.surfaces == "full" else 1
    colour = np.zeros((view.height, view.width, 3), np.float32)
    depth = np.empty((view.height, view.width), np.float32)
    for number in range(count):
        _draw(view, number, False, colour, depth, stop)
    return Sharp(colour / np.float32(count), depth, count)


def refined(view: View, sharp: Sharp, stop: Callable[[], bool] = never) -> Sharp:
    """The same with one more sample of its light.

    Raises
    ------
    Cancelled
        `stop` said so.
    """
    colour = sharp.colour * np.float32(sharp.samples)
    _draw(view, sharp.samples, False, colour, _NO_DEPTH, stop)
    return Sharp(colour / np.float32(sharp.samples + 1), sharp.depth, sharp.samples + 1)


def _draw(
    view: View,
    number: int,
    lens: bool,
    colour: NDArray[np.float32],
    depth: NDArray[np.float32],
    stop: Callable[[], bool],
    drawn: NDArray[np.uint8] = _NONE_DRAWN,
) -> None:
    shot, (lamps, slots), gloss = view.snapshot, view.lamps, table()

    def rows(band: tuple[int, int]) -> None:
        draw_rows(
            shot.handle, shot.first_rows, view.numbers, view.aperture, view.light_numbers, view.harmonics,
            view.environment, shot.tables, shot.normal_matrices, shot.live_normals, shot.plates, drawn, lamps,
            slots, gloss, number, lens, band, colour, depth,
        )  # fmt: skip

    in_bands(view.height, rows, stop)


def blur_picture(view: View, depth: NDArray[np.float32]) -> NDArray[np.float32]:
    """Blur diameters in pixels of this picture (the disc's height), (H, W), from its depth."""
    return np.abs(signed_blur(view, depth))


def signed_blur(view: View, depth: NDArray[np.float32]) -> NDArray[np.float32]:
    """As :func:`blur_picture`, negative for what is nearer than the focus."""
    focus: float | NDArray[np.float64] = view.numbers.focus
    if view.camera.projection == "orthographic":
        blur = (depth - 1.0 / focus) * view.blur_scale_px
        result: NDArray[np.float32] = np.clip(blur, -4.0 * view.width, 4.0 * view.width).astype(np.float32)
        return result
    if view.camera.surface == "sphere" and view.camera.projection == "perspective":
        numbers = view.numbers
        x = ((np.arange(view.width) + 0.5) / view.width * 2 - 1) * numbers.half_x + numbers.middle_x
        y = ((np.arange(view.height) + 0.5) / view.height * 2 - 1) * numbers.half_y - numbers.middle_y
        focus = focus * np.sqrt(1 + x[None, :] ** 2 + y[:, None] ** 2)
    return ((focus - 1.0 / depth) * view.blur_scale_px).astype(np.float32)


def delivered(view: View, values: NDArray[np.float32]) -> NDArray[np.float32]:
    """What of a picture, (h, w) or (h, w, 3), lies within the delivered frame."""
    if view.camera.inner == (1.0, 1.0):
        return values
    tall, wide = values.shape[:2]
    x, y = (round(size * (1 - part) / 2) for size, part in zip((wide, tall), view.camera.inner, strict=True))
    return values[y : tall - y, x : wide - x]


def sharp_part(view: View, depth: NDArray[np.float32]) -> float:
    """How much of the picture is sharp by the shot's criterion, 0 to 1."""
    most = view.camera.coc_px * view.width / view.camera.width_px
    return float(np.mean(blur_picture(view, depth) <= most * (1 + 1e-6)))


class Film:
    """Gathers exact passes of one view in linear light.

    Parameters
    ----------
    first : number of its first pass
    """

    def __init__(self, view: View, first: int = 0) -> None:
        self.view = view
        self.first, self.passes = first, 0
        self._sum = np.zeros((view.height, view.width, 3), np.float32)

    @cached_property
    def _discs(self) -> "Discs":
        return Discs(self.view)

    def expose(self, stop: Callable[[], bool] = never) -> None:
        """Add one pass: one lens sample for each pixel.

        Raises
        ------
        Cancelled
            `stop` said so; the film is as it was.
        """
        before, number = self._sum.copy(), self.first + self.passes
        try:
            _draw(self.view, number, True, self._sum, _NO_DEPTH, stop, self._discs.drawn)
        except Cancelled:
            self._sum = before
            raise
        self._discs.add(number, self._sum)
        self.passes += 1

    def sum(self) -> NDArray[np.float32]:
        """Sum of the passes so far, (H, W, 3) linear."""
        return self._sum

    def wind(self, first: int) -> None:
        """Begin anew, with another pass."""
        self.first, self.passes, self._sum = first, 0, np.zeros_like(self._sum)

    def picture(self) -> NDArray[np.float32]:
        """Mean of the passes so far, (H, W, 3) linear; its corners lifted where the shot says so."""
        return _mean(self.view, self._sum, self.passes)

    def denoised(self, stop: Callable[[], bool] = never) -> NDArray[np.float32]:
        """As :meth:`picture`, without the noise of what is traced.

        Raises
        ------
        Cancelled
            `stop` said so.
        KobrelError
            See :func:`kobrel.picture.denoise.denoised`.
        """
        return _without_noise(self.view, self._sum, (self.first, self.passes), self._discs, stop)


class Discs:
    """Sums of the discs of a view's small lights over passes; the last sum is kept and gone on with."""

    def __init__(self, view: View) -> None:
        self._lights = SmallLights(view)
        self._sum = np.zeros((view.height, view.width, 3), np.float32)
        self._first, self._passes = 0, 0

    @property
    def drawn(self) -> NDArray[np.uint8]:
        """For each emitter whether its disc is drawn from itself, 0 or 1."""
        return self._lights.drawn

    def add(self, number: int, total: NDArray[np.float32]) -> None:
        """Add the discs of one pass to a picture (H, W, 3)."""
        self._lights.expose(
            number, total, lambda work: list(_pool().map(lambda do: do(), work)), _LIGHT_PARTS
        )

    def sum(self, first: int, passes: int, stop: Callable[[], bool]) -> NDArray[np.float32]:
        """Sum of the discs of so many passes from the first one on, (H, W, 3) linear.

        Raises
        ------
        Cancelled
            `stop` said so.
        """
        if first != self._first or passes < self._passes:
            self._sum, self._first, self._passes = np.zeros_like(self._sum), first, 0
        for number in range(self._passes, passes if self.drawn.any() else self._passes):
            if stop():
                raise Cancelled("Drawing was stopped.")
            self.add(first + number, self._sum)
            self._passes = number + 1
        return self._sum.copy()


def _without_noise(
    view: View,
    total: NDArray[np.float32],
    exposure: tuple[int, int],
    discs: Discs,
    stop: Callable[[], bool],
) -> NDArray[np.float32]:
    """The mean of the passes, the first and how many: what was traced denoised, the discs of small lights
    laid over it.
    """
    first, passes = exposure
    traced = np.maximum(total - discs.sum(first, passes, stop), np.float32(0)) / np.float32(max(1, passes))
    count = max(passes, _LEAST_DISCS)
    return _lifted(view, denoised(traced, stop) + discs.sum(first, count, stop) / np.float32(count))


def _mean(view: View, total: NDArray[np.float32], passes: int) -> NDArray[np.float32]:
    return _lifted(view, total / np.float32(max(1, passes)))


def _lifted(view: View, mean: NDArray[np.float32]) -> NDArray[np.float32]:
    """A picture with its corners lifted, where the shot says so."""
    front = view.camera.flaws.front_stop
    return mean * _lift(view) if front is not None and front.made_up else mean


Block = tuple[int, int]
"""Passes of an exposure that are summed together: the first, and the one after the last."""


def blocks(passes: int) -> list[Block]:
    """The blocks in which so many passes are summed. Sums of blocks are added in this order, so that a
    picture has the same bits however its passes are shared out.

    >>> blocks(20)
    [(0, 8), (8, 16), (16, 20)]
    """
    size = max(_LEAST_BLOCK, -(-passes // _MOST_BLOCKS))
    return [(first, min(first + size, passes)) for first in range(0, passes, size)]


def block_sums(
    view: View,
    wanted: Iterable[Block],
    stop: Callable[[], bool] = never,
    before: Callable[[int], object] = lambda _done: None,
) -> Iterator[NDArray[np.float32]]:
    """The sum of the passes of each block, (H, W, 3) linear.

    Parameters
    ----------
    before : told the number of each pass before it is drawn

    Raises
    ------
    Cancelled
        `stop` or `before` said so.
    """
    film = Film(view)
    for first, end in wanted:
        film.wind(first)
        for number in range(first, end):
            before(number)
            film.expose(stop)
        yield film.sum()


def from_sums(
    view: View,
    sums: Iterable[NDArray[np.float32]],
    passes: int,
    denoise: bool = False,
    stop: Callable[[], bool] = never,
) -> NDArray[np.float32]:
    """The exact picture from the sums of all :func:`blocks` of its passes, in order; denoised if asked for.

    Raises
    ------
    Cancelled
        `stop` said so.
    KobrelError
        See :func:`kobrel.picture.denoise.denoised`.
    """
    total = np.zeros((view.height, view.width, 3), np.float32)
    for each in sums:
        total += each
    return (
        _without_noise(view, total, (0, passes), Discs(view), stop) if denoise else _mean(view, total, passes)
    )


def exposed(
    view: View,
    passes: int,
    stop: Callable[[], bool] = never,
    before: Callable[[int], object] = lambda _done: None,
    denoise: bool = False,
) -> NDArray[np.float32]:
    """The exact picture of so many passes, (H, W, 3) linear.

    Parameters
    ----------
    before : told before each pass how many are done
    denoise : whether noise is removed from what is traced

    Raises
    ------
    Cancelled
        `stop` or `before` said so.
    """
    return from_sums(view, block_sums(view, blocks(passes), stop, before), passes, denoise, stop)


def _lift(view: View) -> NDArray[np.float32]:
    """What makes up for a front stop, (H, W, 1), three stops at the most."""
    x, y = ((np.arange(size) + 0.5) / size * 2 - 1 for size in (view.width, view.height))
    stops = corner_loss_stops(view.camera, x[None, :], -y[:, None])
    return np.exp2(np.minimum(stops, _MOST_LIFT))[..., None].astype(np.float32)
