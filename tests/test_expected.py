"""What the core works out for known input stays as it is: numbers, words and files, kept in tests/expected.

A change that is meant is taken over with KOBREL_EXPECT=write, after a look at what changed.
"""

import dataclasses
import json
import math
import os
from pathlib import Path

import numpy as np
import pytest
from campaign.seeds import make_seeds
from pydantic import BaseModel

from kobrel.exchange import iris as iris_files
from kobrel.exchange.cameras.usd import write_usd
from kobrel.exchange.table import survey_data
from kobrel.optics import bend, ease, exposure, lens, motor, noise, projection, sensor, stencil
from kobrel.optics.aperture import aperture as opened_aperture
from kobrel.optics.aperture import passes, places, transmission
from kobrel.optics.iris import Iris, Mask, area_within, outline
from kobrel.plan import check, glass
from kobrel.plan.instrument import Character, Criterion, Requirement
from kobrel.plan.iris import Stencil
from kobrel.plan.keys import Key, Keyed
from kobrel.plan.masks import corners, draw
from kobrel.plan.measure import arrival, limits, pace
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.measure.occlusion import sightlines
from kobrel.plan.measure.summary import lens_words, summary
from kobrel.plan.measure.survey import survey
from kobrel.plan.measure.tapes import measure
from kobrel.plan.model import (
    BoundsAnchor,
    CameraKey,
    MadeCamera,
    Mark,
    NearestAnchor,
    OriginAnchor,
    PointTarget,
    StandIn,
    Subject,
    SubjectTarget,
)
from kobrel.plan.sequence.cuts import cut_between, matched
from kobrel.plan.solve import brief as briefs
from kobrel.plan.solve import tradeoffs
from kobrel.plan.solve.candidates import Where, _nearest_between, candidates, solved
from kobrel.plan.space import moves
from kobrel.plan.space.anchors import subject_points as anchor_points
from kobrel.plan.space.overview import overview_camera
from kobrel.plan.space.stand_ins import stand_in_scene
from kobrel.plan.start import plan_from_scene
from kobrel.stage import people, shapes
from kobrel.stage.emitters import glow_of
from kobrel.stage.read.load import load_scene
from kobrel.stage.scene import Material, Mesh
from kobrel.stage.stage import Stage

KEPT = Path(__file__).parent / "expected"
MOST = 24


def plain(value):
    """A value as JSON: arrays by their shape, mean and some of their numbers."""
    if isinstance(value, np.ndarray):
        if value.dtype.kind not in "fiub":
            return [str(each) for each in value.ravel()[:MOST]]
        numbers = value.astype(float).ravel()
        some = (
            numbers[np.linspace(0, len(numbers) - 1, min(MOST, len(numbers))).astype(int)]
            if len(numbers)
            else numbers
        )
        finite = numbers[np.isfinite(numbers)]
        return {
            "shape": list(value.shape),
            "mean": plain(float(finite.mean()) if len(finite) else 0.0),
            "some": plain(some.tolist()),
        }
    if isinstance(value, float | np.floating):
        return float(f"{float(value):.6g}") if math.isfinite(value) else str(float(value))
    if isinstance(value, bool | np.bool_):
        return bool(value)
    if isinstance(value, int | np.integer):
        return int(value)
    if isinstance(value, BaseModel):
        return plain(value.model_dump())
    if dataclasses.is_dataclass(value):
        return {field.name: plain(getattr(value, field.name)) for field in dataclasses.fields(value)}
    if isinstance(value, dict):
        return {str(key): plain(each) for key, each in value.items()}
    if hasattr(value, "_asdict"):
        return plain(value._asdict())
    if isinstance(value, list | tuple | set | frozenset):
        return [plain(each) for each in (sorted(value) if isinstance(value, set | frozenset) else value)]
    return None if value is None else str(value)


