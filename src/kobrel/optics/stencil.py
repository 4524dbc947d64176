"""Drawing masks: outlines filled on a square picture, and what spoils them.

Outlines lie within the round pupil, whose radius is 1, x right and y up. Pictures are (n, n), 0
dark to 1 clear, top row first, over the square about the pupil. What looks random follows from a
number, so that the same numbers always give the same picture.
"""

from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont
from scipy import ndimage

from kobrel.errors import OpticsError
from kobrel.optics.lens import Numbers

_FINE = 4
_ARC = 12
_ROUND = np.linspace(0.0, 2 * np.pi, 361)[:-1]

Picture = NDArray[np.float32]


def regular(corners: int) -> Numbers:
    """A polygon of equal sides, (n, 2), one corner at the top."""
    return _on_circle(corners, 1.0)


def star(points: int, inner: float) -> Numbers:
    """A star, (2 n, 2), one point at the top; its inner corners lie so far out."""
    whole = _on_circle(2 * points, 1.0)
    whole[1::2] *= inner
    return whole


def slot(height: float) -> Numbers:
    """A lying slot, (4, 2), whose corners touch the pupil's edge; so high against the pupil."""
    up = np.clip(height, 0.02, 0.999)
    across = np.sqrt(1.0 - up * up)
    return np.array([[-across, -up], [across, -up], [across, up], [-across, up]])


def heart() -> Numbers:
    """A heart, (n, 2)."""
    t = _ROUND
    y = 13 * np.cos(t) - 5 * np.cos(2 * t) - 2 * np.cos(3 * t) - np.cos(4 * t)
    curve = np.stack([16 * np.sin(t) ** 3, y], axis=1)
    curve[:, 1] -= (curve[:, 1].max() + curve[:, 1].min()) / 2
    return np.asarray(curve / np.linalg.norm(curve, axis=1).max())


def _on_circle(corners: int, radius: float) -> Numbers:
    angle = np.pi / 2 + np.arange(corners) * 2 * np.pi / corners
    return radius * np.stack([np.cos(angle), np.sin(angle)], axis=1)


def rounded(points: Numbers, roundness: float) -> Numbers:
    """An outline with rounded corners: at 1 the curves meet in the middles of its sides.

    Each corner becomes a quadratic curve that begins and ends on its sides.
    """
    if roundness <= 0.0:
        return points
    before, after = (points + np.roll(points, 1, axis=0)) / 2, (points + np.roll(points, -1, axis=0)) / 2
    start, end = points + (before - points) * roundness, points + (after - points) * roundness
    t = np.linspace(0.0, 1.0, _ARC)[None, :, None]
    curve = (1 - t) ** 2 * start[:, None] + 2 * t * (1 - t) * points[:, None] + t**2 * end[:, None]
    return np.asarray(curve.reshape(-1, 2))


def filled(points: Numbers, side: int) -> Picture:
    """How much of each pixel an outline (n, 2) covers."""
    return _shrunk(lambda drawing, tall: drawing.polygon(_on_picture(points, tall), fill=255), side)


def ring(inner: float, size: float, side: int) -> Picture:
    """A circle of so large a radius without a round middle, which is so large against it."""
    circle = np.stack([np.cos(_ROUND), np.sin(_ROUND)], axis=1) * size
    return filled(circle, side) - filled(circle * inner, side)


def glyph(text: str, font: Path, degrees: float, size: float, side: int) -> Picture:
    """Letters, turned counter-clockwise; at size 1 as large as the pupil holds.

    Raises
    ------
    OpticsError
        There is nothing to see.
    """
    measure = ImageFont.truetype(str(font), 256)
    left, top, right, bottom = measure.getbbox(text)
    if right <= left or bottom <= top:
        raise OpticsError("A mask of text needs a letter or a sign that can be seen.")
    height = 256 * 1.95 * size * (side * _FINE / 2) / np.hypot(right - left, bottom - top)
    letters = ImageFont.truetype(str(font), height)

    def draw(drawing: ImageDraw.ImageDraw, tall: int) -> None:
        l_, t_, r_, b_ = letters.getbbox(text)
        drawing.text((tall / 2 - (l_ + r_) / 2, tall / 2 - (t_ + b_) / 2), text, fill=255, font=letters)

    return _shrunk(draw, side, degrees)


def _shrunk(draw: Callable[[ImageDraw.ImageDraw, int], object], side: int, degrees: float = 0.0) -> Picture:
    tall = side * _FINE
    image = Image.new("L", (tall, tall))
    draw(ImageDraw.Draw(image), tall)
    if degrees:
        image = image.rotate(degrees, Image.Resampling.BILINEAR)
    return np.asarray(image.reduce(_FINE), np.float32) / np.float32(255)


def _on_picture(points: Numbers, side: int) -> list[tuple[float, float]]:
    places = (np.asarray(points) * [1, -1] + 1) * (side / 2) - 0.5
    return [(float(x), float(y)) for x, y in places]


def turned(points: Numbers, degrees: float, size: float) -> Numbers:
    """An outline turned counter-clockwise and made smaller or larger."""
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    return np.asarray(points @ np.array([[c, s], [-s, c]]) * size)


