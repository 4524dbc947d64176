"""Plates that fade in or out over some frames, by keys of their opacity."""

from kobrel.plan import edit
from kobrel.plan.pictures.plates import Plate
from kobrel.plan.pull.dials import drive_of
from kobrel.plan.pull.fading import Way, faded
from kobrel.session.commands.plates.placing import all_chosen
from kobrel.session.session import Session


def fade(session: Session, way: Way, frames: float) -> None:
    """Let the chosen plates fade in or out over so many frames, from this frame on."""
    length = max(1, round(frames))
    plates = [plate for plate in all_chosen(session) if not _is_driven(session, plate)]
    if not plates:
        return
    plan = session.plan
    for plate in plates:
        made = faded(plate.opacity, way, session.frame, session.frame + length)
        plan = edit.with_plate(plan, plate.replace(opacity=made))
    who = plates[0].name if len(plates) == 1 else f"{len(plates)} plates"
    session.edit(f"Fade {who} {way}", plan)
    session.say(f"Fade {way} of {who}, frames {session.frame:g} to {session.frame + length:g}.")


def _is_driven(session: Session, plate: Plate) -> bool:
    found = drive_of(session.plan.dials, plate.number, "opacity")
    if found is not None:
        session.say(f"The dial {found[0].name} drives the opacity of {plate.name}.")
    return found is not None
