"""Skins and blend shapes of USD, ready for any frame."""

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from pxr import Usd, UsdGeom, UsdSkel

from kobrel.stage.deform import Blend, Deformation, Skin, Still
from kobrel.stage.joints import Joints
from kobrel.stage.motion import Array, Motion, Track, TransformOp, matrix_motion
from kobrel.stage.read.usd.meshes import as_array, deformed
from kobrel.stage.read.usd.motion import FIRST, Clock, motion_from_root, quaternions
from kobrel.stage.scene import Mesh


@dataclass(frozen=True, eq=False)
class _Skeleton:
    """A skeleton with its animation.

    `bound` (J, 4, 4) goes from the space in which it was bound to each joint's; `motion` is where the
    skeleton stands.
    """

    joints: Joints
    bound: Array
    motion: Motion
    names: tuple[str, ...]
    shapes: tuple[str, ...]
    weights: Track | None


class Skins:
    """The skinned meshes of a scene by the paths of their prims.

    Parameters
    ----------
    warnings : where it is told what was approximated
    """

    def __init__(self, stage: Usd.Stage, clock: Clock, warnings: list[str]) -> None:
        self._clock, self._warnings = clock, warnings
        self._queries: dict[str, tuple[UsdSkel.SkinningQuery, UsdSkel.SkeletonQuery]] = {}
        self._skeletons: dict[str, _Skeleton] = {}
        self._cache = UsdSkel.Cache()
        for prim in stage.Traverse(Usd.TraverseInstanceProxies()):
            if not prim.IsA(UsdSkel.Root):
                continue
            root = UsdSkel.Root(prim)
            self._cache.Populate(root, Usd.TraverseInstanceProxies())
            for binding in self._cache.ComputeSkelBindings(root, Usd.TraverseInstanceProxies()):
                skeleton = self._cache.GetSkelQuery(binding.GetSkeleton())
                for query in binding.GetSkinningTargets():
                    self._queries[str(query.GetPrim().GetPath())] = query, skeleton

    def knows(self, prim: Usd.Prim) -> bool:
        """Whether a mesh has a skin or blend shapes."""
        return str(prim.GetPath()) in self._queries

    def skinned(self, prim: Usd.Prim, mesh: Mesh, points: int) -> tuple[Mesh, Motion | None]:
        """A mesh with its skin and blend shapes, and the motion from the scene's root that it then has
        instead of its own; None where it keeps that.

        Parameters
        ----------
        points : how many the file gives it
        """
        found = self._queries.get(str(prim.GetPath()))
        if found is None:
            return mesh, None
        query, skeleton_query = found
        skeleton = self._skeleton(skeleton_query)
        blend = self._blend(query, skeleton, points)
        skin = self._skin(query, skeleton, points)
        if blend is None and skin is None:
            return mesh, None
        base = mesh.deformation or Deformation(Still(mesh.points))
        ready = replace(deformed(mesh), deformation=replace(base, blend=blend, skin=skin))
        return ready, skeleton.motion if skin is not None else None

    def _skeleton(self, query: UsdSkel.SkeletonQuery) -> _Skeleton:
        key = str(query.GetPrim().GetPath())
        if key not in self._skeletons:
            self._skeletons[key] = self._read(query)
        return self._skeletons[key]

    def _read(self, query: UsdSkel.SkeletonQuery) -> _Skeleton:
        names = tuple(str(name) for name in query.GetJointOrder())
        rest = [np.asarray(m, float).T for m in query.ComputeJointLocalTransforms(FIRST, True)]
        motions = [matrix_motion(m) for m in rest] or [Motion()] * len(names)
        animation = query.GetAnimQuery()
        shapes: tuple[str, ...] = ()
        weights = None
        if animation:
            source = UsdSkel.Animation(animation.GetPrim())
            for number, motion in self._animated(source, [str(n) for n in animation.GetJointOrder()]):
                if number in names:
                    motions[names.index(number)] = motion
            shapes = tuple(str(name) for name in animation.GetBlendShapeOrder())
            weights = self._clock.track(source.GetBlendShapeWeightsAttr())
        bind = [np.asarray(m, float).T for m in query.GetJointWorldBindTransforms()]
        parents = tuple(int(parent) for parent in query.GetTopology().GetParentIndices())
        bound = np.linalg.inv(np.asarray(bind).reshape(-1, 4, 4))
        motion = motion_from_root(query.GetPrim(), self._clock)
        return _Skeleton(Joints(parents, tuple(motions)), bound, motion, names, shapes, weights)

    def _animated(self, source: UsdSkel.Animation, order: list[str]) -> list[tuple[str, Motion]]:
        """The joints that an animation moves, by name."""
        places, sizes = (
            self._clock.track(attribute)
            for attribute in (source.GetTranslationsAttr(), source.GetScalesAttr())
        )
        sizes = None if sizes is None else replace(sizes, half=True)
        turns = self._turns(source.GetRotationsAttr())
        joints = []
        for number, name in enumerate(order):

            def own(track: Track, at: int = number) -> Track:
                return replace(track, values=track.values[:, at])

            ops = [] if places is None else [TransformOp("translate", own(places))]
            ops += [] if turns is None else [TransformOp("quaternion", own(turns))]
            ops += [] if sizes is None else [TransformOp("scale", own(sizes))]
            joints.append((name, Motion(tuple(ops))))
        return joints

    def _turns(self, attribute: Usd.Attribute) -> Track | None:
        """Quaternions over time, (K, J, 4); None where there are none."""
        if not attribute or not attribute.HasValue():
            return None
        codes = attribute.GetTimeSamples()
        values = [quaternions(attribute.Get(code)) for code in codes] or [quaternions(attribute.Get())]
        return Track(self._clock.frames(codes or [0.0]), np.stack(values), held=self._clock.held)

    def _skin(self, query: UsdSkel.SkinningQuery, skeleton: _Skeleton, points: int) -> Skin | None:
        if not query.HasJointInfluences() or not len(skeleton.bound):
            return None
        path = query.GetPrim().GetPath()
        if query.GetSkinningMethod() != UsdSkel.Tokens.classicLinear:
            self._warnings.append(
                f"{path}: its skin bends by {query.GetSkinningMethod()}; drawn as a linear one."
            )
        found = query.ComputeVaryingJointInfluences(points)
        if not found:
            self._warnings.append(f"{path}: its skin does not fit its points; it is drawn stiff.")
            return None
        own = query.GetJointOrder()
        order = [str(name) for name in own] if own else list(skeleton.names)
        places = np.array([skeleton.names.index(name) if name in skeleton.names else 0 for name in order])
        indices, weights = (
            as_array(values, kind) for values, kind in zip(found, (np.int32, np.float32), strict=True)
        )
        if not len(indices) or len(indices) % points or indices.min() < 0 or indices.max() >= len(places):
            self._warnings.append(f"{path}: its skin names joints that are not there; it is drawn stiff.")
            return None
        each = weights.reshape(points, -1)
        total = each.sum(axis=1, keepdims=True)
        bind = np.asarray(query.GetGeomBindTransform(), float).T
        return Skin(
            places[indices].reshape(points, -1).astype(np.int32),
            np.ascontiguousarray(each / np.where(total > 0, total, 1.0), np.float32),
            skeleton.joints,
            np.arange(len(skeleton.bound)),
            skeleton.bound @ bind,
        )

    def _blend(self, query: UsdSkel.SkinningQuery, skeleton: _Skeleton, points: int) -> Blend | None:
        if not query.HasBlendShapes() or skeleton.weights is None:
            return None
        prim = query.GetPrim()
        targets = query.GetBlendShapeTargetsRel().GetForwardedTargets()
        names = [str(name) for name in query.GetBlendShapeOrder()]
        shapes, columns, ways = [], [], []
        for name, target in zip(names, targets, strict=False):
            shape = UsdSkel.BlendShape(prim.GetStage().GetPrimAtPath(target))
            if not shape or name not in skeleton.shapes:
                continue
            which = as_array(shape.GetPointIndicesAttr().Get(), np.int64)
            steps = self._steps(shape)
            at = np.array(sorted((0.0, *steps)))
            for weight, offsets in steps.items():
                shifts = as_array(offsets, np.float32, 3)
                vertices = which if len(which) == len(shifts) else np.arange(len(shifts))
                if len(shifts) and (vertices.min() < 0 or vertices.max() >= points):
                    self._warnings.append(f"{target}: skipped, it moves points that are not there.")
                    continue
                shapes.append((vertices, shifts))
                columns.append(skeleton.shapes.index(name))
                ways.append((at, (at == weight).astype(float)))
        if not shapes:
            return None
        track = skeleton.weights

        def weights(frames: Array) -> Array:
            raw = track.at(frames)[:, columns]
            return np.stack([_between(raw[:, k], *way) for k, way in enumerate(ways)], axis=1)

        return Blend.of(shapes, weights)

    def _steps(self, shape: UsdSkel.BlendShape) -> dict[float, Any]:
        """The offsets of a shape by their weights, one a weight and none at 0, where nothing is moved."""
        steps = {1.0: shape.GetOffsetsAttr().Get()}
        twice = []
        for between in shape.GetInbetweens():
            weight = float(between.GetWeight())
            if weight == 0.0 or weight in steps or not math.isfinite(weight):
                twice.append(weight)
            else:
                steps[weight] = between.GetOffsets()
        if twice:
            named = ", ".join(f"{weight:g}" for weight in sorted(twice))
            what = "a step" if len(twice) == 1 else f"{len(twice)} steps"
            self._warnings.append(
                f"{shape.GetPath()}: {what} skipped; what it is at {named} is said already."
            )
        return steps


def _between(weight: Array, at: Array, hat: Array) -> Array:
    """The weight of one step of a shape: 1 at its own weight, 0 at its neighbours', straight between;
    beyond the outermost the last way goes on.
    """
    if len(at) == 2:
        return weight
    low = np.clip(np.searchsorted(at, weight, side="right") - 1, 0, len(at) - 2)
    part = (weight - at[low]) / (at[low + 1] - at[low])
    return np.asarray(hat[low] * (1 - part) + hat[low + 1] * part)


def points_of(prim: Usd.Prim) -> int:
    """How many points the file gives a mesh."""
    return len(UsdGeom.Mesh(prim).GetPointsAttr().Get(FIRST) or ())
