"""A proof's file: OpenEXR in linear light with depth and blur, and with its settings in the header."""

import os
import shutil
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import OpenImageIO as oiio  # noqa: N813
from numpy.typing import NDArray
from PIL import Image
from pydantic import ValidationError

from kobrel import trust
from kobrel.errors import ExchangeError, SceneError
from kobrel.exchange.images import EXR_CHANNELS, write_picture
from kobrel.exchange.writing.slate import Slate, put_colour
from kobrel.exchange.writing.whole import whole_file
from kobrel.files import plain_name
from kobrel.picture.develop import developed
from kobrel.picture.tracer import blur_picture, exposed, sharp_picture
from kobrel.picture.view import View
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import Plan, Proof
from kobrel.plan.parts import plain_reason
from kobrel.plan.variants.bracket import Rung
from kobrel.plan.variants.proofs import proof_of
from kobrel.stage.pictures.pixels import open_image, open_source, read_pixels
from kobrel.stage.scene import Progress
from kobrel.stage.stage import Stage

HEADER = "kobrel:proof"
SMALL, SMALL_PX = ".small", 480
"""Folder of the small copies beside proofs, and how wide they are."""
_MOST_HEADER, _MOST_HALF = 4 << 20, 65504.0


@dataclass(frozen=True, eq=False)
class Kept:
    """The pixels of a proof.

    Parameters
    ----------
    colour : (H, W, 3) linear light
    depth_m : (H, W) along the axis
    blur_px : (H, W) diameter of the blur, pixels of this picture
    slate : the camera it was drawn by
    """

    colour: NDArray[np.float32]
    depth_m: NDArray[np.float32]
    blur_px: NDArray[np.float32]
    slate: Slate | None = None

    def shown(self, proof: Proof) -> NDArray[np.uint8]:
        """The picture as its proof has it shown, sRGB bytes (H, W, 3)."""
        return developed(self.colour, proof.shown_ev, proof.shoulder)


def unused_path(folder: Path, name: str) -> Path:
    """Where a proof of a name can be written in a folder, without writing over another."""
    stem = plain_name(name, "proof").replace(" ", "_")
    path, number = folder / f"{stem}.exr", 2
    while path.exists():
        path, number = folder / f"{stem}_{number}.exr", number + 1
    return path


def write_proof(folder: Path, proof: Proof, kept: Kept) -> Proof:
    """Write a proof into a folder, which is made where it is missing, and a small copy of it.

    Returns
    -------
    The proof with its path.

    Raises
    ------
    ExchangeError
        It cannot be written.
    """
    try:
        (folder / SMALL).mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise ExchangeError(
            f"the folder cannot be made ({error.strerror}).", file=folder, remedy="Choose another folder."
        ) from None
    path = unused_path(folder, proof.name)
    placed = proof.replace(path=str(path))
    colour = np.minimum(kept.colour, _MOST_HALF)
    pixels = np.concatenate([colour, kept.depth_m[..., None], kept.blur_px[..., None]], axis=-1)
    spec = oiio.ImageSpec(kept.colour.shape[1], kept.colour.shape[0], len(EXR_CHANNELS), oiio.HALF)
    spec.channelnames = EXR_CHANNELS
    spec.channelformats = (oiio.HALF, oiio.HALF, oiio.HALF, oiio.FLOAT, oiio.HALF)
    spec["compression"] = "zip"
    put_colour(spec)
    if kept.slate is not None:
        kept.slate.put(spec)
    spec[HEADER] = placed.replace(path=path.name).model_dump_json()
    write_picture(path, spec, np.ascontiguousarray(pixels, np.float32))
    _write_small(path, kept.shown(placed))
    return placed


def small_path(path: Path) -> Path:
    """Where the small copy of a proof lies."""
    return path.parent / SMALL / f"{path.stem}.jpg"


def _write_small(path: Path, pixels: NDArray[np.uint8]) -> None:
    image = Image.fromarray(pixels)
    image.thumbnail((SMALL_PX, SMALL_PX), Image.Resampling.LANCZOS)
    with whole_file(small_path(path), follow=False) as beside:
        image.save(beside, quality=90)


def allowed_path(proof: Proof) -> Path:
    """Where the file of a plan's proof is.

    Raises
    ------
    ExchangeError
        It lies where nothing may be read.
    """
    if not trust.is_allowed(proof.path):
        raise ExchangeError(trust.refusal(proof.path), file=proof.path)
    return Path(proof.path)


