"""What hands do to marks and pulls, whichever view or card they do it in."""

from functools import reduce

from PySide6.QtGui import QGuiApplication

from kobrel.desk.session import Session
from kobrel.errors import KobrelError
from kobrel.plan import edit, pulls
from kobrel.plan.model import Mark, PointTarget, Shot, Target
from kobrel.plan.moves import vector
from kobrel.plan.parts import PlaceKey, Vector
from kobrel.plan.stand_ins import place_track

_FARTHEST_M = 1000.0

EASES = {
    "smooth": "Smooth", "even": "Even", "fast": "Fast, then settling", "late": "Late",
    "own": "By own handles",
}  # fmt: skip


def mark_in_work(session: Session) -> Mark | None:
    """The chosen mark, or the one that holds at this frame."""
    shot = session.shot
    if shot is None:
        return None
    chosen = next((m for m in shot.marks if m.frame == session.selected_mark), None)
    before = [m for m in shot.marks if m.frame <= session.frame]
    return chosen or (before[-1] if before else shot.marks[0])


def chosen_frames(session: Session) -> list[float]:
    """The frames of all chosen marks."""
    shot = session.shot
    if shot is None:
        return []
    wanted = {session.selected_mark, *session.also_marked}
    return [mark.frame for mark in shot.marks if mark.frame in wanted]


def draw_pull(session: Session, first: float, start: Target, last: float, end: Target) -> None:
    """Pull from one thing to another."""
    name = f"Pull from {session.target_label(start)} to {session.target_label(end)}"
    if first > last:
        name = f"Pull from {session.target_label(end)} to {session.target_label(start)}"
    session.edit_shot(name, lambda shot: pulls.pull_between(shot, first, start, last, end))
    session.select_mark(min(first, last))
    session.said.emit(f"{name}, frames {min(first, last):g} to {max(first, last):g}.")


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
        session.said.emit("Go to the frame until which it shall hold, after the mark.")
        return
    change(session, mark, f"Hold until {until:g}", until=until)


def move_by(session: Session, by: float, scale: float = 1.0) -> None:
    """Move the chosen marks in time, draw them apart, or (-1) mirror them."""
    shot, frames = session.shot, chosen_frames(session)
    if shot is None or not frames:
        return
    moved = pulls.moved_marks(shot, frames, by, scale)
    if moved == shot:
        session.said.emit("There is no room: marks keep a frame between them.")
        return
    follow(session, shot, moved, frames)
    name = "Mirror marks" if scale < 0 else "Move marks" if scale == 1.0 else "Scale marks"
    session.edit_shot(name, lambda _shot: moved)


def lift_by(session: Session, by_dpt: float) -> None:
    """Move the chosen marks at distances nearer by so many dioptres; those on subjects stay on them."""
    frames = chosen_frames(session)
    session.edit_shot("Move marks", lambda shot: pulls.lifted_marks(shot, frames, by_dpt))


def stretch_to(session: Session, grabbed: float, to: float) -> None:
    """Draw the chosen marks apart, or together, so that what was at one frame is at another.

    The end of them that is farther from the hand stays where it is.
    """
    shot, frames = session.shot, chosen_frames(session)
    if shot is None or len(frames) < 2:
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


def follow(session: Session, old: Shot, new: Shot, frames: list[float]) -> None:
    """Keep marks chosen that have another frame now."""
    places = [mark.frame for mark in old.marks]
    kept = sorted(new.marks[places.index(frame)].frame for frame in frames)
    session.selected_mark, session.also_marked = kept[0], frozenset(kept[1:])


def point_in_focus(session: Session) -> PointTarget | None:
    """A free point in the middle of the picture, where the focus is at this frame."""
    camera = session.camera
    if camera is None:
        return None
    metres = min(float(camera.focus_m), _FARTHEST_M)
    return PointTarget(position_m=vector(camera.pose[:3, 3] - metres * camera.pose[:3, 2]))


def free_points(session: Session) -> list[Vector]:
    """Where the free points of the shot's marks are at this frame."""
    marks = session.shot.marks if session.shot else ()
    targets = dict.fromkeys(mark.target for mark in marks if isinstance(mark.target, PointTarget))
    return [place_of(target, session.frame) for target in targets]


def place_of(target: PointTarget, frame: float) -> Vector:
    """Where a mark's free point is at a frame."""
    return vector(place_track(target).at([frame])[0])


def place_point(session: Session, axis: int, metres: float) -> None:
    """Put the free point of the mark in work elsewhere along one axis; where it has keys, by a key."""
    mark = mark_in_work(session)
    if mark is not None and isinstance(mark.target, PointTarget):
        place = list(place_of(mark.target, session.frame))
        place[axis] = metres
        _with_point(session, mark, edit.moved_to(mark.target, session.frame, vector(place)))


def put_point(session: Session, place: Vector) -> bool:
    """Put the free point of the chosen mark at a place; False where no such mark is chosen."""
    mark = mark_in_work(session)
    if mark is None or mark.frame != session.selected_mark or not isinstance(mark.target, PointTarget):
        return False
    _with_point(session, mark, edit.moved_to(mark.target, session.frame, place))
    return True


def key_point(session: Session, on: bool) -> None:
    """Set a key of the free point at this frame, or remove it."""
    mark, frame = mark_in_work(session), float(session.frame)
    if mark is None or not isinstance(mark.target, PointTarget):
        return
    here = PlaceKey(frame=frame, position_m=place_of(mark.target, frame))
    target = edit.with_place_key(mark.target, here) if on else edit.without_place_key(mark.target, frame)
    _with_point(session, mark, target)


def _with_point(session: Session, mark: Mark, target: PointTarget) -> None:
    """Give all marks that share a point its new path."""
    old = mark.target
    session.edit_shot(
        "Move the point of a mark",
        lambda shot: pulls.with_marks(
            shot, [m.but(target=target) if m.target == old else m for m in shot.marks]
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
        session.said.emit("Nothing is copied: choose marks and press Ctrl+C.")
        return
    session.edit_shot(f"Paste {len(marks)} marks", lambda shot: pulls.pasted_marks(shot, marks, at))
    session.selected_mark = at
    session.also_marked = frozenset(mark.frame + at - marks[0].frame for mark in marks[1:])


def copy_text(session: Session, marks: list[Mark]) -> None:
    """Put marks as lines of text on the clipboard, for a table elsewhere."""
    from kobrel.exchange.marks import marks_text

    QGuiApplication.clipboard().setText(marks_text(session.plan, marks, session.unit))


def paste_list(session: Session) -> None:
    """Set the marks that the clipboard lists, a frame and a subject or distance a line."""
    from kobrel.exchange.marks import read_marks

    try:
        marks = read_marks(QGuiApplication.clipboard().text(), session.plan, session.unit)
    except KobrelError as error:
        session.said.emit(str(error))
        return
    fresh = {mark.frame for mark in marks}
    session.edit_shot(
        f"{len(marks)} marks of a list",
        lambda shot: pulls.with_marks(shot, [*(m for m in shot.marks if m.frame not in fresh), *marks]),
    )
    session.said.emit(f"{len(marks)} marks of the list; others stay.")


def search_as_marks(session: Session, mark: Mark) -> None:
    """Turn the search of a pull into plain marks."""
    numbers, shot = session.survey, session.shot
    if numbers is None or shot is None:
        return

    def focus(frame: float) -> float:
        return 1.0 / float(numbers.camera.focus_m[numbers.index_of(frame)])

    session.edit_shot("Search as marks", lambda s: pulls.searched_out(s, mark.frame, focus))
