import numpy as np
import pytest

from kobrel.plan import edit
from kobrel.plan.keys import Level, LevelKey, PlaceKey
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import (
    CameraEnd,
    DistanceTarget,
    Lights,
    MadeCamera,
    Mark,
    Plan,
    PointAnchor,
    Row,
    Shot,
    StandIn,
    StandInAnchor,
    SubjectEnd,
    SubjectTarget,
    SurfaceAnchor,
)
from kobrel.plan.names import scene_name
from kobrel.plan.space.anchors import subject_points
from kobrel.plan.space.stand_ins import SIZES, number_of, scene_of, stand_in_scene
from kobrel.plan.staging import Library, stage_of, staged_alike
from kobrel.plan.variants import alts
from kobrel.stage.stage import Stage


def stand_in(kind, position=(0, 0, 0), number=1, **changes):
    return StandIn(
        **{"number": number, "name": kind, "kind": kind, "size_m": SIZES[kind], "position_m": position}
        | changes
    )


def stage_with(*stand_ins):
    return stage_of(Plan(stand_ins=stand_ins), Library())


@pytest.mark.parametrize("kind", [kind for kind in SIZES if kind not in ("string", "scatter")])
def test_a_stand_in_is_as_large_as_it_says_and_stands_on_its_place(kind):
    size = np.array((0.7, 1.3, 0.4)) if kind != "ground" else np.array((7.0, 0.5, 9.0))
    made = stand_in(kind, (2, 0.5, -3), size_m=tuple(size))
    low, high = stage_with(made).bounds()
    wanted = size * (1, 0 if kind == "ground" else 1, 1)
    np.testing.assert_allclose(high - low, wanted, rtol=2e-3, atol=1e-6)
    np.testing.assert_allclose(low[1], 0.5, atol=1e-6)
    np.testing.assert_allclose((low + high)[[0, 2]] / 2, (2, -3), atol=2e-3)


def test_people_face_forward_and_are_measured_at_the_eyes():
    person = stand_in("standing", (1, 0, 0), turn_deg=90)
    stage = stage_with(person)
    point = subject_points(StandInAnchor(number=1), [1.0], stage)[0]
    np.testing.assert_allclose(point, (1, 1.75 * 0.936, 0), atol=1e-9)
    # The nose points along +X after a quarter turn; there a ray from the front meets the face.
    pick = stage.pick(0, (3, 1.61, 0), (-1, 0, 0))
    assert 0.02 < pick.point[0] - 1 < 0.3
    low, high = stage.bounds()
    assert (high - low)[2] == pytest.approx(SIZES["standing"][0], rel=0.01)


def test_a_walk_follows_its_keys_at_fractional_frames():
    keys = (
        PlaceKey(frame=1, position_m=(0, 0, 0), ease="even"),
        PlaceKey(frame=11, position_m=(5, 0, 0), ease="smooth"),
        PlaceKey(frame=21, position_m=(5, 0, -4)),
    )
    stage = stage_with(stand_in("standing", keys=keys))
    points = subject_points(StandInAnchor(number=1), [-3, 3.5, 11, 13.5, 30], stage)
    u = 0.25
    expected = [(0, 0), (1.25, 0), (5, 0), (5, -4 * u * u * (3 - 2 * u)), (5, -4)]
    np.testing.assert_allclose(points[:, [0, 2]], expected, atol=1e-12)
    assert stage.moves
    assert stage.pick(3.5, (1.25, 1.0, 5), (0, 0, -1)) is not None
    assert stage.pick(3.5, (4.0, 1.0, 5), (0, 0, -1)) is None


def test_a_row_has_its_copies_in_its_direction_whichever_way_they_face():
    row = stand_in("box", (1, 0, 0), turn_deg=45, row=Row(count=4, spacing_m=2.0, direction_deg=180))
    stage = stage_with(row)
    boxes = stage.boxes()
    np.testing.assert_allclose(boxes.mean(axis=1)[:, 2], [0, -2, -4, -6], atol=1e-6)
    np.testing.assert_allclose(boxes.mean(axis=1)[:, 0], 1, atol=1e-6)


