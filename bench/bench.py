"""Kobrel's benchmark: ratios taken in one run, since machines are noisy.

    make bench

Bare queries are timed twice on the very rays of a pass: through the embreex package on
the flattened stage, and through Kobrel's own kernel on the stage with its instances.
"""

import itertools
import os
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from statistics import median

import numpy as np
from alive import copying, deforming
from denoising import denoising
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene
from exporting import exporting
from glass import dragging, solving
from pulls import editing, playing
from rendered import defocusing
from rich.console import Console
from rich.table import Table

import kobrel.demo
from kobrel.picture.develop import developed
from kobrel.picture.quick import blurred
from kobrel.picture.tracer import Film, exposed, sharp_picture, thread_count
from kobrel.picture.view import View, light_numbers
from kobrel.plan.edit import add_subject, with_stand_in
from kobrel.plan.file import open_plan
from kobrel.plan.iris import IrisShape, Stencil
from kobrel.plan.look import Light
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import FixedCamera, Lights, MadeCamera, Plan, SceneRef, Shot, StandIn, SurfaceAnchor
from kobrel.plan.space.stand_ins import SIZES
from kobrel.plan.staging import Library, load_stage, stage_of
from kobrel.stage.engine import rays
from kobrel.stage.read.load import load_scene
from kobrel.stage.scene import Mesh, Node, Scene
from kobrel.stage.stage import Stage
from plates import plates

SIZE = (640, 360)
ROUNDS = 9


def plainly(light: Light) -> Light:
    """Light that asks for the same rays everywhere: one through the lens, and one to the key light."""
    return light.replace(surfaces="plain")


def once(work: Callable[[], object]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def paired(*works: Callable[[], object], rounds: int = ROUNDS) -> list[float]:
    """Median seconds of each, run in turn so that noise of the machine is shared."""
    for work in works:
        work()
    times = [[once(work) for work in works] for _ in range(rounds)]
    return [median(column) for column in zip(*times, strict=True)]


def waves(side: int) -> Mesh:
    """A wavy sheet of 2 * side * side triangles."""
    x, y = np.meshgrid(np.linspace(-4, 4, side + 1), np.linspace(-4, 4, side + 1))
    z = 0.15 * np.sin(7 * x) * np.cos(5 * y) + 0.8 * np.cos(x)
    i = np.arange((side + 1) ** 2).reshape(side + 1, side + 1)
    a, b, c, d = i[:-1, :-1], i[:-1, 1:], i[1:, 1:], i[1:, :-1]
    triangles = np.concatenate(
        [np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)]
    )
    points = np.stack([x, y, z], -1).reshape(-1, 3).astype(np.float32)
    return Mesh(points, triangles.astype(np.uint32), smooth=True)


def pass_rays(view: View) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """The rays of one exact pass: through the lens, and from what they meet to the key light."""
    from kobrel.picture.tracing.lens import lens_ray, lens_sample, pupil
    from kobrel.picture.tracing.lighting import SHADOW_LIFT

    count = view.width * view.height
    origins, directions = np.empty((count, 3), np.float32), np.empty((count, 3), np.float32)
    for i in range(count):
        y, x = divmod(i, view.width)
        px, py, around, across = lens_sample(x, y, 0, view.width, view.height)
        ray = lens_ray(view.numbers, *pupil(view.numbers, view.aperture, around, across)[:2], px, py)
        origins[i], directions[i] = ray[:3], ray[3:]
    hits = rays.closest_hits(view.snapshot.handle, view.snapshot.first_rows, origins, directions)
    met = hits.row >= 0
    toward = np.array(light_numbers(view.light)[:3], float)
    triangles = flat_triangles(view)[1][met_row(view, hits, met)]
    normal = np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    normal *= -np.sign(np.sum(normal * directions[met], axis=1, keepdims=True))
    facing = normal @ toward > 0
    points = origins[met] + directions[met] * hits.distance[met][:, None]
    start = points[facing] + normal[facing] * SHADOW_LIFT * hits.distance[met][facing][:, None]
    ways = np.broadcast_to(toward, start.shape)
    return origins, directions, start.astype(np.float32), np.ascontiguousarray(ways, np.float32)


