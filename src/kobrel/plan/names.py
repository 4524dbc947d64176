"""What things are called in front of a person."""

from pathlib import PurePath

from kobrel.plan.model import STAND_IN_PREFIX, Plan
from kobrel.plan.space.stand_ins import number_of
from kobrel.stage.stage import Place


def thing_name(plan: Plan, place: Place) -> str:
    """A stand-in's name, or the part's own with what it belongs to."""
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
    if stem.startswith(STAND_IN_PREFIX):
        stem = f"scene of {stem}"
    name, count = stem, 2
    while name in taken:
        name, count = f"{stem}_{count}", count + 1
    return name