@pytest.mark.parametrize("kind", ["string", "scatter"])
def test_lights_repeat_by_their_number_and_stay_in_their_box(kind):
    lights = Lights(count=50, number=4)
    one = stand_in(kind, (0, 2, 0), lights=lights)
    boxes = stage_with(one).boxes()
    np.testing.assert_array_equal(boxes, stage_with(one.replace(name="again")).boxes())
    assert not np.allclose(boxes, stage_with(one.replace(lights=lights.replace(number=5))).boxes())
    middles = boxes.mean(axis=1)
    size = np.array(one.size_m)
    assert len(middles) == 50
    assert np.all(np.abs(middles[:, [0, 2]]) <= size[[0, 2]] / 2 + 1e-6)
    assert np.all((middles[:, 1] >= 2 - 1e-6) & (middles[:, 1] <= 2 + size[1] + 1e-6))
    materials = [node.materials[0] for node in stand_in_scene(one).nodes if node.mesh]
    assert all(max(m.emission) > 0 for m in materials)
    plain = stand_in(kind, lights=lights.replace(spread=0.0))
    colours = {node.materials[0].emission for node in stand_in_scene(plain).nodes if node.mesh}
    assert len(colours) == 1


def test_moving_one_stand_in_keeps_all_other_pieces():
    plan = Plan(stand_ins=(stand_in("box"), stand_in("ball", (2, 0, 0), 2)))
    stage = stage_of(plan, Library())
    stage.snapshot(0)
    moved = edit.with_stand_in(plan, 2, position_m=(3.0, 0, 0))
    assert not staged_alike(plan, moved)
    again = stage_of(moved, Library(), stage)
    assert again._pieces[0] is stage._pieces[0]
    assert again._pieces[1] is not stage._pieces[1]
    again.snapshot(0)
    assert again._geometry.corners is stage._geometry.corners
    assert again._pieces[1].accelerators() == stage._pieces[1].accelerators()
    assert again.family is stage.family
    assert again.pick(0, (3, 0.2, 5), (0, 0, -1)).place.scene == "stand-in 2"
    assert again.pick(0, (2, 0.2, 5), (0, 0, -1)) is None


def test_names_of_scenes_tell_stand_ins_from_files():
    assert number_of(scene_of(12)) == 12
    assert number_of("ferry") is None
    assert number_of("my stand-in 3") is None
    assert number_of(scene_name("/a/stand-in 3.usda", set())) is None


def test_a_removed_stand_in_leaves_points_behind():
    plan, made = edit.add_stand_in(Plan(), stand_in("standing"))
    plan, subject = edit.add_subject(plan, "Anna", StandInAnchor(number=made.number))
    plan, _ = edit.add_tape(plan, "t", CameraEnd(), StandInAnchor(number=made.number))
    left = edit.remove_stand_in(plan, made.number, (0.0, 1.6, 0.0))
    assert left.stand_ins == ()
    assert left.subject(subject.number).anchor == PointAnchor(position_m=(0, 1.6, 0))
    assert left.tapes[0].end == PointAnchor(position_m=(0, 1.6, 0))


def test_numbers_and_names_of_stand_ins_are_free_ones():
    plan = Plan()
    for _ in range(3):
        plan, _ = edit.add_stand_in(plan, stand_in("ball"))
    plan = edit.remove_stand_in(plan, 2, (0.0, 0.0, 0.0))
    plan, last = edit.add_stand_in(plan, stand_in("ball"))
    assert [(s.number, s.name) for s in plan.stand_ins] == [(1, "ball"), (3, "ball 3"), (4, "ball 2")]
    assert last.number == 4
    with pytest.raises(ValueError, match="used twice"):
        plan.replace(stand_ins=(*plan.stand_ins, plan.stand_ins[0]))