def same(found, kept, place=""):
    """The first place where two plain values differ by more than rounding; "" where they do not."""
    if isinstance(found, dict) and isinstance(kept, dict):
        if found.keys() != kept.keys():
            return f"{place}: {sorted(found.keys() ^ kept.keys())}"
        return next((told for key in found if (told := same(found[key], kept[key], f"{place}.{key}"))), "")
    if isinstance(found, list) and isinstance(kept, list):
        if len(found) != len(kept):
            return f"{place}: {len(found)} instead of {len(kept)}"
        return next(
            (
                told
                for i, (a, b) in enumerate(zip(found, kept, strict=True))
                if (told := same(a, b, f"{place}[{i}]"))
            ),
            "",
        )
    if isinstance(found, float | int) and isinstance(kept, float | int):
        near = math.isclose(found, kept, rel_tol=2e-4, abs_tol=2e-6)
        return "" if near else f"{place}: {found} instead of {kept}"
    return "" if found == kept else f"{place}: {found!r} instead of {kept!r}"


def rewritten(text, folder):
    return text.replace(str(folder), "FOLDER") if isinstance(text, str) else text


# What is worked out


def optics(**_given):
    focal, stops, far = (
        np.array([24.0, 50.0, 135.0]),
        np.array([1.4, 2.8, 16.0]),
        np.array([0.4, 3.0, math.inf]),
    )
    for model in ("render", "thin"):
        yield f"lens {model}", [
            lens.image_distance_mm(focal, 2.0, model), lens.closest_focus_m(focal, model), lens.magnification(focal, 2.0, model),
            lens.limits_m(focal, stops, 3.0, 0.02, model), lens.hyperfocal_m(focal, stops, 0.02, model),
            lens.blur_mm(50.0, 2.8, 3.0, far, model), lens.background_blur_mm(focal, stops, 3.0, model),
            lens.half_band_dpt(focal, stops, 3.0, 0.02, model), lens.stop_for_limit(50.0, 3.0, np.array([2.0, 5.0, 9.0]), 0.02, model),
        ]  # fmt: skip
    yield "sensor", [
        sensor.view_angle_deg(36.0, focal), sensor.reads_as(np.array([10.0, 30.0]), 40.0),
        [str(sensor.format_of(*size)) for size in ((36, 24), (24.89, 14.0), (5, 5))],
        [sensor.frame_on_sensor(36.0, 24.0, 1.3, aspect, fit) for aspect in (0.0, 1.0, 2.39) for fit in ("inside", "width", "height")],
    ]  # fmt: skip
    yield "exposure", [
        exposure.ev_difference(stops, 2.0), exposure.effective_f_number(stops, 0.5), exposure.t_stop(stops, 0.8),
        exposure.light_value(stops, 400.0, 90.0, 1.0),
        [exposure.step_stop(f, n, series) for f in (1.0, 2.9, 11.3) for n in (-2, 1) for series in ("full", "half", "third")],
        [exposure.marked_stop(f, series) for f in (1.3, 3.7, 20.0) for series in ("full", "half", "third", "free")],
    ]  # fmt: skip
    u = np.linspace(0, 1, 7)
    yield (
        "ease",
        [ease.eased(u, kind, (0.2, 0.7, 0.6, 0.4)) for kind in ("even", "smooth", "fast", "late", "own")],
    )
    yield "swing", [ease.swinging(u, 1.5, 3.0), ease.swinging(u, 4.0, 0.0)]
    yield "noise", noise.samples_for_noise(4.0, np.array([2.0, 20.0, 90.0]), 0.05)
    yield (
        "bend",
        [
            bend.bent(u - 0.5, 0.3, 1.78, percent) + bend.unbent(u - 0.5, 0.3, 1.78, percent)
            for percent in (-12.0, 8.0)
        ],
    )
    for kind in ("perspective", "orthographic", "fisheye"):
        yield f"projection {kind}", [
            projection.project(kind, np.array([0.1, -2.0]), np.array([0.3, 1.0]), np.array([2.0, 5.0])),
            projection.ray(kind, np.array([0.1, 0.4]), np.array([-0.3, 0.2])), projection.edge(kind, 0.4, 3.0),
        ]  # fmt: skip
    yield "cone", projection.cone_blur_m(2.0, 3.0, far[:2])
    yield "motor", motor.motor_sound(200.0 * np.sin(np.linspace(0, 6, 24)) ** 2, 24.0)


