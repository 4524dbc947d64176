"""A scene at first sight: its unit and axes, which cameras become shots, and mending what cannot be meant."""

from typing import Any

from kobrel.plan import edit
from kobrel.plan.measure import arrival
from kobrel.plan.measure.arrival import Diagnostic
from kobrel.plan.model import FileCamera, Plan
from kobrel.plan.space.overview import followed
from kobrel.plan.staging import Library, placement
from kobrel.plan.start import with_shot_of
from kobrel.session.commands.visibility import reference_of
from kobrel.session.session import Session
from kobrel.stage.stage import Setting, Stage


def change_scene(session: Session, name: str, label: str, **changes: Any) -> None:
    """Change how a scene is read or where it stands; what was made for it follows."""
    plan = edit.with_scene(session.plan, name, **changes)
    before = _alone(session.plan, session.library, name)
    after = _alone(plan, session.library, name)
    if before is not None and after is not None:
        plan = followed(plan, before, after, name)
    session.edit(label, plan)


def _alone(plan: Plan, library: Library, name: str) -> Stage | None:
    """A stage with one scene of a plan; None where it was not read."""
    reference = reference_of(plan, name)
    scene = library.scene(reference) if reference is not None else None
    if reference is None or scene is None:
        return None
    return Stage([Setting(name, scene, placement(reference))])


def choose(session: Session, name: str, key: str, option: str) -> None:
    """Read another variant, purpose or scene of a file."""
    reference = reference_of(session.plan, name)
    if reference is not None:
        choices = {**dict(reference.choices), key: option}
        session.edit(f"Show {option}", edit.with_scene(session.plan, name, choices=tuple(choices.items())))


def take_cameras(session: Session, name: str, paths: list[str]) -> None:
    """Let just these cameras of a scene be shots; shots of other cameras stay."""
    scene = session.stage.scenes.get(name)
    if scene is None or not paths:
        return
    own = {
        shot.camera.path: shot
        for shot in session.plan.shots
        if isinstance(shot.camera, FileCamera) and shot.camera.scene == name
    }
    others = [shot for shot in session.plan.shots if shot not in own.values()]
    plan = session.plan.replace(shots=(*others, *(own[path] for path in paths if path in own)))
    told: list[str] = []
    for path in paths:
        source = scene.camera(path)
        if path not in own and source is not None:
            taken = [shot.name for shot in plan.shots]
            shot_name = next(n for k in range(1, len(taken) + 2) if (n := f"{k:02d}") not in taken)
            plan = with_shot_of(plan, session.stage, name, source, shot_name, told)
    session.edit("Choose cameras", plan)
    if told:
        session.say(" ".join(told))


def mend(session: Session, doubt: Diagnostic) -> None:
    """Do what a doubt offers."""
    shot = session.shot
    if doubt.mend == "unit":
        change_scene(session, doubt.scene, doubt.offer, unit_m=doubt.unit_m)
    elif shot is not None:
        plan = arrival.mended(session.plan, session.stage, shot, doubt)
        if plan is session.plan:
            session.say("Nothing in frame to focus on.")
        else:
            session.edit(doubt.offer, plan)
