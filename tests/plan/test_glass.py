"""Sensor, lens, exposure and match: what changes and what stays."""

import json

import numpy as np
import pytest

from kobrel.errors import PlanError
from kobrel.optics.sensor import FORMATS
from kobrel.optics.units import measure
from kobrel.plan import glass as glasses
from kobrel.plan.check import findings
from kobrel.plan.file import open_plan, save_plan
from kobrel.plan.instrument import Criterion, Delivery, Exposure, KeepSize, Lens, Requirement, Sensor
from kobrel.plan.keys import Key, Keyed, PlaceKey
from kobrel.plan.lens_sets.lenses import nearest_lens, read_lens_set, shipped_lens_sets
from kobrel.plan.measure import limits
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import DistanceTarget, Mark, Plan, PointAnchor, Subject
from kobrel.plan.solve.brief import terms
from kobrel.plan.solve.tradeoffs import focal_map, focus_map


@pytest.fixture
def ahead(looking_at):
    """A plan with a thing that comes nearer, and one behind it; the focus on the first."""

    def make(**glass):
        _, shot, stage = looking_at(glass=glass)
        coming = PointAnchor(
            position_m=(0.2, 0.1, -4),
            keys=(
                PlaceKey(frame=1, position_m=(0.2, 0.1, -4), ease="even"),
                PlaceKey(frame=10, position_m=(0.2, 0.1, -3), ease="even"),
            ),
        )
        subjects = (
            Subject(number=1, name="Near", anchor=coming),
            Subject(number=2, name="Far", anchor=PointAnchor(position_m=(0, 0, -9))),
        )
        shot = shot.replace(marks=(Mark(frame=1, target=DistanceTarget(metres=4.0)),))
        return Plan(shots=(shot,), subjects=subjects), shot, stage

    return make


def glass_with(shot, **changes):
    return shot.replace(glass=shot.glass.replace(**changes))


# Sensor and frame


@pytest.mark.parametrize("delivery", [Delivery(), Delivery(aspect=2.39), Delivery(aspect=1.0, fit="height")])
def test_a_sensor_keeps_the_lens_or_the_framing(ahead, delivery):
    plan, shot, stage = ahead(delivery=delivery, focal_mm=Keyed(value=50, keys=(Key(frame=1, value=50),)))
    before = camera_at(plan, shot, 1, stage)
    small = Sensor(width_mm=12.52, height_mm=7.41)
    same_lens = shot.replace(glass=glasses.with_sensor(shot.glass, small, keep_framing=False))
    assert same_lens.glass.focal_mm == shot.glass.focal_mm
    assert camera_at(plan, same_lens, 1, stage).view_angles_deg[0] < before.view_angles_deg[0]
    same_view = shot.replace(glass=glasses.with_sensor(shot.glass, small, keep_framing=True))
    after = camera_at(plan, same_view, 1, stage)
    assert after.view_angles_deg[0] == pytest.approx(before.view_angles_deg[0])
    assert after.focal_mm < before.focal_mm


def test_the_delivered_frame_is_what_counts(ahead):
    plan, shot, stage = ahead()
    whole = camera_at(plan, shot, 1, stage)
    square = camera_at(plan, glass_with(shot, delivery=Delivery(aspect=1.0)), 1, stage)
    assert (square.sensor_width_mm, square.sensor_height_mm) == (24, 24)
    assert square.height_px == square.width_px == 1920
    # the same disc on the sensor covers more pixels of a narrower frame
    assert square.blur_px(9.0) == pytest.approx(whole.blur_px(9.0) * 36 / 24)
    assert square.coc_px == pytest.approx(2)
    edge = np.array([1.4, 0, -4.0])
    assert whole.see(edge).in_frame
    assert not square.see(edge).in_frame


@pytest.mark.parametrize(
    "delivery", [Delivery(aspect=2.39), Delivery(aspect=1.0), Delivery(aspect=2.0, fit="height")]
)
@pytest.mark.parametrize("projection", ["perspective", "fisheye", "orthographic"])
def test_the_whole_sensor_about_the_frame(ahead, delivery, projection):
    plan, shot, stage = ahead(projection=projection)
    plain = camera_at(plan, shot, 1, stage)
    assert plain.whole is plain
    camera = camera_at(plan, glass_with(shot, delivery=delivery), 1, stage)
    full = camera.whole
    assert full.sensor_width_mm == max(36, camera.sensor_width_mm)
    # a point has the same angle in both, so pixels differ by the frame's place alone
    point = np.array([0.3, -0.2, -4.0])
    inside, about = camera.see(point), full.see(point)
    scale = camera.width_px / (full.width_px * full.inner[0])
    left = full.width_px * (1 - full.inner[0]) / 2
    assert float(inside.x_px) == pytest.approx((float(about.x_px) - left) * scale, abs=0.6)
    assert float(inside.blur_px) == pytest.approx(float(about.blur_px) * scale, rel=2e-3)
    if projection == "perspective":
        assert full.limits_m == camera.limits_m