def a_plan():
    camera = MadeCamera(position_m=(0, 1, 5), aim_m=(0, 1, 0))
    marks = (
        Mark(frame=1, target=SubjectTarget(number=1)),
        Mark(frame=5, target=SubjectTarget(number=2)),
        Mark(frame=9, target=DistanceTarget(metres=2)),
    )
    plan = Plan(shots=(Shot(name="1", first=1, last=10, camera=camera.replace(aims_at=1), marks=marks),))
    for name in ("A", "B", "C"):
        plan, _ = edit.add_subject(plan, name, PointAnchor(position_m=(0, 1, 0)))
    return edit.add_tape(plan, "t", SubjectEnd(number=1), SubjectEnd(number=3))[0]


def test_merging_moves_marks_tapes_and_cameras_over():
    merged = edit.merge_subjects(a_plan(), 1, 2)
    assert [s.number for s in merged.subjects] == [2, 3]
    assert [m.target for m in merged.shots[0].marks[:2]] == [SubjectTarget(number=2)] * 2
    assert merged.shots[0].camera.aims_at == 2
    assert merged.tapes[0].start == SubjectEnd(number=2)


def test_alts_and_targets_of_a_later_version_are_merged_too():
    plan = a_plan()
    later = plan.shots[0].marks[0].replace(target=SubjectTarget(number=1, note="kept"))
    shot = plan.shots[0].replace(marks=(later, *plan.shots[0].marks[1:]))
    merged = edit.merge_subjects(plan.replace(shots=(alts.kept(shot, "A"),)), 1, 2).shots[0]
    for marks in (merged.marks, merged.alts[0].marks):
        assert [m.target.number for m in marks[:2]] == [2, 2]
        assert marks[0].target.note == "kept"
    freed = edit.remove_subject(
        plan.replace(shots=(alts.kept(shot, "A"),)), 1, lambda _shot, _frame: 5.0
    ).shots[0]
    assert freed.alts[0].marks[0].target == freed.marks[0].target == DistanceTarget(metres=5)
    assert freed.alts[0].name == "A"


def test_deleting_frees_marks_tapes_and_cameras():
    left = edit.remove_subject(a_plan(), 1, lambda _shot, _frame: 5.0)
    assert left.shots[0].marks[0].target == DistanceTarget(metres=5)
    assert left.shots[0].camera.aims_at is None
    assert left.tapes[0].start == PointAnchor(position_m=(0, 1, 0))


def test_subjects_move_in_their_list_and_stop_at_its_ends():
    plan = a_plan()
    assert [s.number for s in edit.move_subject(plan, 3, -1).subjects] == [1, 3, 2]
    assert [s.number for s in edit.move_subject(plan, 1, -1).subjects] == [1, 2, 3]
    assert [s.number for s in edit.move_subject(plan, 1, 9).subjects] == [2, 3, 1]


def test_places_are_keyed_where_there_are_keys():
    point = PointAnchor(position_m=(0, 0, 0))
    assert point.set(PlaceKey(frame=5, position_m=(1.0, 0.0, 0.0))).position_m == (1, 0, 0)
    keyed = point.with_key(PlaceKey(frame=1, position_m=(0, 0, 0), ease="even"))
    keyed = keyed.set(PlaceKey(frame=5, position_m=(1.0, 0.0, 0.0)))
    assert [(k.frame, k.position_m) for k in keyed.keys] == [(1, (0, 0, 0)), (5, (1, 0, 0))]
    again = keyed.set(PlaceKey(frame=1, position_m=(2.0, 0.0, 0.0)))
    assert again.keys[0].ease == "even"
    last = again.without_key(5).without_key(1)
    assert (last.keys, last.position_m) == ((), (2, 0, 0))