def irises(**_given):
    mask = Mask(np.tril(np.ones((32, 32), np.float32)))
    for name, iris in (
        ("round", Iris()), ("six", Iris(6, 0.3, 20.0)), ("rim", Iris(rim=0.7)), ("mask", Iris(7, 0.5, 5.0, -0.4, mask)),
    ):  # fmt: skip
        u, v = np.meshgrid(np.linspace(0.02, 0.98, 5), np.linspace(0.05, 0.95, 5))
        yield name, [
            outline(iris, 1.5)[::8], transmission(iris, 48, 1.5), passes(iris), area_within(u[0], iris.rim),
            places(opened_aperture(iris, 1.5), u.ravel(), v.ravel(), iris.rim),
        ]  # fmt: skip
    shapes_of = ("blades", "star", "heart", "slot", "ring", "text", "open", "polygon")
    for shape in shapes_of:
        made = Stencil(
            outline=shape, count=6, inner=0.4, roundness=0.3, turn_deg=12, size=0.8, soft=0.2, rim=0.3
        )
        yield shape, [draw(made, 64), [] if shape in ("ring", "text", "open") else corners(made)]
    for spoil in ("dust", "hairs", "scratches", "smudges", "onion_rings"):
        yield spoil, [getattr(stencil, spoil)(64, amount, seed) for amount, seed in ((0.4, 1), (1.0, 7))]


def demo_numbers(demo, **_given):
    plan, stage = demo
    for shot in plan.shots:
        numbers = survey(plan, shot, stage)
        data = survey_data(plan, shot, numbers)
        yield (
            f"survey {shot.name}",
            {key: each[::17] if isinstance(each, list) else each for key, each in data.items()},
        )
        yield (
            f"words {shot.name}",
            [summary(plan, shot, numbers), lens_words(shot.glass), len(shot.marks)],
        )
        turning = pace.pace(shot, numbers)
        yield f"pace {shot.name}", [turning, pace.pace_doubts(plan, shot, numbers), pace.breathing_percent(numbers),
                                    pace.unseen_racks(shot, numbers), limits.breathing(numbers)]  # fmt: skip
        if shot.name in ("01", "03"):
            short = shot.replace(first=shot.first, last=shot.first + 11)
            lines = sightlines(plan, short, stage)
            told = check.warnings_from(plan, short, survey(plan, short, stage), lines)
            yield (
                f"sight {shot.name}",
                [np.asarray(lines.hidden), lines.by, lines.nearest, lines.nearest_m, lines.farthest_m, told],
            )
        for tape in plan.tapes:
            yield f"tape {shot.name} {tape.name}", measure(plan, shot, stage, tape, numbers.frames[::20])
    yield "findings", check.findings(plan, stage)
    surveys = [survey(plan, shot, stage) for shot in plan.shots]
    yield "cuts", [[cut.before, cut.after, cut.jumps] for cut in map(cut_between, surveys, surveys[1:])]
    yield "matched", [matched(plan, 1, to, stage).shots[1].glass.f_number for to in (0, 3)]


