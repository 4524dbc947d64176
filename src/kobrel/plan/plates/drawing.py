"""Pixels of plates that need no file."""

import unicodedata
from dataclasses import dataclass
from typing import assert_never

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

from kobrel.errors import SceneError
from kobrel.memory import require_memory
from kobrel.optics.lens import Numbers
from kobrel.plan.parts import Colour
from kobrel.plan.pictures.drawn import DRAWN_NAMES, Drawn, FlatColour, Gradient, Specks, Title, Vignette
from kobrel.plan.pictures.plates import PlatePicture
from kobrel.plan.plates.typefaces import Face, face_of
from kobrel.stage.pictures.colours import as_bytes, to_linear, to_srgb
from kobrel.stage.plates import PlatePixels

FRAME_WIDTH_PX = 1920
_MEASURED_PX = 1000
"""Size of letters at which lines are measured, pixels."""
_MARGIN = 0.15
"""About the letters, of their size: some reach beyond their own box."""
_LONGEST_PX, _MOST_PX, _TALLEST_LETTER_PX = 8192, 12_000_000, 2048
_SPECK_PX, _BYTES_A_PIXEL = 96, 40.0
_MOST_HALF = 60_000.0


def picture_of_drawn(drawn: Drawn, aspect: float) -> PlatePicture:
    """What is drawn as the document names it.

    Parameters
    ----------
    aspect : width over height of what has no shape of its own; titles have that of their letters
    """
    if isinstance(drawn, Title):
        return PlatePicture(drawn=drawn, size_px=title_size_px(drawn))
    return PlatePicture(drawn=drawn, size_px=(FRAME_WIDTH_PX, max(1, round(FRAME_WIDTH_PX / aspect))))


def draw(drawn: Drawn, size_px: tuple[int, int]) -> PlatePixels:
    """The pixels of what is drawn: bytes of titles and specks, halves in linear light of all else; smaller
    than a plan says where that would be more than is ever needed.

    Raises
    ------
    SceneError
        There is not so much memory to spare.
    """
    size_px = _bounded(size_px)
    require_memory(
        _BYTES_A_PIXEL * size_px[0] * size_px[1], f"a plate ({DRAWN_NAMES[drawn.kind]})", "", SceneError
    )
    match drawn:
        case Title():
            return _with_colour(_letters(drawn, size_px), drawn.colour)
        case FlatColour():
            return _halves(np.broadcast_to(_seen(drawn.colour), (size_px[1], size_px[0], 3)), np.float64(1.0))
        case Gradient():
            return _gradient(drawn, size_px)
        case Vignette():
            return _vignette(drawn, size_px)
        case Specks():
            return _with_colour(_disc(), drawn.colour)
        case _:
            assert_never(drawn)


def _bounded(size_px: tuple[int, int]) -> tuple[int, int]:
    """A size of the same shape that takes no more memory than a picture may."""
    wide, tall = (max(side, 1) for side in size_px)
    by = min(1.0, _LONGEST_PX / max(wide, tall), (_MOST_PX / (wide * tall)) ** 0.5)
    return max(1, round(wide * by)), max(1, round(tall * by))


# Titles


@dataclass(frozen=True)
class _Block:
    """Lines of letters, lengths in parts of the letters' size.

    Parameters
    ----------
    lines, widths : the text of each line, and how long it is
    step : from one line to the next
    """

    face: Face
    lines: tuple[str, ...]
    widths: tuple[float, ...]
    step: float

    @property
    def width(self) -> float:
        """With the margins."""
        return max(self.widths) + 2 * _MARGIN

    @property
    def height(self) -> float:
        """With the margins."""
        return self.step * len(self.lines) + 2 * _MARGIN


def _block(title: Title) -> _Block:
    face = face_of(title)[0]
    font = ImageFont.truetype(face.path, _MEASURED_PX, face.number)
    lines = tuple(title.text.split("\n"))
    widths = tuple(_places(line, font, title.tracking * _MEASURED_PX)[-1] / _MEASURED_PX for line in lines)
    return _Block(face, lines, widths, sum(font.getmetrics()) / _MEASURED_PX)


def letters_in_height(title: Title) -> float:
    """How many times its letters' size the height of a title's picture is."""
    return _block(title).height


def title_size_px(title: Title) -> tuple[int, int]:
    """Width and height of a title's picture: as large as stays in bounds, so that it is sharp however large
    it is shown.
    """
    block = _block(title)
    return _bounded((round(block.width * _TALLEST_LETTER_PX), round(block.height * _TALLEST_LETTER_PX)))


