"""From a plate to its pixels: read, filled where something was lifted, cut out."""

from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray

from kobrel.plan.model import Plan
from kobrel.plan.pictures.drawn import DRAWN_NAMES, Drawn, FlatColour
from kobrel.plan.pictures.plates import (
    BrightnessRange,
    ColourRange,
    Cut,
    CutShape,
    DepthRange,
    Ellipse,
    FillKind,
    MaskFile,
    Outline,
    OwnAlpha,
    Plate,
    PlatePicture,
    Playing,
    Rectangle,
)
from kobrel.plan.plates.drawing import draw
from kobrel.stage.pictures.colours import to_srgb
from kobrel.stage.pictures.pixels import read_pixels
from kobrel.stage.plates import WHOLE, PlatePixels, PlateSource, Rgba, StillSource, Window
from kobrel.stage.read.plates.playing import (
    Clock,
    PlayingSource,
    is_movie,
    movie_reader,
    sequence_reader,
)
from kobrel.stage.read.plates.stills import read_still
from kobrel.stage.read.rendered.frames import frames_beside, gaps
from kobrel.stage.scene import Progress, no_progress

Told = Callable[[float], None]
Mask = NDArray[np.float32]
_ORIGINALS = 2
_EVEN_PX = (4, 4)
"""How large what is one colour is drawn."""
_SPARE_SOURCES = 6
_MARGIN_PX = 2
_WHOLE = 1.0 - 1.0 / 512.0
"""What of a pixel has to be covered, so that what is behind it is not seen in 8 bits."""


class Original(NamedTuple):
    """What a still picture depends on: its file and layer, or what is drawn and how large."""

    path: str
    layer: str = ""
    drawn: Drawn | None = None
    size_px: tuple[int, int] = (0, 0)


def original_of(picture: PlatePicture) -> Original:
    """What a plate's picture depends on."""
    size = (0, 0) if picture.drawn is None else picture.size_px
    return Original(picture.path, picture.layer, picture.drawn, size)


class PlateKey(NamedTuple):
    """All that a plate's pixels depend on."""

    path: str
    layer: str
    playing: Playing | None
    cut: Cut | None
    fill: tuple[FillKind, float] | None
    lifted: tuple[Cut, ...]
    whole: bool
    drawn: Drawn | None = None
    size_px: tuple[int, int] = (0, 0)

    @property
    def original(self) -> "Original":
        """What of it the picture itself depends on, before it is filled or cut."""
        return Original(self.path, self.layer, self.drawn, self.size_px)

    @property
    def source(self) -> str:
        """See :attr:`PlatePicture.source`."""
        return self.path if self.drawn is None else DRAWN_NAMES[self.drawn.kind]

    @property
    def paths(self) -> list[str]:
        """The files that are read."""
        cuts = (*self.lifted, *filter(None, (self.cut,)))
        return [
            *filter(None, (self.path,)),
            *(s.path for cut in cuts for s in cut.shapes if isinstance(s, MaskFile | DepthRange)),
        ]


def plate_key(plan: Plan, plate: Plate) -> PlateKey:
    """What the pixels of a plate depend on."""
    picture, fill = plate.picture, plate.fill
    lifted: list[Cut] = []
    if fill is not None:
        others = (plan.plate(number) for number in fill.of)
        lifted = [other.cut for other in others if other is not None and other.cut is not None]
    own = original_of(picture)
    return PlateKey(
        picture.path, picture.layer, picture.playing, plate.cut,
        (fill.kind, fill.grow_px) if fill is not None and lifted else None, tuple(lifted),
        plate.beyond != "nothing" or plate.lies, own.drawn, own.size_px,
    )  # fmt: skip


