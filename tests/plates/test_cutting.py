"""Cuts and fills: what is left of a picture, its edge, and what stands where something was lifted."""

import numpy as np
import pytest
from PIL import Image

from kobrel import trust
from kobrel.plan.model import Plan
from kobrel.plan.pictures.plates import (
    BrightnessRange,
    ColourRange,
    Cut,
    DepthRange,
    Ellipse,
    Fill,
    MaskFile,
    Outline,
    OutlinePoint,
    OwnAlpha,
    Rectangle,
)
from kobrel.plan.plates.pixels import PixelCache, cut_mask, plate_key, worked
from kobrel.stage.pictures.fill import diffused, mirrored, patched
from kobrel.stage.pictures.masks import bent, shaped, smoothed_line
from kobrel.stage.plates import PlatePixels
from kobrel.stage.scene import Cancelled
from tests.plates.flat import picture, plate_at

SIZE = (100, 160)


@pytest.fixture(autouse=True)
def _allowed(tmp_path):
    trust.allow([tmp_path])


def blank(colour=(128, 128, 128, 255)):
    return PlatePixels(np.full((*SIZE, 4), colour, np.uint8))


def plain(*shapes, **changes):
    return Cut(shapes=shapes, **{"feather_px": 0, **changes})


def test_a_rectangle_covers_its_area_to_a_part_of_a_pixel():
    mask = cut_mask(blank(), plain(Rectangle(one=(0.25, 0.2), other=(0.7523, 0.6))))
    assert mask.sum() == pytest.approx(0.5023 * 160 * 0.4 * 100, rel=0.005)
    assert mask[10, 20] == 0
    assert mask[40, 80] == 1


def test_an_ellipse_and_a_bent_outline_have_their_areas():
    mask = cut_mask(blank(), plain(Ellipse(one=(0.25, 0.2), other=(0.75, 0.8))))
    assert mask.sum() == pytest.approx(np.pi * 40 * 30, rel=0.01)
    k = 0.5523  # a circle of four curves
    ways = ((1, 0), (0, 1), (-1, 0), (0, -1))
    points = tuple(
        OutlinePoint(
            at=(0.5 + 0.25 * x, 0.5 + 0.4 * y),
            before=(0.5 + 0.25 * (x + k * y), 0.5 + 0.4 * (y - k * x)),
            after=(0.5 + 0.25 * (x - k * y), 0.5 + 0.4 * (y + k * x)),
        )
        for x, y in ways
    )
    mask = cut_mask(blank(), plain(Outline(points=points)))
    assert mask.sum() == pytest.approx(np.pi * 40 * 40, rel=0.01)


def test_shapes_add_and_take_away_in_their_order():
    whole, hole = (
        Rectangle(one=(0.1, 0.1), other=(0.9, 0.9)),
        Rectangle(one=(0.4, 0.4), other=(0.6, 0.6), takes_away=True),
    )
    mask = cut_mask(blank(), plain(whole, hole))
    assert mask[50, 80] == 0
    assert mask[20, 30] == 1
    assert cut_mask(blank(), plain(hole, whole))[50, 80] == 1
    assert cut_mask(blank(), plain(hole))[2, 2] == 1  # what takes away first, takes from all of it


def test_ranges_of_colour_and_brightness_fade_softly():
    pixels = np.zeros((*SIZE, 4), np.uint8)
    pixels[..., 3] = 255
    pixels[..., :3] = np.linspace(0, 255, 160)[None, :, None]
    mask = cut_mask(PlatePixels(pixels), plain(BrightnessRange(low=0.5, high=1.0, soft=0.25)))
    assert mask[0, 159] == 1
    assert mask[0, 10] == 0
    assert mask[0, 60] == pytest.approx(1 - (0.5 - 60 / 159) / 0.25, abs=0.02)
    mask = cut_mask(PlatePixels(pixels), plain(ColourRange(colour=(1, 1, 1), reach=0.1, soft=0.1)))
    assert mask[0, 145] == 1
    assert mask[0, 120] == 0


def test_depth_mask_and_own_alpha_cut(tmp_path):
    ramp = np.repeat(np.linspace(0, 255, 80).astype(np.uint8)[None], 50, axis=0)
    Image.fromarray(ramp).save(tmp_path / "d.png")
    mask = cut_mask(blank(), plain(DepthRange(path=str(tmp_path / "d.png"), low=0.5, high=1.0)))
    assert mask[50, 100] == 1
    assert mask[50, 60] == 0
    mask = cut_mask(blank(), plain(MaskFile(path=str(tmp_path / "d.png"))))
    assert mask[50, 80] == pytest.approx(0.5, abs=0.02)
    assert cut_mask(blank((0, 0, 0, 51)), plain(OwnAlpha()))[0, 0] == pytest.approx(0.2)


def test_an_edge_is_grown_smoothed_and_feathered():
    disc = Ellipse(one=(0.3, 0.2), other=(0.7, 0.8))
    before = cut_mask(blank(), plain(disc)).sum()
    grown = cut_mask(blank(), plain(disc, grow_px=5)).sum()
    assert grown == pytest.approx(np.pi * 37 * 35, rel=0.02)
    assert cut_mask(blank(), plain(disc, grow_px=-5)).sum() == pytest.approx(np.pi * 27 * 25, rel=0.02)
    feathered = cut_mask(blank(), plain(disc, feather_px=12))
    assert feathered.sum() == pytest.approx(before, rel=0.01)
    row = feathered[50, 80:]
    fading = (row > 0.03) & (row < 0.97)
    assert 8 <= fading.sum() <= 14
    corner = cut_mask(blank(), plain(Rectangle(one=(0.3, 0.3), other=(0.7, 0.7)), smooth_px=6))
    assert corner[30, 48] < 0.3
    assert corner[50, 80] == 1
    assert shaped(np.zeros(SIZE, np.float32), 5, 2, 3).max() == 0