def _letters(title: Title, size_px: tuple[int, int]) -> NDArray[np.uint8]:
    """How much of each pixel is covered, 0 to 255, (H, W)."""
    block = _block(title)
    letter = min(size_px[0] / block.width, size_px[1] / block.height)
    font = ImageFont.truetype(block.face.path, max(letter, 1.0), block.face.number)
    image = Image.new("L", size_px)
    pen = ImageDraw.Draw(image)
    left = (size_px[0] - block.width * letter) / 2 + _MARGIN * letter
    top = (size_px[1] - block.height * letter) / 2 + _MARGIN * letter
    spare = {"left": 0.0, "centre": 0.5, "right": 1.0}[title.align]
    for number, (line, width) in enumerate(zip(block.lines, block.widths, strict=True)):
        x = left + spare * (max(block.widths) - width) * letter
        y = top + number * block.step * letter
        for part, place in zip(_parts(line, title.tracking), _places(line, font, title.tracking * letter),
                               strict=False):  # fmt: skip
            pen.text((x + place, y), part, font=font, fill=255)
    return np.asarray(image)


def _parts(line: str, tracking: float) -> list[str]:
    """What of a line is placed by itself: all of it, or each letter with its marks."""
    if not tracking:
        return [line]
    parts: list[str] = []
    for letter in line:
        if parts and unicodedata.combining(letter):
            parts[-1] += letter
        else:
            parts.append(letter)
    return parts


def _places(line: str, font: ImageFont.FreeTypeFont, tracking_px: float) -> list[float]:
    """Where each part of a line begins, and where the last one ends, pixels; kerning is kept."""
    parts, begun, places = _parts(line, tracking_px), "", []
    for number, part in enumerate(parts):
        places.append(font.getlength(begun + part) - font.getlength(part) + number * tracking_px)
        begun += part
    return [*places, font.getlength(line) + max(len(parts) - 1, 0) * tracking_px]


# Colours


def _gradient(gradient: Gradient, size_px: tuple[int, int]) -> PlatePixels:
    x, y = _middle_out(size_px)
    aspect = size_px[0] / size_px[1]
    if gradient.shape == "radial":
        part = np.hypot(x, y) / np.sqrt(2.0)
    else:
        angle = np.radians(gradient.angle_deg)
        along, up = np.cos(angle) * aspect, np.sin(angle)
        part = 0.5 + 0.5 * (x * along + y * up) / max(abs(along) + abs(up), 1e-9)
    part = np.clip(part, 0.0, 1.0)[..., None]
    first, last = _seen(gradient.first), _seen(gradient.last)
    alpha = gradient.first_opacity + (gradient.last_opacity - gradient.first_opacity) * part[..., 0]
    return _halves(first + (last - first) * part, alpha)


def _vignette(vignette: Vignette, size_px: tuple[int, int]) -> PlatePixels:
    x, y = _middle_out(size_px)
    aspect = size_px[0] / size_px[1]
    fair = np.array([max(aspect, 1.0), max(1.0 / aspect, 1.0)])  # the longer side counts for more
    across, down = 1.0 + (fair - 1.0) * vignette.round
    away = np.hypot(x * across, y * down) / np.hypot(across, down)
    part = np.clip((away - vignette.clear) / max(1.0 - vignette.clear, 1e-6), 0.0, 1.0)
    alpha = vignette.strength * part * part * (3.0 - 2.0 * part)
    return _halves(np.broadcast_to(_seen(vignette.colour), (*alpha.shape, 3)), alpha)


def _middle_out(size_px: tuple[int, int]) -> tuple[Numbers, Numbers]:
    """Places of pixels, -1 to 1: to the right (1, W) and up (H, 1)."""
    x = (2.0 * np.arange(size_px[0]) + 1.0) / size_px[0] - 1.0
    y = 1.0 - (2.0 * np.arange(size_px[1]) + 1.0) / size_px[1]
    return x[None], y[:, None]


def _seen(colour: Colour) -> Numbers:
    """A linear colour as it is seen."""
    return np.asarray(to_srgb(np.maximum(np.asarray(colour, float), 0.0)))


def _halves(seen: Numbers, alpha: Numbers | np.float64) -> PlatePixels:
    """Pixels of colours as they are seen, (H, W, 3), and alpha."""
    result = np.empty((*seen.shape[:2], 4), np.float16)
    result[..., :3] = np.minimum(to_linear(seen), _MOST_HALF)
    result[..., 3] = alpha
    return PlatePixels(result)


def _with_colour(cover: NDArray[np.uint8], colour: Colour) -> PlatePixels:
    """Pixels of one colour, as opaque as they are covered."""
    result = np.empty((*cover.shape, 4), np.uint8)
    result[..., :3] = as_bytes(np.asarray(colour, float))
    result[..., 3] = cover
    return PlatePixels(result)


def _disc() -> NDArray[np.uint8]:
    """A disc as it is covered, with an edge of a pixel."""
    x, y = _middle_out((_SPECK_PX, _SPECK_PX))
    edge = 0.5 * _SPECK_PX * (1.0 - np.hypot(x, y)) - 1.0
    return np.round(np.clip(edge, 0.0, 1.0) * 255).astype(np.uint8)
