"""Each plate blurred alone, with its alpha, as layers: OpenRaster, OpenEXR with a part a plate, or PNG.

A plate is traced twice with the same rays, before black and before white: what the two differ by is what
it lets through.
"""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
import OpenImageIO as oiio  # noqa: N813
from numpy.typing import NDArray

from kobrel.errors import ExchangeError
from kobrel.exchange.images import write_picture
from kobrel.exchange.plates.numbers import write_plates
from kobrel.exchange.rendered.write import target_of
from kobrel.exchange.writing.slate import Slate, put_colour, put_common
from kobrel.exchange.writing.whole import whole_file, write_bytes, write_text
from kobrel.picture.develop import as_shown
from kobrel.picture.tracer import exposed
from kobrel.picture.view import View
from kobrel.plan.look import Light
from kobrel.plan.measure.camera import Camera, camera_at
from kobrel.plan.model import Plan, Shot
from kobrel.plan.pictures.plates import Plate
from kobrel.plan.plates.placing import axial_m
from kobrel.plan.space.plates import pivot_at, plate_number, scene_of
from kobrel.stage.read.plates.layered import layered_bytes
from kobrel.stage.scene import Progress, no_progress
from kobrel.stage.stage import Stage

Ending = Literal[".ora", ".exr", ".png"]
ENDINGS: tuple[Ending, ...] = (".ora", ".exr", ".png")
BEHIND = "Behind"
"""Layer of everything but plates."""
_BLACK, _WHITE = (0.0, 0.0, 0.0), (1.0, 1.0, 1.0)


@dataclass(frozen=True, eq=False)
class Layer:
    """A plate blurred alone: (H, W, 3) linear light multiplied by alpha, and (H, W) alpha."""

    name: str
    colour: NDArray[np.float32]
    alpha: NDArray[np.float32]


def layers_at(
    plan: Plan,
    shot: Shot,
    stage: Stage,
    frame: int,
    size: tuple[int, int] | None = None,
    passes: int = 64,
    progress: Progress = no_progress,
) -> list[Layer]:
    """All layers of a frame, the farthest first: what is behind, then each plate.

    Parameters
    ----------
    size : width and height; None is the delivery size
    passes : rays a pixel

    Raises
    ------
    PlanError
        The shot's camera is in no scene of the stage.
    Cancelled
        `progress` said so.
    """
    camera = camera_at(plan, shot, frame, stage)
    wanted = size or (camera.width_px, camera.height_px)

    def away(plate: Plate) -> float:
        return float(f"{axial_m(camera, pivot_at(plate, plan.dials, [frame])[0]):.6g}")

    # Of those at one distance the later in the list is in front.
    shown = [plate for plate in plan.plates if plate.shown]
    order = sorted(shown, key=lambda plate: (plate.lies, away(plate)), reverse=True)
    rest = stage.only([name for name in stage.scenes if plate_number(name) is None])
    total = len(order) + 1
    progress("Behind the plates", 0.0)
    behind = exposed(_view(rest, camera, frame, plan.light, wanted), passes)
    found = [Layer(BEHIND, behind, np.ones(behind.shape[:2], np.float32))]
    dark, bright = (
        Light(key_strength=0.0, zenith=tone, horizon=tone, ground=tone, sky_strength=1.0)
        for tone in (_BLACK, _WHITE)
    )
    for number, plate in enumerate(order, 1):

        def tell(done: int, name: str = plate.name, before: int = number, half: float = 0.0) -> None:
            progress(f"Plate {name}", (before + half + 0.5 * done / passes) / total)

        alone = stage.only([scene_of(plate.number)], surrounded=False)
        colour = exposed(_view(alone, camera, frame, dark, wanted), passes, before=tell)
        white = exposed(_view(alone, camera, frame, bright, wanted), passes, before=tell)
        through = np.clip((white - colour).mean(axis=2), 0.0, 1.0)
        found.append(Layer(plate.name, colour, (1.0 - through).astype(np.float32)))
    return found


def _view(stage: Stage, camera: Camera, frame: int, light: Light, size: tuple[int, int]) -> View:
    return View(stage.snapshot(frame, keep=False, eye=camera.eye), camera, light, *size)


def put_together(layers: Sequence[Layer]) -> NDArray[np.float32]:
    """The layers over each other, in linear light: (H, W, 3)."""
    result = layers[0].colour
    for layer in layers[1:]:
        result = layer.colour + result * (1.0 - layer.alpha[..., None])
    return np.asarray(result, np.float32)


def write_layers(
    plan: Plan,
    shot: Shot,
    stage: Stage,
    frames: Sequence[int],
    path: Path,
    progress: Progress = no_progress,
    size: tuple[int, int] | None = None,
    passes: int = 64,
) -> list[Path]:
    """Write the layers of frames: ``NAME.ora`` becomes ``NAME.1001.ora`` and so on where there are several,
    a PNG for each plate ``NAME.PLATE.1001.png``; with ``NAME.txt`` that says how to put them together, and
    ``NAME.json`` with their numbers.

    Returns
    -------
    The files written.

    Raises
    ------
    KobrelError
        There are no plates, the name ends otherwise, or a file cannot be written.
    Cancelled
        `progress` said so; frames that were finished stay.
    """
    require_layers(plan, path)
    stage.prepare(progress)
    written: list[Path] = []
    for number, frame in enumerate(frames):

        def tell(what: str, part: float, done: int = number, at: int = frame) -> None:
            progress(f"Frame {at}: {what}", (done + part) / len(frames))

        several = len(frames) > 1
        written += write_layers_at(plan, shot, stage, frame, path, several, size, passes, tell)
    return [*written, *write_layer_notes(plan, shot, stage, path, (min(frames), max(frames)))]