def test_diagonal_and_millimetres_count_on_the_sensor(ahead):
    plan, shot, stage = ahead(delivery=Delivery(aspect=1.0), criterion=Criterion(kind="diagonal", value=1500))
    assert camera_at(plan, shot, 1, stage).coc_mm == pytest.approx(np.hypot(36, 24) / 1500)


def test_an_older_plan_keeps_its_frame_and_is_metered_at_its_stop(tmp_path, ahead):
    plan, shot, _ = ahead(f_number=Keyed(value=5.6))
    path = tmp_path / "old.kobrel"
    save_plan(plan, path)
    content = json.loads(path.read_text())
    content["format"] = 2
    content["guides"]["frame_aspect"] = 2.0
    for old in content["shots"]:
        for name in ("exposure", "brief", "ahead_m", "keeps"):
            del old[name]
        for name in ("delivery", "lens", "transmission"):
            del old["glass"][name]
    path.write_text(json.dumps(content))
    again = open_plan(path)
    assert again.shots[0].glass.delivery == Delivery(aspect=2.0)
    assert again.shots[0].exposure == Exposure.right_at(5.6)
    assert "frame_aspect" not in (again.guides.model_extra or {})
    assert again.shots[0].marks == shot.marks


# Lenses


def test_the_shipped_kits_make_sense():
    lens_sets = shipped_lens_sets()
    assert len(lens_sets) >= 4
    assert {lens.is_zoom for kit in lens_sets for lens in kit.lenses} == {True, False}
    assert any(lens.squeeze > 1 for kit in lens_sets for lens in kit.lenses)
    for kit in lens_sets:
        assert len({lens.name for lens in kit.lenses}) == len(kit.lenses)


def test_a_kit_from_csv_and_json(tmp_path):
    table = tmp_path / "mine.csv"
    table.write_text("name;focal_mm;longest_mm;widest;close_focus_m\n40;40;;1,8;0,4\nzoom;20;60;2,8;\n")
    kit = read_lens_set(table)
    assert kit.kit == "mine"
    assert kit.lenses[0] == Lens(name="40", focal_mm=(40, 40), widest=1.8, close_focus_m=0.4)
    assert kit.lenses[1].focal_mm == (20, 60)
    whole = tmp_path / "mine.json"
    whole.write_text(
        '{"lens set": "Mine", "lenses": [{"name": "A", "focal_mm": 40}, {"name": "B", "focal_mm": [20, 60]}]}'
    )
    assert [lens.is_zoom for lens in read_lens_set(whole).lenses] == [False, True]
    commas = tmp_path / "plain.csv"
    commas.write_text("name,focal_mm,widest\n40 mm,40,1.8\n")
    assert read_lens_set(commas).lenses[0].widest == 1.8


@pytest.mark.parametrize(
    ("name", "text", "message"),
    [
        ("a.json", "{", "line 1, column 2: not valid JSON"),
        ("a.json", "[]", "not a lens set"),
        ("a.json", '{"lenses": [{"name": "x"}]}', "lenses → 0 → focal_mm"),
        ("a.json", '{"lenses": [3]}', "lenses → 0"),
        ("a.json", '{"lenses": []}', "lenses"),
        ("a.csv", "", "line 1: a lens set starts with"),
        ("a.csv", "name,focal\n", "line 1: a lens set starts with"),
        ("a.csv", "name,focal_mm,colour\n", "column “colour” is not known"),
        ("a.csv", "name,focal_mm\nx,long\n", "line 2: “long” in column focal_mm"),
        ("a.csv", "name,focal_mm\nx,\n", "line 2: lens “x” has no focal length"),
        ("a.csv", "name,focal_mm,longest_mm\nx,50,20\n", "longest focal length is below"),
        ("a.csv", "name,focal_mm,widest,narrowest\nx,50,8,4\n", "narrowest stop"),
    ],
)
def test_a_broken_kit_says_where(tmp_path, name, text, message):
    path = tmp_path / name
    path.write_text(text)
    with pytest.raises(PlanError) as error:
        read_lens_set(path)
    assert str(error.value).startswith(str(path))
    assert message in str(error.value)
    with pytest.raises(PlanError, match="no such file"):
        read_lens_set(tmp_path / "none.json")


