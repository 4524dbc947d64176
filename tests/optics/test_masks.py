"""Masks in the iris: how much passes, where samples fall, and how masks are drawn."""

from importlib.resources import files

import numpy as np
import pytest

from kobrel.errors import OpticsError
from kobrel.optics import stencil
from kobrel.optics.aperture import SIDE, aperture, passes, places, transmission
from kobrel.optics.iris import Iris, Mask, polygon_area
from kobrel.optics.noise import samples_for_noise
from kobrel.picture.numbers import ViewNumbers
from kobrel.picture.tracing.lens import through_mask

FONT = files("kobrel") / "data" / "fonts" / "B612-Bold.otf"
ANGLE = np.linspace(0, 2 * np.pi, 400)


def mask_of(pixels):
    return Mask(np.asarray(pixels, np.float32))


def clouds(number=0, side=96):
    return np.random.default_rng(number).random((side, side)) ** 3


def even(count=200_000):
    k = np.arange(count, dtype=float)
    return (k * 0.7548776662466927) % 1.0, (k * 0.5698402909980532) % 1.0


@pytest.mark.parametrize("iris", [{}, {"blades": 3}, {"blades": 7, "roundness": 0.4, "rotation_deg": 33}])
@pytest.mark.parametrize("rim", [0.0, 0.7, -1.0])
def test_a_white_mask_is_none(iris, rim):
    white = Iris(**iris, rim=rim, mask=mask_of(np.ones((64, 64))))
    assert passes(white) == pytest.approx(1.0, abs=1e-6)
    u, v = even()
    masked, _ = places(aperture(white), u, v)
    plain, _ = places(aperture(Iris(**iris, rim=rim)), u, v, rim)
    np.testing.assert_allclose(masked.mean(axis=0), plain.mean(axis=0), atol=2e-3)
    np.testing.assert_allclose((masked**2).mean(axis=0), (plain**2).mean(axis=0), rtol=3e-3)
    np.testing.assert_allclose(np.ptp(masked, axis=0), np.ptp(plain, axis=0), rtol=0.012)


@pytest.mark.parametrize("part", [0.25, 0.5, 0.8])
def test_the_light_lost_is_the_mean_over_the_pupil(part):
    ring = Iris(mask=mask_of(stencil.ring(np.sqrt(1 - part), 1.0, SIDE)))
    assert passes(ring) == pytest.approx(part, abs=2e-3)
    grey = Iris(blades=6, mask=mask_of(np.full((32, 32), part)))
    assert passes(grey) == pytest.approx(part, abs=1e-6)