def cameras(demo, **_given):
    plan, stage = demo
    shot = plan.shots[1]
    for name, changes in (
        ("plain", {}), ("thin", {"model": "thin"}), ("sphere", {"surface": "sphere"}), ("squeezed", {"squeeze": 2.0}),
        ("flat", {"projection": "orthographic"}), ("fisheye", {"projection": "fisheye", "focal_mm": Keyed(value=12.0)}),
        ("shifted", {"shift_mm": (3.0, -1.0)}), ("mm", {"criterion": Criterion(kind="millimetres", value=0.02)}),
        ("diagonal", {"criterion": Criterion(kind="diagonal", value=1500)}),
    ):  # fmt: skip
        seen = shot.replace(glass=shot.glass.replace(**changes))
        camera = camera_at(plan, seen, 1040, stage)
        yield name, [
            camera.half_widths(), camera.middle(), camera.coc_mm, camera.limits_m, camera.pupil_mm, camera.image_distance_mm,
            limits.criterion_text(seen.glass.criterion, camera), limits.field_m(camera), limits.reads_as(camera),
            limits.models_differ(camera, "m"), limits.surfaces_differ(camera, "cm"), camera.see(np.array([[1.0, 1.0, -3.0], [0, 2, -9]])),
            camera.blur_px(np.array([1.0, 4.0, math.inf])), camera.shown_ev,
        ]  # fmt: skip
        if name != "flat":
            match = glass.match(seen, camera, shot.glass.sensor.replace(width_mm=36.0, height_mm=24.0), 1.0)
            yield (
                f"match {name}",
                [
                    match,
                    glass.front_stop(camera, 0.4),
                    iris_files.numbers_of(camera),
                    iris_files.outline_points(camera, 12),
                ],
            )
    flawed = shot.replace(
        flaws=Character(
            colour_mm=0.1, swirl_mm=0.4, spherical_mm=-0.1, front_stop=glass.front_stop(camera, 0.5)
        )
    )
    yield (
        "flawed",
        [
            glass.cat_eye_amount(camera_at(plan, flawed, 1040, stage)),
            glass.lens_doubts(flawed, survey(plan, flawed, stage)),
        ],
    )


