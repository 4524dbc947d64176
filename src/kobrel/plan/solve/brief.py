"""The brief: what each subject must be over which frames, and the focus and stop that grant it."""

from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kobrel.errors import OpticsError
from kobrel.optics import lens, reach
from kobrel.optics.exposure import MARKED_STOPS, ev_difference
from kobrel.optics.lens import LensModel, Numbers
from kobrel.optics.path import choose_bands, fewest_corners, taut
from kobrel.optics.reach import Range, Requirements
from kobrel.plan.instrument import BACKGROUND, Requirement
from kobrel.plan.keys import Key, Keyed, in_order
from kobrel.plan.measure.survey import GONE, Survey
from kobrel.plan.model import DistanceTarget, Mark, Plan, Shot, SubjectTarget, Target
from kobrel.plan.pull import marks as pulls

_BEHIND_DPT = 1e6
_MARGIN = 0.06
_SAME_DPT = 1e-6


def wished_name(plan: Plan, number: int) -> str:
    """Whom or what a requirement is about, in words."""
    if number == BACKGROUND:
        return "Background"
    subject = plan.subject(number)
    return f"{number} {subject.name}" if subject else f"missing subject {number}"


def short_text(plan: Plan, requirement: Requirement) -> str:
    """A requirement in as few words as a table has room for."""
    name = wished_name(plan, requirement.subject).removeprefix("Far ")
    sign = {
        "sharp": " sharp",
        "at_least": f" ≥ {requirement.px:.3g} px",
        "at_most": f" ≤ {requirement.px:.3g} px",
    }
    return (name[:1].upper() + name[1:]) + sign[requirement.kind]


def requirement_text(plan: Plan, requirement: Requirement) -> str:
    """A requirement in words, without its frames."""
    limit = f"{requirement.px:.3g} px soft"
    said = {"sharp": " sharp", "at_least": f" at least {limit}", "at_most": f" at most {limit}"}
    return wished_name(plan, requirement.subject) + said[requirement.kind]


@dataclass(frozen=True, eq=False)
class Terms:
    """A brief in numbers: W requirements at F frames.

    Parameters
    ----------
    requirements, texts : (W,) the requirements and what they are called
    frames, focal_mm : (F,)
    axial_m, straight_m : (F, W) distances of what is wished for
    half_m : (W,) half its depth
    px : (W,) the most or least blur, pixels at delivery
    asked, live : (F, W) whether the requirement is made at the frame; and its subject is in the picture
    px_per_mm : pixels at delivery for a millimetre on the sensor
    widest, narrowest, closest_m : what the lens can do
    """

    requirements: tuple[Requirement, ...]
    texts: tuple[str, ...]
    frames: Numbers
    focal_mm: Numbers
    axial_m: Numbers
    straight_m: Numbers
    half_m: Numbers
    px: Numbers
    asked: NDArray[np.bool_]
    live: NDArray[np.bool_]
    px_per_mm: float
    model: LensModel
    by_straight: bool
    on_sphere: bool
    widest: float
    narrowest: float
    closest_m: float

    @property
    def sharp(self) -> NDArray[np.bool_]:
        """(W,) whether a requirement is to be no softer than something."""
        return np.array([requirement.kind != "at_least" for requirement in self.requirements], dtype=bool)

    def numbers(self, ahead_m: ArrayLike = 0.0, by: ArrayLike = 1.0) -> Requirements:
        """The requirements in coordinates, as if the camera stood ahead, (F,), with other focal lengths."""
        ahead = np.reshape(np.asarray(ahead_m, dtype=float), (-1, 1))
        axial = self.axial_m - ahead
        with np.errstate(divide="ignore", invalid="ignore"):
            aside = np.where(np.isfinite(self.axial_m), self.straight_m**2 - self.axial_m**2, 0.0)
            straight = np.sqrt(np.maximum(aside, 0.0) + axial**2)
            counted = straight if self.by_straight else axial
            part = np.where(np.isfinite(straight), self.half_m / straight, 0.0)
            near, far = counted * (1 - part), counted * (1 + part)
            near_dpt = np.where(near > 0, 1.0 / near, _BEHIND_DPT)
            far_dpt = np.where(far > 0, 1.0 / far, _BEHIND_DPT)
            slant = np.where(np.isfinite(straight), straight / axial, 1.0) if self.on_sphere else 1.0
        return reach.requirements_of(
            near_dpt, far_dpt, self.px, self.sharp, self.live, self.focal_mm * np.asarray(by, dtype=float),
            np.broadcast_to(self.px_per_mm * slant, axial.shape), self.model,
        )  # fmt: skip

    def lens(self, by: ArrayLike = 1.0) -> Range:
        """What the lens can do at each frame."""
        focal = self.focal_mm * np.asarray(by, dtype=float)
        closest = np.maximum(lens.closest_focus_m(focal, self.model), self.closest_m)
        return Range(self.widest, self.narrowest, reach.coordinate(1.0 / closest, focal, self.model))

    def at(self, rows: ArrayLike) -> "Terms":
        """At some of the frames."""
        rows = np.atleast_1d(np.asarray(rows, dtype=int))
        return replace(
            self, frames=self.frames[rows], focal_mm=self.focal_mm[rows], axial_m=self.axial_m[rows],
            straight_m=self.straight_m[rows], asked=self.asked[rows], live=self.live[rows],
        )  # fmt: skip


