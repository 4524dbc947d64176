"""Drawing as a service: the newest request wins, stale ones are dropped, passes arrive as
they are made, and whoever asks never waits.
"""

import contextlib
import sys
import threading
import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray

from kobrel.errors import KobrelError
from kobrel.picture.defocus.layered import defocused
from kobrel.picture.defocus.source import FrameSource, Laid
from kobrel.picture.denoise import can_denoise
from kobrel.picture.develop import as_shown
from kobrel.picture.finish import bent_picture, glowing
from kobrel.picture.quick import PREVIEW_TAPS, TAPS, blurred
from kobrel.picture.ready import prepare
from kobrel.picture.tracer import (
    Film,
    Sharp,
    blur_picture,
    delivered,
    exposed,
    refined,
    sharp_part,
    sharp_picture,
)
from kobrel.picture.view import View
from kobrel.plan.look import Finish, Light
from kobrel.plan.measure.camera import Camera
from kobrel.stage.scene import Cancelled
from kobrel.stage.stage import Stage

EXACT_FROM = 8
"""Passes after which the exact picture stands alone; before, it fades in over the quick one."""
DENOISED_AT = (2, 8, 32)
"""Passes after which the picture is denoised, and after the last."""
_KEPT_SHARP = 6
_SAMPLES = 12
"""Of the light in pictures without blur, where it is drawn at random."""
_PREVIEW_S = 0.05
"""A preview picture that takes longer at full size is drawn at half."""


@dataclass(frozen=True, eq=False)
class Request:
    """A picture that is wanted.

    Parameters
    ----------
    preview : something is dragged or plays: one smooth frame, as soon as possible
    passes : exact passes to gather otherwise
    finish : what is done to the picture on the screen
    finished : the rendered image that the shot is blurred on, instead of its stage
    denoise : whether noise is removed from what is shown, where that can be done
    """

    stage: Stage
    camera: Camera
    frame: float
    light: Light
    width: int
    height: int
    preview: bool = False
    passes: int = 64
    finish: Finish = field(default_factory=Finish)
    finished: FrameSource | None = None
    denoise: bool = False


@dataclass(frozen=True, eq=False)
class Drawn:
    """A picture made for a request: sRGB bytes (h, w, 3), after so many exact passes.

    `depth` is (h, w) metres along the axis (fisheye: straight) of what is delivered; a preview
    picture may be half the size asked for. `sharp_part` is how much of that is sharp, 0 to 1.
    `denoised` tells whether noise was removed.
    """

    request: Request
    pixels: NDArray[np.uint8]
    passes: int
    depth: NDArray[np.float32]
    sharp_part: float = 0.0
    denoised: bool = False


@dataclass(frozen=True, eq=False)
class Taken:
    """The picture in hand in linear light (h, w, 3), with its depth and blur, (h, w) metres and pixels."""

    request: Request
    colour: NDArray[np.float32]
    depth_m: NDArray[np.float32]
    blur_px: NDArray[np.float32]
    passes: int


@dataclass(frozen=True, eq=False)
class Spare:
    """A picture to be made when there is time, and who is told its pixels."""

    request: Request
    done: Callable[[NDArray[np.uint8]], None]


def for_screen(request: Request, linear: NDArray[np.float32]) -> NDArray[np.uint8]:
    """A picture finished and developed as the request has it."""
    finish = request.finish
    finished = bent_picture(glowing(linear, finish.glow), finish.bend_percent)
    return as_shown(finished, request.light, request.camera)


def finished(request: Request, stop: Callable[[], bool]) -> NDArray[np.uint8]:
    """The picture of a request after all its passes, denoised if asked for, sRGB bytes (h, w, 3).

    Raises
    ------
    Cancelled
        `stop` said so.
    """
    request.stage.prepare()
    snapshot = request.stage.snapshot(request.frame, keep=False, eye=request.camera.eye)
    view = View(snapshot, request.camera, request.light, request.width, request.height)
    if request.finished is not None:
        sharp = request.finished.sharp(request.frame, view)
        return for_screen(request, defocused(view, sharp.colour, sharp.depth, stop))
    denoise = request.denoise and can_denoise()
    return for_screen(request, exposed(view, request.passes, stop, denoise=denoise))


