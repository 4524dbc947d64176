"""Rendered images with depth, as OpenEXR with any channel names or as two pictures; one or a sequence."""

import re
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kobrel import trust
from kobrel.errors import SceneError
from kobrel.stage.pictures.colours import to_linear
from kobrel.stage.pictures.pixels import open_source, require_room, require_size, said, shown
from kobrel.stage.read.rendered.depth import Source

ENDINGS = (".exr", ".png", ".tif", ".tiff", ".jpg", ".jpeg", ".hdr")
_DEPTH = re.compile(r"(^|[._ -])(z|depth|zdepth|depthz|distance|dist)([._ -]?[rxzvy])?$", re.IGNORECASE)
_NUMBER = re.compile(r"(\d+)(?=\.[^.]+$)")
_COLOURS = ("R", "G", "B")
_FEW_STEPS = 300


@dataclass(frozen=True, eq=False)
class Pixels:
    """A rendered image as its files have it.

    Parameters
    ----------
    colour : (H, W, 3) linear light
    depth : (H, W) values, whatever they mean
    whole_numbers : whether the depth is stored in 8 or 16 bits
    told : what was left out or looks odd, in sentences
    """

    colour: NDArray[np.float32]
    depth: NDArray[np.float32]
    whole_numbers: bool
    told: tuple[str, ...]


@dataclass(frozen=True, eq=False)
class _Part:
    """A part of a file: its channels' names, what they are, and where it stands in the picture."""

    names: tuple[str, ...]
    pixels: NDArray[np.float32]
    whole_numbers: bool
    linear: bool


def _parts(path: Path) -> list[_Part]:
    """All parts of a picture file, each as large as the picture that is shown.

    Raises
    ------
    SceneError
        It cannot be read, is deep, or too large, or lies where nothing may be read.
    """
    import OpenImageIO as oiio  # noqa: N813

    if not trust.is_allowed(path):
        raise SceneError(trust.refusal(path), file=path)
    source = open_source(path)
    parts, needed = [], 0.0
    try:
        number = 0
        while source.seek_subimage(number, 0):
            spec = source.spec()
            if spec.deep:
                raise SceneError(
                    "this is a deep picture, with several depths in a pixel.", file=path,
                    remedy="Write it flat, with colour and depth as channels.",
                )  # fmt: skip
            require_size(spec.width, spec.height, path)
            require_size(spec.full_width, spec.full_height, path)
            needed += 4.0 * spec.width * spec.height * spec.nchannels * 2
            require_room(needed, path)
            pixels = source.read_image(number, 0, 0, spec.nchannels, oiio.FLOAT)
            if pixels is None:
                raise SceneError(
                    f"the picture is broken ({said(source.geterror)}).", file=path, remedy="Export it again."
                )
            layer = str(spec.getattribute("name") or "") if number or source.seek_subimage(1, 0) else ""
            names = tuple(spec.channelnames)
            if layer and not any("." in name for name in names):
                names = tuple(f"{layer}.{name}" for name in names)
            kind = spec.format.basetype
            parts.append(
                _Part(
                    names, shown(np.asarray(pixels, np.float32), spec),
                    kind in (oiio.UINT8, oiio.UINT16, oiio.UINT32), path.suffix.lower() in (".exr", ".hdr"),
                )
            )  # fmt: skip
            number += 1
    except (UnicodeDecodeError, MemoryError) as error:
        raise SceneError(f"the picture is broken ({error}).", file=path, remedy="Export it again.") from None
    finally:
        source.close()
    return parts


def layers(path: Path) -> tuple[list[str], list[str]]:
    """Layers of a file that have red, green and blue ("" for those without a name), and channels that look
    like depth, the likeliest first.

    Raises
    ------
    SceneError
        The file cannot be read.
    """
    names = [name for part in _parts(path) for name in part.names]
    return _layers(names), _depths(names)


def _layers(names: list[str]) -> list[str]:
    there = dict.fromkeys(name.rpartition(".")[0] for name in names if name.rpartition(".")[2].upper() == "R")
    return [layer for layer in there if not _DEPTH.search(layer) and _has_colours(names, layer)]


def _has_colours(names: list[str], layer: str) -> bool:
    return all(any(_is(name, layer, colour) for name in names) for colour in _COLOURS)


def _is(name: str, layer: str, colour: str) -> bool:
    before, _, last = name.rpartition(".")
    return before == layer and last.upper() == colour


def _depths(names: list[str]) -> list[str]:
    found = [name for name in names if _DEPTH.search(name)]
    return sorted(found, key=lambda name: (name not in ("Z", "depth.Z", "depth"), len(name)))


