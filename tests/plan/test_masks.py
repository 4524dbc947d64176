"""Masks and presets of the plan: pictures read, drawn masks kept, files that others take."""

import numpy as np
import OpenImageIO as oiio
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from kobrel.errors import KobrelError, OpticsError, PlanError
from kobrel.optics.aperture import passes
from kobrel.plan.check import findings, shot_warnings
from kobrel.plan.file import open_plan, save_plan
from kobrel.plan.instrument import Character
from kobrel.plan.iris import IrisShape, MaskPicture, Stencil
from kobrel.plan.lens_sets.irises import (
    OWN,
    SUFFIX,
    Preset,
    preset_from,
    presets_in,
    read_preset,
    write_preset,
)
from kobrel.plan.masks import draw, iris_of, mask_fault, mask_of, masks_beside, read_mask
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import Shot


def write(path, pixels, names):
    pixels = np.asarray(pixels, np.float32)
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], pixels.shape[2], oiio.FLOAT)
    if path.suffix == ".png":
        spec.set_format(oiio.UINT16)
    spec.channelnames = names
    out = oiio.ImageOutput.create(str(path))
    assert out.open(str(path), spec)
    assert out.write_image(pixels)
    out.close()
    return path


def stripes(channels):
    grey = np.zeros((40, 40, channels), np.float32)
    grey[:20] = 0.8
    return grey


