"""Terms: a shot's values in everybody's words and back, their digits, and what they lose."""

import json
import math
import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kobrel.errors import PlanError
from kobrel.optics.iris import Iris, outline
from kobrel.optics.units import METRE, METRES, Measure, measure, scene_measure
from kobrel.plan.edit import with_shot
from kobrel.plan.instrument import Delivery, FrontStop
from kobrel.plan.iris import IrisShape
from kobrel.plan.keys import Key, Keyed
from kobrel.plan.measure.survey import GONE, survey
from kobrel.plan.model import DistanceTarget, Mark, SubjectTarget
from kobrel.plan.values.back import shot_with, taken
from kobrel.plan.values.blocks import BLOCKS, EXACT_PX, block, blocks_for, decimals, in_unit, settle, terms
from kobrel.plan.values.changes import taken_values
from kobrel.plan.values.lost import losses
from kobrel.plan.values.own import (
    CustomValue,
    CustomValues,
    as_own,
    family,
    own_text,
    own_values,
    read_folder,
    read_own,
    write_own,
)
from kobrel.plan.values.quantities import GROUPS, QUANTITIES
from kobrel.plan.values.reading import read_values
from kobrel.plan.values.render_camera import render_camera, worst_blur_px

sys.path.insert(0, str(Path(__file__).parents[2] / "scripts"))

UNITS = [measure(name) for name in METRES] + [scene_measure(0.1), scene_measure(2.5)]
SETS_BLUR = [each for each in BLOCKS if any(q.group == "aperture" for q in each.quantities)]


def random_shot(plan, rng):
    """A shot of the demo with a lens, stop, focus and criterion of chance."""
    shot = plan.shots[int(rng.integers(len(plan.shots)))]
    focal, stop = float(rng.uniform(14, 120)), float(np.exp(rng.uniform(0.1, 2.8)))
    keys = ()
    if rng.random() < 0.3:
        keys = (
            Key(frame=shot.first, value=focal),
            Key(frame=shot.last, value=focal * float(rng.uniform(0.7, 1.5))),
        )
    marks = (Mark(frame=shot.first, target=DistanceTarget(metres=float(np.exp(rng.uniform(-0.6, 3.5))))),)
    if rng.random() < 0.6:
        marks = (*marks, Mark(frame=shot.last - 3, target=SubjectTarget(number=int(rng.integers(1, 7)))))
    squeeze = float(rng.choice([1.0, 1.33, 2.0]))
    glass = shot.glass.replace(
        focal_mm=Keyed(value=focal, keys=keys), f_number=Keyed(value=stop), squeeze=squeeze, lens=None,
        model=str(rng.choice(["render", "thin"])), surface=str(rng.choice(["plane", "sphere"])),
    )  # fmt: skip
    return shot.replace(glass=glass, marks=marks, width_px=int(rng.choice([1280, 1920, 4096])))


def scrambled(shot):
    """The same with another stop and focus, so that coming back is no doing nothing."""
    return shot.replace(
        glass=shot.glass.replace(f_number=Keyed(value=9.3)),
        marks=(Mark(frame=shot.first, target=DistanceTarget(metres=1.234)),),
    )


@pytest.mark.parametrize("seed", range(10))
def test_every_block_goes_there_and_back(demo, seed):
    """500 shots of chance: the blur of all subjects in all frames is within 0.01 px."""
    plan, stage = demo
    rng = np.random.default_rng(seed)
    for number in range(50):
        shot = random_shot(plan, rng)
        numbers = survey(plan, shot, stage)
        camera = render_camera(shot, numbers)
        which, unit = SETS_BLUR[number % len(SETS_BLUR)], UNITS[(number + seed) % len(UNITS)]
        out = {q.key: in_unit(q, q.values(camera), unit) for q in which.quantities}
        back = {k: v * unit.metres if QUANTITIES[k].kind == "length" else v for k, v in out.items()}
        wrong = scrambled(shot)
        before = survey(plan, wrong, stage)
        made = shot_with(wrong, before, taken(render_camera(wrong, before), back))
        after = survey(plan, made, stage)
        seen = np.isfinite(numbers.sight.blur_px) & (numbers.state != GONE)
        off = np.abs(after.sight.blur_px - numbers.sight.blur_px)[seen]
        assert off.size == 0 or off.max() < 0.01, (seed, number, which.key, unit.symbol)