def read_frame(finished: Source, frame: int | None = None) -> Pixels:
    """A rendered image.

    Parameters
    ----------
    frame : of a sequence; None is the one that was chosen

    Raises
    ------
    SceneError
        A file is missing or cannot be read, has no such channel, or picture and depth differ in size.
    """
    path = path_at(finished.path, frame, finished.sequence)
    parts = _parts(path)
    colour, told = _colour(parts, finished.layer, path)
    if finished.depth_path is not None:
        depth_file = path_at(finished.depth_path, frame, finished.sequence)
        depth, whole, name = _depth(_parts(depth_file), finished.depth_channel, depth_file, alone=True)
    else:
        depth_file = path
        depth, whole, name = _depth(parts, finished.depth_channel, path, alone=False)
    if depth.shape != colour.shape[:2]:
        sizes = (f"{each.shape[1]} x {each.shape[0]}" for each in (depth, colour))
        raise SceneError(
            f"the depth is {next(sizes)}, the picture {next(sizes)}.", file=depth_file,
            remedy="Export both at one size.",
        )  # fmt: skip
    bad = int(np.isnan(depth).sum())
    if bad:
        told.append(f"{name} has {bad:,} pixels that are no number; nothing stands there.")
    if not np.isfinite(colour).all():
        told.append("Pixels whose colour is no number are black.")
        colour = np.nan_to_num(colour, nan=0.0, posinf=65504.0, neginf=0.0)
    steps = len(np.unique(depth[::3, ::3])) if whole else _FEW_STEPS
    if steps < _FEW_STEPS and np.ptp(depth) > 0:
        told.append(f"{name} has {steps} steps only: the blur will change in bands. Export it as 32-bit EXR.")
    return Pixels(np.ascontiguousarray(colour), np.ascontiguousarray(depth), whole, tuple(told))


def _colour(parts: list[_Part], layer: str, path: Path) -> tuple[NDArray[np.float32], list[str]]:
    for part in parts:
        at = [next((k for k, n in enumerate(part.names) if _is(n, layer, c)), None) for c in _COLOURS]
        if all(k is not None for k in at):
            colour = part.pixels[..., [k for k in at if k is not None]]
            return (colour if part.linear else to_linear(colour)), []
    found = _layers([name for part in parts for name in part.names])
    if not layer and found:
        return _colour(parts, found[0], path)
    grey = next((part for part in parts if not _DEPTH.search(part.names[0])), None)
    if not layer and grey is not None:
        colour = np.repeat(grey.pixels[..., :1], 3, axis=2)
        return (colour if grey.linear else to_linear(colour)), [
            "The picture has no colours, it is taken as grey."
        ]
    what = f"no layer {layer}" if layer else "no red, green and blue"
    raise SceneError(f"it has {what}.", file=path, remedy="Choose one of its layers.")


def _depth(
    parts: list[_Part], channel: str, path: Path, alone: bool
) -> tuple[NDArray[np.float32], bool, str]:
    names = [name for part in parts for name in part.names]
    wanted = channel or next(iter(_depths(names)), "")
    if not wanted and alone:
        wanted = names[0]
    for part in parts:
        if wanted in part.names:
            return part.pixels[..., part.names.index(wanted)], part.whole_numbers, wanted
    what = f"no channel {channel}" if channel else "no depth channel (such as Z or depth)"
    raise SceneError(
        f"it has {what}; there are {', '.join(names[:12])}.", file=path,
        remedy="Choose its channel of depth, or a picture of depth beside it.",
    )  # fmt: skip


# Sequences


def path_at(path: str, frame: int | None, sequence: bool) -> Path:
    """The file of a frame: the number before the ending is exchanged, as wide as it is there; where no such
    file is there but one without zeros before, that.
    """
    found = Path(path)
    match = _NUMBER.search(found.name)
    if frame is None or not sequence or match is None:
        return found
    named = (f"{frame:0{len(match.group())}d}", str(frame))
    padded, plain = (
        found.with_name(f"{found.name[: match.start()]}{digits}{found.name[match.end() :]}")
        for digits in named
    )
    return plain if named[0] != named[1] and not padded.exists() and plain.exists() else padded


def number_in(path: str | Path) -> int | None:
    """The number before a file's ending.

    >>> number_in("shot.1049.exr"), number_in("still.exr")
    (1049, None)
    """
    match = _NUMBER.search(Path(path).name)
    return int(match.group()) if match else None


def frames_beside(path: Path) -> list[int]:
    """Frames of the sequence that a file is of, in order; empty where its name has no number."""
    match = _NUMBER.search(path.name)
    if match is None:
        return []
    before, after = re.escape(path.name[: match.start()]), re.escape(path.name[match.end() :])
    pattern = re.compile(f"{before}(\\d+){after}")
    return sorted({int(m.group(1)) for each in path.parent.iterdir() if (m := pattern.fullmatch(each.name))})


def gaps(frames: list[int]) -> str:
    """Which frames are missing from a sequence, in words; "" for none.

    >>> gaps([1, 2, 5, 6, 8])
    '3 to 4, 7'
    """
    missing = [(before + 1, after - 1) for before, after in pairwise(frames) if after > before + 1]
    return ", ".join(f"{a}" if a == b else f"{a} to {b}" for a, b in missing)
