"""What deforming shapes and many copies cost, against the same standing still."""

import os
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from rich.table import Table

from kobrel.picture.quick import blurred
from kobrel.picture.tracer import Film, in_bands, never, sharp_picture
from kobrel.picture.tracing.lens import lens_ray, lens_sample, pupil
from kobrel.picture.view import View, light_numbers
from kobrel.plan.edit import add_subject
from kobrel.plan.instrument import Glass
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import MadeCamera, Plan, Shot
from kobrel.plan.space.anchors import on_surface
from kobrel.stage.copies import Copies
from kobrel.stage.deform import Deformation, Skin, Still
from kobrel.stage.engine import rays
from kobrel.stage.joints import Joints
from kobrel.stage.motion import Motion, Track, TransformOp
from kobrel.stage.scene import Mesh, Node, Scene
from kobrel.stage.shapes import plane
from kobrel.stage.stage import Stage

SIZE = (640, 360)
JOINTS, FRAMES = 40, 1000
Paired = Callable[..., list[float]]


def tube(around: int, along: int) -> Mesh:
    """A standing tube, 2 m high, of around * (along + 1) points."""
    angle = np.linspace(0, 2 * np.pi, around, endpoint=False)
    height = np.linspace(0, 2, along + 1)
    wide = 0.3 + 0.05 * np.sin(9 * height)
    points = np.stack(
        [wide[:, None] * np.cos(angle), np.repeat(height[:, None], around, 1), wide[:, None] * np.sin(angle)],
        -1,
    ).reshape(-1, 3)
    row, column = np.meshgrid(np.arange(along), np.arange(around), indexing="ij")
    after = (column + 1) % around
    a, b, c, d = (
        row * around + column,
        row * around + after,
        (row + 1) * around + after,
        (row + 1) * around + column,
    )
    faces = np.concatenate([np.stack([a, c, b], -1).reshape(-1, 3), np.stack([a, d, c], -1).reshape(-1, 3)])
    return Mesh(points.astype(np.float32), faces.astype(np.uint32), smooth=True)


def dancer(mesh: Mesh) -> Mesh:
    """The tube over a chain of joints that all turn in every frame."""
    step = 2.0 / JOINTS
    times = np.arange(1.0, FRAMES + 1)
    motions, bound = [], []
    for joint in range(JOINTS):
        angle = 0.5 * np.radians(6) * np.sin(times / 9 + joint / 5)
        quaternions = np.stack([np.cos(angle), 0 * angle, 0 * angle, np.sin(angle)], -1)
        move = Track.constant([0, step if joint else 0, 0])
        motions.append(
            Motion((TransformOp("translate", move), TransformOp("quaternion", Track(times, quaternions))))
        )
        matrix = np.eye(4)
        matrix[1, 3] = -step * joint
        bound.append(matrix)
    place = mesh.points[:, 1] / step
    low = np.clip(place.astype(int), 0, JOINTS - 1)
    joints = np.stack([low, np.minimum(low + 1, JOINTS - 1), np.maximum(low - 1, 0), low], -1)
    part = np.clip(place - low, 0, 1)
    weights = np.stack([0.7 - 0.3 * part, 0.3 * part, np.full_like(part, 0.2), np.full_like(part, 0.1)], -1)
    skeleton = Joints(tuple(range(-1, JOINTS - 1)), tuple(motions))
    skin = Skin(
        joints.astype(np.int32), weights.astype(np.float32), skeleton, np.arange(JOINTS), np.array(bound)
    )
    return Mesh(
        mesh.points, mesh.triangles, smooth=True, deformation=Deformation(Still(mesh.points), None, skin)
    )


def moving_camera() -> Shot:
    camera = MadeCamera(position_m=(0.0, 1.2, 4.0), aim_m=(0.0, 1.0, 0.0))
    return Shot(name="1", first=1, last=FRAMES, camera=camera, glass=Glass())


