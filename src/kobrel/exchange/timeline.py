"""Lists of shots from and for the edit: OpenTimelineIO, and CMX 3600 edit lists."""

import math
import zipfile
import zlib
from collections.abc import Collection
from pathlib import Path
from typing import Any

import numpy as np

from kobrel.errors import ExchangeError, PlanError
from kobrel.exchange.writing.whole import write_text
from kobrel.files import MOST_TEXT_BYTES, bytes_of, json_fault, require_file
from kobrel.optics.units import exact_fps, format_length, timecode
from kobrel.plan.edit import unused
from kobrel.plan.measure.survey import Survey, survey
from kobrel.plan.model import MOST_SHOTS, Cue, Mark, Plan, Shot
from kobrel.plan.parts import MOST_FRAME, MOST_FRAMES
from kobrel.plan.sequence.shots import Listed
from kobrel.stage.read.probe import require_opens
from kobrel.stage.stage import Stage

OTIO_SUFFIXES, EDL_SUFFIXES = (".otio", ".otioz"), (".edl",)
_OWN, _MARK = "kobrel", "mark"
_MOST_NAME = _MOST_TEXT = 200  # characters kept of a name and of a library's complaint


def read_list(path: Path, fps: float = 24.0, warnings: list[str] | None = None) -> list[Listed]:
    """The shots of an edit list, in the order of its pictures. A shot has the frames that its clip takes from
    the picture: with a changed speed more or fewer than the cut has, with a dissolve those under it.

    Parameters
    ----------
    path : OpenTimelineIO (.otio, .otioz) or an edit list (.edl)
    fps : frames a second of an edit list, which does not say it itself
    warnings : where it is told what is left out, or has other frames than in the cut

    Raises
    ------
    ExchangeError
        The file is of another kind, cannot be read, or has no shots.
    """
    import opentimelineio as otio

    suffix = path.suffix.lower()
    if suffix not in (*OTIO_SUFFIXES, *EDL_SUFFIXES):
        raise ExchangeError(f"shots are read from {', '.join((*OTIO_SUFFIXES, *EDL_SUFFIXES))}.", file=path)
    require_file(path, ExchangeError, MOST_TEXT_BYTES)
    _require_plain(path, suffix)
    if suffix in OTIO_SUFFIXES:
        require_opens("otio", path, "this list of shots cannot be read: it is damaged.", ExchangeError)
    rate = {"rate": exact_fps(fps)} if suffix in EDL_SUFFIXES else {}
    try:
        whole = otio.adapters.read_from_file(str(path), **rate)
        told: list[str] = []
        clips = _clips(whole, told)
    except Exception as error:  # adapters raise whatever their formats make them
        why = " ".join(str(error).split())[:_MOST_TEXT]
        raise ExchangeError(f"the shot list cannot be read: {why}", file=path) from None
    if len(clips) > MOST_SHOTS:
        raise ExchangeError(f"it has {len(clips)} clips; up to {MOST_SHOTS} become shots.", file=path)
    found: list[Listed] = []
    taken: set[str] = set()
    for number, clip in enumerate(clips, 1):
        try:
            entry = _listed(clip, taken, told)
        except _LeftOut as why:
            told.append(f"{_name(clip)} is skipped: {why}.")
        except (ValueError, OverflowError, UnicodeError):
            told.append(f"Clip {number} is skipped: its frames make no sense.")
        else:
            _require_frames(entry, number, path)
            taken.add(entry.name)
            found.append(entry)
    if not found:
        raise ExchangeError(
            "there are no shots in it.", file=path, remedy="A shot is a clip with a range of frames."
        )
    if warnings is not None:
        warnings += told
    return found


def _require_plain(path: Path, suffix: str) -> None:
    """See that a list is neither packed to burst nor nested without end, before a library takes it.

    Raises
    ------
    ExchangeError
        It is.
    """
    if suffix == ".otioz":
        try:
            with zipfile.ZipFile(path) as package:
                name = next(n for n in package.namelist() if n.endswith(".otio"))
                if package.getinfo(name).file_size > MOST_TEXT_BYTES:
                    raise ExchangeError("the list in it is too large.", file=path)
                text = package.read(name)
        except (zipfile.BadZipFile, StopIteration, OSError, ValueError, RuntimeError, zlib.error):
            raise ExchangeError("the shot list cannot be read: not a valid package.", file=path) from None
    else:
        text = bytes_of(path, ExchangeError)
    fault = json_fault(text) if suffix in OTIO_SUFFIXES else ""
    if fault:
        raise ExchangeError(fault, file=path)