@pytest.mark.parametrize("kind", ["png", "tif", "exr"])
@pytest.mark.parametrize("names", [("Y",), ("R", "G", "B"), ("R", "G", "B", "A")])
def test_greyscale_pictures_are_read_alike(tmp_path, kind, names):
    pixels = stripes(len(names))
    if "A" in names:
        pixels[..., 3] = 1.0
    mask = read_mask(write(tmp_path / f"half.{kind}", pixels, names))
    assert mask.pixels[: len(mask.pixels) // 2 - 20].min() == pytest.approx(0.8, abs=1e-3)
    assert mask.pixels[len(mask.pixels) // 2 + 20 :].max() == pytest.approx(0.0, abs=1e-3)


def test_alpha_takes_light_and_long_pictures_stand_in_the_middle(tmp_path):
    pixels = np.ones((20, 60, 4), np.float32)
    pixels[:, :30, 3] = 0.0
    mask = read_mask(write(tmp_path / "wide.tif", pixels, ("R", "G", "B", "A"))).pixels
    side = len(mask)
    assert mask[side // 2, side * 3 // 4] == pytest.approx(1.0)
    assert mask[side // 2, side // 4] == 0.0
    assert mask[side // 8, side * 3 // 4] == 0.0


def test_half_clear_white_passes_half(tmp_path):
    from PIL import Image

    Image.new("RGBA", (32, 32), (255, 255, 255, 128)).save(tmp_path / "clear.png")
    assert read_mask(tmp_path / "clear.png").pixels.mean() == pytest.approx(128 / 255, abs=0.01)


def test_what_is_no_number_passes_nothing(tmp_path):
    pixels = np.ones((8, 8, 1), np.float32)
    pixels[:4], pixels[4:] = np.nan, 7.0
    mask = read_mask(write(tmp_path / "odd.exr", pixels, ("Y",))).pixels
    assert mask[0, 0] == 0
    assert mask.max() == pytest.approx(1.0)


def test_faults_of_a_mask_are_told_and_the_iris_stays(tmp_path):
    black = write(tmp_path / "black.png", np.zeros((8, 8, 1)), ("Y",))
    broken = tmp_path / "broken.png"
    broken.write_bytes(b"\x89PNG nothing more")
    for path, words in (
        (black, "entirely black"),
        (broken, "not a readable"),
        (tmp_path / "no.png", "missing"),
    ):
        shape = IrisShape(blades=6, mask=MaskPicture(path=str(path)))
        assert words in mask_fault(shape)
        assert str(path) in mask_fault(shape)
        assert iris_of(shape).mask is None
        assert iris_of(shape).blades == 6
        with pytest.raises(KobrelError):
            mask_of(shape)


def test_a_missing_mask_is_a_finding(looking_at, tmp_path):
    plan, shot, stage = looking_at()
    shot = shot.replace(iris=IrisShape(mask=MaskPicture(path=str(tmp_path / "gone.png"))))
    plan = plan.replace(shots=(shot,))
    assert any("gone.png: the mask is missing" in line for line in findings(plan, stage))


def test_a_changed_picture_is_read_anew(tmp_path):
    path = write(tmp_path / "mask.png", np.full((16, 16, 1), 0.25), ("Y",))
    shape = IrisShape(mask=MaskPicture(path=str(path)))
    assert passes(iris_of(shape)) == pytest.approx(0.25, abs=1e-3)
    write(path, np.full((24, 24, 1), 0.75), ("Y",))
    assert passes(iris_of(shape)) == pytest.approx(0.75, abs=1e-3)


def test_the_light_lost_counts_in_the_t_stop_unless_it_is_made_up(looking_at):
    plan, shot, stage = looking_at()
    bare = camera_at(plan, shot, 1, stage)
    for made_up in (False, True):
        mask = Stencil(outline="ring", inner=0.5, made_up=made_up)
        masked = camera_at(plan, shot.replace(iris=IrisShape(mask=mask)), 1, stage)
        lost = 2 * np.log2(float(masked.t_stop) / float(bare.t_stop))
        assert lost == pytest.approx(0.0 if made_up else -np.log2(0.75), abs=5e-3)
        assert float(masked.f_number) == float(bare.f_number)


OUTLINES = ("open", "blades", "star", "heart", "slot", "ring", "polygon", "text")
amounts = st.floats(0, 1)


@settings(max_examples=25, deadline=None)
@given(
    st.builds(
        Stencil, outline=st.sampled_from(OUTLINES), count=st.integers(3, 12), inner=st.floats(0.05, 0.95),
        roundness=amounts, size=st.floats(0.2, 1), turn_deg=st.floats(-360, 360), soft=amounts, rim=amounts,
        dust=amounts, hairs=amounts, scratches=amounts, smudges=amounts, onion=amounts, seed=st.integers(0, 99),
    )
)  # fmt: skip
def test_every_drawn_mask_is_a_picture_that_passes_light(stencil):
    picture = draw(stencil, 96)
    assert picture.shape == (96, 96)
    assert 0 <= picture.min() <= picture.max() <= 1 + 1e-5
    assert picture.mean() > 0


@pytest.mark.parametrize(
    "wrong",
    [
        {"text": "  "},
        {"text": ""},
        {"points": ((0, 0), (1, 1))},
        {"dust": 1.5},
        {"count": 2},
        {"outline": "cube"},
    ],
)
def test_stencils_that_cannot_be_are_refused(wrong):
    with pytest.raises(ValidationError):
        Stencil(**wrong)


def test_masks_are_kept_with_the_plan(looking_at, tmp_path):
    plan, shot, _stage = looking_at()
    picture = write(tmp_path / "own.png", np.ones((16, 16, 1)), ("Y",))
    drawn = shot.replace(iris=IrisShape(mask=Stencil(outline="heart", dust=0.5)))
    read = shot.replace(name="a/b 2", iris=IrisShape(mask=MaskPicture(path=str(picture))))
    plan = plan.replace(shots=(drawn, read, drawn.replace(name="x y/z")))
    folder = tmp_path / "plans"
    folder.mkdir()
    save_plan(plan, folder / "night.kobrel")
    assert '"path": "../own.png"' in (folder / "night.kobrel").read_text()
    assert open_plan(folder / "night.kobrel") == plan
    names = sorted(path.name for path in masks_beside(plan, folder / "night.kobrel"))
    assert names == ["night.mask-1.png", "night.mask-x_y_z.png"]
    kept = read_mask(folder / "night.mask-1.png").pixels
    assert np.abs(kept - draw(Stencil(outline="heart", dust=0.5))).mean() < 0.01


def test_discs_that_a_renderer_cuts_are_told(looking_at):
    from tests.conftest import ball_at

    plan, shot, stage = looking_at(ball_at((0, 0, -1.5), 0.3))
    shot = shot.replace(most_px=10.0)
    plan = plan.replace(shots=(shot,))
    told = [line for line in shot_warnings(plan, shot, stage) if "maximum is 10 px" in line]
    largest = float(camera_at(plan, shot, 1, stage).blur_px(1.2))
    assert len(told) == 1
    assert int(told[0].split(" px")[0].split()[-1]) == pytest.approx(largest, rel=0.02)
    roomy = shot.replace(most_px=1e4)
    assert not any(
        "Blur reaches" in line for line in shot_warnings(plan.replace(shots=(roomy,)), roomy, stage)
    )


# Presets


@pytest.mark.parametrize("preset", OWN, ids=lambda preset: preset.name)
def test_presets_are_known_again_and_survive_a_file(looking_at, tmp_path, preset):
    plan, shot, stage = looking_at()
    given_shot = preset.given_to(shot, camera_at(plan, shot, 1, stage))
    assert preset.is_of(given_shot)
    assert sum(other.is_of(given_shot) for other in OWN) == 1
    path = tmp_path / f"mine{SUFFIX}"
    write_preset(path, preset_from("mine", given_shot))
    back = read_preset(path)
    assert back.given_to(shot, camera_at(plan, shot, 1, stage)).iris == given_shot.iris
    assert back.flaws == given_shot.flaws
    told = []
    assert [found.name for found in presets_in(tmp_path, told.append)] == ["mine"]
    assert told == []


def test_a_presets_picture_travels_with_it(tmp_path):
    picture = write(tmp_path / "mask.png", np.full((16, 16, 1), 0.5), ("Y",))
    shot = Shot(
        name="1", camera={"kind": "fixed", "pose": tuple(np.eye(4).ravel())},
        iris=IrisShape(mask=MaskPicture(path=str(picture))), flaws=Character(swirl_mm=0.2),
    )  # fmt: skip
    share = tmp_path / "share"
    share.mkdir()
    write_preset(share / f"half{SUFFIX}", preset_from("half", shot))
    picture.unlink()
    back = read_preset(share / f"half{SUFFIX}")
    assert back.iris.mask.path == str(share / "half.png")
    assert passes(iris_of(back.iris)) == pytest.approx(0.5, abs=1e-3)
    with pytest.raises(PlanError, match=r"mask\.png"):
        write_preset(tmp_path / f"again{SUFFIX}", preset_from("again", shot))
    write_preset(share / f"half{SUFFIX}", back)  # onto itself


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{", "line 1"), ("[]", "not a preset"), ('{"iris": {}}', "not a preset"),
        ('{"format": 99, "name": "x", "iris": {}}', "newer Kobrel"),
        ('{"format": 1, "name": "x", "iris": {"blades": 2}}', "3 blades or more"),
    ],
)  # fmt: skip
def test_broken_presets_are_refused_by_name(tmp_path, text, words):
    path = tmp_path / f"bad{SUFFIX}"
    path.write_text(text)
    with pytest.raises(PlanError, match="bad") as told:
        read_preset(path)
    assert words in str(told.value)
    told = []
    assert presets_in(tmp_path, told.append) == []
    assert [str(tmp_path) in line for line in told] == [True]
    with pytest.raises(PlanError, match="no such file"):
        read_preset(tmp_path / "nowhere")
    with pytest.raises(PlanError, match="Choose another folder"):
        write_preset(tmp_path / "no" / f"x{SUFFIX}", Preset(name="x"))


def test_an_unseen_letter_is_no_mask():
    with pytest.raises(OpticsError):
        draw(Stencil.model_construct(**{**Stencil(outline="text").__dict__, "text": " "}), 64)
