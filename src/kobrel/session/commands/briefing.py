"""Commands for the brief."""

from collections.abc import Callable

import numpy as np

from kobrel.optics.reach import StopRange
from kobrel.plan import edit
from kobrel.plan.instrument import Requirement, RequirementKind
from kobrel.plan.keys import Keyed
from kobrel.plan.measure.survey import spans
from kobrel.plan.model import Shot
from kobrel.plan.solve import brief as briefs
from kobrel.plan.solve.brief import Clash, Solution
from kobrel.plan.solve.candidates import Candidate, Where, candidates
from kobrel.session.needs import needs_now, needs_shot
from kobrel.session.numbers import Now
from kobrel.session.session import Session
from kobrel.stage.scene import Progress

Span = tuple[float, float]
KINDS: dict[RequirementKind, str] = {"sharp": "sharp", "at_least": "at least", "at_most": "at most"}


def paint(
    session: Session, subject: int, kind: RequirementKind | None, px: float, first: float, last: float
) -> None:
    """Ask something of a subject over some frames, or nothing any more."""
    requirement = Requirement(
        subject=subject, kind=kind or "sharp", px=px, first=min(first, last), last=max(first, last)
    )
    if kind is None:
        session.edit_shot(
            f"Clear requirement: {briefs.wished_name(session.plan, subject)}",
            lambda s: edit.cleared(s, requirement),
        )
    else:
        what = briefs.requirement_text(session.plan, requirement)
        session.edit_shot(f"Require {what}", lambda s: edit.painted(s, requirement))


def add(session: Session, requirement: Requirement) -> None:
    """Put a requirement into the brief."""
    session.edit_shot(
        f"Ask for {briefs.requirement_text(session.plan, requirement)}",
        lambda s: edit.painted(s, requirement),
    )


@needs_shot
def change(session: Session, shot: Shot, index: int, **changes: object) -> None:
    """Change one requirement of the brief."""
    if not 0 <= index < len(shot.brief):
        return
    try:
        fresh = shot.brief[index].replace(**changes)
    except ValueError:
        session.say("Last frame must not precede first frame.")
        return
    requirements = (*shot.brief[:index], fresh, *shot.brief[index + 1 :])
    session.edit_shot("Change the brief", lambda s: s.replace(brief=requirements))


@needs_shot
def remove(session: Session, shot: Shot, index: int) -> None:
    """Take one requirement out of the brief."""
    if 0 <= index < len(shot.brief):
        requirements = (*shot.brief[:index], *shot.brief[index + 1 :])
        session.edit_shot("Delete requirement", lambda s: s.replace(brief=requirements))


def stop_range(session: Session) -> StopRange | None:
    """The focus, in dioptres, and the stops that grant the brief at this frame."""
    judged = session.judged
    return judged.stop_range(session.row) if judged and judged.asks(session.row) else None


@needs_now
def answer_over(session: Session, now: Now, span: Span) -> Solution | None:
    """What grants the brief over some frames in a row."""
    judged, shot = session.judged, now.shot
    if judged is None:
        return None
    if span[0] <= shot.first and span[1] >= shot.last:
        return judged.answer
    frames = judged.brief.frames
    rows = np.flatnonzero((frames >= span[0]) & (frames <= span[1]))
    return briefs.answer(judged.brief.at(rows)) if len(rows) else None


def clash(found: Solution) -> Clash | None:
    """Why the brief cannot be met, at the first frame that does not let it."""
    failing = np.flatnonzero(~found.possible)
    return briefs.clash(found.brief, int(failing[0])) if len(failing) else None


@needs_now
def take_here(session: Session, now: Now) -> None:
    """Set focus and stop at this frame as the brief wants them."""
    found = stop_range(session)
    if found is None:
        session.say("No focus and stop meet the brief at this frame.")
        return
    session.edit_shot("Apply the brief's solution", lambda s: briefs.taken_at(s, now.survey, now.row, found))


@needs_now
def take_over(session: Session, now: Now, span: Span) -> None:
    """Set one stop and the slowest focus move that meet the brief over some frames."""
    found, shot, camera = answer_over(session, span), now.shot, now.camera
    if found is None:
        return
    stops = found.stops
    if not stops:
        session.say("No single stop works for the whole shot. Try Also key the stop.")
        return
    stop = briefs.nearest_stop(stops, float(camera.f_number))
    every = np.full(len(found.brief.frames), stop)
    taken = briefs.taken_over(shot, found.brief, Keyed(value=stop), every)
    session.edit_shot("Apply the brief's pull", lambda _s: taken)
    session.say(f"f/{stop:.3g}, and the slowest pull that meets the brief: {len(taken.marks)} marks.")


@needs_now
def take_keyed(session: Session, now: Now, span: Span) -> None:
    """Key the stop too, so that each frame that can be met is."""
    found = answer_over(session, span)
    if found is None:
        return
    taken = briefs.with_keyed_stop(now.shot, found)
    session.edit_shot("Apply the brief's pull and stops", lambda _s: taken)
    count = len(taken.glass.f_number.keys)
    session.say(f"{count or 'No'} keys of the stop, {len(taken.marks)} marks of the focus.")


@needs_now
def search(session: Session, now: Now, span: Span | None) -> Callable[[Progress], list[Candidate]]:
    """Work that finds what would make the brief possible, over some frames or at this one."""
    shot, here = now.shot, None if span else float(now.frame)
    where = Where(now.plan, now.stage, here, span)

    def work(progress: Progress) -> list[Candidate]:
        found: list[Candidate] = []
        progress("Looking for what would do it", 0.0)
        for candidate in candidates(where, shot):
            found.append(candidate)
            progress("Looking for what would do it", min(0.9, len(found) / 8))
        return found

    return work


def fails_text(session: Session) -> str:
    """Where the brief is not met, in words."""
    judged = session.judged
    if judged is None:
        return ""
    where = spans(judged.brief.frames, judged.unmet, "any frame", "")
    return f"Not met {'in' if judged.unmet.all() else 'at'} {where}." if where else "Met in all frames."
