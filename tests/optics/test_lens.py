import mpmath
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kobrel.errors import OpticsError
from kobrel.optics import lens, sensor

# f, N, s, w, c0, W, model, d, near, far, hyperfocal, c(d) mm, c(d) px, c(inf) px, horizontal angle
CHECKS = [
    (50, 8, 10, 36, 0.03, 1920, "render", 3, 5.1020408, 250.0, 10.416667, 0.072916667, 3.8888889, 1.6666667, 39.597753),
    (50, 8, 10, 36, 0.03, 1920, "thin", 3, 5.1145663, 223.21429, 10.466667, 0.073283082, 3.9084310, 1.6750419, 39.415048),
    (35, 2.8, 3, 24.89, 0.025, 2048, "render", 8, 2.5609756, 3.6206897, 17.5, 0.091145833, 7.4996652, 11.999464, 39.147866),
    (85, 1.4, 1.8, 36, 0.01875, 1920, "thin", 6, 1.7888537, 1.8112861, 275.3231, 2.106414, 112.34208, 160.48869, 22.814241),
    (18, 4, 2.5, 24.89, 0.02, 2048, "render", 50, 1.5458015, 6.5322581, 4.05, 0.03078, 2.5326412, 2.6659381, 69.319102),
]  # fmt: skip


@pytest.mark.parametrize("row", CHECKS)
def test_check_values_to_seven_digits(row):
    f, n, s, w, c0, width, model, d, near, far, hyper, c_mm, c_px, c_inf, angle = row
    got_near, got_far = lens.limits_m(f, n, s, c0, model)
    blur = lens.blur_mm(f, n, s, d, model)
    background = lens.background_blur_mm(f, n, s, model)
    got = [
        got_near, got_far, lens.hyperfocal_m(f, n, c0, model), blur, sensor.blur_px(blur, w, width),
        sensor.blur_px(background, w, width), sensor.view_angle_deg(w, lens.image_distance_mm(f, s, model)),
    ]  # fmt: skip
    np.testing.assert_allclose(got, [near, far, hyper, c_mm, c_px, c_inf, angle], rtol=1e-7)


def exact_blur(f, n, s, d, model):
    """The blur by similar triangles, in 40 digits: an image point's cone cut by the sensor."""
    with mpmath.workdps(40):
        f, n, s, d = (mpmath.mpf(x) for x in (f, n, s, d))
        pupil, s_mm, d_mm = f / n, s * 1000, d * 1000
        v = f if model == "render" else 1 / (1 / f - 1 / s_mm)
        # The ray from the pupil's rim that meets the axis at d, followed to the focus plane,
        # then scaled onto the sensor.
        at_focus = pupil * abs(d_mm - s_mm) / d_mm
        return float(at_focus * v / s_mm)


lenses = st.tuples(
    st.floats(8, 300),
    st.floats(0.7, 32),
    st.floats(0.5, 500),
    st.floats(0.3, 5000),
    st.sampled_from(["render", "thin"]),
)


@given(lenses)
def test_blur_against_similar_triangles(case):
    f, n, s, d, model = case
    assert lens.blur_mm(f, n, s, d, model) == pytest.approx(
        exact_blur(f, n, s, d, model), rel=1e-9, abs=1e-15
    )


@given(lenses, st.floats(0.001, 0.2))
def test_blur_is_c0_at_both_limits_and_zero_at_focus(case, c0):
    f, n, s, _, model = case
    near, far = lens.limits_m(f, n, s, c0, model)
    assert lens.blur_mm(f, n, s, s, model) == pytest.approx(0, abs=1e-12)
    assert lens.blur_mm(f, n, s, near, model) == pytest.approx(c0, rel=1e-9)
    if np.isfinite(far):
        assert lens.blur_mm(f, n, s, far, model) == pytest.approx(c0, rel=1e-9)
    else:
        assert lens.background_blur_mm(f, n, s, model) <= c0 * (1 + 1e-9)


@given(lenses, st.floats(0.001, 0.2))
def test_band_is_symmetric_in_dioptres(case, c0):
    f, n, s, _, model = case
    near, far = lens.limits_m(f, n, s, c0, model)
    if np.isfinite(far):
        assert 1 / near - 1 / s == pytest.approx(1 / s - 1 / far, rel=1e-6)


@given(lenses, st.floats(0.001, 0.2), st.floats(1.05, 4))
def test_closing_the_iris_widens_the_band(case, c0, more):
    f, n, s, _, model = case
    near, far = lens.limits_m(f, n, s, c0, model)
    near_closed, far_closed = lens.limits_m(f, n * more, s, c0, model)
    assert near_closed < near
    assert far_closed >= far