def test_the_two_thin_lenses_picture_the_same(demo):
    plan, stage = demo
    shot = plan.shots[1].replace(glass=plan.shots[1].glass.replace(model="thin"))
    numbers = survey(plan, shot, stage)
    camera = render_camera(shot, numbers)
    np.testing.assert_allclose(camera.blur_px(3.3), [numbers.camera.frame(k).blur_px(3.3) for k in range(96)])
    np.testing.assert_allclose(
        np.tan(np.radians(QUANTITIES["angle_across"].values(camera)) / 2), numbers.camera.half_widths()[0]
    )
    # A render camera with these values makes the same blur.
    v, n = QUANTITIES["focal_length"].values(camera), QUANTITIES["f_number"].values(camera)
    s, w = camera.focus_m, camera.film_mm[0]
    np.testing.assert_allclose(v * v / n * abs(1 / s - 1 / 3.3) / 1000 / w * 1920, camera.blur_px(3.3))


def test_values_are_those_of_the_formulas(demo):
    plan, stage = demo
    shot = plan.shots[3]
    numbers = survey(plan, shot, stage)
    camera = render_camera(shot, numbers)
    one = camera.at(30)
    f, n, s = (float(v[30]) for v in (camera.focal_mm, camera.f_number, camera.focus_m))
    w, c0 = camera.film_mm[0], camera.coc_px / 1920 * camera.film_mm[0]
    expected = {
        "aperture_radius": f / n / 2000, "aperture_diameter_mm": f / n, "infinity_blur_mm": f * f / n / s / 1000,
        "infinity_blur_percent": f * f / n / s / 1000 / w * 100, "focus_dioptres": 1 / s,
        "near_limit": 1 / (1 / s + c0 / (f / n * f) * 1000), "hyperfocal": f * f / (n * c0) / 1000,
        "angle_diagonal": 2 * math.degrees(math.atan(math.hypot(*camera.film_mm) / 2 / f)),
        "focus_value": (s - camera.ends_m[0]) / (camera.ends_m[1] - camera.ends_m[0]),
        "inverse_focus_value": camera.ends_m[0] / s, "shutter_seconds": shot.exposure.shutter_deg / 360 / shot.fps,
        "full_before": 1 / (1 / s + one.full_px[0] / one.px_per_dpt[0]),
    }  # fmt: skip
    for key, value in expected.items():
        assert float(QUANTITIES[key].values(one)[0]) == pytest.approx(value, rel=1e-9), key
    assert float(QUANTITIES["far_limit"].values(one)[0]) == pytest.approx(float(numbers.far_m[30]))
    assert float(QUANTITIES["t_stop"].values(one)[0]) == pytest.approx(float(numbers.camera.t_stop[30]))


@pytest.mark.parametrize("unit", UNITS, ids=lambda u: f"{u.metres:g}")
def test_digits_are_as_many_as_blur_needs(demo, unit):
    """Rounded as they are shown, the values of a block keep every blur within 0.1 px; one digit less of any
    of them may not."""
    plan, stage = demo
    numbers = survey(plan, plan.shots[1], stage)
    one = render_camera(plan.shots[1], numbers).at(40)
    places = np.append(numbers.focus_distance_m[:, 40], np.inf)
    needless = 0
    for which in SETS_BLUR:
        digits = decimals(which, one, unit, places[:-1])
        for fewer in (0, 1):
            rounded, groups = {}, set()
            for q in which.quantities:
                if q.put is None or (q.group in groups and not q.alone):
                    continue
                groups.add(q.group)
                value = float(in_unit(q, q.values(one), unit)[0])
                if math.isfinite(value):
                    kept = round(value, digits[q.key] - fewer)
                    rounded[q.key] = np.asarray([kept * (unit.metres if q.kind == "length" else 1.0)])
            with np.errstate(all="ignore"):
                off = np.nanmax(np.abs(settle(one, rounded).blur_px(places) - one.blur_px(places)))
            if fewer == 0:
                assert off <= EXACT_PX * 1.05, which.key
            else:
                needless += not off > EXACT_PX / 8
    assert needless <= len(SETS_BLUR) // 2


def test_a_pasted_block_is_as_it_was(demo):
    plan, stage = demo
    shot, frame = plan.shots[1], 1040
    numbers = survey(plan, shot, stage)
    one = render_camera(shot, numbers).at(numbers.index_of(frame))
    for unit in UNITS:
        for which in blocks_for("perspective"):
            shown = terms(which, one, unit, numbers.focus_distance_m[:, 39])
            text = "\n".join([which.title, *(f"{term.label}: {term.shown}" for term in shown)])
            found = taken_values(plan, shot, stage, read_values(text, unit), frame, unit)
            assert found.shot == shot, (which.key, unit.symbol)
            assert found.changes == ()


