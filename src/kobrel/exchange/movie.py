"""The frames of a shot as a movie, or as a sequence of pictures."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from kobrel.errors import ExchangeError
from kobrel.exchange.render import MOST_PX, PICTURES, render_note, write_rendered
from kobrel.exchange.sound import sound_of
from kobrel.exchange.writing.slate import Slate
from kobrel.exchange.writing.whole import whole_file
from kobrel.optics.motor import RATE_HZ
from kobrel.optics.units import frame_rate, timecode
from kobrel.picture.burn import burnt, burnt_words
from kobrel.picture.denoise import require_denoise
from kobrel.picture.develop import as_shown
from kobrel.picture.tracer import exposed
from kobrel.picture.view import View
from kobrel.plan.measure.survey import Survey, survey
from kobrel.plan.model import Plan, Shot
from kobrel.stage.scene import Progress
from kobrel.stage.stage import Stage

CODERS = {".mp4": ("libx264", "yuv420p", "aac"), ".mov": ("prores_ks", "yuv422p10le", "pcm_s16le")}
"""By a movie's ending: what codes its pictures, how their pixels are stored, what codes its sound."""
_TIMECODE_RATES = (24, 25, 30, 48, 50, 60)
_REC_709 = 1
"""Its number in ITU-T H.273, of primaries, transfer and matrix alike."""
MOST_WRITTEN = 50_000
"""Frames of one movie or sequence."""


class Times(NamedTuple):
    """Frames a second of a movie, and its first frame, where its timecode begins."""

    fps: float
    first: float


@dataclass(frozen=True)
class Movie:
    """What is to be written.

    Parameters
    ----------
    first, last : frames; None is the shot's, with its handles
    width, height : in pixels; None is as delivered
    passes : lens samples a pixel
    burns : what is burnt in, of frame, focus, stop and states
    sound : whether the focus motor is heard
    clay : whether all surfaces are drawn in one grey
    denoise : whether noise is removed from what is traced
    """

    first: int | None = None
    last: int | None = None
    width: int | None = None
    height: int | None = None
    passes: int = 64
    burns: frozenset[str] = frozenset()
    sound: bool = False
    clay: bool = False
    denoise: bool = False


@dataclass(frozen=True, eq=False)
class Reel:
    """A shot with all that its frames are written from: numbers over them, and their size."""

    plan: Plan
    shot: Shot
    stage: Stage
    numbers: Survey
    width: int
    height: int
    movie: Movie

    def view(self, row: int) -> View:
        """What a frame is drawn from, by its row."""
        camera = self.numbers.camera.frame(row)
        snapshot = self.stage.snapshot(float(self.numbers.frames[row]), keep=False, eye=camera.eye)
        light = self.plan.light.replace(surfaces="clay") if self.movie.clay else self.plan.light
        return View(snapshot, camera, light, self.width, self.height)

    def slate(self, row: int) -> Slate:
        """What is said of a frame in its header."""
        frame, note = int(self.numbers.frames[row]), render_note(self.movie.passes, self.movie.denoise)
        return Slate(self.numbers.camera.frame(row), frame, self.shot.fps, note)

    def words(self, row: int) -> list[str]:
        """What is burnt into a frame."""
        return burnt_words(self.plan, self.numbers, row, self.movie.burns)

    def rendered(self, progress: Progress) -> Iterator[tuple[int, View, NDArray[np.float32]]]:
        """Each frame in linear light, one after the other."""
        self.stage.prepare(progress)
        count, passes = len(self.numbers.frames), self.movie.passes
        for row, frame in enumerate(self.numbers.frames):
            what, view = f"Rendering frame {frame:g}", self.view(row)

            def tell(done: int, row: int = row, what: str = what) -> None:
                progress(what, (row + done / passes) / count)

            yield row, view, exposed(view, passes, before=tell, denoise=self.movie.denoise)
        progress("Writing", 1.0)


def check_ending(path: Path) -> None:
    """See that a shot can be written under a name, before the work.

    Raises
    ------
    ExchangeError
        Neither a movie nor pictures end so.
    """
    if path.suffix.lower() not in (*CODERS, *PICTURES):
        known = f"a movie ends in {', '.join(CODERS)}, pictures in {', '.join(PICTURES)}"
        raise ExchangeError(f"{known}.", file=path)


def written_over(shot: Shot, movie: Movie, path: Path) -> list[Path]:
    """The files that writing a shot would write over.

    Raises
    ------
    ExchangeError
        The frames are in the wrong order, or too many.
    """
    if path.suffix.lower() not in PICTURES:
        return [path] if path.exists() else []
    first, last = frame_ends(shot, movie)
    return [there for frame in range(first, last + 1) if (there := picture_path(path, frame)).exists()]


def frame_ends(shot: Shot, movie: Movie) -> tuple[int, int]:
    """First and last frame of what is written.

    Raises
    ------
    ExchangeError
        They are in the wrong order, or too many.
    """
    first = shot.first - shot.handles if movie.first is None else movie.first
    last = shot.last + shot.handles if movie.last is None else movie.last
    if last < first:
        raise ExchangeError(f"The last frame, {last}, comes before the first, {first}.")
    if last - first >= MOST_WRITTEN:
        raise ExchangeError(f"{first} to {last} are more than {MOST_WRITTEN} frames.")
    return first, last


