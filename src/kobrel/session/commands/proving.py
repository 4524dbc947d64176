"""Commands for proofs: their settings taken back, named, rated, and taken off the wall."""

from typing import Any

from kobrel.errors import KobrelError
from kobrel.plan.model import Proof
from kobrel.plan.variants import proofs
from kobrel.plan.variants.proofs import TAKES, Take
from kobrel.session.selection import Selection
from kobrel.session.session import Session
from kobrel.session.view import View


def take(session: Session, proof: Proof, what: Take) -> None:
    """Give the shot that a proof is of the settings of the proof, or some of them, and go there."""
    names = [shot.name for shot in session.plan.shots]
    if proof.shot not in names:
        session.say(f"{proof.name}: shot {proof.shot} no longer exists.")
        return
    session.show_shot(names.index(proof.shot))
    session.show_frame(proof.frame)
    plan = proofs.taken(session.plan, session.shot_index, proof, what)
    session.edit(f"Restore {TAKES[what].lower()} of {proof.name}", plan)
    session.say(f"{TAKES[what]} restored from {proof.name}.")


def take_as_alt(session: Session, proof: Proof) -> None:
    """Keep the settings of a proof as an Alt of its shot."""
    names = [shot.name for shot in session.plan.shots]
    if proof.shot not in names:
        session.say(f"{proof.name}: shot {proof.shot} no longer exists.")
        return
    session.edit(f"Alt from {proof.name}", proofs.as_alt(session.plan, names.index(proof.shot), proof))
    session.say(f"Shot {proof.shot} has {proof.name} as an alt.")


def change(session: Session, name: str, /, **changes: Any) -> None:
    """Rename or rate a proof of the plan."""
    try:
        plan = proofs.changed(session.plan, name, **changes)
    except KobrelError as error:
        session.say(str(error))
        return
    chosen = tuple(changes.get("name", name) if each == name else each for each in session.selection.proofs)
    session.edit(f"Rename {name}" if "name" in changes else f"Rate {name}", plan, Selection.proofs.to(chosen))


def remove(session: Session) -> None:
    """Take the chosen proofs off the wall; their files stay."""
    there = {proof.name for proof in session.plan.proofs}
    names = [name for name in session.selection.proofs if name in there]
    if session.view.wall != "wall" or not names:
        session.say("Select proofs first.")
        return
    what = names[0] if len(names) == 1 else f"{len(names)} proofs"
    left = proofs.removed(session.plan, names)
    session.edit(f"Delete {what}", left, Selection.proofs.to(()), View.wall_mode.to("all"))
    session.say(f"{what} removed from the wall. The file is kept.")