def test_a_block_of_another_shot_is_taken_as_it_was_copied(demo):
    """Its rounded values never contradict each other, and blur comes out within what rounding does."""
    plan, stage = demo
    closed = plan.shots[0].replace(
        glass=plan.shots[0].glass.replace(f_number=Keyed(value=22.0))
    )  # hardly any blur
    for source in (*plan.shots, closed):
        numbers = survey(plan, source, stage)
        one = render_camera(source, numbers).at(20)
        other = render_camera(scrambled(source), survey(plan, scrambled(source), stage)).at(20)
        places = np.append(numbers.focus_distance_m[:, 20], np.inf)
        for unit in UNITS:
            for which in SETS_BLUR:
                shown = terms(which, one, unit, places[:-1])
                text = "\n".join(f"{term.label}: {term.shown}" for term in shown)
                made = taken(other, read_values(text, unit).given)
                assert np.abs(made.blur_px(places) - one.blur_px(places)).max() < 3 * EXACT_PX, which.key


def test_an_own_name_does_not_make_another_value_the_old_one(demo):
    plan, stage = demo
    shot = plan.shots[1]
    own = CustomValues(title="Mine", terms=(CustomValue(name="ap", quantity="aperture_radius", scale=100.0),))
    one = render_camera(shot, survey(plan, shot, stage)).at(0)
    (shown,) = own_values(own, one, METRE, np.zeros(0))
    same = taken_values(
        plan, shot, stage, read_values(f"ap: {shown.text}", METRE, [own]), 1001, METRE, (own,)
    )
    assert same.shot == shot
    metres = read_values(f"Radius: {shown.text}", METRE, [own])
    assert taken_values(plan, shot, stage, metres, 1001, METRE, (own,)).shot != shot


def test_of_values_for_the_same_the_changed_one_counts(demo):
    plan, stage = demo
    shot = plan.shots[1]
    numbers = survey(plan, shot, stage)
    one = render_camera(shot, numbers).at(0)
    radius = float(one.pupil_mm[0]) / 2000

    def taken_of(**values):
        return taken(one, {key: np.asarray([value]) for key, value in values.items()})

    made = taken_of(
        aperture_radius=radius / 2, aperture_diameter=2 * radius, focus_distance=float(one.focus_m[0])
    )
    assert float(made.pupil_mm[0]) == pytest.approx(1000 * radius)
    # A radius that stays holds the aperture while another angle comes; else the f-number stays.
    wide = taken_of(lens_radius=radius, angle_across=60.0)
    assert float(wide.pupil_mm[0]) == pytest.approx(2000 * radius)
    assert float(taken_of(angle_across=60.0).f_number[0]) == pytest.approx(float(one.f_number[0]))
    with pytest.raises(PlanError, match="Diameter contradicts Radius"):
        taken_of(aperture_radius=radius / 2, aperture_diameter=radius * 3)
    limits = taken_of(near_limit=2.0, far_limit=4.0, focus_distance=float(one.focus_m[0]))
    assert float(limits.focus_m[0]) == pytest.approx(8 / 3)
    assert float(QUANTITIES["near_limit"].values(limits)[0]) == pytest.approx(2.0)
    assert float(QUANTITIES["far_limit"].values(limits)[0]) == pytest.approx(4.0)
    with pytest.raises(PlanError, match="the focus itself"):
        taken_of(near_limit=float(one.focus_m[0]))
    focus = float(one.focus_m[0])
    for term, beyond in (
        ("near_limit", 1.05), ("far_limit", 0.95), ("full_before", 1.5), ("full_behind", 0.5),
        ("begins_before", 1.05), ("begins_behind", 0.95),
    ):  # fmt: skip
        with pytest.raises(PlanError, match="the focus, which is at"):
            taken_of(**{term: focus * beyond})
        held = taken_of(**{term: focus / beyond})
        assert float(QUANTITIES[term].values(held)[0]) == pytest.approx(focus / beyond)
    with pytest.raises(PlanError, match="f-number cannot be -2"):
        taken_of(f_number=-2.0)
    with pytest.raises(PlanError, match="Blades cannot be 1e\\+06"):
        taken_of(blades=1e6)