@dataclass
class PixelCache:
    """Pixels of plates that were made, by their keys, a few more than are wanted, for undo; and keys whose
    pixels could not be made, or were given up.
    """

    sources: dict[PlateKey, PlateSource] = field(default_factory=dict)
    told: dict[str, tuple[str, ...]] = field(default_factory=dict)
    failed: set[PlateKey] = field(default_factory=set)
    _originals: LRUCache[Original, PlatePixels] = field(default_factory=lambda: LRUCache(_ORIGINALS))

    def copy(self) -> "PixelCache":
        """Another with the same pixels."""
        made = PixelCache(dict(self.sources), dict(self.told), set(self.failed))
        made._originals.update(self._originals)
        return made

    def source(self, key: PlateKey, taken: Collection[PlateKey] = ()) -> PlateSource | None:
        """The pixels of a key; until they are made, those of the same picture cut otherwise, unless they are
        `taken` for others.
        """
        if key in self.sources:
            return self.sources[key]
        alike = [
            source for other, source in self.sources.items()
            if _is_alike(other, key) and other not in taken
        ]  # fmt: skip
        return alike[-1] if alike else None

    def make(self, key: PlateKey, progress: Progress = no_progress) -> None:
        """Read and make the pixels of a plate.

        Raises
        ------
        SceneError
            A file cannot be read.
        Cancelled
            `progress` asked to stop.
        """
        source = self._made(key, progress)
        if not source.plays:
            source.at(0.0).blocks.setflags(write=False)  # worked out here, not when the picture is drawn
        self.sources[key] = source

    def original(self, wanted: Original) -> PlatePixels:
        """A picture as its file has it, or as it is drawn.

        Raises
        ------
        SceneError
            The file cannot be read.
        """
        found = self._originals.get(wanted)
        if found is None and wanted.drawn is not None:
            found = draw(wanted.drawn, wanted.size_px)
        elif found is None:
            read = read_still(Path(wanted.path), wanted.layer)
            self.told[wanted.path] = read.told
            found = read.pixels
        self._originals[wanted] = found
        return found

    def forget(self, path: str) -> None:
        """Let a file be read again."""
        self.sources = {key: source for key, source in self.sources.items() if path not in key.paths}
        self.failed = {key for key in self.failed if path not in key.paths}
        self._let_go([kept for kept in self._originals if kept.path == path])

    def keep_only(self, keys: Iterable[PlateKey]) -> None:
        """Let go of what is not wanted any more, but for the last few."""
        wanted = set(keys)
        spare = [key for key in self.sources if key not in wanted]
        for key in spare[: max(0, len(spare) - _SPARE_SOURCES)]:
            del self.sources[key]
        uncut = {key.original for key in wanted if key.cut is not None or key.fill is not None}
        self._let_go([kept for kept in self._originals if kept not in uncut])

    def _let_go(self, originals: Iterable[Original]) -> None:
        for original in originals:
            del self._originals[original]

    def _made(self, key: PlateKey, progress: Progress) -> PlateSource:
        path = Path(key.path)
        if key.playing is None:
            if isinstance(key.drawn, FlatColour) and key.cut is None:
                return StillSource(draw(key.drawn, _EVEN_PX))
            pixels = self.original(key.original)
            if key.cut is None and key.fill is None:
                return StillSource(pixels)
            return _still(worked(pixels, key, lambda part: progress(f"Making {path.name}", part)), key)
        playing = key.playing
        clock = Clock(playing.at, playing.first, playing.last, playing.after, playing.speed)
        if is_movie(path):
            return PlayingSource(clock, _each(movie_reader(path), key))
        frames = frames_beside(path)
        read_still(path, key.layer)  # tells at once what cannot be read
        if missing := gaps(frames):
            self.told[key.path] = (f"{path.name}: frames {missing} are missing; those before them stay.",)
        read = sequence_reader(path, key.layer)
        return PlayingSource(clock, _each(read, key))


def _is_alike(other: PlateKey, key: PlateKey) -> bool:
    """Whether pixels of one key can stand for another's until these are made."""
    kinds = (each.drawn and each.drawn.kind for each in (other, key))
    return other[:3] == key[:3] and len({*kinds}) == 1 and (other.cut is None) == (key.cut is None)