def softened(picture: Picture, amount: float) -> Picture:
    """A picture with soft edges: at 1 they are a third of the pupil's radius wide (Gaussian)."""
    if amount <= 0.0:
        return picture
    return np.asarray(ndimage.gaussian_filter(picture, amount * len(picture) / 12.0, mode="constant"))


def bright_rim(picture: Picture, amount: float) -> Picture:
    """A picture whose inside is darkened away from its edges; at 1 by four fifths."""
    inside = np.clip(2.0 * ndimage.gaussian_filter(picture, len(picture) / 24.0, mode="constant") - 1.0, 0, 1)
    return np.asarray(picture * (1.0 - 0.8 * amount * inside), np.float32)


# What spoils a mask: each gives what to multiply it with, for an amount from 0 to 1.


def dust(side: int, amount: float, seed: int) -> Picture:
    """Soft dark specks."""
    result = np.ones((side, side), np.float32)
    for x, y, size, dark in _random(seed, 1, round(160 * amount), 4):
        radius = side * (0.004 + 0.022 * size**3)
        _spot(result, *_within(x, y, side), radius, 0.3 + 0.6 * dark)
    return result


def _spot(picture: Picture, column: float, row: float, radius: float, dark: float) -> None:
    reach = int(3 * radius) + 1
    top, left = max(0, int(row) - reach), max(0, int(column) - reach)
    part = picture[top : int(row) + reach + 1, left : int(column) + reach + 1]
    rows, columns = np.ogrid[top : top + part.shape[0], left : left + part.shape[1]]
    away = ((rows - row) ** 2 + (columns - column) ** 2) / radius**2
    part *= (1.0 - dark * np.exp(-(away**2))).astype(np.float32)


def hairs(side: int, amount: float, seed: int) -> Picture:
    """Thin curved dark lines."""

    def lines() -> Iterator[tuple[Numbers, int]]:
        for x, y, aim, length, bend, wide in _random(seed, 2, round(12 * amount), 6):
            middle, way = np.array(_within(x, y, side)), _way(aim)
            across = np.array([-way[1], way[0]]) * (bend - 0.5) * side * 0.5
            t = np.linspace(-0.5, 0.5, 32)[:, None]
            yield (
                middle + way * t * side * (0.15 + 0.4 * length) + across * (t * t - 0.25),
                3 + round(3 * wide),
            )

    return _lined(side, lines(), 0.75)


def scratches(side: int, amount: float, seed: int) -> Picture:
    """Straight fine lines."""

    def lines() -> Iterator[tuple[Numbers, int]]:
        main = _random(seed, 3, 1, 1)[0][0]
        for x, y, aim, length in _random(seed, 4, round(40 * amount), 4):
            middle, way = np.array(_within(x, y, side)), _way(main + 0.12 * (aim - 0.5))
            t = np.array([[-0.5], [0.5]])
            yield middle + way * t * side * (0.1 + 0.7 * length), 2

    return _lined(side, lines(), 0.45)


def _lined(side: int, lines: Iterator[tuple[Numbers, int]], dark: float) -> Picture:
    image = Image.new("L", (side * 2, side * 2))
    drawing = ImageDraw.Draw(image)
    for places, wide in lines:
        drawing.line([(2 * float(x), 2 * float(y)) for x, y in places], fill=255, width=wide)
    return np.float32(1) - np.asarray(image.reduce(2), np.float32) * np.float32(dark / 255)


def smudges(side: int, amount: float, seed: int) -> Picture:
    """Broad cloudy stains."""
    if amount <= 0.0:
        return np.ones((side, side), np.float32)
    noise = np.random.default_rng([seed, 5]).random((64, 64), np.float32)
    cloud = ndimage.zoom(ndimage.gaussian_filter(noise, 4.0, mode="wrap"), side / 64, order=1)
    low, high = np.percentile(cloud, (20, 98))
    stain = np.clip((cloud - low) / max(high - low, 1e-9), 0.0, 1.0)
    return np.asarray(1.0 - 0.75 * amount * stain * stain * (3 - 2 * stain), np.float32)


def onion_rings(side: int, amount: float, seed: int) -> Picture:
    """Fine rings about the middle, as the tool that turned a moulded lens leaves them."""
    more, start = _random(seed, 6, 1, 2)[0]
    half = (np.arange(side) + 0.5) / side * 2.0 - 1.0
    wave = 0.5 + 0.5 * np.cos(2 * np.pi * ((11 + 6 * more) * np.hypot(half[None], half[:, None]) + start))
    return np.asarray(1.0 - 0.5 * amount * wave, np.float32)


def _random(seed: int, kind: int, many: int, numbers: int) -> Numbers:
    """(many, numbers) from 0 to 1: with more of them the first stay as they are."""
    return np.random.default_rng([seed, kind]).random((many, numbers))


def _within(u: float, v: float, side: int) -> tuple[float, float]:
    """An even place within the pupil: column and row."""
    out, aim = np.sqrt(u) * side / 2, 2 * np.pi * v
    return float(side / 2 + out * np.cos(aim)), float(side / 2 + out * np.sin(aim))


def _way(turn: float) -> Numbers:
    return np.array([np.cos(2 * np.pi * turn), np.sin(2 * np.pi * turn)])
