"""What hands do to marks and pulls, whichever view or card they do it in."""

from kobrel.desk.session import Session
from kobrel.plan import pulls
from kobrel.plan.model import Mark, Shot, Target

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
    """Take another ease to the next mark."""
    change(session, mark, f"Ease of mark at {mark.frame:g}", ease=ease)


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


def follow(session: Session, old: Shot, new: Shot, frames: list[float]) -> None:
    """Keep marks chosen that have another frame now."""
    places = [mark.frame for mark in old.marks]
    kept = sorted(new.marks[places.index(frame)].frame for frame in frames)
    session.selected_mark, session.also_marked = kept[0], frozenset(kept[1:])


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


def search_as_marks(session: Session, mark: Mark) -> None:
    """Turn the search of a pull into plain marks."""
    numbers, shot = session.survey, session.shot
    if numbers is None or shot is None:
        return

    def focus(frame: float) -> float:
        return 1.0 / float(numbers.camera.focus_m[numbers.index_of(frame)])

    session.edit_shot("Search as marks", lambda s: pulls.searched_out(s, mark.frame, focus))