def test_values_over_frames_become_keys_and_marks(demo):
    plan, stage = demo
    shot = plan.shots[1]
    frames = np.arange(shot.first, shot.last + 1.0)
    stops = np.where(frames < 1040, 2.0, 2.0 * 1.01 ** (frames - 1039))
    focus = np.interp(frames, [1001, 1050, 1096], [1 / 2.0, 1 / 5.0, 1 / 5.0])
    text = json.dumps(
        {"unit": "cm", "frames": [{"frame": f, "f_number": n, "focus_distance": 100 / d}
                                  for f, n, d in zip(frames, stops, focus, strict=True)]}
    )  # fmt: skip
    found = taken_values(plan, shot, stage, read_values(text, METRE), 1001, METRE)
    after = survey(plan, found.shot, stage).camera
    np.testing.assert_allclose(after.f_number, stops, rtol=1e-6)
    np.testing.assert_allclose(1 / after.focus_m, focus, atol=1e-4)
    assert len(found.shot.marks) <= 4
    assert len(found.shot.glass.f_number.keys) <= 4
    assert found.changes[0].label == "Frames"
    with pytest.raises(PlanError, match="none of the frames 1 to 2 is of the shot"):
        taken_values(plan, shot, stage, read_values("frame,f_number\n1,2\n2,2", METRE), 1001, METRE)
    with pytest.raises(PlanError, match="the squeeze changes over the frames"):
        taken_values(plan, shot, stage, read_values("frame,squeeze\n1001,2\n1002,1.5", METRE), 1001, METRE)


def test_at_one_frame_a_key_or_a_mark_is_set(demo):
    plan, stage = demo
    pulled, plain = plan.shots[1], plan.shots[0]
    values = read_values(
        "f-number: 4\nFocus distance: 1.5 m\nBlades: 6\nISO: 400\nLargest blur: 40 px", METRE
    )
    found = taken_values(plan, pulled, stage, values, 1050, METRE)
    assert found.shot.glass.f_number.value == 4.0
    assert [mark.frame for mark in found.shot.marks] == [1001, 1037, 1050, 1061, 1096]
    assert (found.shot.iris.blades, found.shot.exposure.iso, found.shot.most_px) == (6, 400, 40.0)
    told = {change.label: (change.before, change.after) for change in found.changes}
    assert told["f-number"] == ("f/1.4", "f/4")
    assert told["Focus distance"][1] == "1.5 m"
    assert told["Blur of Lantern"][0] != told["Blur of Lantern"][1]
    whole = taken_values(plan, plain, stage, values, 1030, METRE).shot
    assert [mark.target for mark in whole.marks] == [DistanceTarget(metres=1.5)]


def test_film_squeeze_and_turn_come_back(demo):
    plan, stage = demo
    shot = plan.shots[2]
    text = "Film back, width: 36 mm\nFilm back, height: 20.25 mm\nRotation, from the top: 30°\nSqueeze: 1.5"
    made = taken_values(plan, shot, stage, read_values(text, METRE), 1010, METRE).shot
    after = survey(plan, made, stage)
    camera = after.camera.frame(9)
    assert camera.sensor_width_mm * camera.squeeze == pytest.approx(36.0)
    assert (camera.sensor_height_mm, camera.squeeze) == pytest.approx((20.25, 1.5))
    turned = float(QUANTITIES["turn_from_top"].values(render_camera(made, after).at(9))[0])
    assert turned == pytest.approx(30.0 % (360.0 / max(shot.iris.blades, 1)))
    framed = shot.replace(glass=shot.glass.replace(delivery=Delivery(aspect=1.0)))
    with pytest.raises(PlanError, match="does not fit the delivered frame"):
        taken_values(plan, framed, stage, read_values("Film back, height: 5 mm", METRE), 1010, METRE)


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("", "nothing to read"), ("a poem\nof two lines", "these are no values"),
        ("Radius: 3 kg", "“kg” is not a unit of it"), ("Radius: three", "“three” is not a number"),
        ("Radius: 1\nRadius: 2", "given twice"), ('{"radio": 1}', "none of these is a value that Kobrel knows: radio"),
        ("[1, 2]", "an object of them"), ('{"a": ', "not valid JSON"), ("frame,Radius\n1,2\n1,3", "not in order"),
        ("Radius,f-number\n1,2\n2,3", "need a column “frame”"), ("frame,Radius\nx,2\ny,3", "a frame is not a number"),
        ("frame,Radius\n1,2\n2,", "Radius is missing"),
    ],
)  # fmt: skip
def test_what_is_no_value_is_told_with_its_name(text, told):
    with pytest.raises(PlanError, match=told):
        read_values(text, METRE)