def small_pixels(proof: Proof) -> NDArray[np.uint8]:
    """The small copy of a proof, sRGB bytes (h, w, 3); made anew where it is missing or older.

    Raises
    ------
    KobrelError
        The proof itself cannot be read.
    """
    path = allowed_path(proof)
    small = small_path(path)
    try:
        if small.stat().st_mtime >= path.stat().st_mtime:
            return np.asarray(open_image(small).convert("RGB"))
    except (OSError, SceneError):
        pass  # made anew below, or the proof says what is wrong
    kept = read_proof(path)[1]
    small.parent.mkdir(exist_ok=True)
    _write_small(path, kept.shown(proof))
    return np.asarray(open_image(small).convert("RGB"))


def read_proof(path: Path) -> tuple[Proof | None, Kept]:
    """Read a proof's file: its settings, if the header has them, and its pixels.

    Raises
    ------
    KobrelError
        It is missing, no picture, or has other channels.
    """
    pixels, names = read_pixels(path)
    missing = [name for name in EXR_CHANNELS if name not in names]
    if missing:
        raise ExchangeError(
            f"not a proof, it has no channel {missing[0]}.", file=path, remedy="Add it again."
        )
    at = [names.index(name) for name in EXR_CHANNELS]
    colour, depth, blur = pixels[..., at[:3]], pixels[..., at[3]], pixels[..., at[4]]
    return _settings(path), Kept(np.ascontiguousarray(colour), depth.copy(), blur.copy())


def _settings(path: Path) -> Proof | None:
    """The settings in a proof's header.

    Raises
    ------
    ExchangeError
        They are there, but broken.
    """
    source = open_source(path)
    try:
        text = source.spec().getattribute(HEADER)
    except UnicodeDecodeError:
        text = None
    source.close()
    if not isinstance(text, str) or len(text) > _MOST_HEADER:
        return None
    try:
        return Proof.model_validate_json(text).replace(path=str(path))
    except ValidationError as error:
        why = f"the settings in its header are broken ({plain_reason(error)})"
        raise ExchangeError(why, file=path) from None


def drawn_rung(
    plan: Plan, rung: Rung, stage: Stage, width: int, passes: int, progress: Progress
) -> tuple[Proof, Kept]:
    """Draw a rung of a ladder.

    Parameters
    ----------
    width : of the picture, pixels

    Raises
    ------
    KobrelError
        The camera is missing.
    Cancelled
        `progress` said so.
    """
    stage = stage.of_shot(rung.shot.name)
    camera = camera_at(plan, rung.shot, rung.frame, stage)
    height = max(1, round(width / camera.aspect))
    stage.prepare(progress)
    view = View(stage.snapshot(rung.frame, keep=False, eye=camera.eye), camera, plan.light, width, height)
    what = f"Drawing {rung.name}"
    linear = exposed(view, passes, before=lambda done: progress(what, done / passes))
    depth = sharp_picture(view).depth
    proof = proof_of(
        rung.shot, camera, rung.frame, (width, height), passes, name=rung.name,
        shown_ev=plan.light.exposure_ev + float(camera.shown_ev), shoulder=plan.light.shoulder,
    )  # fmt: skip
    slate = Slate(camera, rung.frame, rung.shot.fps)
    return proof, Kept(linear, depth, blur_picture(view, depth), slate)


def brought(plan: Plan, folder: Path) -> Plan:
    """The plan with all its proofs in a folder: those that lie elsewhere are copied, with their small copies.

    A proof whose file is gone, or lies where nothing may be read, stays as it is.

    Raises
    ------
    ExchangeError
        One cannot be copied.
    """
    if all(Path(proof.path).parent == folder for proof in plan.proofs):
        return plan
    return plan.replace(proofs=tuple(_brought(proof, folder) for proof in plan.proofs))


def _brought(proof: Proof, folder: Path) -> Proof:
    source = Path(proof.path)
    if source.parent == folder or not source.is_file() or not trust.is_allowed(source):
        return proof
    try:
        (folder / SMALL).mkdir(parents=True, exist_ok=True)
        target = unused_path(folder, proof.name)
        _copy(source, target)
        if small_path(source).is_file():
            _copy(small_path(source), small_path(target))
    except OSError as error:
        raise ExchangeError(
            f"the proof cannot be copied beside the plan ({error.strerror}).", file=source,
            remedy="Make room, or save elsewhere.",
        ) from None  # fmt: skip
    return proof.replace(path=str(target))


def _copy(source: Path, target: Path) -> None:
    """A second name of a file, or where that cannot be a copy."""
    try:
        os.link(source, target)
    except OSError:
        with whole_file(target) as beside:
            shutil.copyfile(source, beside)