def with_subjects(stage: Stage, count: int = 20) -> Plan:
    plan, frame = Plan(shots=(moving_camera(),)), 1.0
    for k in range(count):
        low, high = stage.bounds(frame)
        height = 0.1 + (float(high[1]) - 0.2) * k / count
        across = np.linspace(low[0], high[0], 400)
        picks = (stage.pick(frame, (x, height, 4), (0, 0, -1)) for x in np.clip(across, -1, 1))
        pick = next(pick for pick in picks if pick is not None and pick.place.path == "/body")
        plan, _ = add_subject(plan, f"s{k}", on_surface(pick))
    return plan


def deforming(table: Table, paired: Paired) -> None:
    """A skinned mesh of 100,000 points."""
    still = tube(250, 400)
    alive = dancer(still)
    floor = Node("/floor", mesh=plane(20.0, 20.0))
    stages = [Stage([("s", Scene(Path("s"), (Node("/body", mesh=mesh), floor)))]) for mesh in (alive, still)]
    plans = [with_subjects(stage) for stage in stages]
    shot = plans[0].shots[0]

    def surveyed(plan: Plan, stage: Stage) -> Callable[[], object]:
        def work() -> object:
            stage._kept.clear()
            for piece in stage._pieces:
                for mesh in piece.meshes:
                    if mesh.deformation is not None:
                        mesh.deformation.skin.skeleton._last.clear()
            return survey(plan, shot, stage)

        return work

    ours, theirs = paired(*(surveyed(p, s) for p, s in zip(plans, stages, strict=True)))
    table.add_row(
        f"survey, {FRAMES} frames x 20 subjects on {len(still.points):,} skinned points",
        f"{ours * 1000:.0f} ms", f"{ours / theirs:.1f} x the same on a still one", "≤ 5",
    )  # fmt: skip
    frame = [1.0]

    def view_of(plan: Plan, stage: Stage) -> View:
        camera = camera_at(plan, shot, frame[0], stage)
        return View(stage.snapshot(frame[0]), camera, plan.light, *SIZE)

    def first_picture(plan: Plan, stage: Stage) -> Callable[[], object]:
        def work() -> object:
            frame[0] += 1.0
            view = view_of(plan, stage)
            return blurred(view, sharp_picture(view))

        return work

    ours, theirs = paired(*(first_picture(p, s) for p, s in zip(plans, stages, strict=True)))
    table.add_row(
        "first picture of the next frame, skinned", f"{ours * 1000:.0f} ms",
        f"{ours / theirs:.2f} x that of a still one", "≤ 2.5",
    )  # fmt: skip
    frame[0] = 300.0
    films = [Film(view_of(p, s)) for p, s in zip(plans, stages, strict=True)]
    ours, theirs = paired(*(film.expose for film in films))
    table.add_row(
        "exact pass, skinned, after 300 frames", f"{ours * 1000:.0f} ms",
        f"{ours / theirs:.2f} x that of a still one", "≤ 1.3",
    )  # fmt: skip


def field(count: int) -> Stage:
    """So many copies of a plant of 10,000 triangles, over a field."""
    random = np.random.default_rng(1)
    side = 0.6 * np.sqrt(count)
    places = random.uniform(-side / 2, side / 2, (count, 3)) * (1, 0, 1)
    turn = random.uniform(0, np.pi, count)
    turns = np.stack([np.cos(turn), 0 * turn, np.sin(turn), 0 * turn], -1)
    sizes = np.repeat(random.uniform(0.2, 0.5, (count, 1)), 3, axis=1)
    copies = Copies(Track.constant(places), Track.constant(turns), Track.constant(sizes))
    return Stage([("f", Scene(Path("f"), (Node("/plant", mesh=tube(100, 50), copies=copies),)))])


