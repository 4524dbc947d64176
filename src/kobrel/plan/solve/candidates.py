"""What would make a brief possible: other stops, sensors, lenses, places, or softer requirements."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

import numpy as np

from kobrel.optics import reach
from kobrel.optics.exposure import MARKED_STOPS, ev_difference
from kobrel.optics.lens import Numbers
from kobrel.optics.sensor import FORMATS
from kobrel.plan import glass as glasses
from kobrel.plan.instrument import BACKGROUND, Sensor
from kobrel.plan.keys import Keyed
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import Plan, Shot
from kobrel.plan.solve import brief as briefs
from kobrel.plan.solve.brief import Terms
from kobrel.stage.stage import Stage

_STEPS = 96
_MOST_FRAMES = 60
_FOCAL_FACTOR = 4.0


@dataclass(frozen=True)
class Candidate:
    """A change of a shot after which its brief can be met, solved for stop and focus."""

    text: str
    shot: Shot


@dataclass(frozen=True)
class Where:
    """The frames that a brief is to be met at: one, some in a row, or all of the shot."""

    plan: Plan
    stage: Stage
    frame: float | None = None
    span: tuple[float, float] | None = None

    def terms(self, shot: Shot) -> Terms:
        """The brief of a shot at these frames."""
        first, last = self.span or (shot.first, shot.last)
        frames = np.arange(first, last + 1.0) if self.frame is None else np.array([self.frame])
        numbers = survey(self.plan, shot, self.stage, frames)
        return briefs.terms(self.plan, shot, numbers)


def possible(brief: Terms, ahead_m: Numbers | float = 0.0, by: Numbers | float = 1.0) -> bool:
    """Whether one stop grants a brief in all its frames, with the camera ahead and another lens."""
    ranges = reach.stop_ranges(brief.numbers(ahead_m, by), brief.lens(by))
    return bool(reach.stops_for_all(*ranges))


def candidates(where: Where, shot: Shot) -> Iterator[Candidate]:
    """What would do it, one after the other as it is found; none where the brief can be met."""
    brief = where.terms(shot)
    if possible(brief):
        return
    makers: tuple[Callable[[Where, Shot, Terms], Iterator[Candidate]], ...] = (
        _other_stop, _other_sensor, _other_focal, _other_place, _softer_requirement,
    )  # fmt: skip
    for maker in makers:
        yield from maker(where, shot, brief)


def solved(where: Where, shot: Shot) -> Shot | None:
    """The shot with the stop nearest to its own, and the focus, that meet its brief; None where a survey
    of that shot does not say so too.
    """
    if where.frame is not None:
        numbers = survey(where.plan, shot, where.stage, [where.frame])
        found = briefs.frame_answer(briefs.terms(where.plan, shot, numbers), 0)
        return _checked(where, briefs.taken_at(shot, numbers, 0, found)) if found else None
    brief = where.terms(shot)
    stops = briefs.answer(brief).stops
    if not stops:
        return None
    wanted = float(shot.glass.f_number.at(shot.first)[0])
    for stop in (briefs.nearest_stop(stops, wanted), *_within(stops, wanted)):
        taken = briefs.taken_over(shot, brief, Keyed(value=stop), np.full(len(brief.frames), stop))
        if _checked(where, taken) is not None:
            return taken
    return None


def _within(stops: tuple[tuple[float, float], ...], wanted: float) -> list[float]:
    """Stops a little inside each range, nearest to a wanted one first."""
    inside = [float(np.sqrt(low * high)) for low, high in stops]
    return sorted(inside, key=lambda stop: abs(float(ev_difference(wanted, stop))))


def _checked(where: Where, shot: Shot) -> Shot | None:
    """The shot, if all its requirements are met when it is surveyed anew."""
    frames = where.terms(shot).frames
    numbers = survey(where.plan, shot, where.stage, frames)
    brief = briefs.terms(where.plan, shot, numbers)
    return None if (briefs.verdicts(brief, numbers) == briefs.UNMET).any() else shot


def _tried(where: Where, text: str, shot: Shot) -> Iterator[Candidate]:
    """The trial, if it holds after all when everything is computed anew."""
    result = solved(where, shot)
    if result is not None:
        stop = float(result.glass.f_number.at(where.frame or shot.first)[0])
        yield Candidate(f"{text}, f/{stop:.3g}", result)


def _other_stop(where: Where, shot: Shot, brief: Terms) -> Iterator[Candidate]:
    """A stop that the lens in hand does not have."""
    if shot.glass.lens is not None and possible(_any_lens(brief)):
        freed = shot.replace(glass=glasses.with_lens(shot.glass, None))
        yield from _tried(where, f"A stop beyond the {shot.glass.lens.name}", freed)


def _any_lens(brief: Terms) -> Terms:
    return replace(brief, widest=MARKED_STOPS[0], narrowest=MARKED_STOPS[-1], closest_m=0.0)


def _other_sensor(where: Where, shot: Shot, brief: Terms) -> Iterator[Candidate]:
    """The sensor nearest in size that brings the stops into the lens's range, at the same framing.

    At one framing all stops grow with the sensor's width, so that only a want of stops is mended.
    """
    if not possible(replace(brief, widest=1e-3, narrowest=1e6)):
        return
    own = glasses.frame_width_mm(shot.glass)
    tries = []
    for size in FORMATS:
        sensor = Sensor(width_mm=size.width_mm, height_mm=size.height_mm)
        changed = shot.replace(glass=glasses.with_sensor(shot.glass, sensor, keep_framing=True))
        by = glasses.frame_width_mm(changed.glass) / own
        if abs(by - 1) > 1e-3:
            tries.append((abs(np.log(by)), by, size.name, changed))
    for _off, by, name, changed in sorted(tries, key=lambda item: item[0]):
        if possible(replace(brief, widest=brief.widest / by, narrowest=brief.narrowest / by)):
            text = f"{name} at the same framing, {changed.glass.focal_mm.value:.3g} mm"
            yield from _tried(where, text, changed)
            return


def _thinned(brief: Terms) -> Terms:
    """The brief at enough frames to tell quickly what will not do."""
    count = len(brief.frames)
    return brief.at(np.unique(np.linspace(0, count - 1, min(count, _MOST_FRAMES)).round().astype(int)))


def _first_possible(values: Numbers, can: Callable[[float], bool]) -> float | None:
    """The first of some values, in order of how far they go, that would do."""
    return next((float(value) for value in values if can(float(value))), None)


def _nearest_between(none: float, good: float, can: Callable[[float], bool]) -> float:
    """The least change that would do, between one that does not and one that does."""
    for _ in range(12):
        middle = (none + good) / 2
        none, good = (none, middle) if can(middle) else (middle, good)
    return good


def _kept_subject(brief: Terms) -> int | None:
    """Index of the requirement whose subject keeps its size: the first that shall be sharp."""
    near = [i for i, w in enumerate(brief.requirements) if w.subject != BACKGROUND]
    return next((i for i in near if brief.requirements[i].kind == "sharp"), near[0] if near else None)


def _other_focal(where: Where, shot: Shot, brief: Terms) -> Iterator[Candidate]:
    """Another focal length, the camera moved so that a subject keeps its size."""
    kept = _kept_subject(brief)
    zooms = bool(shot.glass.focal_mm.keys) and where.frame is None
    if kept is None or shot.keeps is not None or zooms:
        return
    few, distance = _thinned(brief), brief.axial_m[:, kept]

    def can(octaves: float) -> bool:
        by = 2.0**octaves
        return all(possible(one, one.axial_m[:, kept] * (1 - by), by) for one in (few, brief))

    for side, word in ((1.0, "Longer lens"), (-1.0, "Shorter lens")):
        steps = side * np.linspace(0, np.log2(_FOCAL_FACTOR), _STEPS // 2)[1:]
        found = _first_possible(steps, can)
        if found is None:
            continue
        found = _nearest_between(found - side * float(abs(steps[0])), found, can)
        by = 2.0 ** (found + side * 1e-3)
        requirement = brief.requirements[kept]
        base = float(shot.glass.focal_mm.at(brief.frames[:1])[0])
        changed = glasses.keep_size(shot, requirement.subject, base, where.frame)
        focal = shot.glass.focal_mm.times(by)
        changed = changed.replace(glass=glasses.with_focal(shot.glass, focal))
        subject = where.plan.subject(requirement.subject)
        moved = float(distance[0] * (1 - by))
        text = (
            f"{word}, {focal.value:.3g} mm, {subject.name if subject else ''} the same size, camera "
            f"{abs(moved):.2f} m {'nearer' if moved > 0 else 'back'}"
        )
        yield from _tried(where, text, changed)


def _other_place(where: Where, shot: Shot, brief: Terms) -> Iterator[Candidate]:
    """The camera moved along its axis."""
    few = _thinned(brief)
    finite = np.where(np.isfinite(brief.axial_m) & brief.live, brief.axial_m, np.nan)
    if not np.isfinite(finite).any():
        return
    nearest, farthest = float(np.nanmin(finite)), float(np.nanmax(finite))

    def can(ahead: float) -> bool:
        return possible(few, ahead) and possible(brief, ahead)

    for steps in (
        np.linspace(0, max(nearest, 0.0) * 0.9, _STEPS // 2)[1:],
        -np.linspace(0, farthest * 2, _STEPS // 2)[1:],
    ):
        found = _first_possible(steps, can)
        if found is None:
            continue
        found = _nearest_between(found - float(steps[0]), found, can)
        found += 1e-3 * float(np.sign(found))
        way = "nearer" if found > 0 else "back"
        text = f"Camera {abs(found):.2f} m {way}"
        yield from _tried(where, text, shot.replace(ahead_m=shot.ahead_m + found))


def _softer_requirement(where: Where, shot: Shot, brief: Terms) -> Iterator[Candidate]:
    """One requirement made smaller, by as little as will do."""
    for index, requirement in enumerate(brief.requirements):
        if not brief.live[:, index].any():
            continue

        def with_px(px: float, at: int = index) -> Terms:
            return replace(brief, px=np.where(np.arange(len(brief.px)) == at, px, brief.px))

        own = float(brief.px[index])
        if requirement.kind == "at_least":
            low, high = 1e-3, own
            if not possible(with_px(low)):
                continue
            for _ in range(24):
                middle = (low * high) ** 0.5
                low, high = (middle, high) if possible(with_px(middle)) else (low, middle)
            changed, text = (
                requirement.replace(px=_rounded(low, down=True)),
                "at least {:.3g} px soft instead of {:.3g}",
            )
        else:
            low, high = own, own * 1e3
            if not possible(with_px(high)):
                continue
            for _ in range(24):
                middle = (low * high) ** 0.5
                low, high = (low, middle) if possible(with_px(middle)) else (middle, high)
            changed = requirement.replace(kind="at_most", px=_rounded(high, down=False))
            text = "at most {:.3g} px soft instead of " + (
                "sharp" if requirement.kind == "sharp" else "{:.3g}"
            )
        name = briefs.wished_name(where.plan, requirement.subject)
        softer = tuple(changed if old is requirement else old for old in shot.brief)
        yield from _tried(where, f"{name} {text.format(changed.px, own)}", shot.replace(brief=softer))


def _rounded(px: float, down: bool) -> float:
    """To three figures, to the side that still does."""
    step = 10.0 ** (np.floor(np.log10(px)) - 2)
    return float((np.floor if down else np.ceil)(px / step) * step)
