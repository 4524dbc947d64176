"""Values and transforms of USD over time, in the scene's frames."""

import threading
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pxr import Gf, Usd, UsdGeom

from kobrel.stage.motion import Array, Motion, OpKind, Track, TransformOp

READING = threading.RLock()
"""Held while USD is read: a file that is read anew must not change under another reader."""
FIRST = Usd.TimeCode.EarliestTime()
_ROTATIONS = {f"TypeRotate{axes}": axes for axes in ("X", "Y", "Z", "XYZ", "XZY", "YXZ", "YZX", "ZXY", "ZYX")}


@dataclass(frozen=True)
class Clock:
    """How time codes become frames.

    Parameters
    ----------
    rate : frames in one time code
    held : whether values stay until the next sample
    """

    rate: float = 1.0
    held: bool = False

    def frames(self, codes: object) -> Array:
        """Time codes as frames, (K,)."""
        return np.asarray(codes, dtype=float) * self.rate

    def track(self, attribute: Usd.Attribute) -> Track | None:
        """An attribute's numbers over time, (K, n), or None where it is absent."""
        if not attribute or not attribute.HasValue():
            return None
        times = attribute.GetTimeSamples()
        values = [attribute.Get(time) for time in times] if times else [attribute.Get()]
        stacked = np.stack([_plain(value) for value in values])
        return Track(self.frames(times or [0.0]), stacked, held=self.held)

    def moving(self, attribute: Usd.Attribute) -> bool:
        """Whether an attribute has more than one sample."""
        return bool(attribute) and attribute.GetNumTimeSamples() > 1


def clock_of(stage: Usd.Stage) -> Clock:
    """Frames are time codes, unless the file has a frame rate of its own besides."""
    codes, frames = float(stage.GetTimeCodesPerSecond()), float(stage.GetFramesPerSecond())
    own = stage.GetRootLayer()
    both = own.HasTimeCodesPerSecond() and own.HasFramesPerSecond() and codes > 0 and frames > 0
    held = stage.GetInterpolationType() == Usd.InterpolationTypeHeld
    return Clock(frames / codes if both else 1.0, held)


def motion_of(prim: Usd.Prim, clock: Clock) -> tuple[Motion, bool, list[str]]:
    """A prim's own transform, whether it leaves out those above it, and the steps left out."""
    xform = UsdGeom.Xformable(prim)
    if not xform:
        return Motion(), False, []
    steps = [(op, _transform_op(op, clock)) for op in xform.GetOrderedXformOps()]
    lost = [f"{prim.GetPath()}: transform step {op.GetOpName()} is skipped." for op, s in steps if s is None]
    return Motion(tuple(s for _, s in steps if s is not None)), bool(xform.GetResetXformStack()), lost


def motion_from_root(prim: Usd.Prim, clock: Clock, root: Usd.Prim | None = None) -> Motion:
    """All transforms from the scene's root, or from a prim above and with it, down to a prim."""
    ops: tuple[TransformOp, ...] = ()
    while prim and not prim.IsPseudoRoot():
        motion, resets, _ = motion_of(prim, clock)
        ops = motion.ops + ops
        if resets or (root is not None and prim == root):
            break
        prim = prim.GetParent()
    return Motion(ops)


def _transform_op(op: UsdGeom.XformOp, clock: Clock) -> TransformOp | None:
    kinds: dict[str, OpKind] = {
        "TypeTranslate": "translate", "TypeScale": "scale",
        "TypeOrient": "quaternion", "TypeTransform": "matrix",
    }  # fmt: skip
    name = op.GetOpType().name
    axes = _ROTATIONS.get(name, "")
    kind: OpKind | None = "rotate" if axes else kinds.get(name)
    track = clock.track(op.GetAttr())
    if track is None:
        return None
    if kind is None:
        if not name.startswith(("TypeTranslate", "TypeScale")):
            return None
        kind = "translate" if name.startswith("TypeTranslate") else "scale"
        values = np.full((len(track.times), 3), 0.0 if kind == "translate" else 1.0)
        values[:, "XYZ".index(name[-1])] = track.values[:, 0]
        track = Track(track.times, values, held=track.held)
    return TransformOp(kind, track, axes, bool(op.IsInverseOp()))


def _plain(value: object) -> NDArray[np.float64]:
    if isinstance(value, Gf.Quatf | Gf.Quatd | Gf.Quath):
        return np.array([value.GetReal(), *value.GetImaginary()], dtype=float)
    if isinstance(value, Gf.Matrix4d):
        return np.asarray(value, dtype=float).T
    return np.atleast_1d(np.asarray(value, dtype=float))


def quaternions(values: object) -> Array:
    """An array of USD's quaternions as (n, 4), w first."""
    listed = list(values)  # type: ignore[call-overload]
    return np.array([[q.GetReal(), *q.GetImaginary()] for q in listed], np.float64).reshape(-1, 4)