def _each(read: Callable[[int], PlatePixels], key: PlateKey) -> Callable[[int], PlatePixels]:
    """What reads the frames of a picture that plays, each filled and cut."""
    if key.cut is None and key.fill is None:
        return read
    return lambda frame: worked(read(frame), key)


def _still(pixels: PlatePixels, key: PlateKey) -> StillSource:
    """Pixels as a source, less what is empty about them."""
    from kobrel.stage.pictures import masks

    if key.whole or key.cut is None:
        return StillSource(pixels)
    left, top, right, bottom = masks.bounds(pixels.rgba[..., 3] > 0)
    if right <= left:
        left, top, right, bottom = 0, 0, 1, 1
    width, height = pixels.width, pixels.height
    x0, y0 = max(left - _MARGIN_PX, 0), max(top - _MARGIN_PX, 0)
    x1, y1 = min(right + _MARGIN_PX, width), min(bottom + _MARGIN_PX, height)
    window: Window = (x0 / width, y0 / height, x1 / width, y1 / height)
    if window == WHOLE:
        return StillSource(pixels)
    part: Rgba = pixels.rgba[y0:y1, x0:x1].copy()
    return StillSource(PlatePixels(part), window)


def worked(pixels: PlatePixels, key: PlateKey, told: Told = lambda _part: None) -> PlatePixels:
    """A picture filled where others were lifted from it, and cut out.

    Raises
    ------
    SceneError
        The picture of a mask or of depth cannot be read.
    """
    from kobrel.stage.pictures import masks

    rgba = pixels.rgba
    share = None if key.cut is None else cut_mask(pixels, key.cut)
    if key.fill is not None:
        kind, grow = key.fill
        hole = np.zeros(rgba.shape[:2], bool)
        for cut in key.lifted:
            cover = cut_mask(pixels, cut)
            hole |= masks.shaped(cover, grow, 0.0, 0.0) > 0 if grow > 0 else cover >= _WHOLE
        rgba = _filled(rgba, hole, kind, told, None if share is None else share <= 0)
    if share is not None:
        rgba = rgba.copy()
        alpha = rgba[..., 3] * share
        rgba[..., 3] = np.round(alpha) if rgba.dtype == np.uint8 else alpha
    return PlatePixels(rgba)


def _filled(
    rgba: Rgba, hole: NDArray[np.bool_], kind: FillKind, told: Told, beyond: NDArray[np.bool_] | None
) -> Rgba:
    """Pixels with a hole filled; what is filled is as opaque as what is about it. Nothing is taken from where
    nothing is seen, or from `beyond` the plate's own cut.
    """
    from kobrel.stage.pictures.fill import diffused, mirrored, patched

    if not hole.any():
        return rgba
    rows, columns = _room(hole)
    part, inner = rgba[rows, columns], hole[rows, columns]
    colours = part[..., :3].astype(np.float32)
    unseen = part[..., 3] == 0
    lost = inner | unseen
    if beyond is not None:
        lost |= beyond[rows, columns]
    if lost.all():
        return rgba
    if kind == "mirrored":
        filled = mirrored(colours, lost)
    elif kind == "patches":
        filled = patched(colours, lost, told)
    else:
        filled = diffused(colours, lost, told)
    result = rgba.copy()
    inside = result[rows, columns]
    if rgba.dtype == np.uint8:
        filled = np.clip(np.round(filled), 0, 255)
    inside[inner, :3] = filled[inner].astype(rgba.dtype)
    inside[inner & ~unseen, 3] = part[inner & ~unseen, 3]
    return result


def _room(hole: NDArray[np.bool_]) -> tuple[slice, slice]:
    """Rows and columns of a hole and as much again about it, from which it is filled."""
    from kobrel.stage.pictures import masks

    left, top, right, bottom = masks.bounds(hole)
    across, down = right - left + 32, bottom - top + 32
    height, width = hole.shape
    return (
        slice(max(top - down, 0), min(bottom + down, height)),
        slice(max(left - across, 0), min(right + across, width)),
    )