def terms(plan: Plan, shot: Shot, numbers: Survey) -> Terms:
    """The brief of a shot in numbers.

    Raises
    ------
    OpticsError
        The view is orthographic: its blur does not come from a stop.
    """
    camera, frames = numbers.camera, numbers.frames
    if camera.projection == "orthographic":
        raise OpticsError("An orthographic view has a light cone in place of a stop; a brief needs a lens.")
    known = tuple(w for w in shot.brief if w.subject == BACKGROUND or w.subject in numbers.subjects)
    axial, straight, seen, half = [], [], [], []
    for requirement in known:
        if requirement.subject == BACKGROUND:
            axial.append(np.full(len(frames), np.inf))
            straight.append(axial[-1])
            seen.append(np.ones(len(frames), bool))
            half.append(0.0)
            continue
        row = numbers.subjects.index(requirement.subject)
        axial.append(numbers.sight.axial_m[row])
        straight.append(numbers.sight.straight_m[row])
        seen.append(numbers.state[row] != GONE)
        subject = plan.subject(requirement.subject)
        half.append(subject.half_depth_m if subject else 0.0)
    shape = (len(frames), len(known))
    first = np.array([shot.first if w.first is None else w.first for w in known])
    last = np.array([shot.last if w.last is None else w.last for w in known])
    asked = (frames[:, None] >= first) & (frames[:, None] <= last)
    own = shot.glass.lens
    return Terms(
        requirements=known,
        texts=tuple(requirement_text(plan, requirement) for requirement in known),
        frames=frames,
        focal_mm=np.broadcast_to(camera.focal_mm, frames.shape),
        axial_m=np.reshape(np.transpose(axial), shape),
        straight_m=np.reshape(np.transpose(straight), shape),
        half_m=np.array(half),
        px=np.array([camera.coc_px if w.kind == "sharp" else w.px for w in known]),
        asked=asked,
        live=asked & np.reshape(np.transpose(np.array(seen, dtype=bool)), shape),
        px_per_mm=camera.width_px / (camera.sensor_width_mm * camera.squeeze),
        model=camera.model,
        by_straight=camera.surface == "sphere",
        on_sphere=camera.surface == "sphere" and camera.projection == "perspective",
        widest=own.widest if own else MARKED_STOPS[0],
        narrowest=own.narrowest if own else MARKED_STOPS[-1],
        closest_m=own.close_focus_m if own else 0.0,
    )


UNASKED, MET, UNMET, UNSEEN = 0, 1, 2, 3


def verdicts(brief: Terms, numbers: Survey) -> NDArray[np.int8]:
    """How each requirement fares at each frame, (W, F): not asked, met, unmet, or nobody sees it."""
    camera = numbers.camera
    x = reach.coordinate(1.0 / camera.focus_m, brief.focal_mm, brief.model)
    stop = np.broadcast_to(camera.f_number, x.shape)
    met = reach.granted(brief.numbers(), np.broadcast_to(x, brief.frames.shape), stop)
    state = np.where(met, MET, UNMET)
    state = np.where(brief.live, state, UNSEEN)
    return np.where(brief.asked, state, UNASKED).astype(np.int8).T