def _require_frames(entry: Listed, number: int, path: Path) -> None:
    """See that a clip has frames and a rate that a shot can have.

    Raises
    ------
    ExchangeError
        It has not; says which clip.
    """
    fits = -MOST_FRAME <= entry.first <= entry.last <= MOST_FRAME and entry.last - entry.first < MOST_FRAMES
    if not fits or not 0.1 <= entry.fps <= 1000:
        raise ExchangeError(
            f"frames {entry.first} to {entry.last} at {entry.fps:g} a second cannot be worked with.",
            file=path, place=f"clip {number}, {entry.name[:40]}",
            remedy=f"A shot has {MOST_FRAMES} frames at most, within {MOST_FRAME:,} of 0.",
        )  # fmt: skip


def _clips(whole: Any, told: list[str]) -> list[Any]:
    """Clips of the first track of pictures that has any, or else of all tracks."""
    import opentimelineio as otio

    if isinstance(whole, otio.schema.Timeline):
        tracks = [(track, list(track.find_clips())) for track in whole.video_tracks()]
        tracks = [(track, clips) for track, clips in tracks if clips]
        for track, clips in tracks[1:]:
            names = ", ".join(_name(clip) for clip in clips[:3]) + (", …" if len(clips) > 3 else "")
            told.append(f"Track {track.name[:_MOST_NAME] or '2'} is skipped, with {names}.")
        if tracks:
            return tracks[0][1]
    return list(whole.find_clips()) if hasattr(whole, "find_clips") else []


class _LeftOut(Exception):
    """Why a clip does not become a shot."""


def _name(clip: Any) -> str:
    return clip.name.strip()[:_MOST_NAME] or "Shot"


def _listed(clip: Any, taken: Collection[str], told: list[str]) -> Listed:
    """A clip as a shot.

    Raises
    ------
    _LeftOut
        It has no frames, or shows no picture.
    """
    if str(getattr(clip.media_reference, "generator_kind", "")).lower() == "black":
        raise _LeftOut("it is black")
    if not clip.enabled:
        raise _LeftOut("it is switched off")
    try:
        cut, seen = clip.trimmed_range(), clip.visible_range()
    except Exception:  # a clip with neither a range nor media has no frames
        raise _LeftOut("it has no frames") from None
    own = float(cut.start_time.rate)
    if not math.isfinite(own) or own <= 0:
        raise _LeftOut("its rate makes no sense")
    rate = exact_fps(own)
    first, count = (round(each.rescaled_to(own).value) for each in (seen.start_time, seen.duration))
    if count < 1:
        raise _LeftOut("it has no frames")
    name = unused(_name(clip), taken)
    if seen != cut:
        without = round(cut.duration.rescaled_to(own).value)
        told.append(f"{name} has {count} frames with those under its transitions, {without} without.")
    count = _frames_taken(clip, name, count, told)
    last, handles = first + count - 1, 0
    media = clip.media_reference
    whole = media.available_range if media is not None else None
    if whole is not None:
        before = first - round(whole.start_time.rescaled_to(rate).value)
        after = round(whole.end_time_exclusive().rescaled_to(rate).value) - 1 - last
        handles = max(0, min(before, after))
    cues = tuple(_cue(marker, rate) for marker in clip.markers if not _is_mark(marker))
    return Listed(name, first, last, rate, min(handles, 10_000), cues)


def _frames_taken(clip: Any, name: str, count: int, told: list[str]) -> int:
    """How many frames of its picture a clip takes for so many frames of the cut."""
    import opentimelineio as otio

    speed = 1.0
    for effect in clip.effects:
        if isinstance(effect, otio.schema.LinearTimeWarp):  # a freeze frame is one of speed 0
            speed *= float(effect.time_scalar)
        elif isinstance(effect, otio.schema.TimeEffect):
            told.append(f"{name}: its change of speed, {effect.effect_name[:_MOST_NAME]}, is skipped.")
    if speed == 1.0 or not math.isfinite(speed):
        return count
    taken = max(1, math.ceil(count * abs(speed) - 1e-6))
    backwards = ", reversed: the file does not say whether its frames start or end there" if speed < 0 else ""
    told.append(
        f"{name} plays at {speed * 100:.4g} %{backwards}: its shot has all that it takes, "
        f"{taken} for the {count} of the cut."
    )
    return taken


def _is_mark(marker: Any) -> bool:
    """Whether a marker tells a mark of the focus, which the plan itself has."""
    own = marker.metadata.get(_OWN)
    return own is not None and hasattr(own, "get") and own.get("kind") == _MARK


def _cue(marker: Any, rate: float) -> Cue:
    at = marker.marked_range
    first, count = round(at.start_time.rescaled_to(rate).value), round(at.duration.rescaled_to(rate).value)
    return Cue(
        name=marker.name.strip()[:_MOST_NAME] or "Cue",
        first=first,
        last=first + count - 1 if count > 1 else None,
    )


