"""Commands for marks and pulls."""

from functools import reduce

from kobrel.errors import KobrelError
from kobrel.plan.keys import Key, PlaceKey
from kobrel.plan.model import Mark, PointTarget, Shot, Target
from kobrel.plan.parts import Vector
from kobrel.plan.pull import marks as pulls
from kobrel.plan.space.moves import vector
from kobrel.session.needs import needs, needs_now, needs_shot
from kobrel.session.numbers import Now
from kobrel.session.selection import Selection
from kobrel.session.session import Session

_FARTHEST_M = 1000.0

EASES = {
    "smooth": "Smooth", "even": "Linear", "fast": "Fast start", "late": "Late start",
    "own": "Custom",
}  # fmt: skip


@needs_shot
def mark_in_work(session: Session, shot: Shot) -> Mark:
    """The chosen mark, or the one that holds at this frame."""
    chosen = next((m for m in shot.marks if m.frame == session.selection.mark), None)
    before = [m for m in shot.marks if m.frame <= session.frame]
    return chosen or (before[-1] if before else shot.marks[0])


needs_mark = needs(mark_in_work)
"""A command on the mark in work, which is its second argument."""


def chosen_frames(session: Session) -> list[float]:
    """The frames of all chosen marks."""
    marks = session.shot.marks if session.shot else ()
    return [mark.frame for mark in marks if mark.frame in session.selection.marks]


def draw_pull(session: Session, first: float, start: Target, last: float, end: Target) -> None:
    """Pull from one thing to another."""
    name = f"Pull from {session.target_label(start)} to {session.target_label(end)}"
    if first > last:
        name = f"Pull from {session.target_label(end)} to {session.target_label(start)}"
    session.edit_shot(
        name, lambda shot: pulls.pull_between(shot, first, start, last, end),
        Selection.marks.to((min(first, last),)),
    )  # fmt: skip
    session.say(f"{name}, frames {min(first, last):g} to {max(first, last):g}.")


def change(session: Session, mark: Mark, name: str, **changes: object) -> None:
    """Change a mark's way on."""
    session.edit_shot(name, lambda shot: pulls.change_mark(shot, mark.frame, **changes))


def set_ease(session: Session, mark: Mark, ease: str) -> None:
    """Take another ease to the next mark; where several are chosen, from all of them."""
    frames = chosen_frames(session)
    if mark.frame not in frames or len(frames) == 1:
        change(session, mark, f"Ease of mark at {mark.frame:g}", ease=ease)
        return
    session.edit_shot(
        f"Ease of {len(frames)} marks",
        lambda shot: reduce(lambda s, frame: pulls.change_mark(s, frame, ease=ease), frames, shot),
    )


def hold_here(session: Session, mark: Mark) -> None:
    """Let a mark hold until the frame that is shown."""
    until = float(session.frame)
    if until <= mark.frame:
        session.say("Go to a frame after the mark first.")
        return
    change(session, mark, f"Hold until {until:g}", until=until)


def pull_back_from(session: Session, mark: Mark) -> None:
    """Pull back from a mark to where its pull came from, from this frame on, or as soon as it arrives."""
    shot = session.shot
    made = pulls.pulled_back(shot, mark.frame, float(session.frame)) if shot is not None else None
    if made is None:
        session.say("Select the mark at which a pull arrives, with room for the pull back before the next.")
        return
    last = next(m.frame for m in reversed(made.marks) if shot is not None and m not in shot.marks)
    session.edit_shot("Pull back", lambda _shot: made, Selection.marks.to((last,)))


@needs_shot
def move_by(session: Session, shot: Shot, by: float, scale: float = 1.0) -> None:
    """Move the chosen marks in time, draw them apart, or (-1) mirror them."""
    frames = chosen_frames(session)
    if not frames:
        return
    moved = pulls.moved_marks(shot, frames, by, scale)
    if moved == shot:
        session.say("Marks must be at least one frame apart.")
        return
    name = "Mirror marks" if scale < 0 else "Move marks" if scale == 1.0 else "Scale marks"
    places = [mark.frame for mark in shot.marks]
    kept = sorted(moved.marks[places.index(frame)].frame for frame in frames)
    session.edit_shot(name, lambda _shot: moved, Selection.marks.to(tuple(kept)))


def lift_by(session: Session, by_dpt: float) -> None:
    """Move the chosen marks at distances nearer by so many dioptres; those on subjects stay on them."""
    frames = chosen_frames(session)
    session.edit_shot("Move marks", lambda shot: pulls.lifted_marks(shot, frames, by_dpt))


