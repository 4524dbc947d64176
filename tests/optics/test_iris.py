import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kobrel.errors import OpticsError
from kobrel.optics.iris import Iris, outline, polygon_area, radius, sample

irises = st.builds(
    Iris, st.sampled_from([0, 3, 4, 5, 6, 7, 9, 11, 16]), st.floats(0, 1), st.floats(-180, 180)
)


@given(irises, st.floats(1, 2.5))
def test_area_is_the_round_pupils(iris, squeeze):
    assert polygon_area(outline(iris, squeeze)[:-1]) == pytest.approx(np.pi / squeeze, rel=1e-5)


@pytest.mark.parametrize("blades", [3, 5, 6, 8])
def test_straight_blades_make_a_regular_polygon(blades):
    edge = outline(Iris(blades), points=blades * 400)[:-1]
    far = np.linalg.norm(edge, axis=1)
    side = np.sqrt(4 * np.pi * np.tan(np.pi / blades) / blades)
    assert far.max() == pytest.approx(side / 2 / np.sin(np.pi / blades), rel=1e-4)
    assert far.min() == pytest.approx(side / 2 / np.tan(np.pi / blades), rel=1e-4)


@given(st.integers(3, 12), st.floats(0, 1), st.floats(0, 1))
def test_edges_bow_outward_with_roundness(blades, low, high):
    low, high = sorted((low, high))
    angle = np.linspace(0, 2 * np.pi, 721)
    flat, bowed = radius(Iris(blades, low), angle), radius(Iris(blades, high), angle)
    assert np.all(bowed >= flat - 1e-9)
    assert np.all(bowed <= 1 + 1e-9)


def test_full_roundness_is_a_circle():
    np.testing.assert_allclose(np.linalg.norm(outline(Iris(6, 1.0)), axis=1), 1.0, rtol=1e-5)


def test_rotation_turns_counter_clockwise():
    plain, turned = Iris(5), Iris(5, rotation_deg=20)
    angle = np.linspace(0, 6, 50)
    np.testing.assert_allclose(radius(turned, angle + np.radians(20)), radius(plain, angle))


@pytest.mark.parametrize("iris", [Iris(), Iris(3), Iris(6, 0.4, 10), Iris(9, 0.8)])
def test_samples_are_even_over_the_area(iris):
    random = np.random.default_rng(1)
    fan = outline(iris)
    points = sample(fan, random.random(200_000), random.random(200_000))
    inside = np.linalg.norm(points, axis=1) <= radius(
        iris, np.arctan2(points[:, 1], points[:, 0])
    ) * np.linalg.norm(fan, axis=1).max() * (1 + 1e-3)
    assert inside.all()
    # Even density: as many samples in each cell as its share of the area, well inside the outline.
    r_in = np.linalg.norm(fan, axis=1).min() * 0.95
    cells = np.histogram2d(points[:, 0], points[:, 1], bins=6, range=[[-r_in / 1.5, r_in / 1.5]] * 2)[0]
    expected = 200_000 * (2 * r_in / 1.5 / 6) ** 2 / np.pi
    assert np.abs(cells - expected).max() < 6 * np.sqrt(expected)


def test_squeeze_narrows_the_pupil():
    edge = outline(Iris(), squeeze=2.0)
    assert np.ptp(edge[:, 0]) == pytest.approx(1.0, rel=1e-4)
    assert np.ptp(edge[:, 1]) == pytest.approx(2.0, rel=1e-4)


@pytest.mark.parametrize("wrong", [{"blades": 2}, {"blades": -1}, {"roundness": 1.5}])
def test_impossible_irises_are_refused(wrong):
    with pytest.raises(OpticsError):
        Iris(**wrong)