def test_values_are_read_in_many_ways():
    cm = measure("cm")
    for text in ("Radius: 1.25 cm", "radius = 12.5 mm", "aperture_radius\t1.25", "Radius   0.0125 m",
                 '{"aperture_radius": 1.25}', '[{"Radius": "1.25"}]', "Radius;f-number\n1,25;2",
                 "aperture_radius [m],x\n0.0125,7", "# a note\nRadius: +1.25e0"):  # fmt: skip
        found = read_values(text, cm)
        assert float(found.given["aperture_radius"][0]) == pytest.approx(0.0125), text
    assert found.frames is None
    assert read_values("aperture_radius [m],x\n0.0125,7", cm).unknown == ("x",)
    assert math.isinf(float(read_values("Far limit: ∞", cm).given["far_limit"][0]))
    table = read_values("Frame\tf-number\n1001\t2\n1002\t2.8\n", cm)
    assert table.frames.tolist() == [1001, 1002]


@given(st.text(max_size=80))
def test_any_text_is_values_or_refused(text):
    try:
        found = read_values(text, METRE)
    except PlanError:
        return
    assert all(np.all(np.isfinite(v) | np.isinf(v)) for v in found.given.values())


def lossy(plan, **changes):
    shot = plan.shots[1]
    glass = {k: v for k, v in changes.items() if k in ("model", "squeeze", "surface")}
    rest = {k: v for k, v in changes.items() if k not in glass}
    return shot.replace(glass=shot.glass.replace(**{"squeeze": 1.0, **glass}), **rest)


def lost_of(plan, stage, shot, key, row=20):
    numbers = survey(plan, shot, stage)
    return {loss.key: loss.px for loss in losses(block(key), plan, shot, numbers, row)}, numbers


def test_what_is_lost_is_told_with_pixels(demo):
    """Each amount against a calculation of its own."""
    plan, stage = demo
    # A spherical focus: subjects' blur by hand, on the surface s cos t along each line of sight.
    shot = lossy(plan)
    found, numbers = lost_of(plan, stage, shot, "aperture")
    camera, row = numbers.camera.frame(20), 20
    seen = numbers.state[:, row] != GONE
    along, straight = numbers.sight.axial_m[seen, row], numbers.sight.straight_m[seen, row]
    f, n, s = float(camera.focal_mm), float(camera.f_number), float(camera.focus_m)
    px = f * f / n / 1000 / camera.sensor_width_mm * camera.width_px
    flat = px * abs(1 / s - 1 / along)
    sphere = px * abs(straight / (s * along) - 1 / along)
    assert found["surface"] == pytest.approx(np.max(abs(flat - sphere)), rel=1e-6)
    # A squeeze: discs are as wide as they are high without it.
    squeezed = lossy(plan, squeeze=2.0)
    found, numbers = lost_of(plan, stage, squeezed, "aperture")
    largest = worst_blur_px(numbers, 20)
    assert found["squeeze"] == pytest.approx(largest / 2)
    # Its straight distance typed: the lantern, which is now in the picture, is the subject in focus.
    along, straight = numbers.sight.axial_m[0, 20], numbers.sight.straight_m[0, 20]
    assert found["straight"] == pytest.approx(px / 2 * abs(1 / straight - 1 / along), rel=1e-6)
    assert "squeeze" not in lost_of(plan, stage, squeezed, "iris")[0]
    # Blades: a pentagon's corners lie farther out than the circle of its area.
    found, numbers = lost_of(plan, stage, lossy(plan, iris=IrisShape(blades=5)), "aperture")
    corner = math.sqrt(2 * math.pi / (5 * math.sin(2 * math.pi / 5)))
    assert found["blades"] == pytest.approx(worst_blur_px(numbers, 20) / 2 * (corner - 1), rel=1e-3)
    assert np.linalg.norm(outline(Iris(5)), axis=1).max() == pytest.approx(corner, rel=1e-3)
    # Cat's eye: what the front stop cuts from the corner's disc.
    eye = lossy(plan)
    pupil = float(camera.pupil_mm)
    eye = eye.replace(flaws=eye.flaws.replace(front_stop=FrontStop(distance_mm=30.0, diameter_mm=pupil)))
    found, numbers = lost_of(plan, stage, eye, "aperture")
    tangent = math.hypot(camera.sensor_width_mm, camera.sensor_height_mm) / 2 / f
    assert found["cat_eye"] == pytest.approx(worst_blur_px(numbers, 20) * 30.0 * tangent / pupil, rel=1e-6)
    # A rim's weight, and flaws, are told.
    rim = lossy(plan, iris=IrisShape(rim=0.5), flaws=eye.flaws.replace(front_stop=None, colour_mm=0.1))
    found, numbers = lost_of(plan, stage, rim, "aperture")
    assert found["rim"] == pytest.approx(worst_blur_px(numbers, 20))
    assert found["flaws"] == pytest.approx(0.1 / n / camera.sensor_width_mm * camera.width_px, rel=1e-6)


