"""Commands for the list of shots."""

from collections.abc import Callable, Collection

from kobrel.errors import KobrelError
from kobrel.plan.model import Plan, Shot
from kobrel.plan.sequence import cuts, shots
from kobrel.session.needs import needs_shot
from kobrel.session.session import Session


def _try(session: Session, name: str, change: Callable[[Plan], Plan]) -> bool:
    """Change the list, or say why not."""
    try:
        session.edit(name, change(session.plan))
    except KobrelError as error:
        session.say(str(error))
        return False
    return True


@needs_shot
def duplicate(session: Session, shot: Shot) -> None:
    """Put a copy of the shot behind it, and turn to it."""
    index = session.shot_index
    if _try(session, f"Duplicate {shot.name}", lambda p: shots.duplicated(p, index)):
        session.show_shot(index + 1)


@needs_shot
def remove(session: Session, shot: Shot) -> None:
    """Delete the shot."""
    index = session.shot_index
    if _try(session, f"Delete shot {shot.name}", lambda p: shots.removed(p, index)):
        session.say(f"Shot {shot.label} is deleted. Undo brings it back.")


@needs_shot
def move(session: Session, shot: Shot, to: int) -> None:
    """Put the shot at another place of the list."""
    index = session.shot_index
    _try(session, f"Move shot {shot.name}", lambda p: shots.moved(p, index, to))


@needs_shot
def rename(session: Session, shot: Shot, name: str) -> bool:
    """Give the shot another name; False where it cannot be."""
    index = session.shot_index
    if shot.name == name.strip():
        return True
    named = _try(session, f"Rename shot to {name.strip()}", lambda p: shots.renamed(p, index, name))
    if named:
        session.show_shot(index)
    return named


def add_from_cameras(session: Session) -> None:
    """A shot for each camera of the scenes that has none yet."""
    plan, count = shots.from_cameras(session.plan, session.stage)
    session.edit("Shots from cameras", plan)
    session.say(
        f"{count} shots from cameras of the scenes." if count else "All scene cameras already have shots."
    )


@needs_shot
def give_lens(session: Session, shot: Shot, others: Collection[int]) -> None:
    """Give this shot's lens, iris and exposure to others."""
    index = session.shot_index
    if not others:
        session.say("Tick the shots to copy the lens to.")
        return
    _try(
        session, f"Lens of {shot.name} to {len(others)} shots", lambda p: shots.with_lens_of(p, index, others)
    )
    session.say(f"Lens copied to {len(others)} shots.")


@needs_shot
def match(session: Session, shot: Shot, by: int) -> None:
    """Stop the shot so that the far background is as soft as in the neighbour, at the cut between them."""
    index, to = session.shot_index, session.shot_index + by
    if not 0 <= to < len(session.plan.shots):
        session.say("No previous/next shot.")
        return
    other = session.plan.shots[to]
    if _try(
        session, f"Match {shot.name} to {other.name}", lambda p: cuts.matched(p, index, to, session.stage)
    ):
        camera = session.camera
        stop = f"f/{float(camera.f_number):.3g}" if camera is not None else ""
        session.say(f"{shot.label} matches {other.label} at the cut: {stop}.")