@pytest.mark.parametrize("squeeze", [1.0, 2.0])
def test_samples_fall_as_the_light_does(squeeze):
    iris = Iris(5, 0.3, 20, 0.4, mask_of(clouds()))
    hole = aperture(iris, squeeze)
    points, area = places(hole, *even(400_000))
    edges = np.linspace(-1, 1, 33)
    found = np.histogram2d(-points[:, 1] / hole.up, points[:, 0] / hole.across, bins=(edges, edges))[0]
    light = transmission(iris).reshape(32, SIDE // 32, 32, SIDE // 32).sum(axis=(1, 3))
    np.testing.assert_allclose(found / found.sum(), light / light.sum(), atol=1e-4)
    np.testing.assert_allclose(area, (points[:, 0] * squeeze) ** 2 + points[:, 1] ** 2, atol=1e-9)


def test_nothing_falls_where_it_is_dark():
    half = np.ones((SIDE, SIDE))
    half[:, : SIDE // 2] = 0
    points, _ = places(aperture(Iris(mask=mask_of(half))), *even())
    assert points[:, 0].min() >= 0
    assert np.abs(points).max() <= 1.001
    assert passes(Iris(mask=mask_of(half))) == pytest.approx(0.5, abs=1e-3)


def test_the_compiled_sampling_is_the_same():
    hole = aperture(Iris(6, mask=mask_of(clouds(2))), 1.5)
    numbers = ViewNumbers(
        *[0.0] * 12, half_x=0.36, half_y=0.24, pupil=0.02, focus=1.0, sphere=False, projection=0, rim=0.0
    )
    u, v = np.random.default_rng(1).random((2, 500))
    u[0], v[0], u[1], v[1] = 0.0, 0.0, 1 - 1e-12, 1 - 1e-12
    points, area = places(hole, u, v)
    compiled = np.array([through_mask(numbers, hole, a, b) for a, b in zip(u, v, strict=True)])
    np.testing.assert_allclose(compiled[:, :2] / 0.02, points, atol=1e-9)
    np.testing.assert_allclose(compiled[:, 2], area, atol=1e-9)


def test_a_mask_turns_with_the_iris():
    tall = np.zeros((SIDE, SIDE))
    tall[: SIDE // 4, SIDE * 3 // 8 : SIDE * 5 // 8] = 1
    for turn, wanted in ((0, 90), (90, 180), (-30, 60)):
        points, _ = places(aperture(Iris(rotation_deg=turn, mask=mask_of(tall))), *even(20_000))
        x, y = points.mean(axis=0)
        assert np.degrees(np.arctan2(y, x)) % 360 == pytest.approx(wanted, abs=1.0)


def test_masks_that_cannot_be_are_refused():
    with pytest.raises(OpticsError, match="square"):
        mask_of(np.ones((4, 5)))
    with pytest.raises(OpticsError, match="black"):
        mask_of(np.zeros((4, 4)))


def test_a_mask_that_is_dark_within_the_outline_still_has_an_opening():
    corner = np.zeros((64, 64))
    corner[0, 0] = 1
    iris = Iris(mask=mask_of(corner))
    assert -np.log2(passes(iris)) == pytest.approx(20)
    assert len(aperture(iris).light) == 0


# Drawing


@pytest.mark.parametrize("corners", [3, 5, 8])
def test_outlines_cover_their_area(corners):
    points = stencil.regular(corners)
    cover = stencil.filled(points, 256)
    assert cover.mean() * 4 == pytest.approx(polygon_area(points), rel=5e-3)
    assert stencil.filled(stencil.turned(points, 90, 0.5), 256).mean() == pytest.approx(
        cover.mean() / 4, rel=0.01
    )


def test_outlines_stand_upright_within_the_pupil():
    for points in (stencil.regular(5), stencil.star(5, 0.4), stencil.heart(), stencil.slot(0.4)):
        assert np.linalg.norm(points, axis=1).max() == pytest.approx(1.0, abs=1e-6)
    top = stencil.filled(stencil.star(5, 0.4), 128)
    assert top[:16, 64].sum() > top[-16:, 64].sum()
    heart = stencil.filled(stencil.heart(), 128)
    assert heart[:48].sum() > heart[-48:].sum()
    assert np.ptp(stencil.slot(0.4), axis=0)[1] == pytest.approx(0.8)


def test_turning_is_counter_clockwise():
    point = stencil.turned(np.array([[1.0, 0.0]]), 90, 0.5)
    np.testing.assert_allclose(point, [[0, 0.5]], atol=1e-12)


def test_rounding_takes_corners_off_and_stays_within():
    square = stencil.regular(4)
    areas = [polygon_area(stencil.rounded(square, amount)) for amount in (0, 0.25, 0.5, 1)]
    assert np.all(np.diff(areas) < 0)
    soft = stencil.rounded(square, 0.5)
    assert np.abs(soft).sum(axis=1).max() <= 1 + 1e-9


def test_letters_are_as_large_as_the_pupil_holds():
    letter = stencil.glyph("K", FONT, 0, 1.0, 256)
    rows, columns = np.nonzero(letter > 0.5)
    far = np.hypot(rows - 127.5, columns - 127.5).max() / 128
    assert 0.9 < far <= 1.0
    turned = stencil.glyph("K", FONT, 90, 1.0, 256)
    assert np.abs(turned - np.rot90(letter)).mean() < 0.01
    with pytest.raises(OpticsError, match="letter"):
        stencil.glyph(" ", FONT, 0, 1.0, 64)


def test_soft_edges_keep_the_light_and_a_bright_rim_darkens_the_inside():
    disc = stencil.filled(np.stack([0.6 * np.cos(ANGLE), 0.6 * np.sin(ANGLE)], axis=1), 256)
    soft = stencil.softened(disc, 0.5)
    assert soft.mean() == pytest.approx(disc.mean(), rel=1e-3)
    assert np.abs(np.diff(soft, axis=1)).max() < 0.2
    rim = stencil.bright_rim(disc, 1.0)
    assert rim[128, 128] == pytest.approx(0.2, abs=0.01)
    assert rim.max() > 0.6
    assert np.array_equal(stencil.softened(disc, 0), disc)


@pytest.mark.parametrize(
    "spoil", [stencil.dust, stencil.hairs, stencil.scratches, stencil.smudges, stencil.onion_rings]
)
def test_what_spoils_follows_from_its_number_and_grows_with_its_amount(spoil):
    pictures = [spoil(128, amount, 7) for amount in (0.0, 0.3, 1.0)]
    for picture in pictures:
        assert picture.shape == (128, 128)
        assert picture.min() >= 0
        assert picture.max() <= 1.0 + 1e-6
    assert pictures[0].min() == 1.0
    assert pictures[0].mean() > pictures[1].mean() > pictures[2].mean()
    assert np.all(pictures[2] <= pictures[1] + 1e-5)
    assert np.array_equal(spoil(128, 1.0, 7), pictures[2])
    assert not np.array_equal(spoil(128, 1.0, 8), pictures[2])


@pytest.mark.parametrize(("light", "disc", "noise"), [(4.0, 40.0, 0.1), (2.0, 17.0, 0.05)])
def test_samples_for_noise_give_that_noise(light, disc, noise):
    """A mean of so many yes-or-no samples scatters as much as was asked for."""
    count = float(samples_for_noise(light, disc, noise))
    part = (light / disc) ** 2
    means = np.random.default_rng(3).binomial(round(count), part, 4000) / count
    assert means.std() / means.mean() == pytest.approx(noise, rel=0.05)
    assert float(samples_for_noise(40.0, 20.0, 0.1)) == 1.0
