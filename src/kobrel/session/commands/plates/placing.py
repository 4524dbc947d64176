"""Commands that bring plates in and place them."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import ArrayLike

from kobrel.errors import KobrelError, PlanError
from kobrel.plan import edit
from kobrel.plan.keys import Level, LevelKey, PlaceKey
from kobrel.plan.parts import PullEase
from kobrel.plan.pictures.plates import DrivenOfPlate, Plate, PlateAnchor, PlatePicture, Playing, Point
from kobrel.plan.plates import placing
from kobrel.plan.plates.pixels import picture_of
from kobrel.plan.plates.placing import SpreadBy
from kobrel.plan.pull.dials import drive_of, value_at
from kobrel.plan.space.moves import vector
from kobrel.plan.space.plates import pivot_at, scene_of
from kobrel.session import settings
from kobrel.session.commands.subject_list import add_subject
from kobrel.session.needs import needs
from kobrel.session.numbers import Now
from kobrel.session.selection import ChosenPlates, Selection
from kobrel.session.session import Session
from kobrel.stage.read.plates.playing import is_movie
from kobrel.stage.read.plates.stills import ENDINGS, layers_of
from kobrel.stage.read.rendered.frames import frames_beside
from kobrel.stage.stage import Place

Source = tuple[str, PlatePicture]
"""A name, and the picture of it."""
NAMES: dict[DrivenOfPlate, str] = {
    "distance": "Distance", "scale": "Scale", "turn_deg": "Yaw", "tilt_deg": "Pitch", "roll_deg": "Roll",
    "opacity": "Opacity",
}  # fmt: skip
_ALONE_M, _NEAR, _FAR = 5.0, 0.6, 5.0
_LONG_SEQUENCE = 12
_SAME_DISTANCE = 1e-3
_FARTHEST_M, _NEAREST_M = 1e6, 0.01


def chosen(session: Session) -> Plate | None:
    """The chosen plate."""
    return session.plan.plate(session.selection.plate)


def all_chosen(session: Session) -> list[Plate]:
    """The chosen plate, and those chosen besides."""
    return [plate for plate in session.plan.plates if plate.number in session.selection.plates]


needs_chosen = needs(chosen)
"""A command on the selected plate, which is its second argument."""


def _now_and_chosen(session: Session) -> tuple[Now, Plate] | None:
    now, plate = session.now, chosen(session)
    return (now, plate) if now is not None and plate is not None else None


needs_both = needs(_now_and_chosen)
"""A command on the selected plate in the shot at its frame, together its second argument."""

# Bringing in


def sources_of(paths: Sequence[Path]) -> list[Source]:
    """What plates some files become: each layer, page or part its own, the farthest first; a file that is one
    of a long sequence, and a movie, one that plays. A folder is all its pictures.

    Raises
    ------
    SceneError
        One of them cannot be read.
    PlanError
        There is no picture.
    """
    found: list[Source] = []
    for path in paths:
        if path.is_dir():
            inside = sorted(each for each in path.iterdir() if each.suffix.lower() in ENDINGS)
            if not inside:
                raise PlanError("there are no pictures in this folder.", file=path)
            one = frames_beside(inside[0])
            found += _of_file(inside[0], True) if len(one) == len(inside) > _LONG_SEQUENCE else [
                source for each in inside for source in _of_file(each, False)
            ]  # fmt: skip
        else:
            found += _of_file(path, len(paths) == 1)
    return found


def _of_file(path: Path, alone: bool) -> list[Source]:
    if is_movie(path):
        return [(path.stem, picture_of(path))]
    frames = frames_beside(path)
    if alone and len(frames) > _LONG_SEQUENCE:
        return [(path.stem, picture_of(path, playing=Playing(first=frames[0], last=frames[-1])))]
    return [
        (layer or path.stem, picture_of(path, layer)) for layer in layers_of(path)
    ]  # fmt: skip


def allow(session: Session, paths: Sequence[Path]) -> None:
    """A person chose these files or folders: they may be read."""
    for path in paths:
        settings.allow_chosen(session.settings, path / "all" if path.is_dir() else path)


def add(session: Session, sources: Sequence[Source]) -> list[Plate]:
    """Make plates that fill the frame: one at the focus, several spread about it, the first the farthest."""
    camera, plan = session.camera, session.plan
    focus = min(float(camera.focus_m), 50.0) if camera is not None else _ALONE_M
    away = [focus]
    if len(sources) > 1:
        away = list(placing.distances_between(focus * _NEAR, focus * _FAR, len(sources), "dioptres"))[::-1]
    made = []
    for (name, picture), distance in zip(sources, away, strict=True):
        playing = picture.playing
        if playing is not None and session.shot is not None:
            picture = picture.replace(playing=playing.replace(at=session.shot.first))  # noqa: PLW2901
        place, height = (0.0, 0.0, -distance), 2.0
        if camera is not None:
            place, height = placing.filling(camera, distance, picture.aspect)
        fresh = Plate(number=1, name=name, picture=picture, position_m=place, height_m=height)
        plan, plate = edit.add_plate(plan, fresh)
        made.append(plate)
    numbers = [plate.number for plate in made]
    what = made[0].name if len(made) == 1 else f"{len(made)} plates"
    session.edit(f"Add {what}", plan, Selection.item.to(ChosenPlates(numbers[-1], frozenset(numbers[:-1]))))
    if len(made) == 1 and (behind := _beside(session, made[0])):
        session.say(f"{what} added, before {behind} at the same distance. Spread them in Block, Plates.")
    else:
        session.say(f"{what} added. Drag it in Overhead, or type its distance in Block, Plates.")
    return made


def _beside(session: Session, plate: Plate) -> str:
    """The name of another plate at the distance of one; "" for none."""
    own = distance_m(session, plate)
    others = [(each, distance_m(session, each)) for each in session.plan.plates if each is not plate]
    near = [each.name for each, away in others if own and away and abs(away / own - 1.0) < _SAME_DISTANCE]
    return near[-1] if near else ""


def add_files(session: Session, paths: Sequence[Path]) -> list[Plate]:
    """Make plates of files or folders that a person chose; what cannot be read is said."""
    allow(session, paths)
    try:
        return add(session, sources_of(paths))
    except KobrelError as error:
        session.say(str(error))
        return []


def choose(session: Session, number: int | None, besides: bool = False) -> None:
    """Choose a plate, or one besides, or leave that out again."""
    chosen = session.selection.item
    if number is None:
        session.selection.item = None
    elif besides and isinstance(chosen, ChosenPlates):
        session.selection.item = ChosenPlates(chosen.number, (chosen.besides ^ {number}) - {chosen.number})
    else:
        session.selection.item = ChosenPlates(number)


# One plate


@needs_chosen
def change(session: Session, plate: Plate, what: str, /, **changes: object) -> None:
    """Change fields of the chosen plate."""
    session.edit(f"{what} of {plate.name}", edit.with_plate(session.plan, plate.replace(**changes)))


def distance_m(session: Session, plate: Plate) -> float | None:
    """How far a plate's pivot lies along the axis at the frame; None without a camera."""
    camera = session.camera
    if camera is None:
        return None
    return placing.axial_m(camera, pivot_at(plate, session.plan.dials, [session.frame])[0])