def test_what_a_thin_lens_loses_in_a_render_camera(demo):
    plan, stage = demo
    shot = lossy(plan, model="thin")
    found, numbers = lost_of(plan, stage, shot, "f_number")
    f = 50.0
    s = numbers.camera.focus_m
    v = f * 1000 * s / (1000 * s - f)
    assert found["thin"] == pytest.approx(960 * (v[20] / f - 1), rel=1e-9)
    assert found["held"] == pytest.approx(960 * np.max(abs(v / v[20] - 1)), rel=1e-9)
    camera = numbers.camera.frame(20)
    render = replace(camera, model="render")
    assert found["thin_blur"] == pytest.approx(
        abs(float(camera.blur_px(np.inf)) - float(render.blur_px(np.inf))), rel=1e-9
    )
    assert "thin" not in lost_of(plan, stage, shot, "aperture")[0]


def test_what_ramps_lose(demo):
    plan, stage = demo
    shot = lossy(plan, most_px=12.0)
    found, numbers = lost_of(plan, stage, shot, "ramp")
    one = render_camera(shot, numbers).at(20)
    assert found["cut"] == pytest.approx(
        max(worst_blur_px(numbers, 20), float(one.blur_px(one.ends_m[0])[0])) - 12
    )
    s, p, c0 = float(one.focus_m[0]), float(one.px_per_dpt[0]), one.coc_px
    near, far = one.ends_m
    d = np.linspace(near, far, 200_001)
    exact = np.minimum(p * abs(1 / s - 1 / d), 12.0)
    ends = [1 / (1 / s + k / p) for k in (12.0, c0, -c0, -12.0)]
    ramp = np.interp(d, ends, [12.0, 0.0, 0.0, 12.0])
    assert found["ramp"] == pytest.approx(np.max(abs(exact - ramp)), rel=2e-3)
    found, _ = lost_of(plan, stage, shot, "depth")
    even = abs(d - s) / (s - near) * p * abs(1 / near - 1 / s)
    assert found["even_depth"] == pytest.approx(np.max(abs(even - p * abs(1 / s - 1 / d))), rel=1e-6)
    assert "even_depth" not in lost_of(plan, stage, shot, "inverse")[0]


@pytest.mark.parametrize(("f_number", "most"), [(8.0, 12.0), (16.0, 12.0), (22.0, 20.0), (2.8, 40.0)])
def test_what_a_ramp_loses_is_told_of_what_matters_alone(demo, f_number, most):
    """Where the lens is closed the ramp begins nearer and farther than all that is seen."""
    plan, stage = demo
    shot = lossy(plan, most_px=most)
    shot = shot.replace(glass=shot.glass.replace(f_number=Keyed(value=f_number), focal_mm=Keyed(value=16.0)))
    found, numbers = lost_of(plan, stage, shot, "ramp")
    one = render_camera(shot, numbers).at(20)
    s, p, c0 = float(one.focus_m[0]), float(one.px_per_dpt[0]), one.coc_px
    d = np.linspace(*one.ends_m, 200_001)
    told = found.get("ramp", 0.0)
    ends = [1 / dpt if (dpt := 1 / s + k / p) > 0 else np.inf for k in (most, c0, -c0, -most)]
    before = np.clip((ends[1] - d) / (ends[1] - ends[0]), 0, 1)
    behind = np.clip((d - ends[2]) / (ends[3] - ends[2]), 0, 1) if np.isfinite(ends[3]) else 0 * d
    wanted = np.minimum(p * abs(1 / s - 1 / d), most) - np.maximum(before, behind) * most
    assert told == pytest.approx(np.max(abs(wanted)), rel=2e-3)