@dataclass(frozen=True, eq=False)
class Judged:
    """A brief, how it fares (W, F), and what would grant it."""

    brief: "Terms"
    verdicts: NDArray[np.int8]
    answer: "Solution"
    _ranges: dict[int, reach.StopRange | None] = field(default_factory=dict)

    def asks(self, row: int) -> bool:
        """Whether anything that is seen is asked for at a frame."""
        return bool(self.brief.live[row].any())

    def stop_range(self, row: int) -> reach.StopRange | None:
        """The focus with the widest range of stops at a frame, see :func:`frame_answer`."""
        if row not in self._ranges:
            self._ranges[row] = frame_answer(self.brief, row)
        return self._ranges[row]

    @property
    def unmet(self) -> NDArray[np.bool_]:
        """(F,) whether any requirement is unmet at the frame."""
        return np.asarray((self.verdicts == UNMET).any(axis=0))


def judge(plan: Plan, shot: Shot, numbers: Survey) -> Judged | None:
    """How a shot fares against its brief; None where it has none, or no lens to meet it with."""
    if not shot.brief or numbers.camera.projection == "orthographic":
        return None
    brief = terms(plan, shot, numbers)
    return Judged(brief, verdicts(brief, numbers), answer(brief)) if brief.requirements else None


@dataclass(frozen=True, eq=False)
class Solution:
    """What grants a brief.

    Parameters
    ----------
    stops : ranges of f-numbers at which every frame can be granted
    least, greatest : (F,) the outermost stops of each frame; not-a-number where none grants it
    """

    brief: Terms
    stops: tuple[tuple[float, float], ...]
    least: Numbers
    greatest: Numbers

    @property
    def possible(self) -> NDArray[np.bool_]:
        """(F,) whether some focus and stop grant all requirements at the frame."""
        return np.isfinite(self.least)


def answer(brief: Terms) -> Solution:
    """The stops that grant a brief in all its frames, and frame by frame."""
    low, high = reach.stop_ranges(brief.numbers(), brief.lens())
    good = low <= high * (1 + 1e-12)
    least = np.where(good, low, np.inf).min(axis=1)
    greatest = np.where(good, high, -np.inf).max(axis=1)
    there = good.any(axis=1)
    stops = tuple(reach.stops_for_all(low, high))
    return Solution(brief, stops, np.where(there, least, np.nan), np.where(there, greatest, np.nan))


def frame_answer(brief: Terms, row: int) -> reach.StopRange | None:
    """The focus with the widest range of stops at one frame; its `x` is 1/m."""
    one = brief.at(row)
    found = reach.widest_range(one.numbers(), one.lens())
    if found is None:
        return None
    nearness = reach.nearness_of(found.x, one.focal_mm[0], brief.model)
    return replace(found, x=float(nearness))


@dataclass(frozen=True)
class Clash:
    """Why a frame cannot be granted.

    Parameters
    ----------
    requirements : indices of those that contradict
    stops_apart : by how many stops; infinite if no stop would do
    """

    frame: float
    requirements: tuple[int, ...]
    stops_apart: float
    text: str