@needs_both
def set_distance(session: Session, both: tuple[Now, Plate], metres: float) -> None:
    """Put the chosen plate at a distance: with its framing where it keeps that, others with their gaps."""
    now, plate = both
    if plate.lies:
        session.say("A ground plate cannot be moved.")
        return
    metres = min(max(metres, _NEAREST_M), _FARTHEST_M)
    was = distance_m(session, plate)
    if _is_driven(session, plate, "distance") or was is None:
        return
    plan = now.plan
    try:
        others = [
            other
            for other in all_chosen(session)
            if other is not plate and session.selection.keeps_gaps and not other.lies
        ]
        moved = [_put(session, now, plate, metres)]
        for other in others:
            there = distance_m(session, other)
            if there is not None and session.selection.keeps_gaps:
                wanted = placing.gap_kept(there, was, metres, session.selection.keeps_gaps)
                moved.append(_put(session, now, other, wanted))
    except PlanError as error:
        session.say(str(error))
        return
    for each in moved:
        plan = edit.with_plate(plan, each)
    session.edit(f"Distance of {plate.name}", plan)


def _put(session: Session, now: Now, plate: Plate, metres: float) -> Plate:
    keeps = session.selection.keeps_framing
    return placing.at_distance(plate, now.plan.dials, now.camera, now.frame, metres, keeps)