def write_list(plan: Plan, stage: Stage, path: Path) -> None:
    """Write a plan's shots, one after the other: OpenTimelineIO (.otio), with cues and marks as markers and
    the lens as metadata; or an edit list (.edl), with cues and marks as locators.

    Raises
    ------
    ExchangeError
        The file cannot be written; or its shots have several frame rates, of which an edit list has one.
    """
    import opentimelineio as otio

    kind = path.suffix.lower()
    if kind not in (OTIO_SUFFIXES[0], *EDL_SUFFIXES):
        raise ExchangeError("lists of shots are written as .otio or .edl.", file=path)
    track = otio.schema.Track(name="Shots", kind=otio.schema.TrackKind.Video)
    track.extend([_clip(plan, shot, _survey(plan, shot, stage)) for shot in plan.shots])
    timeline = otio.schema.Timeline(name=plan.name)
    timeline.tracks.append(track)
    if kind in OTIO_SUFFIXES:
        write_text(path, timeline.to_json_string())
        return
    rates = {shot.fps for shot in plan.shots}
    if len(rates) != 1:
        raise ExchangeError(
            "an edit list has one frame rate, these shots have several.", file=path,
            remedy="Write OpenTimelineIO (.otio) instead.",
        )  # fmt: skip
    try:
        text = otio.adapters.write_to_string(timeline, "cmx_3600", rate=rates.pop())
    except Exception as error:  # adapters raise whatever their formats make them
        why = " ".join(str(error).split())[:_MOST_TEXT]
        raise ExchangeError(f"this edit list cannot be written: {why}", file=path) from None
    write_text(path, text)


def _survey(plan: Plan, shot: Shot, stage: Stage) -> Survey | None:
    """A shot's numbers; none where its camera is missing, which its list does without."""
    try:
        return survey(plan, shot, stage)
    except PlanError:
        return None


def _clip(plan: Plan, shot: Shot, numbers: Survey | None) -> Any:
    import opentimelineio as otio

    def span(first: float, last: float) -> Any:
        time = otio.opentime.RationalTime
        return otio.opentime.TimeRange(time(first, shot.fps), time(last - first + 1, shot.fps))

    def marker(name: str, first: float, last: float, colour: str, **more: object) -> Any:
        return otio.schema.Marker(
            name=name, marked_range=span(first, last), color=colour, metadata={_OWN: more} if more else {}
        )

    whole = span(shot.first - shot.handles, shot.last + shot.handles)
    clip = otio.schema.Clip(
        name=shot.name,
        media_reference=otio.schema.MissingReference(name=shot.label, available_range=whole),
        source_range=span(shot.first, shot.last),
        metadata={_OWN: _lens(shot, numbers)},
    )
    colours = otio.schema.MarkerColor
    clip.markers.extend(marker(cue.name, cue.first, cue.end, colours.GREEN) for cue in shot.cues)
    clip.markers.extend(
        marker(
            f"Focus: {_target(plan, mark)}",
            mark.frame,
            mark.leaves,
            colours.YELLOW,
            **_mark(shot, mark, numbers),
        )
        for mark in shot.marks
        if shot.first <= mark.frame <= shot.last
    )
    return clip


def _target(plan: Plan, mark: Mark) -> str:
    name = plan.name_of(mark.target)
    return name if name is not None else format_length(getattr(mark.target, "metres", math.nan))


def _mark(shot: Shot, mark: Mark, numbers: Survey | None) -> dict[str, object]:
    """What a mark's marker tells besides."""
    found: dict[str, object] = {"kind": _MARK, "timecode": timecode(mark.frame, shot.fps)}
    if numbers is not None:
        row = numbers.index_of(mark.frame)
        camera = numbers.camera
        found |= {"focus_m": _plain(camera.focus_m[row]), "f_number": _plain(camera.f_number[row])}
        found |= {"near_m": _plain(numbers.near_m[row]), "far_m": _plain(numbers.far_m[row])}
    return found


def _lens(shot: Shot, numbers: Survey | None) -> dict[str, object]:
    """The lens of a shot, at its first frame where it moves; lengths in mm and m."""
    glass = shot.glass
    found: dict[str, object] = {
        "kind": "lens", "lens": glass.lens.name if glass.lens else "", "model": glass.model,
        "focus_surface": glass.surface, "squeeze": glass.squeeze, "blades": shot.iris.blades,
        "sensor_mm": [glass.sensor.width_mm, glass.sensor.height_mm],
        "shutter_deg": shot.exposure.shutter_deg, "iso": shot.exposure.iso,
        "nd_stops": shot.exposure.nd_stops,
    }  # fmt: skip
    if numbers is not None:
        camera = numbers.camera
        found |= {
            "focal_mm": _plain(camera.focal_mm[0]), "f_number": _plain(camera.f_number[0]),
            "t_stop": _plain(np.ravel(camera.t_stop)[0]), "focus_m": _plain(camera.focus_m[0]),
        }  # fmt: skip
    return found


def _plain(value: Any) -> float | None:
    return float(value) if math.isfinite(value) else None