@given(lenses, st.floats(0.001, 0.2))
def test_focused_at_the_hyperfocal_the_far_limit_is_infinite(case, c0):
    f, n, _, _, model = case
    hyperfocal = float(lens.hyperfocal_m(f, n, c0, model))
    near, far = lens.limits_m(f, n, hyperfocal * (1 + 1e-9), c0 * (1 + 1e-7), model)
    assert np.isinf(far)
    assert near == pytest.approx(hyperfocal / 2, rel=2e-1)


@given(lenses, st.floats(0.001, 0.2))
def test_stop_for_limit_inverts_the_limits(case, c0):
    f, n, s, _, model = case
    near, _ = lens.limits_m(f, n, s, c0, model)
    assert lens.stop_for_limit(f, s, near, c0, model) == pytest.approx(n, rel=1e-6)


def test_arrays_broadcast_like_scalars():
    focus = np.array([1.0, 2.0, 5.0])
    distance = np.array([[0.8], [3.0]])
    got = lens.blur_mm(50, 2.8, focus, distance, "thin")
    assert got.shape == (2, 3)
    for i in range(2):
        for j in range(3):
            assert got[i, j] == lens.blur_mm(50, 2.8, focus[j], distance[i, 0], "thin")


def test_infinite_focus_and_distance():
    near, far = lens.limits_m(50, 2.8, np.inf, 0.03)
    assert near == pytest.approx(float(lens.hyperfocal_m(50, 2.8, 0.03)))
    assert np.isinf(far)
    assert lens.background_blur_mm(50, 2.8, np.inf, "thin") == 0
    assert lens.image_distance_mm(50, np.inf, "thin") == 50


def test_a_thin_lens_cannot_focus_within_its_focal_length():
    with pytest.raises(OpticsError, match="cannot focus nearer"):
        lens.image_distance_mm(100, 0.09, "thin")
    assert lens.image_distance_mm(100, 0.09, "render") == 100


def test_the_two_models_meet_far_away():
    near = lens.blur_mm(50, 2, 5000, 2, "thin"), lens.blur_mm(50, 2, 5000, 2, "render")
    assert near[0] == pytest.approx(near[1], rel=1e-4)


def test_sphere_surface_stands_nearer_off_the_axis():
    assert lens.focus_along_axis_m(4.0, "plane", 0.8) == 4.0
    assert lens.focus_along_axis_m(4.0, "sphere", 0.8) == pytest.approx(3.2)


# Against thirty digits


def in_thirty_digits(focal, stop, focus, distance, coc, model):
    """1/near and 1/far, and blur in millimetres, by the textbook formulas."""
    with mpmath.workdps(34):
        f, n, s, d, c0 = (mpmath.mpf(float(x)) for x in (focal, stop, focus, distance, coc))
        v = f if model == "render" else f * s * 1000 / (s * 1000 - f)
        per_dioptre = f / n * v / 1000
        return 1 / s + c0 / per_dioptre, 1 / s - c0 / per_dioptre, per_dioptre * abs(1 / s - 1 / d)


@pytest.mark.parametrize("model", ["render", "thin"])
def test_limits_and_blur_agree_with_thirty_digits(model):
    rng = np.random.default_rng(1001)
    beyond = 0
    for _ in range(400):
        focal, stop = np.exp(rng.uniform(np.log(8), np.log(400))), 2.0 ** rng.uniform(0, 5)
        focus = np.exp(rng.uniform(np.log(focal / 1000 * 3), np.log(200)))
        distance = focus * np.exp(rng.uniform(0.05, 3)) ** rng.choice([-1, 1])
        width, pixels, squeeze = rng.uniform(5, 60), rng.integers(640, 8192), rng.choice([1.0, 1.3, 1.8, 2.0])
        coc = sensor.coc_mm("pixels", rng.uniform(1, 4), width, width / 1.8, pixels, squeeze)
        near, far, blur = in_thirty_digits(focal, stop, focus, distance, coc, model)
        got = lens.limits_m(focal, stop, focus, coc, model)
        assert float(got[0]) == pytest.approx(float(1 / near), rel=1e-9)
        # close to the hyperfocal the far limit is a small difference of large numbers
        beyond += far <= 0
        assert 1 / float(got[1]) == pytest.approx(max(float(far), 0.0), rel=1e-9, abs=1e-9 / focus)
        millimetres = lens.blur_mm(focal, stop, focus, distance, model)
        assert float(millimetres) == pytest.approx(float(blur), rel=1e-9)
        px = float(blur * int(pixels) / (mpmath.mpf(float(width)) * float(squeeze)))
        assert float(sensor.blur_px(millimetres, width, pixels, squeeze)) == pytest.approx(px, rel=1e-9)
    assert 20 < beyond < 380
