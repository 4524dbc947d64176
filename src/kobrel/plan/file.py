"""Plan files: readable JSON, saved whole or not at all."""

import contextlib
import errno
import os
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from kobrel.errors import OpticsError, PlanError
from kobrel.files import is_file, json_of, note_written, real_place, reason, versions_of, write_whole
from kobrel.optics.exposure import light_value
from kobrel.plan.iris import IrisShape, MaskPicture
from kobrel.plan.masks import as_png, masks_beside
from kobrel.plan.model import FORMAT, Plan, Proof, SceneRef, Shot
from kobrel.plan.parts import plain_reason
from kobrel.plan.pictures.plates import DepthRange, MaskFile, Plate

Upgrade = Callable[[dict[str, Any]], dict[str, Any]]


def _exposure_and_delivery(content: dict[str, Any]) -> dict[str, Any]:
    """Format 3: each shot has a delivered frame and an exposure, metered at the stop it had."""
    guides = dict(content.get("guides", {}))
    aspect = guides.pop("frame_aspect", 0.0)
    shots = []
    for shot in content.get("shots", []):
        glass = {**shot.get("glass", {}), "delivery": {"aspect": aspect}}
        stop = glass.get("f_number", {}).get("value", 2.8)
        shots.append({**shot, "glass": glass, "exposure": {"metered": float(light_value(stop, 800, 180, 0))}})
    return {**content, "guides": guides, "shots": shots}


def _surfaces_of_clay(content: dict[str, Any]) -> dict[str, Any]:
    """Format 6: the light says how surfaces are drawn, instead of whether they are clay."""
    light = dict(content.get("light", {}))
    if light.pop("clay", False) is True:
        light["surfaces"] = "clay"
    return {**content, "light": light}


UPGRADES: Mapping[int, Upgrade] = {
    1: dict,  # format 2 only added parts, all with defaults
    2: _exposure_and_delivery,
    3: dict,  # format 4 only added parts, all with defaults
    4: dict,  # so did format 5
    5: _surfaces_of_clay,
    6: dict,  # format 7 only added proofs
    7: dict,  # format 8 only added files that are kept up to date
    8: dict,  # format 9 only added plates and dials
    9: dict,  # format 10 only added plates without a file
}
"""For each older format, the step that turns its JSON into the next format's."""


def open_plan(path: Path, upgrades: Mapping[int, Upgrade] = UPGRADES) -> Plan:
    """Read a plan; its scenes' paths become absolute.

    Raises
    ------
    PlanError
        The file is missing, no plan, broken, or made by a newer Kobrel.
    """
    last = versions_of(path, 1)
    content = json_of(
        path, PlanError, remedy=f"The version before the last save is {last[0].name}." if last else ""
    )
    if not isinstance(content, dict) or type(content.get("format")) is not int:
        raise PlanError("not a Kobrel plan (no format number)", file=path)
    content = _upgraded(path, content, upgrades)
    try:
        plan = Plan.model_validate(content)
    except ValidationError as error:
        raise PlanError(plain_reason(error), file=path) from None
    folder = real_place(path).parent
    return with_paths(plan, lambda scene: os.path.normpath(folder / scene))


def _upgraded(path: Path, content: dict[str, Any], upgrades: Mapping[int, Upgrade]) -> dict[str, Any]:
    if content["format"] > FORMAT:
        raise PlanError(
            f"written by a newer Kobrel (format {content['format']}; this one reads up to {FORMAT}).",
            file=path,
            remedy="Update Kobrel to open it.",
        )
    while content["format"] < FORMAT:
        step = upgrades.get(content["format"])
        if step is None:
            raise PlanError(f"format {content['format']} is not known.", file=path)
        content = {**step(content), "format": content["format"] + 1}
    return content


def files_of(plan: Plan) -> list[str]:
    """The paths of all files that a plan names, each once: scenes, pictures for light, and masks."""
    found: list[str] = []

    def note(path: str) -> str:
        found.append(path)
        return path

    with_paths(plan, note)
    return list(dict.fromkeys(found))


VERSIONS = 5
"""How many earlier versions of a plan are kept, unless a person changes it."""


