"""Point instancers and points of USD as copies of meshes."""

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Sdf, Usd, UsdGeom

from kobrel.stage.copies import Copies
from kobrel.stage.motion import Array, Track
from kobrel.stage.read.sanitising import MOST_COPIES
from kobrel.stage.read.usd.meshes import as_array
from kobrel.stage.read.usd.motion import FIRST, Clock, motion_from_root, quaternions


def placed_prototypes(
    prim: Usd.Prim,
    clock: Clock,
    warnings: list[str],
    around: Copies | None = None,
    within_of: frozenset[Sdf.Path] = frozenset(),
) -> Iterator[tuple[Usd.Prim, Usd.Prim, Copies]]:
    """What an instancer copies: each prim of its prototypes that may have a mesh, its prototype, and the
    copies. An instancer within a prototype is followed too, but not into itself.

    Parameters
    ----------
    around : copies of what the instancer is within
    within_of : the instancers of those
    """
    instancer = UsdGeom.PointInstancer(prim)
    targets = instancer.GetPrototypesRel().GetForwardedTargets()
    made = _all_copies(instancer, clock, len(targets))
    if made is None:
        warnings.append(f"{prim.GetPath()}: skipped, its instances' numbers do not fit each other.")
        return
    for number, target in enumerate(targets):
        prototype = prim.GetStage().GetPrimAtPath(target)
        copies = made[number]
        if not prototype or copies is None:
            continue
        copies = replace(copies, around=around)
        if copies.count > MOST_COPIES:
            warnings.append(f"{target}: skipped, it has {copies.count} copies.")
            continue
        chain = within_of | {prim.GetPath()}
        within = iter(Usd.PrimRange(prototype, Usd.TraverseInstanceProxies()))
        for each in within:
            if each.GetPath() in chain:
                within.PruneChildren()
                warnings.append(f"{prim.GetPath()}: {each.GetPath()} would copy itself; it is skipped there.")
            elif each.IsA(UsdGeom.PointInstancer):
                within.PruneChildren()
                yield from placed_prototypes(
                    each,
                    clock,
                    warnings,
                    replace(copies, within=_inside(each, prototype, clock, warnings)),
                    chain,
                )
            else:
                yield each, prototype, copies


def _inside(prim: Usd.Prim, prototype: Usd.Prim, clock: Clock, warnings: list[str]) -> Array:
    """Where a prim stands in the space of the copies of its prototype."""
    motion = motion_from_root(prim, clock, prototype)
    if motion.moves:
        warnings.append(f"{prim.GetPath()}: it moves within its copies; its first place is used.")
    return np.asarray(motion.matrices([clock.frames([0.0])[0]])[0], float)


def _all_copies(
    instancer: UsdGeom.PointInstancer, clock: Clock, prototypes: int
) -> list[Copies | None] | None:
    """The copies of each prototype, None for those that have none; None where numbers do not fit."""
    attributes = [
        instancer.GetPositionsAttr(), instancer.GetProtoIndicesAttr(), instancer.GetScalesAttr(),
        instancer.GetOrientationsAttr(), instancer.GetInvisibleIdsAttr(), instancer.GetIdsAttr(),
    ]  # fmt: skip
    codes: list[float] = sorted({code for attribute in attributes for code in attribute.GetTimeSamples()})
    states = [_state(instancer, Usd.TimeCode(code)) for code in codes] or [_state(instancer, FIRST)]
    if any(state is None for state in states):
        return None
    known = [state for state in states if state is not None]
    ids = np.unique(np.concatenate([state["ids"] for state in known]))
    count, steps = len(ids), len(known)
    places, sizes = np.zeros((steps, count, 3)), np.ones((steps, count, 3))
    turns = np.tile([1.0, 0.0, 0.0, 0.0], (steps, count, 1))
    kinds = np.full((steps, count), -1)
    for step, state in enumerate(known):
        rows = np.searchsorted(ids, state["ids"])
        if step:  # what is not there now stays where it was
            places[step], sizes[step], turns[step] = places[step - 1], sizes[step - 1], turns[step - 1]
        places[step, rows], sizes[step, rows] = state["places"], state["sizes"]
        turns[step, rows] = state["turns"]
        kinds[step, rows[state["seen"]]] = state["kinds"][state["seen"]]
    times = clock.frames(codes or [0.0])
    held = clock.held
    result: list[Copies | None] = []
    for kind in range(prototypes):
        used = np.flatnonzero((kinds == kind).any(axis=0))
        if not len(used):
            result.append(None)
            continue
        seen = (kinds[:, used] == kind).astype(float)
        result.append(
            Copies(
                Track(times, places[:, used], held=held),
                Track(times, turns[:, used], held=held),
                Track(times, sizes[:, used], held=held),
                None if seen.all() else Track(times, seen, held=True),
            )
        )
    return result


def _state(instancer: UsdGeom.PointInstancer, code: Usd.TimeCode) -> dict[str, NDArray[Any]] | None:
    """The instances at one time; None where their numbers do not fit each other."""
    places = as_array(instancer.GetPositionsAttr().Get(code), float, 3)
    kinds = as_array(instancer.GetProtoIndicesAttr().Get(code), np.int64)
    count = len(places)
    if len(kinds) != count or not np.isfinite(places).all():
        return None
    sizes = as_array(instancer.GetScalesAttr().Get(code), float, 3)
    given = instancer.GetOrientationsAttr().Get(code)
    finer = instancer.GetPrim().GetAttribute("orientationsf")
    if finer and finer.HasValue():
        given = finer.Get(code)
    turns = quaternions(given) if given else np.zeros((0, 4))
    ids = as_array(instancer.GetIdsAttr().Get(code), np.int64)
    if len(ids) != count:
        ids = np.arange(count)
    mask = instancer.ComputeMaskAtTime(code)
    return {
        "ids": ids,
        "places": places,
        "kinds": kinds,
        "sizes": sizes if len(sizes) == count else np.ones((count, 3)),
        "turns": turns if len(turns) == count else np.tile([1.0, 0.0, 0.0, 0.0], (count, 1)),
        "seen": np.asarray(mask, bool) if mask and len(mask) == count else np.ones(count, bool),
    }


def copies_of_points(prim: Usd.Prim, clock: Clock) -> Copies | None:
    """The places and sizes of points, for balls of one unit across; None where there are none."""
    points = UsdGeom.Points(prim)
    attribute, widths = points.GetPointsAttr(), points.GetWidthsAttr()
    codes = attribute.GetTimeSamples()
    places = [as_array(attribute.Get(Usd.TimeCode(code)), float, 3) for code in codes]
    places = places or [as_array(attribute.Get(), float, 3)]
    count = max(len(each) for each in places)
    if not count:
        return None
    times = clock.frames(codes or [0.0])
    there = np.stack([np.arange(count) < len(each) for each in places]).astype(float)
    filled = np.stack([np.pad(each, ((0, count - len(each)), (0, 0))) for each in places])
    wide = as_array(widths.Get(FIRST), float)
    wide = np.resize(wide, count) if len(wide) else np.full(count, 1.0)
    return Copies(
        Track(times, filled, held=clock.held),
        sizes=Track.constant(np.repeat(wide[:, None], 3, axis=1)),
        shown=None if there.all() else Track(times, there, held=True),
    )