PRIME = Lens(
    name="50 mm", focal_mm=(50, 50), widest=2.0, narrowest=16, close_focus_m=0.5, squeeze=2, transmission=0.8
)
ZOOM = Lens(name="24-70", focal_mm=(24, 70), widest=2.8, narrowest=22, close_focus_m=0.4)


def test_a_lens_brings_its_focal_length_squeeze_and_light(ahead):
    _, shot, _ = ahead(focal_mm=Keyed(value=80, keys=(Key(frame=1, value=80), Key(frame=9, value=20))))
    prime = glasses.with_lens(shot.glass, PRIME)
    assert (prime.focal_mm, prime.squeeze, prime.transmission) == (Keyed(value=50), 2, 0.8)
    zoom = glasses.with_lens(shot.glass, ZOOM)
    assert [key.value for key in zoom.focal_mm.keys] == [70, 24]
    assert glasses.with_lens(prime, None).focal_mm == Keyed(value=50)
    assert glasses.with_focal(prime, Keyed(value=50)).lens == PRIME
    assert glasses.with_focal(prime, Keyed(value=65)).lens is None
    assert glasses.with_focal(zoom, Keyed(value=50, keys=(Key(frame=1, value=71),))).lens is None


def test_what_a_lens_cannot_do_is_said(ahead):
    plan, shot, stage = ahead(lens=PRIME, f_number=Keyed(value=1.4))
    near = shot.replace(
        marks=(
            Mark(frame=1, target=DistanceTarget(metres=2.0), ease="even"),
            Mark(frame=10, target=DistanceTarget(metres=0.4), ease="even"),
        )
    )
    found = glasses.lens_doubts(near, survey(plan, near, stage))
    assert "opens no wider than f/2 (in the whole shot)." in found[1]
    assert "focuses no nearer than 0.5 m (at 8–10)." in found[0]
    stopped = glass_with(shot, f_number=Keyed(value=32))
    assert "closes no further than f/16" in glasses.lens_doubts(stopped, survey(plan, stopped, stage))[0]
    assert glasses.lens_doubts(glass_with(shot, lens=None), survey(plan, shot, stage)) == []


def test_the_nearest_lens_that_can():
    kit = next(kit for kit in shipped_lens_sets() if kit.kit == "Cine primes")
    assert nearest_lens(kit, 60, 1.4, 1.0).name == "65 mm"
    assert nearest_lens(kit, 85, 1.4, 0.5).name == "50 mm"
    assert nearest_lens(kit, 85, 0.9, 0.5) is None


# Keeping a subject's size


def size_px(camera, anchor_depth_m):
    """How many pixels a metre covers at a distance."""
    return camera.width_px / (2 * camera.half_widths()[0] * anchor_depth_m)


@pytest.mark.parametrize("model", ["render", "thin"])
@pytest.mark.parametrize("frame", [None, 4.0])
def test_a_subject_keeps_its_size_while_the_focal_length_changes(ahead, model, frame):
    plan, shot, stage = ahead(model=model)
    on_it = shot.replace(marks=(Mark(frame=1, target={"kind": "subject", "number": 1}),))
    before = survey(plan, on_it, stage)
    kept = glasses.keep_size(on_it, 1, 50.0, frame)
    np.testing.assert_allclose(survey(plan, kept, stage).points, before.points)
    longer = glass_with(kept, focal_mm=Keyed(value=85))
    after = survey(plan, longer, stage)
    sizes = [size_px(s.camera, s.sight.axial_m[0]) for s in (before, after)]
    rows = slice(None) if frame is None else slice(3, 4)
    np.testing.assert_allclose(sizes[0][rows], sizes[1][rows], rtol=1e-9)
    # the camera moved straight back along its own axis
    moved = after.camera.pose[:, :3, 3] - before.camera.pose[:, :3, 3]
    assert np.all(moved[:, 2] > 1)
    np.testing.assert_allclose(moved[:, :2], 0, atol=1e-12)
    if frame is not None:
        assert np.ptp(moved[:, 2]) == pytest.approx(0)
    zoomed = glass_with(
        kept, focal_mm=Keyed(value=50, keys=(Key(frame=1, value=50), Key(frame=10, value=120)))
    )
    if frame is None:
        over = survey(plan, zoomed, stage)
        np.testing.assert_allclose(size_px(over.camera, over.sight.axial_m[0]), sizes[0], rtol=1e-9)