def test_depth_makes_sharp_mean_all_of_a_subject():
    plan = a_plan()
    plan = edit.with_subject(plan, 1, anchor=PointAnchor(position_m=(0.4, 1, 0)))
    shot = plan.shots[0].replace(marks=(Mark(frame=1, target=SubjectTarget(number=1)),), camera=MadeCamera(
        position_m=(0, 1, 5), aim_m=(0, 1, 0)))  # fmt: skip
    thin = survey(plan, shot, Stage(), [1])
    deep = survey(edit.with_subject(plan, 1, half_depth_m=1.5), shot, Stage(), [1])
    assert (thin.state[0, 0], deep.state[0, 0]) == (0, 1)
    assert float(thin.worst_px[0, 0]) == pytest.approx(0, abs=1e-9)
    # Along the line of sight, by hand: the near side 1.5 m nearer than the point.
    toward = np.array((0.4, 0, -5)) / np.hypot(0.4, 5)
    axial = 5 + toward[2] * 1.5
    assert float(deep.worst_px[0, 0]) == pytest.approx(float(deep.camera.frame(0).blur_px(axial)))
    np.testing.assert_allclose(deep.sight.blur_px, thin.sight.blur_px)


def test_a_surface_of_a_stand_in_rides_with_it():
    keys = (PlaceKey(frame=1, position_m=(0, 0, 0), ease="even"), PlaceKey(frame=11, position_m=(0, 0, 4)))
    stage = stage_with(stand_in("box", keys=keys, turn_deg=30))
    pick = stage.pick(1, (0.05, 0.3, 9), (0, 0, -1))
    anchor = SurfaceAnchor(scene=pick.place.scene, node=pick.place.path, local=tuple(pick.local))
    points = subject_points(anchor, [1, 6], stage)
    np.testing.assert_allclose(points[1] - points[0], (0, 0, 2), atol=1e-9)
    np.testing.assert_allclose(points[0], pick.point, atol=1e-9)


def drawn(stage, frame, passes=64):
    """A stage before an even sky of 1, seen from the origin along -Z, (72, 96, 3)."""
    from kobrel.picture.tracer import exposed
    from kobrel.picture.view import View
    from kobrel.plan.look import Light
    from tests.plates.flat import the_camera

    camera, even = the_camera(), (1.0, 1.0, 1.0)
    light = Light(key_strength=0.0, zenith=even, horizon=even, ground=even, sky_strength=1.0)
    return exposed(View(stage.snapshot(frame, eye=camera.eye), camera, light, 96, 72), passes)


def test_a_stand_in_fades_over_its_keys():
    """A black wall before a white sky lets through what its opacity leaves, frame by frame."""
    keys = Level(
        keys=(LevelKey(frame=10, value=0.0, ease="even"), LevelKey(frame=30, value=1.0, ease="even"))
    )
    wall = stand_in("wall", (0.0, -4.0, -3.0), size_m=(40.0, 40.0, 0.2), colour=(0.0, 0.0, 0.0), opacity=keys)
    stage = stage_with(wall)
    assert stage.moves
    whole = float(drawn(stage, 99).mean())
    assert whole < 0.04  # what a black wall reflects
    for frame, opacity in ((0, 0.0), (10, 0.0), (15, 0.25), (25, 0.75), (30, 1.0)):
        found = float(drawn(stage, frame).mean())
        # once, not for its front and its back each
        assert found == pytest.approx(1.0 - opacity + opacity * whole, abs=0.005), frame
    assert stage.pick(10.0, (0, 0, 0), (0, 0, -1)) is None
    assert stage.pick(30.0, (0, 0, 0), (0, 0, -1)).point[2] == pytest.approx(-2.9)


def test_lights_fade_by_their_brightness():
    lights = Lights(count=40, size_m=0.05, brightness=50.0, spread=0.0)
    light = {
        opacity: drawn(
            stage_with(stand_in("scatter", (0.0, -1.0, -6.0), lights=lights, opacity=Level(value=opacity))), 1
        )
        for opacity in (0.0, 0.5, 1.0)
    }
    dark = light[0.0].sum()
    assert dark == pytest.approx(96 * 72 * 3, rel=1e-3)
    assert (light[0.5].sum() - dark) / (light[1.0].sum() - dark) == pytest.approx(0.5, abs=0.02)


def test_a_stand_in_that_is_whole_costs_nothing_more():
    nodes = stand_in_scene(stand_in("box")).nodes
    assert all(node.opacity is None for node in nodes)
    assert not stage_with(stand_in("box", opacity=Level(value=0.4))).moves