def clash(brief: Terms, row: int) -> Clash | None:
    """The fewest requirements that contradict at a frame, and by how much; None if nothing does."""
    one = brief.at(row)
    whole, lens_range = one.numbers(), one.lens()
    live = np.flatnonzero(whole.live[0])
    pairs = [(int(i),) for i in live] + [(int(i), int(j)) for i in live for j in live if i < j]
    found: list[tuple[float, tuple[int, ...], reach.Bind]] = []
    for group in [*pairs, tuple(int(i) for i in live)]:
        if found and len(group) > len(found[0][1]):
            break
        bind = reach.binding(whole.only(group), lens_range)
        if bind.least > bind.greatest * (1 + 1e-12):
            ratio = bind.least / bind.greatest if bind.greatest > 0 else np.inf
            found.append((2 * float(np.log2(ratio)), group, bind))
    if not found:
        return None
    apart, group, bind = max(found, key=lambda item: item[0])
    more = [brief.texts[group[i]] for i in bind.least_by]
    fewer = [brief.texts[group[i]] for i in bind.greatest_by]
    if not np.isfinite(apart):
        text = f"{' and '.join(brief.texts[i] for i in group)}: no focus and stop can do that."
    else:
        asks = (
            f"{_joined(more, 'needs', 'need')} f/{bind.least:.3g} or more"
            if more
            else (f"the lens's widest stop is f/{bind.least:.3g}")
        )
        bears = (
            f"{_joined(fewer, 'allows', 'allow')} at most f/{bind.greatest:.3g}"
            if fewer
            else (f"the lens's smallest stop is f/{bind.greatest:.3g}")
        )
        text = f"{asks}, {bears}: {apart:.1f} stops apart."
    return Clash(float(brief.frames[row]), group, apart, text[0].upper() + text[1:])


def _joined(texts: list[str], one: str, several: str) -> str:
    return f"{' and '.join(texts)} {one if len(texts) == 1 else several}"


def nearest_stop(stops: tuple[tuple[float, float], ...], wanted: float) -> float:
    """The stop within ranges that is nearest to one wanted; a marked one if it can be.

    >>> nearest_stop(((3.9, 9.0),), 2.8), nearest_stop(((3.9, 9.0),), 5.2)
    (4.0, 5.2)
    """
    if any(low <= wanted <= high for low, high in stops):
        return wanted
    marked = [m for m in MARKED_STOPS if any(low <= m <= high for low, high in stops)]
    ends = [end for span in stops for end in span]
    return min(marked or ends, key=lambda stop: abs(float(ev_difference(wanted, stop))))


def _bands(brief: Terms, f_number: ArrayLike) -> tuple[Numbers, Numbers]:
    """One band of focus, in dioptres, for each frame. Where not all can be granted the sharp ones
    are, or else the focus lies where they are least soft.
    """
    requirements, lens_range = brief.numbers(), brief.lens()
    low, high = reach.focus_bands(requirements, lens_range, f_number)
    hard = replace(requirements, live=requirements.live & requirements.sharp)
    lost = ~(low <= high).any(axis=1)
    if lost.any():
        hard_low, hard_high = reach.focus_bands(hard, lens_range, f_number)
        low[lost], high[lost] = hard_low[lost], hard_high[lost]
    for row in np.flatnonzero(~(low <= high).any(axis=1)):
        one = hard.only(np.arange(len(brief.requirements)), int(row))
        best = reach.widest_range(one, Range(0.0, np.inf, lens_range.closest_x[[row]]))
        low[row] = high[row] = best.x if best else 0.0
    low, high = (reach.nearness_of(side, brief.focal_mm[:, None], brief.model) for side in (low, high))
    return choose_bands(low, high)


def _slowest(low: Numbers, high: Numbers) -> tuple[Numbers, list[int]]:
    """The slowest path a little inside a band, (F,), and the few frames that lines need for it."""
    width = high - low
    inset = np.minimum(width, 4 * width.min()) * _MARGIN
    path = taut(low + inset, high - inset)
    return path, fewest_corners(path, low, high)


def slowest_focus(brief: Terms, f_number: ArrayLike) -> tuple[Mark, ...]:
    """The marks of the slowest move of the focus that grants a brief at a stop, a scalar or (F,).

    The move keeps a little inside its band, so that straight stretches with few marks fit.
    """
    low, high = _bands(brief, f_number)
    path, corners = _slowest(low, high)
    if len(corners) > 1 and np.ptp(path[corners]) == 0:
        corners = corners[:1]
    return tuple(
        Mark(frame=float(brief.frames[i]), target=DistanceTarget(metres=_metres(path[i])), ease="even")
        for i in corners
    )


def _metres(nearness: float) -> float:
    return float("inf") if nearness < 1e-9 else float(1.0 / nearness)