def flat_triangles(view: View) -> tuple[np.ndarray, np.ndarray]:
    """First triangle of each instance, and all triangles on the stage, (T, 3, 3)."""
    stage = STAGES[id(view.snapshot)]
    parts, starts, total = [], [], 0
    for row in range(len(view.snapshot.matrices)):
        piece, index = stage._node_of(row)
        mesh = stage._pieces[piece].scene.nodes[index].mesh
        matrix = view.snapshot.matrices[row]
        points = mesh.points @ matrix[:3, :3].T + matrix[:3, 3] - view.snapshot.origin
        parts.append(points[mesh.triangles])
        starts.append(total)
        total += len(mesh.triangles)
    return np.asarray(starts), np.concatenate(parts).astype(np.float32)


def met_row(view: View, hits: rays.Hits, met: np.ndarray) -> np.ndarray:
    return flat_triangles(view)[0][hits.row[met]] + hits.triangle[met]


STAGES: dict[int, Stage] = {}


def tracing(table: Table, name: str, stage: Stage, view: View) -> None:
    STAGES[id(view.snapshot)] = stage
    origins, directions, starts, ways = pass_rays(view)
    triangles = flat_triangles(view)[1]
    flat = EmbreeScene()
    TriangleMesh(flat, triangles)
    flat.run(origins[:1], directions[:1])
    pool = ThreadPoolExecutor(thread_count())

    def package() -> None:
        list(pool.map(lambda s: flat.run(origins[s], directions[s], output=1), split(len(origins))))
        list(pool.map(lambda s: flat.run(starts[s], ways[s], query="OCCLUDED"), split(len(starts))))

    handle, merged = view.snapshot.handle, view.snapshot.first_rows

    def kernel() -> None:
        list(
            pool.map(
                lambda s: rays.closest_hits(handle, merged, origins[s], directions[s]), split(len(origins))
            )
        )
        list(pool.map(lambda s: rays.blocked_rays(handle, starts[s], ways[s]), split(len(starts))))

    film = Film(view)
    sharp = sharp_picture(view)
    half = replace(view, width=view.width // 2, height=view.height // 2)

    def first_after_lens() -> None:
        developed(blurred(view, sharp))

    def first_after_move() -> None:
        developed(blurred(half, sharp_picture(half)))

    exact, bare, own, lens, move = paired(film.expose, package, kernel, first_after_lens, first_after_move)
    count = len(origins) + len(starts)
    rate = f"{count / exact / 1e6:.2f} M rays/s, {exact * 1000:.0f} ms a pass"
    table.add_row(f"{name}: exact pass", rate, f"{bare / exact:.0%} of bare embreex", "≥ 75 %")
    table.add_row("", f"bare: {count / bare / 1e6:.2f} and {count / own / 1e6:.2f} M rays/s",
                  f"{own / exact:.0%} of bare kernel with instances", "")  # fmt: skip
    table.add_row(
        f"{name}: first picture, lens change",
        f"{lens * 1000:.0f} ms",
        f"{lens / bare:.2f} × a bare pass",
        "≤ 1.5",
    )
    table.add_row(
        f"{name}: first picture, frame change",
        f"{move * 1000:.0f} ms",
        f"{move / bare:.2f} × a bare pass",
        "≤ 1.5",
    )


def blocking(table: Table) -> None:
    """Two million triangles, a ground and three people: a person is moved, the probe follows."""
    scene = Scene(Path("waves"), (Node("/waves", mesh=waves(1000)),))
    people = [
        StandIn(number=n, name=f"P{n}", kind="standing", size_m=SIZES["standing"], position_m=(n - 2.0, 0, 2))
        for n in (1, 2, 3)
    ]
    ground = StandIn(number=4, name="G", kind="ground", size_m=SIZES["ground"], position_m=(0, -1, 0))
    shot = Shot(name="1", camera=MadeCamera(position_m=(0, 1, 8), aim_m=(0, 0.5, 0)))
    plan = Plan(scenes=(SceneRef(name="waves", path="waves"),), stand_ins=(*people, ground), shots=(shot,))
    library = Library({("waves", ()): scene})

    def shown(stage: Stage) -> View:
        """What the window shows first while something is dragged."""
        half = SIZE[0] // 2, SIZE[1] // 2
        view = View(stage.snapshot(1), camera_at(plan, shot, 1, stage), plainly(plan.light), *half)
        developed(blurred(view, sharp_picture(view)))
        return view

    def exact(stage: Stage) -> None:
        view = View(stage.snapshot(1), camera_at(plan, shot, 1, stage), plainly(plan.light), *SIZE)
        Film(view).expose()

    built = stage_of(plan, library)
    camera = shown(built).camera
    turns = itertools.count()

    def moved() -> Stage:
        spot = (0.1 * (next(turns) % 7), 0.0, 2.0)
        return stage_of(with_stand_in(plan, 2, position_m=spot), library, built)

    for name, draw in (("picture", shown), ("exact pass", exact)):
        full, after = paired(
            lambda d=draw: d(stage_of(plan, library)), lambda d=draw: d(moved()), rounds=5
        )  # fmt: skip
        table.add_row(
            f"2,000,000 triangles: first {name} after a stand-in moved",
            f"{after * 1000:.0f} ms",
            f"{full / after:.0f} × less than with a full build",
            "≥ 10",
        )
    ready, build = paired(
        lambda: moved().snapshot(1), lambda: stage_of(plan, library).snapshot(1), rounds=5
    )  # fmt: skip
    table.add_row(
        "2,000,000 triangles: the stage alone after a stand-in moved",
        f"{ready * 1000:.1f} ms",
        f"{build / ready:.0f} × less than a full build",
        "≥ 10",
    )
    random = np.random.default_rng(1)
    places = random.uniform(0, 1, (400, 2)) * SIZE

    def probe() -> None:
        for x, y in places:
            pick = built.pick(1, *camera.ray(x, y, *SIZE))
            if pick is not None:
                camera.see(pick.point)

    stop = threading.Event()

    def draw_on() -> None:
        film = Film(View(built.snapshot(1), camera, plainly(plan.light), *SIZE))
        while not stop.is_set():
            film.expose()

    calm = once(probe)
    painter = threading.Thread(target=draw_on)
    painter.start()
    busy = once(probe)
    stop.set()
    painter.join()
    table.add_row(
        "2,000,000 triangles: probe answers a second",
        f"{len(places) / calm:.0f}",
        f"{len(places) / busy:.0f} while passes are drawn",
        "≥ 30",
    )


def bare_pass(stage: Stage, plan: Plan, shot: Shot, size: tuple[int, int]) -> float:
    """Seconds of embreex alone for the rays of one exact pass of a picture."""
    view = View(
        stage.snapshot(shot.first), camera_at(plan, shot, shot.first, stage), plainly(plan.light), *size
    )
    STAGES[id(view.snapshot)] = stage
    origins, directions, starts, ways = pass_rays(view)
    flat = EmbreeScene()
    TriangleMesh(flat, flat_triangles(view)[1])

    def package() -> None:
        list(pool.map(lambda s: flat.run(origins[s], directions[s], output=1), split(len(origins))))
        list(pool.map(lambda s: flat.run(starts[s], ways[s], query="OCCLUDED"), split(len(starts))))

    pool = ThreadPoolExecutor(thread_count())
    return paired(package)[0]


def split(count: int) -> list[slice]:
    """So many rays in parts, two for each thread."""
    edges = np.linspace(0, count, 2 * thread_count() + 1).astype(int)
    return [slice(a, b) for a, b in itertools.pairwise(edges)]


def emitting(table: Table, stage: Stage, plan: Plan, shot: Shot) -> None:
    """A pass of the demo without and with a thousand small lights before the camera, or a mask."""
    lights = StandIn(
        number=99, name="L", kind="scatter", size_m=(5.0, 2.0, 6.0), position_m=(0.0, 0.4, -8.0),
        lights=Lights(count=1000, size_m=0.01),
    )  # fmt: skip
    library = Library({(ref.path, ref.unit_m): stage.scenes[ref.name] for ref in plan.scenes})
    more = stage_of(plan.replace(stand_ins=(*plan.stand_ins, lights)), library, stage)
    star = shot.replace(iris=IrisShape(mask=Stencil(outline="star", dust=0.5)))
    films = []
    for one, seen in ((stage, shot), (more, shot), (stage, star)):
        film = Film(View(one.snapshot(1020), camera_at(plan, seen, 1020, stage), plainly(plan.light), *SIZE))
        film.expose()
        films.append(film)
    without, with_them, masked = paired(*(film.expose for film in films))
    table.add_row(
        "1,000 more small lights drawn from themselves",
        f"{with_them * 1000:.0f} ms a pass",
        f"{with_them / without - 1:+.0%} on a pass without",
        "≤ 50 %",
    )
    table.add_row(
        "A mask in the iris",
        f"{masked * 1000:.0f} ms a pass",
        f"{masked / without - 1:+.0%} on a pass without",
        "",
    )


def full_light(table: Table, stage: Stage, plan: Plan) -> None:
    """A pass of each of the demo's shots in full light and plainly, and how far the quick picture is off."""
    ratios, off = [], []
    dice = np.random.default_rng(1)
    for shot in plan.shots:
        frame = (shot.first + shot.last) // 2
        snapshot, camera = stage.snapshot(frame), camera_at(plan, shot, frame, stage)
        views = [
            View(snapshot, camera, plan.light.replace(surfaces=kind), *SIZE) for kind in ("full", "plain")
        ]
        full, plain = paired(*(Film(view).expose for view in views), rounds=4)
        ratios.append(full / plain)
        for _ in range(2):
            lens = replace(
                camera,
                f_number=float(dice.uniform(1.2, 5.6)),
                focus_m=float(camera.focus_m * dice.uniform(0.6, 1.8)),
            )
            view = View(snapshot, lens, plainly(plan.light), SIZE[0] // 2, SIZE[1] // 2)
            shown = [
                developed(each).astype(int)
                for each in (blurred(view, sharp_picture(view)), exposed(view, 64))
            ]
            off.append(np.abs(shown[0] - shown[1]).max(axis=2).ravel())
    errors = np.concatenate(off)
    table.add_row(
        "demo's shots: a pass in full light", f"{min(ratios):.2f} to {max(ratios):.2f}",
        f"{np.mean(ratios):.2f} × a plain pass", "≤ 2.2",
    )  # fmt: skip
    table.add_row(
        "quick picture, demo's shots with random lenses", f"{errors.mean():.2f} of 255 on the average",
        f"worst one percent {np.quantile(errors, 0.99):.0f}", "",
    )  # fmt: skip


def surveying(table: Table, stage: Stage, plan: Plan, shot: Shot) -> None:
    scene = next(iter(stage.scenes))
    nodes = [
        node.path
        for i, node in enumerate(stage.scenes[scene].nodes)
        if node.mesh and stage.scenes[scene].moves(i)
    ]
    nodes = (nodes * 20)[:20]
    plan = plan.replace(subjects=())
    for path in nodes:
        plan, _ = add_subject(plan, "x", SurfaceAnchor(scene=scene, node=path, local=(0.1, 0.2, 0.3)))
    many = np.arange(1001, 2001)
    long, single = paired(lambda: survey(plan, shot, stage, many), lambda: survey(plan, shot, stage, [1010]))
    table.add_row(
        "survey again, 1,000 frames x 20 subjects",
        f"{long * 1000:.1f} ms",
        f"{long / single:.1f} × one frame",
        "< 20",
    )


def loading(table: Table) -> None:
    from pxr import Usd, UsdGeom, Vt

    mesh = waves(708)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "million.usdc"
        made = Usd.Stage.CreateNew(str(path))
        geometry = UsdGeom.Mesh.Define(made, "/waves")
        geometry.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(mesh.points))
        geometry.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(mesh.triangles), 3, np.int32)))
        geometry.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(mesh.triangles.astype(np.int32).ravel()))
        made.Save()
        del made, geometry

        def library() -> list[np.ndarray]:
            opened = Usd.Stage.Open(str(path))
            source = UsdGeom.Mesh(opened.GetPrimAtPath("/waves"))
            values = (
                source.GetPointsAttr(),
                source.GetFaceVertexCountsAttr(),
                source.GetFaceVertexIndicesAttr(),
            )
            return [np.array(value.Get()) for value in values]

        ours, theirs = paired(lambda: load_scene(path), library)
        table.add_row(
            "load 1,000,000 triangles (USD)",
            f"{ours * 1000:.0f} ms",
            f"{ours / theirs:.2f} × the library's read",
            "≤ 1.5",
        )

        import trimesh

        glb = Path(folder) / "million.glb"
        trimesh.Trimesh(mesh.points, mesh.triangles, process=False).export(glb)
        ours, theirs = paired(
            lambda: load_scene(glb), lambda: trimesh.load_scene(str(glb), process=False), rounds=5
        )
        table.add_row(
            "load 1,000,000 triangles (GLB)",
            f"{ours * 1000:.0f} ms",
            f"{ours / theirs:.2f} × the library's read",
            "≤ 1.5",
        )


