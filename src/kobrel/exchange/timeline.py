"""Lists of shots from and for the edit: OpenTimelineIO, and CMX 3600 edit lists as a source."""

import math
import zipfile
import zlib
from collections.abc import Collection
from pathlib import Path
from typing import Any

from kobrel.errors import ExchangeError
from kobrel.exchange.writing import write_text
from kobrel.files import MOST_TEXT_BYTES, bytes_of, json_fault, require_file
from kobrel.plan.edit import unused
from kobrel.plan.model import MOST_SHOTS, Cue, Plan, Shot
from kobrel.plan.parts import MOST_FRAME, MOST_FRAMES
from kobrel.plan.sequence.shots import Listed
from kobrel.stage.read.probe import require_opens

OTIO_SUFFIXES, EDL_SUFFIXES = (".otio", ".otioz"), (".edl",)
_MOST_NAME = _MOST_TEXT = 200  # characters kept of a name and of a library's complaint


def read_list(path: Path, fps: float = 24.0) -> list[Listed]:
    """The shots of an edit list, in the order of its pictures.

    Parameters
    ----------
    path : OpenTimelineIO (.otio, .otioz) or an edit list (.edl)
    fps : frames a second of an edit list, which does not say it itself

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
    rate = {"rate": fps} if suffix in EDL_SUFFIXES else {}
    try:
        whole = otio.adapters.read_from_file(str(path), **rate)
        clips = _clips(whole)
    except Exception as error:  # adapters raise whatever their formats make them
        why = " ".join(str(error).split())[:_MOST_TEXT]
        raise ExchangeError(f"this list of shots cannot be read: {why}", file=path) from None
    if len(clips) > MOST_SHOTS:
        raise ExchangeError(f"it has {len(clips)} clips; up to {MOST_SHOTS} become shots.", file=path)
    found: list[Listed] = []
    taken: set[str] = set()
    for number, clip in enumerate(clips, 1):
        try:
            entry = _listed(clip, taken)
        except (ValueError, OverflowError, UnicodeError):
            entry = None
        if entry is not None:
            _require_frames(entry, number, path)
            taken.add(entry.name)
            found.append(entry)
    if not found:
        raise ExchangeError(
            "there are no shots in it.", file=path, remedy="A shot is a clip with a range of frames."
        )
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
            raise ExchangeError("this list of shots cannot be read: it is no package.", file=path) from None
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


def _clips(whole: Any) -> list[Any]:
    """Clips of the first track of pictures that has any, or else of all tracks."""
    import opentimelineio as otio

    if isinstance(whole, otio.schema.Timeline):
        for track in whole.video_tracks():
            clips = list(track.find_clips())
            if clips:
                return clips
    return list(whole.find_clips()) if hasattr(whole, "find_clips") else []


def _listed(clip: Any, taken: Collection[str]) -> Listed | None:
    """A clip as a shot; None where it has no frames."""
    try:
        cut = clip.trimmed_range()
    except Exception:  # a clip with neither a range nor media has no frames
        return None
    rate, first, count = float(cut.start_time.rate), round(cut.start_time.value), round(cut.duration.value)
    if count < 1 or not math.isfinite(rate) or rate <= 0:
        return None
    last, handles = first + count - 1, 0
    media = clip.media_reference
    whole = media.available_range if media is not None else None
    if whole is not None:
        before = first - round(whole.start_time.rescaled_to(rate).value)
        after = round(whole.end_time_exclusive().rescaled_to(rate).value) - 1 - last
        handles = max(0, min(before, after))
    cues = tuple(_cue(marker, rate) for marker in clip.markers)
    return Listed(
        unused(clip.name.strip()[:_MOST_NAME] or "Shot", taken), first, last, rate, min(handles, 10_000), cues
    )


def _cue(marker: Any, rate: float) -> Cue:
    at = marker.marked_range
    first, count = round(at.start_time.rescaled_to(rate).value), round(at.duration.rescaled_to(rate).value)
    return Cue(
        name=marker.name.strip()[:_MOST_NAME] or "Cue",
        first=first,
        last=first + count - 1 if count > 1 else None,
    )


def write_list(plan: Plan, path: Path) -> None:
    """Write a plan's shots, one after the other, with their cues as markers.

    Raises
    ------
    ExchangeError
        The file cannot be written.
    """
    import opentimelineio as otio

    if path.suffix.lower() not in OTIO_SUFFIXES[:1]:
        raise ExchangeError("lists of shots are written as .otio.", file=path)
    track = otio.schema.Track(name="Shots", kind=otio.schema.TrackKind.Video)
    track.extend([_clip(shot) for shot in plan.shots])
    timeline = otio.schema.Timeline(name=plan.name)
    timeline.tracks.append(track)
    write_text(path, timeline.to_json_string())


def _clip(shot: Shot) -> Any:
    import opentimelineio as otio

    def span(first: int, last: int) -> Any:
        time = otio.opentime.RationalTime
        return otio.opentime.TimeRange(time(first, shot.fps), time(last - first + 1, shot.fps))

    whole = span(shot.first - shot.handles, shot.last + shot.handles)
    clip = otio.schema.Clip(
        name=shot.name,
        media_reference=otio.schema.MissingReference(name=shot.label, available_range=whole),
        source_range=span(shot.first, shot.last),
    )
    clip.markers.extend(
        otio.schema.Marker(name=cue.name, marked_range=span(cue.first, cue.end)) for cue in shot.cues
    )
    return clip