def test_an_orthographic_view_has_terms_of_its_own(demo):
    plan, stage = demo
    shot = plan.shots[0].replace(glass=plan.shots[0].glass.replace(projection="orthographic"))
    numbers = survey(plan, shot, stage)
    one = render_camera(shot, numbers).at(0)
    keys = [each.key for each in blocks_for("orthographic")]
    assert keys == ["iris", "shutter", "exposure", "orthographic"]
    shown = terms(block("orthographic"), one, METRE, numbers.focus_distance_m[:, 0])
    assert [term.shown for term in shown] == ["4 m", "1°"]
    assert losses(block("iris"), plan, shot, numbers, 0) == []


def test_names_and_groups_are_told_apart():
    labels = [quantity.label for quantity in QUANTITIES.values()]
    assert len(set(labels)) == len(labels)
    assert {quantity.group for quantity in QUANTITIES.values() if quantity.put} == set(GROUPS)
    for quantity in QUANTITIES.values():
        assert quantity.meaning.endswith(".")
        assert (quantity.put is None) == (quantity.group is None)


def test_own_terms_are_kept_as_a_file_and_shared(demo, tmp_path):
    plan, stage = demo
    own = CustomValues(
        title="Old renderer",
        terms=(
            CustomValue(name="ap", quantity="aperture_radius", unit="mm", scale=0.5, decimals=2),
            CustomValue(name="fd", quantity="focus_distance", unit="in", sign=-1),
            CustomValue(name="twist", quantity="turn_from_right"),
        ),
    )
    write_own(tmp_path / "terms", own)
    (tmp_path / "terms" / "broken.terms.json").write_text(
        '{"title": "x", "terms": [{"name": "a", "quantity": "b"}]}'
    )
    found, told = read_folder(tmp_path / "terms")
    assert found == [own]
    assert ["no quantity named “b”" in line for line in told] == [True]
    assert read_folder(tmp_path / "none") == ([], [])
    numbers = survey(plan, plan.shots[1], stage)
    one = render_camera(plan.shots[1], numbers).at(20)
    cm = measure("cm")
    ap, fd, _twist = own_values(own, one, cm, numbers.focus_distance_m[:, 20])
    assert ap.text == f"{float(one.pupil_mm[0]) / 4:.2f}"
    assert fd.value == pytest.approx(-float(one.focus_m[0]) / 0.0254)
    back = read_values(f"ap: {ap.value!r}\nfd: {fd.value!r}", cm, [own])
    assert float(back.given["aperture_radius"][0]) == pytest.approx(float(one.pupil_mm[0]) / 2000)
    assert float(back.given["focus_distance"][0]) == pytest.approx(float(one.focus_m[0]))
    assert family("old renderer", [own]) is own
    assert family("aperture").key == "aperture"
    with pytest.raises(PlanError, match="there are no values “none”"):
        family("none")
    begun = as_own(block("lens"))
    (tmp_path / "x.terms.json").write_text(own_text(begun))
    assert read_own(tmp_path / "x.terms.json") == begun
    for content, why in (("[]", "not a file of values"), ('{"title": "", "terms": []}', "title")):
        (tmp_path / "x.terms.json").write_text(content)
        with pytest.raises(PlanError, match=why):
            read_own(tmp_path / "x.terms.json")


def test_a_scene_far_off_and_another_unit_have_terms_too(demo):
    plan, stage = demo
    shot = plan.shots[1].replace(marks=(Mark(frame=1001, target=DistanceTarget(metres=math.inf)),))
    numbers = survey(with_shot(plan, 1, shot), shot, stage)
    one = render_camera(shot, numbers).at(0)
    for which in blocks_for("perspective"):
        for term in terms(which, one, Measure("u", 100.0), numbers.focus_distance_m[:, 0]):
            assert term.shown, which.key
    shown = {t.quantity.key: t for t in terms(block("f_number"), one, METRE, numbers.focus_distance_m[:, 0])}
    assert (shown["focus_distance"].shown, shown["focus_distance"].text) == ("∞ m", "inf")


def test_the_docs_tell_every_quantity():
    from make_terms import TARGET, made

    assert TARGET.read_text(encoding="utf-8") == made(), "run: python scripts/make_terms.py"
    assert all(f"`{key}`" in made() for key in QUANTITIES)