def picture_path(path: Path, frame: int) -> Path:
    """Where a frame of a sequence is written.

    >>> picture_path(Path("out.png"), 12).name
    'out.0012.png'
    """
    return path.with_name(f"{path.stem}.{frame:04d}{path.suffix}")


def write_shot(plan: Plan, shot: Shot, stage: Stage, movie: Movie, path: Path, progress: Progress) -> None:
    """Write a shot with its true depth of field: as a movie (.mp4 H.264, .mov ProRes), or as pictures
    NAME.FRAME.png or .exr (linear, with depth and blur) where the name is NAME.png or NAME.exr.

    Raises
    ------
    KobrelError
        The camera is missing, the name has another ending, or a file cannot be written.
    Cancelled
        `progress` asked to stop; there is no movie then, pictures that were finished stay.
    """
    check_ending(path)
    if movie.denoise:
        require_denoise()
    made = reel_of(plan, shot, stage, movie, even=path.suffix.lower() in CODERS)
    write = _write_pictures if path.suffix.lower() in PICTURES else _write_movie
    write(made, path, progress)


def _write_movie(made: Reel, path: Path, progress: Progress) -> None:
    shown = (
        burnt(as_shown(linear, view.light, view.camera), made.words(row))
        for row, view, linear in made.rendered(progress)
    )
    sound = sound_of(made.plan, made.shot, made.numbers) if made.movie.sound else None
    write_movie(path, shown, Times(made.shot.fps, made.numbers.frames[0]), (made.width, made.height), sound)


def write_movie(
    path: Path,
    shown: Iterable[NDArray[np.uint8]],
    times: Times,
    size: tuple[int, int],
    sound: NDArray[np.float32] | None = None,
) -> None:
    """Write pictures, sRGB bytes (H, W, 3) of an even size, as a movie, whole or not at all.

    Raises
    ------
    ExchangeError
        The file cannot be written.
    """
    import av

    with whole_file(path) as beside:
        try:
            with av.open(str(beside), "w") as container:
                _write_streams(container, path.suffix.lower(), shown, times, size, sound)
        except av.FFmpegError as error:
            raise ExchangeError(f"the movie cannot be written ({error.strerror}).", file=path) from None


def _write_streams(
    container: Any,
    ending: str,
    shown: Iterable[NDArray[np.uint8]],
    times: Times,
    size: tuple[int, int],
    heard_samples: NDArray[np.float32] | None,
) -> None:
    import av

    coder, stored, heard = CODERS[ending]
    rate = frame_rate(times.fps)
    pictures = container.add_stream(coder, rate=rate)
    if round(rate) in _TIMECODE_RATES and rate.denominator in (1, 1001) and times.first >= 0:
        pictures.metadata["timecode"] = timecode(times.first, times.fps)
    (pictures.width, pictures.height), pictures.pix_fmt = size, stored
    pictures.codec_context.color_primaries = pictures.codec_context.color_trc = _REC_709
    pictures.codec_context.colorspace = _REC_709
    if coder == "libx264":
        pictures.options = {"crf": "16", "preset": "medium"}
    silent = heard_samples is None
    sound = None if silent else container.add_stream(heard, rate=RATE_HZ, layout="mono")
    for pixels in shown:
        frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(pixels), format="rgb24")
        container.mux(pictures.encode(_as_709(frame, stored)))
    container.mux(pictures.encode())
    if sound is not None and heard_samples is not None:
        _write_sound(container, sound, heard_samples)


def _as_709(frame: Any, stored: str) -> Any:
    """A frame of sRGB bytes in the colours of Rec. 709, as players expect it."""
    made = frame.reformat(format=stored, dst_colorspace="ITU709", dst_color_range="MPEG")
    made.color_primaries = made.color_trc = _REC_709
    return made


def _write_sound(container: Any, stream: Any, samples: NDArray[np.float32]) -> None:
    import av

    whole = np.round(samples * 32767).astype(np.int16)[None, :]
    block = 1024
    for start in range(0, whole.shape[1], block):
        frame = av.AudioFrame.from_ndarray(
            np.ascontiguousarray(whole[:, start : start + block]), format="s16", layout="mono"
        )
        frame.sample_rate, frame.pts = RATE_HZ, start
        container.mux(stream.encode(frame))
    container.mux(stream.encode())


def _write_pictures(made: Reel, path: Path, progress: Progress) -> None:
    for row, view, linear in made.rendered(progress):
        target = picture_path(path, int(made.numbers.frames[row]))
        write_rendered(target, view, linear, made.slate(row), made.words(row))


def reel_of(plan: Plan, shot: Shot, stage: Stage, movie: Movie, even: bool) -> Reel:
    """A shot made ready to be written frame by frame.

    Parameters
    ----------
    even : whether width and height have to be even, as coders of movies want them

    Raises
    ------
    KobrelError
        The camera is missing, or no picture can have that size.
    """
    first, last = frame_ends(shot, movie)
    stage = stage.of_shot(shot.name)
    numbers = survey(plan, shot, stage, np.arange(first, last + 1.0))
    camera = numbers.camera
    width, height = movie.width or camera.width_px, movie.height or camera.height_px
    if even:  # coders store colours for pairs of pixels
        width, height = width + width % 2, height + height % 2
    if not (2 <= width <= MOST_PX and 2 <= height <= MOST_PX):
        raise ExchangeError(f"{width} x {height}: a picture is 2 to {MOST_PX} pixels wide and high.")
    return Reel(plan, shot, stage, numbers, width, height, movie)