def test_a_line_by_hand_becomes_smooth():
    rng = np.random.default_rng(1)
    angle = np.linspace(0, 2 * np.pi, 400, endpoint=False)
    shaky = 100 + 50 * np.stack([np.cos(angle), np.sin(angle)], -1) + rng.normal(0, 1.5, (400, 2))
    smooth = smoothed_line(shaky, 20)
    away = np.linalg.norm(smooth - 100, axis=1)
    assert away.std() < 1.5
    assert len(smooth) < 150
    assert len(bent([(0, 0), (1, 0), (1, 1)], [None] * 3, [None] * 3)) == 3


def stripes():
    """A picture of stripes, with a hole in its middle."""
    picture = np.zeros((*SIZE, 3), np.float32)
    picture[:, :, 0] = (np.arange(160) // 8 % 2 * 200)[None]
    hole = np.zeros(SIZE, bool)
    hole[40:60, 70:92] = True
    broken = picture.copy()
    broken[hole] = 77
    return picture, broken, hole


@pytest.mark.parametrize("fill", [mirrored, diffused, patched])
def test_a_fill_leaves_all_else_as_it_is_and_nothing_of_what_was_there(fill):
    picture, broken, hole = stripes()
    found = fill(broken, hole)
    assert (found[~hole] == picture[~hole]).all()
    ghost = broken.copy()
    ghost[hole] = (255, 255, 255)
    assert fill(ghost, hole) == pytest.approx(found)


def test_patches_continue_what_is_about():
    picture, broken, hole = stripes()
    found = patched(broken, hole)
    assert np.abs(found - picture)[hole].mean() < 12


def test_what_is_even_is_filled_evenly():
    ramp = np.zeros((*SIZE, 3), np.float32)
    ramp[...] = np.linspace(0, 255, 160, dtype=np.float32)[None, :, None]
    hole = np.zeros(SIZE, bool)
    hole[30:70, 60:100] = True
    broken = np.where(hole[..., None], np.float32(0), ramp)
    assert np.abs(diffused(broken, hole) - ramp).max() < 6
    assert (diffused(broken, np.ones(SIZE, bool)) == broken).all()
    assert (mirrored(broken, np.zeros(SIZE, bool)) == broken).all()


def test_a_lifted_plate_and_the_one_it_was_lifted_from(tmp_path):
    pixels = np.full((80, 120, 4), (40, 160, 220, 255), np.uint8)
    pixels[30:50, 40:70, :3] = (250, 20, 20)
    Image.fromarray(pixels).save(tmp_path / "photo.png")
    back = plate_at(tmp_path / "photo.png", 8.0, 1, fill=Fill(kind="diffused", grow_px=3, of=(2,)))
    cut = Cut(shapes=(ColourRange(colour=(250 / 255, 20 / 255, 20 / 255)),), feather_px=0)
    front = plate_at(tmp_path / "photo.png", 3.0, 2, name="red", cut=cut)
    plan = Plan(plates=(back, front))
    shelf = PixelCache()
    for plate in plan.plates:
        shelf.make(plate_key(plan, plate))
    behind = shelf.source(plate_key(plan, back)).at(0).rgba
    assert np.abs(behind[..., :3].astype(int) - (40, 160, 220)).max() <= 1
    assert (behind[..., 3] == 255).all()
    dotted = pixels.copy()
    dotted[52, 50, :3], dotted[54, 50, :3] = 0, 0  # two and four pixels beyond the outline
    grown = worked(PlatePixels(dotted), plate_key(plan, back)).rgba
    assert (grown[52, 50, 1] > 100, grown[54, 50, 1]) == (True, 0)
    source = shelf.source(plate_key(plan, front))
    left, top, right, bottom = source.window
    assert (left * 120, top * 80, right * 120, bottom * 80) == pytest.approx((38, 28, 72, 52))
    assert (source.at(0).rgba[..., 3] > 0).sum() == 20 * 30
    wider = front.replace(cut=cut.replace(grow_px=2.0))
    changed = plan.replace(plates=(back, wider))
    assert plate_key(changed, back) != plate_key(plan, back)  # the fill follows the outline
    assert shelf.source(plate_key(changed, wider)) is source  # until it is made anew


def test_making_pixels_can_be_cancelled(tmp_path):
    back = plate_at(picture(tmp_path / "a.png"), 8.0, 1, fill=Fill(kind="patches", of=(2,)))
    front = plate_at(
        tmp_path / "a.png", 3.0, 2, cut=Cut(shapes=(Rectangle(one=(0.3, 0.3), other=(0.6, 0.6)),))
    )

    def stop(_what, _part):
        raise Cancelled("no more")

    with pytest.raises(Cancelled):
        PixelCache().make(plate_key(Plan(plates=(back, front)), back), stop)


def test_a_mask_that_cannot_be_read_keeps_nothing_from_being_made_afterwards(tmp_path):
    from kobrel.plan.staging import Library, stage_of

    plate = plate_at(picture(tmp_path / "a.png"), 4.0, 1)
    masked = plate.replace(cut=Cut(shapes=(MaskFile(path=str(tmp_path / "none.png")),)))
    plan, library = Plan(plates=(masked,)), Library()
    assert library.missing(plan)
    library.read(plan)
    assert not library.missing(plan)
    assert "none.png" in library.problems_of(plan)[0]
    plan = plan.replace(plates=(plate,))
    assert library.missing(plan)
    library.read(plan)
    assert library.problems_of(plan) == []
    assert len(stage_of(plan, library).scenes["plate 1"].nodes) == 2
