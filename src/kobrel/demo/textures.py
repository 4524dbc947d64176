"""Pictures for Night Ferry's surfaces, drawn here."""

from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFilter

from kobrel.stage.pictures.colours import to_srgb

QUAY_SIZE_M = (32.0, 15.0)
QUAY_CENTRE_M = (0.0, 0.5)


def _noise(shape: tuple[int, int], seed: int, soft: float) -> NDArray[np.float64]:
    grain = np.random.default_rng(seed).random(shape) * 255
    image = Image.fromarray(grain.astype(np.uint8)).filter(ImageFilter.GaussianBlur(soft))
    values = np.asarray(image, float)
    return np.asarray((values - values.mean()) / (values.std() + 1e-9))


def planks(path: Path) -> None:
    """Weathered boards, tiling."""
    height, width, boards = 256, 256, 8
    random = np.random.default_rng(3)
    tone = np.repeat(0.20 + 0.07 * random.random(boards), height // boards)[:, None]
    grain = _noise((height, width), 5, 1.2) * 0.012 + _noise((height, width), 6, 9) * 0.015
    stretched = np.asarray(Image.fromarray(grain).resize((width * 4, height)).crop((0, 0, width, height)))
    gap = (np.arange(height) % (height // boards) < 2)[:, None]
    value = np.where(gap, 0.03, tone + stretched)
    linear = np.clip(value[..., None] * [1.0, 0.82, 0.66], 0, 1)
    Image.fromarray((to_srgb(linear) * 255).astype(np.uint8)).save(path, optimize=True)


def quay_stone(path: Path, gloss: Path) -> None:
    """Paving of the quay after rain, and its gloss: roughness in green; puddles, wet stones, dull joints."""
    width, height = 1600, 750
    x = ((np.arange(width) + 0.5) / width - 0.5) * QUAY_SIZE_M[0] + QUAY_CENTRE_M[0]
    z = ((np.arange(height) + 0.5) / height - 0.5) * QUAY_SIZE_M[1] + QUAY_CENTRE_M[1]
    grid_x, grid_z = np.meshgrid(x, z)
    row = np.floor(grid_z / 0.5)
    joint = (np.abs(grid_z / 0.5 - np.round(grid_z / 0.5)) < 0.03) | (
        np.abs((grid_x + 0.4 * (row % 2)) / 0.8 - np.round((grid_x + 0.4 * (row % 2)) / 0.8)) < 0.02
    )
    stone = np.floor((grid_x + 0.4 * (row % 2)) / 0.8 + 0.5) * 7.13 + row * 3.71
    own = np.sin(stone * 12.9898)
    fine, broad = _noise((height, width), 8, 1.5), _noise((height, width), 9, 26)
    puddle = np.clip((_noise((height, width), 10, 42) - 0.75) * 2.2, 0, 1)
    tone = (0.15 + 0.035 * own + 0.012 * fine + 0.02 * broad) * (1.0 - 0.55 * puddle)
    albedo = np.clip(np.where(joint, 0.045, tone)[..., None] * [1.0, 0.97, 0.92], 0.01, 1)
    wet = 0.36 + 0.1 * np.sin(stone * 4.1414) + 0.05 * fine + 0.05 * broad
    rough = np.clip(np.where(joint, 0.8, wet) * (1.0 - puddle) + 0.05 * puddle, 0.05, 1)
    Image.fromarray((to_srgb(albedo) * 255).astype(np.uint8)).quantize(128).convert("RGB").save(
        path, quality=80
    )
    layers = np.stack([np.zeros_like(rough), rough, np.zeros_like(rough)], -1)
    Image.fromarray((layers * 255).astype(np.uint8)).save(gloss, quality=80, subsampling=0)


def glitter(path: Path) -> None:
    """A light mirrored by ripples: short dashes, the more the farther, on nothing."""
    width, height = 24, 1024
    random = np.random.default_rng(17)
    part = (np.arange(height) + 0.5) / height  # from the far end to the near one
    there = random.random((height // 2, width // 4)) < (0.75 - 0.62 * part[::2, None])
    dashes = np.repeat(np.repeat(there, 2, axis=0), 4, axis=1)
    soft = np.sin(np.pi * (np.arange(width) + 0.5) / width) ** 1.5
    alpha = np.where(dashes, 255 * soft[None, :] * (1.0 - 0.55 * part[:, None]), 0)
    colour = np.broadcast_to(np.array([235, 168, 92]), (height, width, 3))
    Image.fromarray(np.dstack([colour, alpha]).astype(np.uint8), "RGBA").save(path, optimize=True)


def compass_face(path: Path) -> None:
    """A compass rose with degrees, cream on black."""
    size = 1024
    image = Image.new("RGB", (size, size), (232, 222, 196))
    draw = ImageDraw.Draw(image)
    middle = size / 2

    def at(angle: float, out: float) -> tuple[float, float]:
        return middle + out * middle * np.sin(np.radians(angle)), middle - out * middle * np.cos(
            np.radians(angle)
        )

    for degree in range(0, 360, 2):
        long = 0.84 if degree % 30 == 0 else 0.88 if degree % 10 == 0 else 0.91
        draw.line([at(degree, long), at(degree, 0.95)], fill=(30, 26, 22), width=6 if degree % 10 == 0 else 3)
    for ring, wide in ((0.96, 5), (0.72, 3)):
        draw.ellipse(
            [middle * (1 - ring), middle * (1 - ring), middle * (1 + ring), middle * (1 + ring)],
            outline=(30, 26, 22),
            width=wide,
        )
    for step in range(16):
        angle = step * 22.5
        length, half = (0.68, 9.0) if step % 4 == 0 else (0.5, 10.0) if step % 2 == 0 else (0.34, 8.0)
        for side, colour in ((-half, (46, 40, 34)), (half, (176, 142, 84))):
            draw.polygon([at(angle, length), at(angle + side * 2.2, 0.13), (middle, middle)], fill=colour)
    for angle, letter in ((0, "N"), (90, "E"), (180, "S"), (270, "W")):
        _letter(image, letter, at(angle, 0.785), angle)
    image.resize((512, 512), Image.Resampling.LANCZOS).save(path, optimize=True)


def _letter(image: Image.Image, letter: str, centre: tuple[float, float], angle: float) -> None:
    letters: dict[str, list[tuple[float, float]]] = {
        "N": [(-1, 1), (-1, -1), (1, 1), (1, -1)],
        "E": [(1, -1), (-1, -1), (-1, 0), (0.6, 0), (-1, 0), (-1, 1), (1, 1)],
        "S": [(1, -0.8), (0, -1), (-1, -0.6), (-0.8, -0.1), (0.8, 0.1), (1, 0.6), (0, 1), (-1, 0.8)],
        "W": [(-1.2, -1), (-0.6, 1), (0, -0.4), (0.6, 1), (1.2, -1)],
    }
    turn = np.radians(angle)
    points = [
        (
            centre[0] + 24 * (x * np.cos(turn) - y * np.sin(turn)),
            centre[1] + 24 * (x * np.sin(turn) + y * np.cos(turn)),
        )
        for x, y in letters[letter]
    ]
    ImageDraw.Draw(image).line(
        points, fill=(140, 30, 22) if letter == "N" else (30, 26, 22), width=10, joint="curve"
    )