def require_layers(plan: Plan, path: Path) -> None:
    """See that a plan has layers that can be written under a name.

    Raises
    ------
    ExchangeError
        There are no plates, or the name ends otherwise.
    """
    if path.suffix.lower() not in ENDINGS:
        raise ExchangeError(f"layers are written as {', '.join(ENDINGS)}.", file=path)
    if not any(plate.shown for plate in plan.plates):
        raise ExchangeError(
            "the plan has no plates that are shown.", file=path, remedy="Add plates in Block."
        )


def write_layers_at(
    plan: Plan,
    shot: Shot,
    stage: Stage,
    frame: int,
    path: Path,
    several: bool,
    size: tuple[int, int] | None = None,
    passes: int = 64,
    progress: Progress = no_progress,
) -> list[Path]:
    """Write the layers of one frame, one of several or the only one; see :func:`write_layers`."""
    layers = layers_at(plan, shot, stage, frame, size, passes, progress)
    target, camera = target_of(path, frame if several else None), camera_at(plan, shot, frame, stage)
    ending = path.suffix.lower()
    if ending == ".png":
        return _write_pngs(path, layers, frame, plan.light, camera)
    if ending == ".ora":
        _write_ora(target, layers, plan.light, camera)
    else:
        _write_parts(target, layers, Slate(camera, frame, shot.fps))
    return [target]


def write_layer_notes(
    plan: Plan, shot: Shot, stage: Stage, path: Path, frames: tuple[int, int]
) -> list[Path]:
    """Write how the layers of frames, the first and the last, are put together, and their numbers."""
    note, numbers = path.with_suffix(".txt"), path.with_suffix(".json")
    write_text(note, _note(plan, shot, path.suffix.lower()))
    write_plates(plan, shot, stage, numbers, frames)
    return [note, numbers]


def as_bytes(layer: Layer, light: Light, camera: Camera) -> NDArray[np.uint8]:
    """A layer as it is shown, (H, W, 4) sRGB with straight alpha."""
    alpha = layer.alpha[..., None]
    straight = np.where(alpha > 1e-4, layer.colour / np.maximum(alpha, 1e-4), 0.0).astype(np.float32)
    colour = as_shown(straight, light, camera)
    return np.concatenate([colour, np.round(alpha * 255.0).astype(np.uint8)], axis=2)


def _write_ora(path: Path, layers: list[Layer], light: Light, camera: Camera) -> None:
    whole = as_shown(put_together(layers), light, camera)
    merged = np.concatenate([whole, np.full((*whole.shape[:2], 1), 255, np.uint8)], axis=2)
    content = layered_bytes([(layer.name, as_bytes(layer, light, camera)) for layer in layers], merged)
    write_bytes(path, content)


def _write_pngs(path: Path, layers: list[Layer], frame: int, light: Light, camera: Camera) -> list[Path]:
    written = []
    for number, layer in enumerate(layers):
        pixels = as_bytes(layer, light, camera)
        spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], 4, oiio.UINT8)
        spec["oiio:UnassociatedAlpha"] = 1
        target = path.with_name(f"{path.stem}.{number:02d}_{_plain(layer.name)}.{frame:04d}.png")
        write_picture(target, spec, pixels)
        written.append(target)
    return written


def _write_parts(path: Path, layers: list[Layer], slate: Slate) -> None:
    """An EXR with a part for each layer, colours multiplied by alpha."""
    names: list[str] = []
    specs = []
    for layer in layers:
        spec = oiio.ImageSpec(layer.colour.shape[1], layer.colour.shape[0], 4, oiio.FLOAT)
        spec.channelnames = ("R", "G", "B", "A")
        spec["compression"] = "zip"
        put_common(spec)
        put_colour(spec)
        slate.put(spec)
        name = _plain(layer.name)
        names.append(name if name not in names else f"{name}_{len(names)}")
        spec["name"] = names[-1]
        specs.append(spec)
    with whole_file(path) as beside:
        output = oiio.ImageOutput.create(str(beside))
        if output is None:
            raise ExchangeError(f"cannot be written ({oiio.geterror()}).", file=path)
        good = output.open(str(beside), tuple(specs))
        for number, (spec, layer) in enumerate(zip(specs, layers, strict=True)):
            if good and number:
                good = output.open(str(beside), spec, "AppendSubimage")
            pixels = np.concatenate([layer.colour, layer.alpha[..., None]], axis=2)
            good = good and output.write_image(np.ascontiguousarray(pixels, np.float32))
        if not (good and output.close()):
            raise ExchangeError(f"cannot be written ({output.geterror()}).", file=path)


def _plain(name: str) -> str:
    return re.sub(r"[^0-9A-Za-z]+", "_", name).strip("_") or "plate"


def _note(plan: Plan, shot: Shot, ending: str) -> str:
    kept = {
        ".exr": "Each part is a layer, in linear light, its colours multiplied by alpha.",
        ".ora": "Each layer is as it is shown, sRGB with straight alpha; so is the merged picture.",
        ".png": "Each file is a layer at a frame, as it is shown, sRGB with straight alpha.",
    }[ending]
    over = (
        "Put the nearer over the farther: result = layer + result x (1 - alpha)."
        if ending == ".exr"
        else "Bring them to linear light, multiply by alpha, and put the nearer over the farther."
    )
    return (
        f"{plan.name}, shot {shot.label}: plates blurred alone.\n\n{kept}\n"
        f"The order is the file's, or the number in the name, the farthest first; {BEHIND} is all that is no "
        f"plate.\n{over}\nSo they make the exact picture wherever no ray of light passes two soft edges or "
        "between a plate and a thing of the scene that hides it.\nThe numbers of each plate at each frame "
        "are in the .json file beside this note.\n"
    )