def test_a_camera_may_simply_stand_ahead(ahead):
    plan, shot, stage = ahead()
    assert survey(plan, shot.replace(ahead_m=1.5), stage).sight.axial_m[1, 0] == pytest.approx(7.5)
    lost = shot.replace(keeps=KeepSize(subject=7, focal_mm=50))
    assert survey(plan, lost, stage).sight.axial_m[1, 0] == pytest.approx(9)


# Exposure


def test_exposure_is_kept_or_follows_the_stop(ahead):
    plan, shot, stage = ahead()
    shot = shot.replace(exposure=Exposure.right_at(2.8))
    assert float(camera_at(plan, shot, 1, stage).off_ev) == pytest.approx(0)
    closed = glass_with(shot, f_number=Keyed(value=5.6))
    camera = camera_at(plan, closed, 1, stage)
    assert float(camera.off_ev) == pytest.approx(-2)
    assert float(camera.shown_ev) == 0
    coupled = closed.replace(exposure=closed.exposure.replace(kept=False))
    assert float(camera_at(plan, coupled, 1, stage).shown_ev) == pytest.approx(-2)
    dim = glass_with(coupled, transmission=0.5)
    assert float(camera_at(plan, dim, 1, stage).shown_ev) == pytest.approx(-3)


@pytest.mark.parametrize("by", ["iso", "shutter_deg", "nd_stops"])
def test_what_makes_up_for_a_stop(ahead, by):
    plan, shot, stage = ahead(f_number=Keyed(value=2.0))
    shot = shot.replace(exposure=Exposure.right_at(2.8))
    off = float(camera_at(plan, shot, 1, stage).off_ev)
    made = glasses.made_up(shot.exposure, off, by)
    assert float(camera_at(plan, shot.replace(exposure=made), 1, stage).off_ev) == pytest.approx(0, abs=1e-9)
    assert glasses.metered(shot.exposure, off).metered == pytest.approx(shot.exposure.metered + off)


def test_what_cannot_make_up():
    assert glasses.made_up(Exposure(), -2.0, "shutter_deg") is None
    assert glasses.made_up(Exposure(), -2.0, "nd_stops") is None
    assert glasses.made_up(Exposure(nd_stops=3.0), -2.0, "nd_stops").nd_stops == pytest.approx(1)


# Match


@pytest.mark.parametrize("model", ["render", "thin"])
def test_a_match_gives_the_same_framing_blur_and_light(ahead, model):
    plan, shot, stage = ahead(model=model)
    shot = shot.replace(exposure=Exposure.right_at(2.8))
    before = camera_at(plan, shot, 1, stage)
    for size in FORMATS:
        sensor = Sensor(width_mm=size.width_mm, height_mm=size.height_mm)
        found = glasses.match(shot, before, sensor, 1.0)
        if found.f_number < 0.5:
            assert "does not exist" in found.cannot[0]
        taken = glasses.matched(shot, found, 1.0, 1)
        after = camera_at(plan, taken, 1, stage)
        assert after.view_angles_deg[0] == pytest.approx(before.view_angles_deg[0])
        for distance in (0.8, 9.0, np.inf):
            assert after.blur_px(distance) == pytest.approx(before.blur_px(distance))
        assert float(after.off_ev) == pytest.approx(float(before.off_ev), abs=1e-9)


def test_a_match_says_what_differs(ahead):
    plan, shot, stage = ahead(squeeze=2.0, criterion=Criterion(kind="millimetres", value=0.03), model="thin")
    found = glasses.match(shot, camera_at(plan, shot, 1, stage), Sensor(width_mm=4.8, height_mm=3.51), 1.0)
    said = " ".join(found.cannot)
    for part in (
        "does not exist",
        "round, not 2 times taller",
        "taller: width matches",
        "breathe",
        "millimetres",
    ):
        assert part in said


# Readings and maps


