"""What things are called in front of a person."""

from kobrel.plan.model import Plan
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
