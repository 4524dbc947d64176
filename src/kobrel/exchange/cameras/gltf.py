"""A shot's camera as glTF: it moves as the format has it, and its lens stands in ``extras``.

The format knows neither focus nor stop, and its angle of view does not change over time. So the angle of
view is that of the first frame, and everything at every frame stands in the camera's extras, under
``kobrel``: see :class:`kobrel.stage.read.gltf.document.OwnLens`, which reads it back.

Source: glTF 2.0 specification, chapters 3.10 (cameras) and 3.11 (animations).
"""

import base64
import json
import struct
from pathlib import Path
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

from kobrel.errors import ExchangeError
from kobrel.exchange.writing.whole import whole_file
from kobrel.optics.lens import Numbers
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import Plan, Shot
from kobrel.plan.sequence.shots import whole_range
from kobrel.stage.scene import GLTF_SUFFIXES
from kobrel.stage.stage import Stage

_FLOAT, _JSON_CHUNK, _BINARY_CHUNK = 5126, 0x4E4F534A, 0x004E4942
_LEAST_NEAR_M, _FAR_M = 0.001, 1e9


def write_gltf(plan: Plan, shot: Shot, stage: Stage, path: Path) -> None:
    """Write a shot's camera, sampled at each of its frames, as .gltf or .glb; metres, Y up.

    Raises
    ------
    PlanError
        The shot's camera is in no scene of the stage.
    ExchangeError
        The file cannot be written, or the format has no such view.
    """
    if path.suffix.lower() not in GLTF_SUFFIXES:
        raise ExchangeError(f"a camera of glTF is written as {' or '.join(GLTF_SUFFIXES)}.", file=path)
    if shot.glass.projection == "fisheye":
        raise ExchangeError(f"Shot {shot.label}: glTF's camera knows no fisheye. Export its numbers instead.")
    numbers = survey(plan, shot, stage, whole_range(shot))
    camera, first = numbers.camera, float(numbers.frames[0])
    parts = [
        ((numbers.frames - first) / shot.fps)[:, None],
        np.ascontiguousarray(camera.pose[:, :3, 3]),
        _turns(camera.pose[:, :3, :3]),
    ]
    binary = b"".join(np.ascontiguousarray(part, "<f4").tobytes() for part in parts)
    content = _document(plan, shot, camera, first, parts)
    with whole_file(path) as beside:
        beside.write_bytes(_glb(content, binary) if path.suffix.lower() == ".glb" else _gltf(content, binary))


def _turns(matrices: Numbers) -> Numbers:
    """(F, 4) quaternions, x y z w, that go the short way from each to the next."""
    turns = Rotation.from_matrix(matrices).as_quat()
    along = np.sum(turns[1:] * turns[:-1], axis=1)
    signs = np.cumprod(np.concatenate([[1.0], np.where(along < 0, -1.0, 1.0)]))
    return np.asarray(turns * signs[:, None])


def _document(plan: Plan, shot: Shot, camera: Any, first: float, parts: list[Numbers]) -> dict[str, Any]:
    count, offset = len(parts[0]), 0
    views: list[dict[str, Any]] = []
    accessors: list[dict[str, Any]] = []
    for part, kind in zip(parts, ("SCALAR", "VEC3", "VEC4"), strict=True):
        size = part.shape[1] * count * 4
        views.append({"buffer": 0, "byteOffset": offset, "byteLength": size})
        accessor: dict[str, Any] = {
            "bufferView": len(accessors),
            "componentType": _FLOAT,
            "count": count,
            "type": kind,
        }
        if kind == "SCALAR":
            times = part.astype("<f4")
            accessor |= {"min": [float(times[0, 0])], "max": [float(times[-1, 0])]}
        accessors.append(accessor)
        offset += size
    return {
        "asset": {"version": "2.0", "generator": "Kobrel",
                  "extras": {"kobrel": {"fps": shot.fps, "first": first}}},
        "scene": 0,
        "scenes": [{"name": plan.name, "nodes": [0]}],
        "nodes": [{"name": f"shot {shot.name}", "camera": 0}],
        "cameras": [_camera(shot, camera)],
        "animations": [{
            "name": f"shot {shot.name}",
            "samplers": [{"input": 0, "output": k, "interpolation": "LINEAR"} for k in (1, 2)],
            "channels": [{"sampler": k, "target": {"node": 0, "path": what}}
                         for k, what in enumerate(("translation", "rotation"))],
        }],
        "buffers": [{"byteLength": offset}],
        "bufferViews": views,
        "accessors": accessors,
    }  # fmt: skip


def _camera(shot: Shot, camera: Any) -> dict[str, Any]:
    near = max(camera.near_clip_m, _LEAST_NEAR_M)
    if camera.projection == "orthographic":
        half = camera.field_m / 2.0
        view = {"xmag": half, "ymag": half / camera.aspect, "znear": near, "zfar": _FAR_M}
        return {"type": "orthographic", "orthographic": view, "extras": {"kobrel": _lens(shot, camera)}}
    yfov = float(2.0 * np.arctan(camera.sensor_height_mm / 2.0 / camera.image_distance_mm[0]))
    view = {"yfov": yfov, "aspectRatio": float(camera.aspect), "znear": near}
    return {"type": "perspective", "perspective": view, "extras": {"kobrel": _lens(shot, camera)}}


def _lens(shot: Shot, camera: Any) -> dict[str, Any]:
    """The lens at each frame; one number stands for what does not change."""

    def track(values: Numbers) -> list[float]:
        plain = [float(value) if np.isfinite(value) else _FAR_M for value in values]
        return plain[:1] if len(set(plain)) == 1 else plain

    return {
        "focalMm": track(camera.focal_mm), "fNumber": track(camera.f_number), "focusM": track(camera.focus_m),
        "apertureRadiusM": track(camera.pupil_radius_m),
        "sensorWidthMm": camera.sensor_width_mm, "sensorHeightMm": camera.sensor_height_mm,
        "squeeze": camera.squeeze, "lensModel": camera.model, "focusSurface": camera.surface,
        "coneDeg": camera.cone_deg, "shiftMm": list(camera.shift_mm),
        "irisBlades": shot.iris.blades, "irisRoundness": shot.iris.roundness,
        "irisRotationDeg": shot.iris.rotation_deg, "shutterDeg": shot.exposure.shutter_deg,
    }  # fmt: skip


def _gltf(content: dict[str, Any], binary: bytes) -> bytes:
    uri = "data:application/octet-stream;base64," + base64.b64encode(binary).decode("ascii")
    content["buffers"][0]["uri"] = uri
    return (json.dumps(content, indent=1) + "\n").encode()


def _glb(content: dict[str, Any], binary: bytes) -> bytes:
    words = json.dumps(content, separators=(",", ":")).encode()
    words += b" " * (-len(words) % 4)
    binary += b"\0" * (-len(binary) % 4)
    chunks = b"".join(
        struct.pack("<II", len(chunk), kind) + chunk
        for chunk, kind in ((words, _JSON_CHUNK), (binary, _BINARY_CHUNK))
    )
    return struct.pack("<4sII", b"glTF", 2, 12 + len(chunks)) + chunks