def starting(table: Table) -> None:
    # As installed: modules are byte-compiled once and kept.
    environment = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}

    def run(code: str) -> Callable[[], object]:
        return lambda: subprocess.run([sys.executable, "-c", code], check=True, env=environment)

    window, bare, nothing = paired(
        run("import kobrel.desk.window.window"),
        run("import PySide6.QtWidgets, numpy, scipy"),
        run("pass"),
        rounds=7,
    )
    ratio = (window - nothing) / (bare - nothing)
    table.add_row(
        "import of the window",
        f"{(window - nothing) * 1000:.0f} ms",
        f"{ratio:.2f} × PySide6, NumPy, SciPy",
        "≤ 2",
    )


def main() -> None:
    table = Table(title=f"Kobrel, {thread_count()} threads, {SIZE[0]} x {SIZE[1]}, medians of {ROUNDS}")
    for heading in ("what", "measured", "ratio", "aim"):
        table.add_column(heading)
    plan = open_plan(Path(kobrel.demo.__file__).parent / "night_ferry.kobrel")
    stage, _ = load_stage(plan)
    shot = plan.shots[1]
    view = View(stage.snapshot(1020), camera_at(plan, shot, 1020, stage), plainly(plan.light), *SIZE)
    tracing(table, "demo", stage, view)
    large = Stage([("waves", Scene(Path("waves"), (Node("/waves", mesh=waves(388)),)))])
    pose = np.eye(4)
    pose[2, 3] = 6.0
    fixed = Shot(name="1", camera=FixedCamera(pose=tuple(pose.ravel().tolist())))
    view = View(large.snapshot(0), camera_at(Plan(), fixed, 1001, large), plainly(Light()), *SIZE)
    tracing(table, "300,000 triangles", large, view)
    blocking(table)
    emitting(table, stage, plan, shot)
    full_light(table, stage, plan)
    defocusing(table, stage, plan)
    exporting(table, stage, plan)
    denoising(table, paired, stage, plan)
    plates(table)
    surveying(table, stage, plan, shot)
    solving(table, paired)
    with tempfile.TemporaryDirectory() as fresh:  # windows as they first open, not as they were left
        os.environ["XDG_CONFIG_HOME"] = fresh
        editing(table, paired)
        dragging(table, bare_pass)
        playing(table)
    deforming(table, paired)
    copying(table, paired)
    loading(table)
    starting(table)
    Console(width=140).print(table)


if __name__ == "__main__":
    main()