def stretch_to(session: Session, grabbed: float, to: float) -> None:
    """Draw the chosen marks apart, or together, so that what was at one frame is at another.

    The end of them that is farther from the grabbed frame stays where it is.
    """
    frames = chosen_frames(session)
    if len(frames) < 2:
        return
    low, high = min(frames), max(frames)
    if grabbed - low >= high - grabbed:
        span_marks(session, low, low + (high - low) * max((to - low) / max(grabbed - low, 1.0), 0.0))
    else:
        span_marks(session, high - (high - low) * max((high - to) / max(high - grabbed, 1.0), 0.0), high)


def span_marks(session: Session, first: float, last: float) -> None:
    """Let the chosen marks reach from one frame to another, in the same proportions."""
    frames = chosen_frames(session)
    if len(frames) > 1 and last > first:
        low, high = min(frames), max(frames)
        move_by(session, round(first) - low, (round(last) - round(first)) / (high - low))


@needs_now
def point_in_focus(session: Session, now: Now) -> PointTarget:
    """A free point in the middle of the picture, where the focus is at this frame."""
    camera = now.camera
    metres = min(float(camera.focus_m), _FARTHEST_M)
    return PointTarget(position_m=vector(camera.pose[:3, 3] - metres * camera.pose[:3, 2]))


def free_points(session: Session) -> list[Vector]:
    """Where the free points of the shot's marks are at this frame."""
    marks = session.shot.marks if session.shot else ()
    targets = dict.fromkeys(mark.target for mark in marks if isinstance(mark.target, PointTarget))
    return [place_of(target, session.frame) for target in targets]


def place_of(target: PointTarget, frame: float) -> Vector:
    """Where a mark's free point is at a frame."""
    return vector(target.place_at(frame))


@needs_mark
def place_point(session: Session, mark: Mark, place: Vector) -> None:
    """Put the free point of the mark in work elsewhere; where it has keys, by a key."""
    if isinstance(mark.target, PointTarget):
        _with_point(session, mark, mark.target.set(PlaceKey(frame=session.frame, position_m=place)))


def put_point(session: Session, place: Vector) -> bool:
    """Put the free point of the chosen mark at a place; False where no such mark is chosen."""
    mark = mark_in_work(session)
    if mark is None or mark.frame != session.selection.mark or not isinstance(mark.target, PointTarget):
        return False
    _with_point(session, mark, mark.target.set(PlaceKey(frame=session.frame, position_m=place)))
    return True


def key_point(session: Session, on: bool) -> None:
    """Set a key of the free point at this frame, or remove it."""
    mark, frame = mark_in_work(session), float(session.frame)
    if mark is None or not isinstance(mark.target, PointTarget):
        return
    here = PlaceKey(frame=frame, position_m=place_of(mark.target, frame))
    target = mark.target.with_key(here) if on else mark.target.without_key(frame)
    _with_point(session, mark, target)


def _with_point(session: Session, mark: Mark, target: PointTarget) -> None:
    """Give all marks that share a point its new path."""
    old = mark.target
    session.edit_shot(
        "Move the point of a mark",
        lambda shot: pulls.with_marks(
            shot, [m.replace(target=target) if m.target == old else m for m in shot.marks]
        ),
    )


def copied(session: Session) -> list[Mark]:
    """The chosen marks, to be pasted elsewhere."""
    frames, shot = chosen_frames(session), session.shot
    return [mark for mark in shot.marks if mark.frame in frames] if shot else []


def paste(session: Session, marks: list[Mark]) -> None:
    """Put copies of marks where the frame is."""
    at = float(session.frame)
    if not marks:
        session.say("Nothing copied. Select marks and press Ctrl+C.")
        return
    pasted = tuple(mark.frame + at - marks[0].frame for mark in marks)
    session.edit_shot(
        f"Paste {len(marks)} marks", lambda shot: pulls.pasted_marks(shot, marks, at),
        Selection.marks.to(pasted),
    )  # fmt: skip


def text_of(session: Session, marks: list[Mark]) -> str:
    """Marks as lines of text, for a table elsewhere."""
    from kobrel.exchange.marks import marks_text

    return marks_text(session.plan, marks, session.unit)


def take_list(session: Session, text: str) -> None:
    """Set the marks that a text lists, a frame and a subject or distance a line."""
    from kobrel.exchange.marks import read_marks

    try:
        marks = read_marks(text, session.plan, session.unit)
    except KobrelError as error:
        session.say(str(error))
        return
    fresh = {mark.frame for mark in marks}
    session.edit_shot(
        f"{len(marks)} marks of a list",
        lambda shot: pulls.with_marks(shot, [*(m for m in shot.marks if m.frame not in fresh), *marks]),
    )
    session.say(f"{len(marks)} marks pasted; others unchanged.")