def cut_mask(pixels: PlatePixels, cut: Cut) -> Mask:
    """What of a picture a cut leaves, (H, W).

    Raises
    ------
    SceneError
        The picture of a mask or of depth cannot be read.
    """
    from kobrel.stage.pictures import masks

    result = np.zeros((pixels.height, pixels.width), np.float32)
    if cut.shapes[0].takes_away:  # from all of it
        result[:] = 1.0
    for shape in cut.shapes:
        own = _shape_mask(pixels, shape)
        result = np.minimum(result, 1.0 - own) if shape.takes_away else np.maximum(result, own)
    return masks.shaped(result, cut.grow_px, cut.smooth_px, cut.feather_px)


def _shape_mask(pixels: PlatePixels, shape: CutShape) -> Mask:
    from kobrel.stage.pictures import masks

    size = pixels.height, pixels.width
    scale = np.array([pixels.width, pixels.height], float)
    if isinstance(shape, Outline):
        return masks.inside(outline_line(shape) * scale, size)
    if isinstance(shape, Rectangle):
        (left, top), (right, bottom) = shape.one, shape.other
        return masks.inside(
            np.array([(left, top), (right, top), (right, bottom), (left, bottom)]) * scale, size
        )
    if isinstance(shape, Ellipse):
        return masks.ellipse(np.asarray(shape.one) * scale, np.asarray(shape.other) * scale, size)
    if isinstance(shape, ColourRange):
        return masks.near_colour(as_srgb(pixels), shape.colour, shape.reach, shape.soft)
    if isinstance(shape, BrightnessRange):
        return masks.as_bright(as_srgb(pixels), shape.low, shape.high, shape.soft)
    if isinstance(shape, OwnAlpha):
        alpha = pixels.rgba[..., 3].astype(np.float32)
        return alpha / np.float32(255) if pixels.rgba.dtype == np.uint8 else alpha
    values = read_plane(shape.path, size)
    if isinstance(shape, DepthRange):
        return masks.between(values, shape.low, shape.high, shape.soft)
    return values


def outline_line(outline: Outline) -> NDArray[np.float64]:
    """The line of an outline as points (n, 2), in parts of the picture."""
    from kobrel.stage.pictures import masks

    points = outline.points
    return masks.bent([p.at for p in points], [p.before for p in points], [p.after for p in points])


def as_srgb(pixels: PlatePixels) -> NDArray[np.float32]:
    """Colours (H, W, 3) as they are seen, 0 to 1."""
    colours = pixels.rgba[..., :3].astype(np.float32)
    if pixels.rgba.dtype == np.uint8:
        return colours / np.float32(255)
    colours = np.clip(colours, 0.0, 1.0)
    return to_srgb(colours)


def read_plane(path: str, size: tuple[int, int]) -> Mask:
    """The first channel of a picture, stretched to a size and to the range 0 to 1.

    Raises
    ------
    SceneError
        It cannot be read.
    """
    found, _names = read_pixels(Path(path))
    values = np.nan_to_num(found[..., 0], nan=0.0, posinf=0.0, neginf=0.0)
    low, high = float(values.min()), float(values.max())
    if low < 0.0 or high > 1.0:
        values = (values - low) / max(high - low, 1e-30)
    rows = np.minimum((np.arange(size[0]) + 0.5) * values.shape[0] / size[0], values.shape[0] - 1).astype(int)
    columns = np.minimum((np.arange(size[1]) + 0.5) * values.shape[1] / size[1], values.shape[1] - 1).astype(
        int
    )
    return np.ascontiguousarray(values[rows][:, columns], np.float32)


def picture_of(path: Path, layer: str = "", playing: Playing | None = None) -> PlatePicture:
    """A picture as the document names it, with its size.

    Raises
    ------
    SceneError
        It cannot be read.
    """
    from kobrel.stage.read.plates.playing import movie_frames
    from kobrel.stage.read.plates.stills import size_of

    if is_movie(path):
        count, size = movie_frames(path)
        playing = playing or Playing(last=count - 1)
    else:
        size = size_of(path, layer)
    return PlatePicture(path=str(path.absolute()), layer=layer, size_px=size, playing=playing)