def save_plan(plan: Plan, path: Path, versions: int = VERSIONS) -> None:
    """Write a plan beside its place and then exchange it; the last versions stay as NAME~, NAME~2 and so
    on. Drawn masks are written as pictures beside it.

    Parameters
    ----------
    versions : how many earlier ones are kept

    Raises
    ------
    PlanError
        A file cannot be written; what was there is untouched.
    """
    real = real_place(path)
    stored = with_paths(plan, lambda scene: Path(os.path.relpath(scene, real.parent)).as_posix())
    text = stored.model_dump_json(indent=2) + "\n"
    try:
        write_whole(path, text.encode("utf-8"), versions)
        note_written(path)
        for place, mask in masks_beside(plan, real).items():
            with contextlib.suppress(OpticsError):  # told by the findings
                _write_mask(place, as_png(mask))
    except OSError as error:
        raise PlanError(
            f"cannot be saved ({reason(error)}).", file=path, remedy=_remedy(path, error)
        ) from None


def _write_mask(place: Path, content: bytes) -> None:
    """Write a mask's picture if it changed; whatever else has its name stays as an earlier version."""
    if place.is_symlink() or not is_file(place) or place.read_bytes() != content:
        write_whole(place, content, versions=1, follow=False)


def _remedy(path: Path, error: OSError) -> str:
    """What to do about a plan that cannot be saved."""
    folder = path.absolute().parent
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return "Make room on that disk, or save it on another."
    if not folder.is_dir():
        return f"Folder {folder} no longer exists; choose another."
    return "Cannot write there; choose another folder."


def with_paths(plan: Plan, change: Callable[[str], str]) -> Plan:
    """The plan with the paths of all files that it names changed."""
    light, surround = plan.light, plan.light.surround
    if surround is not None:
        light = light.replace(surround=surround.replace(path=change(surround.path)))
    return plan.replace(
        scenes=tuple(_with_scene_path(scene, change) for scene in plan.scenes),
        plates=tuple(_with_plate_paths(plate, change) for plate in plan.plates),
        shots=tuple(_with_mask_path(shot, change) for shot in plan.shots),
        proofs=tuple(_with_proof_path(proof, change) for proof in plan.proofs),
        handed=tuple(out.replace(path=change(out.path)) for out in plan.handed),
        light=light,
    )


def _with_scene_path(scene: SceneRef, change: Callable[[str], str]) -> SceneRef:
    finished = scene.finished
    if finished is None:
        return scene.replace(path=change(scene.path))
    apart = finished.depth_path
    placed = finished.replace(path=change(finished.path), depth_path=None if apart is None else change(apart))
    return scene.replace(path=placed.path, finished=placed)


def _with_plate_paths(plate: Plate, change: Callable[[str], str]) -> Plate:
    """The plate with its paths changed: those of its picture, and of pictures that it is cut out by."""
    cut = plate.cut
    if cut is not None:
        shapes = tuple(
            shape.replace(path=change(shape.path)) if isinstance(shape, MaskFile | DepthRange) else shape
            for shape in cut.shapes
        )
        cut = cut.replace(shapes=shapes)
    picture = plate.picture
    if picture.drawn is None:
        picture = picture.replace(path=change(picture.path))
    return plate.replace(picture=picture, cut=cut)


def _with_proof_path(proof: Proof, change: Callable[[str], str]) -> Proof:
    """The proof with its paths changed: that of its picture, and of the mask that it was made with."""
    mask, kept = proof.kept.iris.mask, proof.kept
    if isinstance(mask, MaskPicture):
        kept = kept.replace(iris=kept.iris.replace(mask=mask.replace(path=change(mask.path))))
    return proof.replace(path=change(proof.path), kept=kept)


def _with_mask_path(shot: Shot, change: Callable[[str], str]) -> Shot:
    """The shot with the paths of its masks' pictures changed, its Alts' too."""

    def changed(iris: IrisShape) -> IrisShape:
        mask = iris.mask
        return (
            iris.replace(mask=mask.replace(path=change(mask.path))) if isinstance(mask, MaskPicture) else iris
        )

    if not isinstance(shot.iris.mask, MaskPicture) and not shot.alts:
        return shot
    alts = tuple(alt.replace(iris=changed(alt.iris)) for alt in shot.alts)
    return shot.replace(iris=changed(shot.iris), alts=alts)