def slowest_stop(found: Solution) -> Keyed:
    """The keys of the least change of stop that lets every frame be granted that can be."""
    brief = found.brief
    low, high = reach.stop_ranges(brief.numbers(), brief.lens())
    bad = ~(low <= high).any(axis=1)
    low[bad], high[bad] = brief.widest, brief.narrowest
    with np.errstate(divide="ignore", invalid="ignore"):
        least, greatest = choose_bands(np.log2(low), np.log2(high))
    path, corners = _slowest(least, greatest)
    keys = tuple(Key(frame=float(brief.frames[i]), value=float(2.0 ** path[i]), ease="even") for i in corners)
    if len(keys) > 1 and np.ptp(path[corners]) == 0:
        keys = ()
    return Keyed(value=float(2.0 ** path[0]), keys=keys)


def _with_keys_outside(fresh: Keyed, old: Keyed, first: float, last: float) -> Keyed:
    """A stop between two frames, with the old keys before and after."""
    outside = [key for key in old.keys if not first <= key.frame <= last]
    if not outside:
        return fresh
    inside = fresh.keys or (Key(frame=first, value=fresh.value), Key(frame=last, value=fresh.value))
    return fresh.replace(keys=in_order([*outside, *inside]))


def taken_over(shot: Shot, brief: Terms, f_number: Keyed, at_frames: Numbers) -> Shot:
    """The shot with a stop, (F,) of it at the brief's frames, and the slowest focus for it; marks
    and keys of the stop outside the brief's frames stay.
    """
    fresh = slowest_focus(brief, at_frames)
    first, last = float(brief.frames[0]), float(brief.frames[-1])
    f_number = _with_keys_outside(f_number, shot.glass.f_number, first, last)
    kept = [mark for mark in shot.marks if not first <= mark.frame <= last]
    if kept and len(fresh) == 1:
        fresh = (fresh[0], fresh[0].replace(frame=last)) if last > first else fresh
    marks = tuple(sorted([*kept, *fresh], key=lambda mark: mark.frame))
    return shot.replace(glass=shot.glass.replace(f_number=f_number), marks=marks)


def with_keyed_stop(shot: Shot, found: Solution) -> Shot:
    """The shot with keys of the stop and the slowest focus for them."""
    keyed = slowest_stop(found)
    return taken_over(shot, found.brief, keyed, keyed.at(found.brief.frames))


def focus_at_stop(plan: Plan, shot: Shot, numbers: Survey, row: int, subject: int) -> Target:
    """What to focus on at a frame and the stop it has: a subject, unless the brief can be met from
    elsewhere alone; then the middle of where it can.
    """
    on_it, judged = SubjectTarget(number=subject), judge(plan, shot, numbers)
    if judged is None or subject not in numbers.subjects:
        return on_it
    one = judged.brief.at(row)
    low, high = reach.focus_bands(one.numbers(), one.lens(), float(numbers.camera.f_number[row]))
    low, high = (reach.nearness_of(side[0], one.focal_mm[0], one.model) for side in (low, high))
    there = low <= high
    distance = float(numbers.focus_distance_m[numbers.subjects.index(subject), row])
    if not there.any() or distance <= 0 or ((low <= 1 / distance) & (1 / distance <= high)).any():
        return on_it
    widest = int(np.argmax(np.where(there, high - low, -1.0)))
    return DistanceTarget(metres=_metres(float(low[widest] + high[widest]) / 2))


def taken_at(shot: Shot, numbers: Survey, row: int, found: reach.StopRange) -> Shot:
    """The shot with the focus and stop that grant one frame; a subject that is just there is
    what the focus is on.
    """
    frame = float(numbers.frames[row])
    target: Target = DistanceTarget(metres=_metres(found.x))
    for number, distance in zip(numbers.subjects, numbers.focus_distance_m[:, row], strict=True):
        if distance > 0 and abs(1 / distance - found.x) < _SAME_DPT:
            target = SubjectTarget(number=number)
    stop = nearest_stop(((found.least, found.greatest),), float(numbers.camera.f_number[row]))
    f_number = shot.glass.f_number.set(Key(frame=frame, value=stop))
    return pulls.refocus(shot.replace(glass=shot.glass.replace(f_number=f_number)), frame, target)