@needs_both
def move_to(session: Session, both: tuple[Now, Plate], position_m: ArrayLike) -> None:
    """Move the chosen plate's pivot: by a key at the frame where it has keys."""
    now, plate = both
    if _is_driven(session, plate, "distance"):
        return
    moved = plate.set(PlaceKey(frame=now.frame, position_m=vector(position_m)))
    session.edit(f"Position of {plate.name}", edit.with_plate(now.plan, moved))


@needs_both
def drag_to(session: Session, both: tuple[Now, Plate], position_m: ArrayLike) -> None:
    """Move the chosen plate so that its pivot is nearest to a place: along its line of sight where it keeps
    its framing.
    """
    now, _plate = both
    if not session.selection.keeps_framing:
        move_to(session, position_m)
        return
    metres = placing.axial_m(now.camera, np.asarray(position_m, float))
    set_distance(session, metres)


@needs_both
def put_on_subject(session: Session, both: tuple[Now, Plate], number: int) -> None:
    """Put the chosen plate at a subject's distance."""
    now, plate = both
    numbers = now.survey
    if number not in numbers.subjects:
        return
    metres = float(numbers.sight.axial_m[numbers.subjects.index(number), now.row])
    subject = now.plan.subject(number)
    if subject is not None and subject.anchor == PlateAnchor(number=plate.number):
        session.say("This subject is on the plate itself.")
    elif not metres > 0:
        session.say("The subject is behind the camera.")
    else:
        set_distance(session, metres)


def set_level(session: Session, what: DrivenOfPlate, value: float) -> None:
    """Change a value of the chosen plate: by a key at the frame where it has keys, or altogether."""
    plate = chosen(session)
    if plate is None or _is_driven(session, plate, what):
        return
    level: Level = getattr(plate, what)
    made = plate.replace(**{what: level.set(LevelKey(frame=session.frame, value=value))})
    session.edit(f"{NAMES[what]} of {plate.name}", edit.with_plate(session.plan, made))


def level_now(session: Session, plate: Plate, what: DrivenOfPlate) -> float:
    """A value of a plate at the frame."""
    return float(value_at(plate, session.plan.dials, what, [session.frame])[0])


def _is_driven(session: Session, plate: Plate, what: DrivenOfPlate) -> bool:
    found = drive_of(session.plan.dials, plate.number, what)
    if found is not None:
        session.say(f"Driven by the dial {found[0].name} (Pull, Dials).")
    return found is not None


@needs_chosen
def toggle_key(session: Session, plate: Plate, what: DrivenOfPlate) -> None:
    """Key a value of the chosen plate at the frame, or take the key there away; of the distance its place."""
    frame = float(session.frame)
    if _is_driven(session, plate, what):
        return
    if what == "distance":
        here = vector(pivot_at(plate, session.plan.dials, [frame])[0])
        made = plate.toggled(PlaceKey(frame=frame, position_m=here))
    else:
        level: Level = getattr(plate, what)
        made = plate.replace(**{what: level.toggled_at(frame)})
    session.edit(f"Key of {plate.name}", edit.with_plate(session.plan, made))


@needs_chosen
def set_ease(session: Session, plate: Plate, what: DrivenOfPlate, ease: PullEase) -> None:
    """Set how a value goes on from its last key up to the frame."""
    if what == "distance":
        made = plate.with_ease(session.frame, "even" if ease == "even" else "smooth")
    else:
        level: Level = getattr(plate, what)
        made = plate.replace(**{what: level.with_ease(session.frame, ease)})
    session.edit(f"Interpolation of {plate.name}", edit.with_plate(session.plan, made))


@needs_both
def set_faces(session: Session, both: tuple[Now, Plate], faces: bool) -> None:
    """Let the chosen plate face the camera, or stand as it is seen now."""
    now, plate = both
    changes: dict[str, object] = {"faces": faces}
    if not faces:
        turn, tilt, roll = placing.facing_deg(now.camera)
        own = level_now(session, plate, "roll_deg")
        changes |= {
            "turn_deg": Level(value=turn), "tilt_deg": Level(value=tilt), "roll_deg": Level(value=roll + own),
        }  # fmt: skip
    elif not plate.roll_deg.keys:
        changes["roll_deg"] = Level()
    change(session, "Facing", **changes)