class DrawingService:
    """Draws in a thread of its own.

    Parameters
    ----------
    drawn : told each picture
    note : told what takes long, or "" when it is over
    problem : told what went wrong

    All are called from the service's thread.
    """

    def __init__(
        self,
        drawn: Callable[[Drawn], None],
        note: Callable[[str], None],
        problem: Callable[[str], None],
    ) -> None:
        self._drawn, self._note, self._problem = drawn, note, problem
        self._wake = threading.Condition()
        self._pending: Request | None = None
        self._sketches: deque[tuple[Request, Callable[[Drawn], None]]] = deque()
        self._spare: Callable[[], Spare | None] | None = None
        self._spot: tuple[Request, Callable[[Drawn], None]] | None = None
        self._spot_film: Film | None = None
        self._taking: Callable[[Taken], None] | None = None
        self._closing = False
        self._sharp: LRUCache[tuple[object, ...], Sharp] = LRUCache(_KEPT_SHARP)
        self._current: _Work | None = None
        self._preview_s = 0.0
        self._can_denoise = True
        self._thread = threading.Thread(target=self._run, name="kobrel-drawing", daemon=True)
        self._thread.start()

    def ask(self, request: Request) -> None:
        """Want a picture instead of the last one wanted."""
        with self._wake:
            self._pending = request
            self._wake.notify()

    def sketch(self, request: Request, done: Callable[[Drawn], None]) -> None:
        """Want a small picture when there is time."""
        with self._wake:
            self._sketches.append((request, done))
            self._wake.notify()

    def look(self, request: Request | None, done: Callable[[Drawn], None] = lambda _drawn: None) -> None:
        """Want a spot of the picture refined before all else, or none any more.

        Parameters
        ----------
        done : told the spot's pictures
        """
        with self._wake:
            self._spot = None if request is None else (request, done)
            self._spot_film = None
            self._wake.notify()

    def take(self, done: Callable[[Taken], None]) -> None:
        """Want the picture in hand in linear light, as far as it is; `done` is told it soon."""
        with self._wake:
            self._taking = done
            self._wake.notify()

    def drop_sketches(self) -> None:
        """Want none of the small pictures that are still to come."""
        with self._wake:
            self._sketches.clear()

    def fill(self, spare: Callable[[], Spare | None] | None) -> None:
        """Use time to spare for pictures that are asked for one by one, until none is wanted.

        A picture that gives way to a more urgent one is asked for again. What is wanted at once comes
        first, but not its last passes.
        """
        with self._wake:
            self._spare = spare
            self._wake.notify()

    def close(self) -> None:
        """Stop; returns when the thread has ended, or soon where it is busy compiling."""
        with self._wake:
            self._closing = True
            self._wake.notify()
        self._thread.join(timeout=3)

    def _stop(self) -> bool:
        return self._closing or self._pending is not None

    def _run(self) -> None:
        self._note("Preparing the picture…")
        prepare()
        self._note("")
        while self._wait():
            try:
                with contextlib.suppress(Cancelled):
                    self._step()
            except KobrelError as error:
                self._current = self._spare = self._spot = self._spot_film = None
                self._problem(str(error))
            except Exception:  # the thread must outlive any fault of one picture
                self._current = self._spare = self._spot = self._spot_film = None
                if self._closing:
                    return
                self._problem("The picture could not be drawn.")
                sys.excepthook(*sys.exc_info())

    def _wait(self) -> bool:
        """Sleep until there is something to do; False to end."""
        with self._wake:
            while not (
                self._closing
                or self._pending
                or self._sketches
                or self._spare
                or self._spot
                or self._taking
                or self._unfinished()
            ):
                self._wake.wait()
            return not self._closing

    def _unfinished(self) -> bool:
        work = self._current
        return work is not None and not work.request.preview and work.film.passes < work.request.passes

    def _step(self) -> None:
        with self._wake:
            request, self._pending = self._pending, None
            spot, film = self._spot, self._spot_film
            taking = self._taking if request is None else None
            if taking is not None:
                self._taking = None
        if request is not None:
            self._begin(request)
        elif taking is not None:
            self._hand_over(taking)
        elif spot is not None:
            self._look(*spot, film)
        elif self._sketches and (
            self._current is None or self._current.film.passes >= 1 or not self._unfinished()
        ):
            with self._wake:
                job = self._sketches.popleft() if self._sketches else None
            if job:
                self._make_sketch(*job)
        elif self._spare and not (self._unfinished() and self._current_passes() < EXACT_FROM):
            self._make_spare(self._spare)
        elif self._unfinished():
            assert self._current is not None
            self._expose(self._current)

    def _hand_over(self, done: Callable[[Taken], None]) -> None:
        """Tell the picture in hand, if there is one."""
        work = self._current
        if work is None:
            return
        view, depth = work.film.view, work.sharp.depth
        if depth.shape != (view.height, view.width):  # of a preview at half size
            depth = self._sharp_of(view, work.request).depth
        passes = work.film.passes
        colour = self._gathered(work) if passes else blurred(view, self._sharp_of(view, work.request))
        blur = blur_picture(view, depth)
        done(
            Taken(
                work.request, delivered(view, colour), delivered(view, depth), delivered(view, blur),
                work.film.passes,
            )
        )  # fmt: skip

    def _look(self, request: Request, done: Callable[[Drawn], None], film: Film | None) -> None:
        """One more pass of the spot."""
        film = film or Film(self._view(request))
        film.expose(lambda: self._stop() or self._spot is None)
        pixels = for_screen(request, film.picture())
        done(Drawn(request, pixels, film.passes, np.empty((0, 0), np.float32)))
        with self._wake:
            if self._spot is None or self._spot[0] is not request:
                return
            self._spot_film = film
            if film.passes >= request.passes:
                self._spot = self._spot_film = None

    def _current_passes(self) -> int:
        return self._current.film.passes if self._current is not None else 0

    def _make_spare(self, source: Callable[[], Spare | None]) -> None:
        """Make one of the pictures there is time for."""
        spare = source()
        if spare is None:
            with self._wake:
                if self._spare == source:
                    self._spare = None
            return
        spare.done(finished(spare.request, lambda: self._stop() or self._spare != source))

    def _view(self, request: Request) -> View:
        def progress(what: str, part: float) -> None:
            self._note(f"{what}: {part:.0%}" if part < 1 else "")
            if self._stop() and (
                self._pending is None or self._pending.stage.family is not request.stage.family
            ):
                raise Cancelled("Another scene is wanted.")

        request.stage.prepare(progress)
        snapshot = request.stage.snapshot(request.frame, eye=request.camera.eye)
        return View(snapshot, request.camera, request.light, request.width, request.height)

    def _begin(self, request: Request) -> None:
        """Answer at once with a smooth frame; start gathering passes unless it is a preview."""
        full = self._view(request)
        if self._goes_on(request, full):
            return
        view, begun = full, time.perf_counter()
        fresh = self._key(full, request) not in self._sharp
        half = request.preview and (fresh or self._preview_s > _PREVIEW_S)
        if half:
            view = replace(full, width=max(1, full.width // 2), height=max(1, full.height // 2))
        sharp = self._sharp_of(view, request)
        plain = request.finished is not None and request.finished.plain
        taps = PREVIEW_TAPS if request.preview else TAPS
        quick = sharp.colour if plain else blurred(view, sharp, count=taps)
        part = sharp_part(view, delivered(view, sharp.depth))
        self._current = _Work(request, self._film(full, request), quick, sharp, part)
        if request.preview and not fresh:
            took = (time.perf_counter() - begun) * (4.0 if half else 1.0)
            self._preview_s += (took - self._preview_s) * 0.3
        self._show(self._current, quick)

    def _goes_on(self, request: Request, full: View) -> bool:
        """Show what is gathered already where only its brightness or what is called sharp changed."""
        work = self._current
        if work is None or work.film.passes == 0 or not _alike(work.film.view, full):
            return False
        if work.request.finished is not request.finished:
            return False
        work.film.view = full
        part = sharp_part(full, delivered(full, work.sharp.depth))
        self._current = work = replace(work, request=request, sharp_part=part)
        if self._denoises(work) and work.film.passes >= DENOISED_AT[0]:
            self._show_clean(work)
        else:
            self._show(work, self._gathered(work))
        return True

    @staticmethod
    def _film(view: View, request: Request) -> Film | Laid:
        if request.finished is None:
            return Film(view)
        return Laid(view, request.finished, request.frame, request.passes)

    def _sharp_of(self, view: View, request: Request) -> Sharp:
        key = self._key(view, request)
        if key not in self._sharp:
            of_file = request.finished
            self._sharp[key] = of_file.sharp(request.frame, view) if of_file else sharp_picture(view)
        return self._sharp[key]

    @staticmethod
    def _key(view: View, request: Request) -> tuple[object, ...]:
        """What the sharp picture depends on: all but focus, stop and iris.

        The snapshot itself is part of it, so that it lives as long as its picture is kept.
        """
        return (
            view.snapshot,
            view.width,
            view.height,
            view.numbers.framing,
            view.light_numbers,
            view.harmonics.tobytes(),
            request.finished,
            request.frame if request.finished else None,
        )

    def _expose(self, work: "_Work") -> None:
        work.film.expose(self._stop)
        done = work.film.passes
        drawn = work.request.finished is None and work.request.light.surfaces == "full"
        if done > EXACT_FROM and drawn and work.sharp.samples < _SAMPLES:
            self._refine(work)
        if self._denoises(work):
            if done in DENOISED_AT or done == work.request.passes:
                work.clean = None
                self._show_clean(work)
        elif done <= EXACT_FROM or done % 4 == 0 or done == work.request.passes:
            self._show(work, self._gathered(work))

    def _denoises(self, work: "_Work") -> bool:
        return work.request.denoise and self._can_denoise and isinstance(work.film, Film) and can_denoise()

    def _show_clean(self, work: "_Work") -> None:
        """Show the picture so far without its noise; that of the passes so far where it is kept."""
        if work.clean is None:
            assert isinstance(work.film, Film)
            try:
                work.clean = work.film.denoised(self._stop)
            except KobrelError as error:
                self._can_denoise = False
                self._problem(f"{error} The picture is shown with its noise.")
                self._show(work, self._gathered(work))
                return
        self._show(work, work.clean, denoised=True)

    def _refine(self, work: "_Work") -> None:
        """Add to the picture without blur, from which pictures are made while something is dragged."""
        view = work.film.view
        key = self._key(view, work.request)
        if self._sharp.get(key) is work.sharp:
            self._sharp[key] = work.sharp = refined(view, work.sharp, self._stop)

    @staticmethod
    def _gathered(work: "_Work") -> NDArray[np.float32]:
        """The exact picture so far, fading in over the smooth frame."""
        exact, part = work.film.picture(), min(1.0, work.film.passes / EXACT_FROM)
        return exact if part == 1.0 else work.quick * np.float32(1 - part) + exact * np.float32(part)

    def _show(self, work: "_Work", linear: NDArray[np.float32], denoised: bool = False) -> None:
        if self._closing:
            return  # whoever wanted it may be gone
        pixels = for_screen(work.request, linear)
        depth = delivered(work.film.view, work.sharp.depth)
        self._drawn(Drawn(work.request, pixels, work.film.passes, depth, work.sharp_part, denoised))

    def _make_sketch(self, request: Request, done: Callable[[Drawn], None]) -> None:
        view = self._view(request)
        of_file = request.finished
        sharp = of_file.sharp(request.frame, view) if of_file else sharp_picture(view, samples=_SAMPLES)
        done(Drawn(request, for_screen(request, blurred(view, sharp)), 0, sharp.depth))


def _alike(one: View, other: View) -> bool:
    """Whether two views trace the same picture."""
    return (
        one.snapshot is other.snapshot
        and one.aperture is other.aperture
        and (one.width, one.height) == (other.width, other.height)
        and one.numbers == other.numbers
        and one.light_numbers == other.light_numbers
        and np.array_equal(one.harmonics, other.harmonics)
    )


@dataclass(eq=False)
class _Work:
    """A picture in the making: its film, the smooth frame beneath, and the sharp picture; `clean` is the
    last one without noise.
    """

    request: Request
    film: Film | Laid
    quick: NDArray[np.float32]
    sharp: Sharp
    sharp_part: float
    clean: NDArray[np.float32] | None = None
