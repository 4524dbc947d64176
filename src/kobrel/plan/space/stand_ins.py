"""Stand-ins as scenes: each is a small scene of its own, so that moving one rebuilds nothing else."""

from collections.abc import Callable
from dataclasses import replace
from functools import cache, lru_cache
from pathlib import Path

import numpy as np

from kobrel.optics.lens import Numbers
from kobrel.plan.keys import Level
from kobrel.plan.model import STAND_IN_PREFIX, Lights, StandIn, StandInKind
from kobrel.stage import people
from kobrel.stage.motion import Motion, Track, TransformOp, matrix_motion
from kobrel.stage.scene import Material, Mesh, Node, Scene
from kobrel.stage.shapes import box, cone, cylinder, moved, plane, sphere

SIZES: dict[StandInKind, tuple[float, float, float]] = {
    "standing": (0.58, 1.75, 0.36), "seated": (0.52, 1.30, 0.86), "child": (0.45, 1.22, 0.30),
    "box": (0.6, 0.6, 0.6), "ball": (0.4, 0.4, 0.4), "cone": (0.4, 0.8, 0.4),
    "cylinder": (0.4, 0.8, 0.4), "card": (0.5, 0.7, 0.005), "wall": (4.0, 2.6, 0.2),
    "ground": (40.0, 0.01, 40.0), "string": (6.0, 0.5, 0.1), "scatter": (6.0, 2.0, 3.0),
}  # fmt: skip
"""Width, height and depth in metres of fresh ones."""
MOST_SAMPLES = 20_000
"""Frames that keys are worked out at, at most."""
MEASURED = "/measured"
"""The node that a subject on a stand-in is at."""


def scene_of(number: int) -> str:
    """The name that a stand-in has among the scenes of a stage."""
    return f"{STAND_IN_PREFIX}{number}"


def number_of(scene: str) -> int | None:
    """The stand-in's number behind a scene's name on the stage, or None for a file's."""
    tail = scene.removeprefix(STAND_IN_PREFIX)
    return int(tail) if tail != scene and tail.isdigit() else None


@cache
def _unit_mesh(kind: StandInKind) -> Mesh:
    """The shape, one metre wide, high and deep, on the ground about the origin."""
    shapes: dict[StandInKind, Callable[[], Mesh]] = {
        "standing": people.standing, "seated": people.seated, "child": people.child, "ball": sphere,
        "cone": lambda: cone(around=48), "cylinder": lambda: cylinder(around=48),
        "ground": plane,
    }  # fmt: skip
    mesh = shapes.get(kind, box)()
    low, high = mesh.bounds()
    size = np.where(high > low, high - low, 1.0)
    middle = np.array([(low[0] + high[0]) / 2, low[1], (low[2] + high[2]) / 2])
    return moved(mesh, -middle / size, 1.0 / size)


@cache
def _bulb() -> Mesh:
    return sphere(0.5, 12)


@lru_cache(maxsize=256)
def stand_in_scene(stand_in: StandIn) -> Scene:
    """The scene of a stand-in: a root that carries it, its copies, and the point to measure."""
    steps = (
        TransformOp("translate", stand_in.places()),
        TransformOp("rotate", Track.constant([stand_in.turn_deg]), "Y"),
    )
    nodes = [Node("/", motion=Motion(steps))]
    share = people.EYES_OF_HEIGHT if stand_in.is_person else 0.5
    if stand_in.kind in ("string", "scatter"):
        nodes += _bulbs(stand_in, stand_in.lights or Lights())
    else:
        nodes += _copies(stand_in)
    opacity = _opacity_track(stand_in.opacity)
    if opacity is not None:
        nodes = [node if node.mesh is None else replace(node, opacity=opacity) for node in nodes]
    eye = np.array([0.0, stand_in.size_m[1] * share, 0.0])
    nodes.append(Node(MEASURED, 0, matrix_motion(_moved(eye))))
    return Scene(Path(stand_in.name), tuple(nodes))


def _opacity_track(level: Level) -> Track | None:
    """A level frame by frame, (K, 1); None where it is always whole."""
    if not level.keys:
        return None if level.value >= 1.0 else Track.constant([level.value])
    first, last = np.floor(level.keys[0].frame), np.ceil(level.keys[-1].frame)
    times = np.arange(first, min(last, first + MOST_SAMPLES) + 1.0)
    return Track(times, level.at(times)[:, None])


def _moved(by: Numbers, scale: Numbers | float = 1.0) -> Numbers:
    matrix = np.eye(4)
    matrix[[0, 1, 2], [0, 1, 2]] = scale
    matrix[:3, 3] = by
    return matrix


def _copies(stand_in: StandIn) -> list[Node]:
    count, step = 1, np.zeros(3)
    if stand_in.row is not None:
        # The row's direction is the stage's, whichever way the copies themselves face.
        angle = np.radians(stand_in.row.direction_deg - stand_in.turn_deg)
        step = np.array([np.sin(angle), 0.0, np.cos(angle)]) * stand_in.row.spacing_m
        count = stand_in.row.count
    size = np.asarray(stand_in.size_m)
    if stand_in.kind == "ground":
        size = size * (1, 0, 1) + (0, 1, 0)
    look = (Material(stand_in.name, base=stand_in.colour),)
    mesh = _unit_mesh(stand_in.kind)
    return [
        Node(f"/{i + 1}", 0, matrix_motion(_moved(step * i, size)), mesh=mesh, materials=look)
        for i in range(count)
    ]


def _bulbs(stand_in: StandIn, lights: Lights) -> list[Node]:
    """Small lights: hanging along a line that sags by the height, or anywhere in the box."""
    random = np.random.default_rng(lights.number)
    width, height, depth = stand_in.size_m
    if stand_in.kind == "string":
        t = (np.arange(lights.count) + 0.5) / lights.count * 2 - 1
        places = np.stack([t * width / 2, height * t * t, random.uniform(-0.5, 0.5, len(t)) * depth], axis=-1)
    else:
        places = random.uniform((-0.5, 0, -0.5), (0.5, 1, 0.5), (lights.count, 3)) * stand_in.size_m
    tints = np.exp(random.normal(0.0, lights.spread, (lights.count, 3))) * lights.colour
    strength = lights.brightness * np.exp(random.normal(0.0, lights.spread / 2, lights.count))
    glow = tints / np.maximum(tints.max(axis=1, keepdims=True), 1e-9) * strength[:, None]
    return [
        Node(
            f"/{i + 1}", 0, matrix_motion(_moved(place, lights.size_m)), mesh=_bulb(),
            materials=(Material(f"{stand_in.name} {i + 1}", (0.0, 0.0, 0.0), tuple(colour.tolist())),),
        )
        for i, (place, colour) in enumerate(zip(places, glow, strict=True))
    ]  # fmt: skip