@needs_both
def set_pivot(session: Session, both: tuple[Now, Plate], pivot: Point) -> None:
    """Give the chosen plate another pivot; it stays where it is at the frame."""
    now, plate = both
    made = placing.pivoted(plate, now.plan.dials, now.camera, now.frame, pivot)
    session.edit(f"Pivot of {plate.name}", edit.with_plate(now.plan, made))


@needs_both
def fill_frame(session: Session, both: tuple[Now, Plate]) -> None:
    """Size and move the chosen plate so that it covers the frame at its distance."""
    now, plate = both
    metres = distance_m(session, plate)
    if metres is None or metres <= 0:
        session.say(f"{plate.name} is behind the camera.")
        return
    place, height = placing.filling(now.camera, metres, plate.picture.aspect)
    made = plate.replace(
        position_m=place, keys=(), scale=Level(value=1.0), height_m=height, pivot=(0.5, 0.5), roll_deg=Level()
    )
    session.edit(f"Fill frame: {plate.name}", edit.with_plate(now.plan, made))


def make_subject(session: Session) -> None:
    """Make the chosen plates subjects."""
    with session.as_one():
        for plate in all_chosen(session):
            anchor = PlateAnchor(number=plate.number)
            if all(subject.anchor != anchor for subject in session.plan.subjects):
                add_subject(session, plate.name, anchor)


@needs_chosen
def copy(session: Session, plate: Plate) -> None:
    """Make another like the chosen plate, and choose that."""
    plan, made = edit.add_plate(session.plan, plate)
    session.edit(f"Copy {plate.name}", plan, Selection.item.to(ChosenPlates(made.number)))


def remove(session: Session) -> None:
    """Delete the chosen plates; what was tied to them stays where it was."""
    gone = all_chosen(session)
    if not gone:
        return
    plan = session.plan
    for plate in gone:
        spot = vector(pivot_at(plate, plan.dials, [session.frame])[0])
        plan = edit.remove_plate(plan, plate.number, spot)
    what = gone[0].name if len(gone) == 1 else f"{len(gone)} plates"
    session.edit(f"Delete {what}", plan, Selection.item.to(None))


# Several plates


def spread(session: Session, near_m: float, far_m: float, by: SpreadBy) -> None:
    """Spread the chosen plates, or all of them, evenly between two distances, in the order they have."""
    now, plates = session.now, all_chosen(session)
    if len(plates) < 2:
        plates = list(session.plan.plates)
    plates = [plate for plate in plates if not plate.lies]
    if now is None or len(plates) < 2:
        session.say("Spreading needs two plates or more.")
        return
    away = {plate.number: distance_m(session, plate) or 0.0 for plate in plates}
    order = sorted(plates, key=lambda plate: away[plate.number])
    plan = now.plan
    try:
        near, far = sorted((near_m, far_m))
        for plate, metres in zip(order, placing.distances_between(near, far, len(order), by), strict=True):
            plan = edit.with_plate(plan, _put(session, now, plate, float(metres)))
    except PlanError as error:
        session.say(str(error))
        return
    session.edit(f"Spread {len(order)} plates", plan)
    session.say(f"{len(order)} plates between {session.length(near)} and {session.length(far)}.")


def by_distance(session: Session) -> list[Plate]:
    """All plates, grounds first, then the farthest."""
    return sorted(
        session.plan.plates, key=lambda plate: (not plate.lies, -(distance_m(session, plate) or 0.0))
    )


def is_missing(session: Session, plate: Plate) -> bool:
    """Whether a plate's picture could not be read, and nothing of it is there."""
    scene = session.stage.scenes.get(scene_of(plate.number))
    bare = plate.shown and scene is not None and len(scene.nodes) < 2
    return bare and plate.picture.source in session.library.problems


def place_of(plate: Plate) -> Place:
    """Where on the stage a plate is found."""
    return Place(scene_of(plate.number), "/")