def solving(demo, **_given):
    plan, stage = demo
    for index, requirements in (
        (2, ()), (1, (Requirement(subject=2), Requirement(subject=0, kind="at_least", px=20.0))),
        (0, (Requirement(subject=1), Requirement(subject=6), Requirement(subject=3, kind="at_least", px=3.0))),
        (1, (Requirement(subject=1, first=1001, last=1030), Requirement(subject=2, first=1060), Requirement(subject=5, kind="at_most", px=9.0))),
    ):  # fmt: skip
        shot = plan.shots[index]
        shot = shot.replace(brief=requirements) if requirements else shot
        numbers = survey(plan, shot, stage)
        terms = briefs.terms(plan, shot, numbers)
        found, judged = briefs.answer(terms), briefs.judge(plan, shot, numbers)
        rows = [0, len(numbers.frames) // 2]
        taken = solved(Where(plan, stage, None), shot)
        yield f"brief {index} {len(requirements)}", [
            found.stops, found.possible, judged.verdicts, judged.unmet, [judged.stop_range(row) for row in rows],
            [clash.text if (clash := briefs.clash(terms, row)) else "" for row in rows],
            [briefs.requirement_text(plan, requirement) + briefs.short_text(plan, requirement) for requirement in shot.brief],
            None if taken is None else [taken.marks, taken.glass.f_number],
            [candidate.text for candidate in candidates(Where(plan, stage, None), shot)],
            [briefs.focus_at_stop(plan, shot, numbers, row, 2) for row in rows],
        ]  # fmt: skip
        camera = numbers.camera.frame(rows[1])
        by_focal = tradeoffs.focal_map(camera, 4.0, terms.at(rows[1]), (16, 12))
        by_focus = tradeoffs.focus_map(camera, 1.0, terms.at(rows[1]), (16, 12))
        yield f"maps {index} {len(requirements)}", [by_focal, by_focus]
    yield (
        "halving",
        [_nearest_between(1.0, 9.0, lambda v: v >= 4.0), _nearest_between(9.0, 1.0, lambda v: v <= 4.0)],
    )


def placing(demo, **_given):
    plan, stage = demo
    camera = MadeCamera(position_m=(1, 2, 6), aim_m=(0, 1, 0), roll_deg=5.0, path="arc",
                        keys=(CameraKey(frame=1, position_m=(1, 2, 6), aim_m=(0, 1, 0)), CameraKey(frame=11, position_m=(4, 1, 2), aim_m=(1, 1, 0), roll_deg=20)))  # fmt: skip
    frames = np.array([1.0, 4.0, 8.0, 11.0])
    yield "moves", [
        moves.made_poses(camera, frames), moves.made_poses(camera.replace(path="straight"), frames), moves.posed(camera, 5, roll_deg=1.0),
        moves.creep(camera.replace(keys=()), 1, 20), moves.orbit(camera.replace(keys=()), 1, 20), moves.push_in(camera.replace(keys=()), 1, 20),
        moves.turned_about((1, 2, 3), (0, 1, 0), 0.3, -0.2), camera.without_key(11), moves.key_of(camera, 6.0), overview_camera(stage),
    ]  # fmt: skip
    scene = plan.scenes[0].name
    eyes = np.array([[0.0, 1.0, 9.0], [3.0, 2.0, 1.0]])
    for path in ("/NightFerry/Lantern", "/NightFerry/Ferry"):
        for kind in (BoundsAnchor, OriginAnchor, NearestAnchor):
            anchor = kind(scene=scene, node=path)
            yield (
                f"{path} {kind.__name__}",
                anchor_points(anchor, [1001.0, 1050.0], stage, eyes if kind is NearestAnchor else None),
            )
    keyed = Keyed(
        value=2.0,
        keys=(
            Key(frame=1, value=2.0),
            Key(frame=9, value=8.0, ease="own", handles=(0.1, 0.6, 0.5, 0.9)),
            Key(frame=20, value=4.0, ease="late"),
        ),
    )
    yield "keys", keyed.at(np.linspace(-2, 24, 14))
    moved = plan.replace(
        subjects=(
            *plan.subjects,
            Subject(number=9, name="x", anchor={"kind": "point", "position_m": (0, 1, 0)}),
        )
    )
    shot = plan.shots[1].replace(
        marks=(
            Mark(frame=1001, target=SubjectTarget(number=9), until=1010),
            Mark(
                frame=1040,
                target=PointTarget(position_m=(1, 1, 1)),
                by="metres",
                ease="fast",
                search={"swings": 2},
            ),
        )
    )
    yield "pull", survey(moved, shot, stage).camera.focus_m[::6]
    yield (
        "doubts",
        [check.unit_doubts(name, stage) for name in arrival.scene_names(stage)]
        + [arrival.shot_doubts(plan, s, stage) for s in plan.shots],
    )


def stand_ins(**_given):
    for kind in (
        "standing",
        "seated",
        "child",
        "box",
        "ball",
        "cone",
        "cylinder",
        "card",
        "wall",
        "ground",
        "string",
        "scatter",
    ):
        more = (
            {"lights": {"count": 9, "number": 3}}
            if kind in ("string", "scatter")
            else {"row": {"count": 3, "spacing_m": 1.5, "direction_deg": 30}}
        )
        stand_in = StandIn(number=1, name="x", kind=kind, size_m=(0.6, 1.7, 0.4), position_m=(1, 0, 2), turn_deg=25.0,
                           keys=({"frame": 1, "position_m": (1, 0, 2)}, {"frame": 9, "position_m": (3, 0, 0)}), **more)  # fmt: skip
        scene = stand_in_scene(stand_in)
        yield kind, [
            [[node.path, node.mesh.points, node.mesh.triangles, scene.world(i, [1.0, 5.0]), node.materials[0].base, node.materials[0].emission]
             for i, node in enumerate(scene.nodes) if node.mesh is not None][:4],
            Stage([("s", scene)]).bounds(5.0),
        ]  # fmt: skip
    for name in ("standing", "seated", "child"):
        mesh = getattr(people, name)()
        yield (
            f"person {name}",
            [mesh.points, mesh.points.min(axis=0), mesh.points.max(axis=0), mesh.points.std(axis=0)],
        )
    for name, mesh in (
        ("lathe", shapes.lathe(np.array([[0.0, 0.0], [1.0, 0.2], [0.4, 1.0]]), 8)), ("cone", shapes.cone(1, 2, 8)),
        ("capsule", shapes.capsule(0.5, 1.0, 8)), ("tapered", shapes.tapered(1.0, 0.4, 2.0, 8)), ("upright", shapes.upright(shapes.disc(1, 8))),
        ("moved", shapes.moved(shapes.box(), (1, 2, 3), (2, 1, 1), (10, 20, 30))), ("limb", shapes.limb((0, 0, 0), (1, 2, 0), 0.2)),
    ):  # fmt: skip
        yield name, [mesh.points, mesh.triangles, mesh.normals]
    lamps = shapes.joined(*(shapes.moved(shapes.sphere(0.02, 8), (x, 0, 0)) for x in (0, 1, 2)))
    glow = glow_of(Mesh(lamps.points, lamps.triangles), (Material("m", emission=(3.0, 2.0, 1.0)),), {})
    yield "glow", glow


def scenes(tmp_path, **_given):
    for path in make_seeds(tmp_path / "seeds"):
        if path.suffix not in (".usda", ".usdz", ".glb", ".abc", ".obj", ".ply", ".stl"):
            continue
        scene = load_scene(path)
        told = [rewritten(text, tmp_path) for text in scene.warnings]
        nodes = [
            [node.path, node.parent, scene.world(i, [1.0, 3.0, 7.0]), None if node.mesh is None else [
                node.mesh.points, node.mesh.triangles, node.mesh.normals, node.mesh.uv, node.mesh.slots, node.mesh.smooth,
                None if node.mesh.deformation is None else node.mesh.deformation.points(6.0)],
             [[m.name.replace(str(tmp_path), ""), m.base, m.emission, m.base_texture is None, None if m.cutout is None else m.cutout.opacity] for m in node.materials]]
            for i, node in enumerate(scene.nodes)
        ]  # fmt: skip
        yield path.name, [nodes, [dataclasses.replace(c, node=0) for c in scene.cameras], scene.unit_m, scene.up, scene.fps,
                          scene.first_frame, scene.last_frame, told, scene.light, scene.assumed]  # fmt: skip
        plan, stage = plan_from_scene(path, scene)
        yield (
            f"plan of {path.name}",
            [
                json.loads(rewritten(plan.model_dump_json(), tmp_path)),
                stage.triangle_count,
                stage.bounds(1.0),
            ],
        )


def handed_on(demo, tmp_path, **_given):
    plan, stage = demo
    for name, shot in (
        ("plain", plan.shots[1]),
        ("keyed", plan.shots[3]),
        ("flat", plan.shots[0].replace(glass=plan.shots[0].glass.replace(projection="orthographic"))),
    ):
        write_usd(plan, shot, stage, tmp_path / "x.usda")
        lines = [line.strip() for line in (tmp_path / "x.usda").read_text().splitlines()]
        yield name, [len(lines), [line[:90] for line in lines if "=" in line and "timeSamples" not in line][:40],
                     [float(line.split(": ")[1].rstrip(",")) for line in lines if line[:4].isdigit() and "(" not in line][::19]]  # fmt: skip


@pytest.mark.parametrize(
    "made",
    [optics, irises, demo_numbers, cameras, solving, placing, stand_ins, scenes, handed_on],
    ids=lambda made: made.__name__,
)
def test_it_is_as_it_was(made, demo, tmp_path):
    found = json.loads(json.dumps({name: plain(value) for name, value in made(demo=demo, tmp_path=tmp_path)}))
    kept = KEPT / f"{made.__name__}.json"
    if os.environ.get("KOBREL_EXPECT") == "write":
        kept.write_text(json.dumps(found, indent=0, ensure_ascii=False) + "\n")
    told = same(found, json.loads(kept.read_text()), made.__name__)
    assert not told


def test_a_difference_is_told_with_its_place():
    assert same({"a": [1.0, 2.0]}, {"a": [1.0, 2.1]}) == ".a[1]: 2.0 instead of 2.1"
    assert same({"a": "x"}, {"a": "y"}) == ".a: 'x' instead of 'y'"
    assert same({"a": 1}, {"b": 1}) == ": ['a', 'b']"
    assert same([1.0], [1.0, 2.0]) == ": 1 instead of 2"
    assert same({"a": [1.0, 2.0000001]}, {"a": [1.0, 2.0]}) == ""