def memory_mb(what: str) -> float:
    """Memory that it takes in a process of its own."""
    code = f"from alive import grown_mb; print(grown_mb({what!r}))"
    folder = Path(__file__).parent
    told = subprocess.run(
        [sys.executable, "-c", code], check=True, capture_output=True, cwd=folder, text=True
    )
    return float(told.stdout.split()[-1])


def resident_mb() -> float:
    """Memory that this process holds."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 2**20


def grown_mb(what: str) -> float:
    """How much a process grows with many copies of a plant after one, or a skinned mesh at three frames."""
    one = field(1)
    one.snapshot(1)
    mesh = dancer(tube(250, 400))
    before = resident_mb()
    if what == "copies":
        kept = [field(10_000)]
        kept[0].snapshot(1)
    else:
        kept = [Stage([("s", Scene(Path("s"), (Node("/body", mesh=mesh),)))])]
        for frame in (1, 2, 3):
            kept[0].snapshot(frame)
    return resident_mb() - before


def copying(table: Table, paired: Paired) -> None:
    """10,000 copies of a plant of 10,000 triangles."""
    begun = time.perf_counter()
    stage = field(10_000)
    snapshot = stage.snapshot(1)
    took = time.perf_counter() - begun
    of_copies, of_skin = (memory_mb(what) for what in ("copies", "skin"))
    matrices = 10_000 * 16 * 8 / 2**20
    table.add_row(
        "10,000 copies of 10,000 triangles", f"{took * 1000:.0f} ms to make",
        f"{of_copies:.0f} MB more than one plant; matrices alone {matrices:.1f} MB", "",
    )  # fmt: skip
    skinned = dancer(tube(250, 400))
    skin = skinned.deformation.skin if skinned.deformation else None
    assert skin is not None
    bare = sum(a.nbytes for a in (skinned.points, skinned.triangles, skin.joints, skin.weights)) / 2**20
    table.add_row(
        "100,250 skinned points, two frames held", f"{of_skin:.0f} MB",
        f"{of_skin / bare:.1f} x the bare arrays, {bare:.1f} MB", "",
    )  # fmt: skip
    shot = Shot(
        name="1", camera=MadeCamera(position_m=(0, 3, 25), aim_m=(0, 0.5, 0)), glass=Glass(), first=1, last=2
    )
    plan = Plan(shots=(shot,))
    view = View(snapshot, camera_at(plan, shot, 1, stage), plan.light, *SIZE)
    origins, ways = np.empty((SIZE[0] * SIZE[1], 3), np.float32), np.empty((SIZE[0] * SIZE[1], 3), np.float32)
    for i in range(len(origins)):
        y, x = divmod(i, SIZE[0])
        px, py, around, across = lens_sample(x, y, 0, *SIZE)
        ray = lens_ray(view.numbers, *pupil(view.numbers, view.aperture, around, across)[:2], px, py)
        origins[i], ways[i] = ray[:3], ray[3:]
    hits = rays.closest_hits(snapshot.handle, snapshot.first_rows, origins, ways)
    met = hits.row >= 0
    lit = origins[met] + ways[met] * (hits.distance[met] * 0.9999)[:, None]
    toward = np.ascontiguousarray(
        np.broadcast_to(np.array(light_numbers(view.light)[:3], np.float32), lit.shape)
    )

    def bare() -> None:
        def band(rows: tuple[int, int]) -> None:
            part = slice(rows[0] * SIZE[0], rows[1] * SIZE[0])
            rays.closest_hits(snapshot.handle, snapshot.first_rows, origins[part], ways[part])
            low, high = (round(edge / SIZE[1] * len(lit)) for edge in rows)
            rays.blocked_rays(snapshot.handle, lit[low:high], toward[low:high])

        in_bands(SIZE[1], band, never)

    film = Film(view)
    ours, theirs = paired(film.expose, bare)
    table.add_row(
        "exact pass over the copies", f"{ours * 1000:.0f} ms",
        f"{theirs / ours:.0%} of the bare queries' rate on the same", "≥ 50 %",
    )  # fmt: skip