def test_readings_in_words(ahead):
    plan, shot, stage = ahead()
    camera = camera_at(plan, shot, 1, stage)
    assert limits.criterion_text(shot.glass.criterion, camera) == "up to 2 px"
    assert "diagonal ÷ 1500" in limits.criterion_text(Criterion(kind="diagonal", value=1500), camera)
    wide, tall = limits.field_m(camera)
    assert (wide, tall) == pytest.approx((4 * 36 / 50, 4 * 24 / 50))
    assert limits.reads_as(camera) == pytest.approx(8 / 2.8)
    said = limits.models_differ(camera, measure("m"))
    assert said.startswith("A real lens:")
    assert "narrower" in said
    assert "nearer" in limits.surfaces_differ(camera, measure("m"))
    close = shot.replace(marks=(Mark(frame=1, target=DistanceTarget(metres=0.04)),))
    assert "cannot focus this close" in limits.models_differ(camera_at(plan, close, 1, stage), measure("m"))


def test_focused_at_infinity_neither_model_blurs_the_background(looking_at):
    plan, shot, stage = looking_at()
    far = shot.replace(marks=(Mark(frame=1, target=DistanceTarget(metres=float("inf"))),))
    for model in ("render", "thin"):
        camera = camera_at(plan, far.replace(glass=far.glass.replace(model=model)), 1, stage)
        said = limits.models_differ(camera, measure("m"))
        assert "the background is as sharp" in said
        assert "nan" not in said


def test_breathing_over_a_pull(ahead):
    plan, shot, stage = ahead(model="thin")
    pull = shot.replace(
        marks=(
            Mark(frame=1, target=DistanceTarget(metres=1.0)),
            Mark(frame=10, target=DistanceTarget(metres=np.inf)),
        )
    )
    # at 1 m the image distance is 1/(1 - 0.05) times the focal length
    assert limits.breathing(survey(plan, pull, stage)) == pytest.approx(1 / 0.95 - 1)
    assert limits.breathing(survey(plan, glass_with(pull, model="render"), stage)) == 0


def allows(one, column, stop):
    return any(low[column] <= stop <= high[column] for low, high in one.ranges)


@pytest.mark.parametrize("model", ["render", "thin"])
def test_maps_tell_what_happens_when_a_point_is_taken(ahead, model):
    plan, shot, stage = ahead(model=model)
    shot = shot.replace(
        brief=(Requirement(subject=1), Requirement(subject=2, kind="at_least", px=6)),
        marks=(Mark(frame=1, target={"kind": "subject", "number": 1}),),
    )
    numbers = survey(plan, shot, stage, [1])
    camera, brief = numbers.camera.frame(0), terms(plan, shot, numbers)
    distance = float(numbers.sight.axial_m[0, 0])
    by_focal = focal_map(camera, distance, brief, (41, 21))
    kept = glasses.keep_size(shot, 1, 50.0, 1.0)
    for column in (0, 12, 33):
        focal = by_focal.across[column]
        for row in (2, 15):
            stop = by_focal.stops[row]
            there = glass_with(kept, focal_mm=Keyed(value=focal), f_number=Keyed(value=stop))
            taken = camera_at(plan, there, 1, stage)
            assert by_focal.blur_px[row, column] == pytest.approx(float(taken.blur_px(np.inf)), rel=1e-9)
        for depth, stops in by_focal.contours:
            if np.isfinite(stops[column]):
                there = glass_with(kept, focal_mm=Keyed(value=focal), f_number=Keyed(value=stops[column]))
                near, far = camera_at(plan, there, 1, stage).limits_m
                assert float(far - near) == pytest.approx(depth, rel=1e-6)
    by_focus = focus_map(camera, 1.0, brief, (61, 21))
    assert np.isinf(by_focus.across[-1])
    met = [(c, s) for c in range(60) for s in by_focus.stops if allows(by_focus, c, s)]
    unmet = [(c, s) for c in range(60) for s in by_focus.stops if not allows(by_focus, c, s)]
    assert met
    for cells, expected in ((met[::7], True), (unmet[::31], False)):
        for column, stop in cells:
            there = glass_with(shot, f_number=Keyed(value=stop)).replace(
                marks=(Mark(frame=1, target=DistanceTarget(metres=by_focus.across[column])),)
            )
            after = survey(plan, there, stage, [1])
            fine = after.worst_px[0, 0] <= after.camera.coc_px and after.sight.blur_px[1, 0] >= 6
            assert bool(fine) is expected


def test_what_a_brief_and_a_kept_size_miss_is_found(ahead):
    plan, shot, stage = ahead()
    lost = shot.replace(brief=(Requirement(subject=8),), keeps=KeepSize(subject=9, focal_mm=50))
    said = " ".join(findings(plan.replace(shots=(lost,)), stage))
    assert "names subject 8, which does not exist" in said
    assert "size of subject 9, which does not exist" in said