@needs_shot
def delete_chosen(session: Session, shot: Shot) -> None:
    """Delete the chosen marks; the last one of a shot stays."""
    frames = chosen_frames(session)
    if not frames:
        return
    if len(shot.marks) == len(frames):
        session.say("A shot needs at least one mark.")
        return
    name = f"Delete mark at {frames[0]:g}" if len(frames) == 1 else f"Delete {len(frames)} marks"
    session.edit_shot(name, lambda s: reduce(pulls.remove_mark, frames, s))


def mark_at(session: Session, frame: float, target: Target) -> None:
    """Set a mark at a frame, and choose it."""
    session.edit_shot(
        f"Set mark at {frame:g}", lambda shot: pulls.set_mark(shot, frame, target),
        Selection.marks.to((frame,)),
    )  # fmt: skip


@needs_now
def search_as_marks(session: Session, now: Now) -> None:
    """Turn the search of the mark in work into plain marks."""
    numbers, mark = now.survey, mark_in_work(session)

    def focus(frame: float) -> float:
        return 1.0 / float(numbers.camera.focus_m[numbers.index_of(frame)])

    if mark is not None:
        session.edit_shot("Bake hunt", lambda s: pulls.searched_out(s, mark.frame, focus))


@needs_mark
def change_in_work(session: Session, mark: Mark, name: str, /, **changes: object) -> None:
    """Change the way on of the mark in work."""
    change(session, mark, name, **changes)


@needs_mark
def change_search(session: Session, mark: Mark, name: str, /, **changes: object) -> None:
    """Change the search of the mark in work, if it has one."""
    if mark.search is not None:
        change(session, mark, name, search=mark.search.replace(**changes))


@needs_mark
def set_until(session: Session, mark: Mark, frame: float) -> None:
    """Let the mark in work hold until a frame; up to its own it does not hold."""
    change(session, mark, "Hold", until=round(frame) if frame > mark.frame else None)


@needs_mark
def put_at(session: Session, mark: Mark, frame: float) -> None:
    """Put the mark in work, or the first of the chosen marks with the others, at a frame."""
    several = chosen_frames(session)
    if len(several) > 1:
        move_by(session, round(frame) - several[0])
    else:
        there = float(round(frame))
        session.edit_shot(
            "Move mark", lambda s: pulls.move_mark(s, mark.frame, there), Selection.marks.to(())
        )


@needs_mark
def retarget(session: Session, mark: Mark, target: Target) -> None:
    """Put the mark in work on something else."""
    name = f"Mark at {mark.frame:g} on {session.target_label(target)}"
    session.edit_shot(name, lambda s: pulls.set_mark(s, mark.frame, target))


@needs_mark
def pull_back(session: Session, mark: Mark) -> None:
    """Pull back from the mark in work, see :func:`pull_back_from`."""
    pull_back_from(session, mark)


@needs_mark
def delete_in_work(session: Session, mark: Mark) -> None:
    """Delete the mark in work; the last one of a shot stays."""
    if session.shot is not None and len(session.shot.marks) == 1:
        session.say("A shot needs at least one mark.")
    else:
        session.edit_shot(f"Delete mark at {mark.frame:g}", lambda s: pulls.remove_mark(s, mark.frame))


# Keys of stop and focal length


@needs_now
def toggle_key(session: Session, now: Now, label: str, field: str) -> None:
    """Key a value of the glass, ``f_number`` or ``focal_mm``, at the frame, or take the key there away."""
    keyed, frame = getattr(now.glass, field), now.frame
    if keyed.key_at(frame) is not None:
        name = f"Remove {label.lower()} key at {frame}"
        session.edit_keyed(name, field, lambda k: k.without_key(frame))
    else:
        value = float(getattr(now.camera, field))
        session.edit_keyed(
            f"{label} key at {frame}", field, lambda k: k.with_key(Key(frame=frame, value=value))
        )


def set_key_ease(session: Session, label: str, field: str, frame: float, ease: str) -> None:
    """Take another ease from the key of a value of the glass at a frame to the next."""
    name = f"Ease of {label.lower()} key at {frame:g}"
    session.edit_keyed(name, field, lambda keyed: keyed.with_key_changed(frame, ease=ease))


@needs_mark
def set_ease_in_work(session: Session, mark: Mark, ease: str) -> None:
    """Take another ease from the mark in work to the next."""
    set_ease(session, mark, ease)


def span_over(session: Session, frames: float) -> None:
    """Let the chosen marks reach over so many frames; the first stays."""
    several = chosen_frames(session)
    if several:
        span_marks(session, several[0], several[0] + round(frames))
