"""What things are called in front of a person."""

from pathlib import Path, PurePath

from kobrel.errors import PlanError
from kobrel.plan.model import STAND_IN_PREFIX, Plan, Shot
from kobrel.plan.pictures.plates import PLATE_PREFIX
from kobrel.plan.space.plates import plate_number
from kobrel.plan.space.stand_ins import number_of
from kobrel.stage.stage import Place


def is_of_a_file(scene: str) -> bool:
    """Whether a scene on the stage comes from a file, and is neither a stand-in nor a plate."""
    return number_of(scene) is None and plate_number(scene) is None


def shot_named(plan: Plan, name: str | None, file: Path | str = "") -> Shot:
    """A shot by its name, title or both; the first if none is named.

    Parameters
    ----------
    file : that the plan was read from, for whoever has to put it right

    Raises
    ------
    PlanError
        There is none of that name.
    """
    if not plan.shots:
        raise PlanError("the plan has no shots.", file=file)
    found = next((shot for shot in plan.shots if name in (None, shot.name, shot.title, shot.label)), None)
    if found is None:
        known = ", ".join(shot.label for shot in plan.shots)
        raise PlanError(f"no shot “{name}”.", file=file, remedy=f"Its shots: {known}.")
    return found


def thing_name(plan: Plan, place: Place) -> str:
    """A stand-in's or plate's name, or the part's own with what it belongs to."""
    plate = plan.plate(plate_number(place.scene))
    if plate is not None:
        return plate.name
    number = number_of(place.scene)
    stand_in = plan.stand_in(number) if number is not None else None
    if stand_in is not None:
        copy = place.path.strip("/")
        return (
            f"{stand_in.name} {copy}"
            if copy.isdigit() and (stand_in.row or stand_in.lights)
            else stand_in.name
        )
    parts = [part for part in place.path.split("/") if part]
    return " ".join(parts[-2:]) if len(parts) > 2 else parts[-1] if parts else place.scene


def scene_name(path: str | PurePath, taken: set[str]) -> str:
    """A short unused name for a scene file."""
    stem = PurePath(path).stem or "scene"
    if stem.startswith((STAND_IN_PREFIX, PLATE_PREFIX)):
        stem = f"scene of {stem}"
    name, count = stem, 2
    while name in taken:
        name, count = f"{stem}_{count}", count + 1
    return name
