"""The inverse problems against brute force, and the slowest path against linear programming."""

import numpy as np
import pytest
from scipy.optimize import linprog

from kobrel.optics import lens, reach
from kobrel.optics.path import choose_bands, fewest_corners, taut

PX_PER_MM = 1920 / 36
STOPS = 2.0 ** np.linspace(0, 5, 401)
STEP = STOPS[1] / STOPS[0]
CLOSEST_M = 0.4
DIOPTRES = np.linspace(0, 1 / CLOSEST_M, 1201)


def a_brief(rng, model):
    """A random brief of a frame: its numbers, as a person would state them, and as wishes."""
    count = rng.integers(1, 7)
    distance = np.exp(rng.uniform(np.log(0.6), np.log(30), count))
    half = distance * rng.choice([0, 0.02, 0.1], count)
    sharp = rng.random(count) < 0.5
    px = np.where(sharp, rng.uniform(1, 8, count), rng.uniform(2, 40, count))
    focal = rng.uniform(18, 135)
    requirements = reach.requirements_of(
        1 / (distance - half)[None], 1 / (distance + half)[None], px, sharp, np.ones((1, count), bool),
        [focal], np.full((1, count), PX_PER_MM), model,
    )  # fmt: skip
    span = reach.Range(1.0, 32.0, reach.coordinate([1 / CLOSEST_M], focal, model))
    return (distance, half, sharp, px, focal), requirements, span


def granted_on_grid(brief, model):
    """(dioptres, stops) where a brief is granted, by the blur formula alone; blur goes as 1 over the stop."""
    distance, half, sharp, px, focal = brief
    with np.errstate(divide="ignore"):
        focus = 1 / DIOPTRES
    blurs = [
        lens.blur_mm(focal, 1.0, focus[:, None], end, model) * PX_PER_MM
        for end in (distance - half, distance + half)
    ]
    inside = (focus[:, None] > distance - half) & (focus[:, None] < distance + half)
    worst, least = np.maximum(*blurs), np.where(inside, 0.0, np.minimum(*blurs))
    granted = np.ones((len(DIOPTRES), len(STOPS)), bool)
    for k in range(len(px)):
        granted &= worst[:, k, None] <= px[k] * STOPS if sharp[k] else least[:, k, None] >= px[k] * STOPS
    return granted


@pytest.mark.parametrize("model", ["render", "thin"])
def test_blur_goes_as_one_over_the_stop(model):
    distances = np.geomspace(0.5, 40, 50)[:, None]
    blur = lens.blur_mm(85.0, STOPS[None, :], 2.3, distances, model)
    np.testing.assert_allclose(blur * STOPS, lens.blur_mm(85.0, 1.0, 2.3, distances, model) * np.ones(401))


@pytest.mark.parametrize("model", ["render", "thin"])
def test_the_solver_finds_what_a_fine_grid_finds(model):
    rng = np.random.default_rng(11)
    possible = 0
    for _ in range(150):
        brief, requirements, span = a_brief(rng, model)
        granted = granted_on_grid(brief, model)
        least, greatest = reach.stop_ranges(requirements, span)
        ranges = reach.stops_for_all(least, greatest)
        found = reach.widest_range(requirements, span)
        assert bool(ranges) == (found is not None)
        if granted.any():
            possible += 1
            assert found is not None
        elif found is not None:
            # a grid can miss a region, but only one thinner than its step
            assert all(
                greatest < least * STEP or thin(requirements, span, least, greatest)
                for least, greatest in ranges
            )
        stops_found = np.zeros(len(STOPS), bool)
        for low, high in ranges:
            stops_found |= (low * (1 - 1e-9) <= STOPS) & (high * (1 + 1e-9) >= STOPS)
        on_grid = granted.any(axis=0)
        assert not (on_grid & ~stops_found).any()
        extra = np.flatnonzero(stops_found & ~on_grid)
        assert all(narrow(requirements, span, STOPS[i]) for i in extra)
        if found is not None and granted.any():
            widths = [STOPS[row].max() / STOPS[row].min() for row in granted if row.any()]
            assert found.greatest / found.least >= max(widths) * (1 - 1e-9)
    assert 20 < possible < 140


def narrow(requirements, span, stop):
    """Whether all bands of focus at a stop are narrower than two steps of the grid."""
    low, high = reach.focus_bands(requirements, span, stop)
    return np.all(high - low < 2.5 * (DIOPTRES[1] - DIOPTRES[0]))


def thin(requirements, span, least, greatest):
    """Whether the region between two stops is nowhere wider than the grid's step."""
    return all(narrow(requirements, span, stop) for stop in np.geomspace(least, greatest, 9))


@pytest.mark.parametrize("model", ["render", "thin"])
def test_what_is_found_grants_and_what_lies_beyond_does_not(model):
    rng = np.random.default_rng(5)
    seen = 0
    for _ in range(120):
        (distance, half, sharp, px, focal), requirements, span = a_brief(rng, model)
        found = reach.widest_range(requirements, span)
        if found is None or found.x == 0:
            continue
        seen += 1
        focus = 1 / float(reach.nearness_of(found.x, focal, model))

        def holds(stop, by, focus=focus, distance=distance, half=half, sharp=sharp, px=px, focal=focal):
            ends = np.array([distance - half, distance + half])
            blur = lens.blur_mm(focal, stop, focus, ends, model) * PX_PER_MM
            between = (ends[0] < focus) & (focus < ends[1])
            least = np.where(between, 0.0, blur.min(axis=0))
            return np.all(np.where(sharp, blur.max(axis=0) <= px * by, least >= px / by))

        for stop in (found.least, found.greatest, np.sqrt(found.least * found.greatest)):
            assert holds(stop, 1 + 1e-6)
            assert reach.granted(requirements, [found.x], [stop]).all()
        if found.least > span.widest:
            assert not holds(found.least * 0.999, 1)
        if found.greatest < span.narrowest:
            assert not holds(found.greatest * 1.001, 1)
    assert seen > 30


def test_two_points_are_best_held_at_the_mean_of_their_dioptres():
    requirements = reach.requirements_of(
        [[1 / 2, 1 / 4]], [[1 / 2, 1 / 4]], [2.0, 2.0], [True, True], np.ones((1, 2), bool), [50],
        np.full((1, 2), PX_PER_MM),
    )  # fmt: skip
    found = reach.widest_range(requirements, reach.Range(0.5, 128, np.array([1000.0])))
    assert found.x == pytest.approx((1 / 2 + 1 / 4) / 2)
    half = (1 / 2 - 1 / 4) / 2
    assert found.least == pytest.approx(50 * 50 * half / 1000 / (2 / PX_PER_MM))
    assert found.greatest == 128


def test_one_thing_alone_is_focused_on():
    requirements = reach.requirements_of([[1 / 3]], [[1 / 3]], [2.0], [True], [[True]], [50], [[PX_PER_MM]])
    assert reach.widest_range(requirements, reach.Range(1.4, 22, np.array([2.0]))).x == pytest.approx(1 / 3)


def test_a_thin_lens_has_its_own_coordinate_and_way_back():
    dpt = np.array([0.0, 0.2, 1.0, 4.0])
    x = reach.coordinate(dpt, 85, "thin")
    np.testing.assert_allclose(x[1:], 1 / (1 / dpt[1:] - 0.085))
    np.testing.assert_allclose(reach.nearness_of(x, 85, "thin"), dpt)
    assert reach.coordinate(1000.0, 85, "thin") > 1e6


def test_requirements_that_do_not_count_change_nothing():
    rng = np.random.default_rng(3)
    _numbers, requirements, span = a_brief(rng, "render")
    count = requirements.near_x.shape[1]
    dead = reach.Requirements(
        *(np.concatenate([part, part * 0 + 1.0], axis=1) for part in
          (requirements.near_x, requirements.far_x, requirements.near_r, requirements.far_r)),
        np.concatenate([requirements.sharp, ~requirements.sharp]),
        np.concatenate([requirements.live, ~requirements.live], axis=1),
    )  # fmt: skip
    assert reach.stops_for_all(*reach.stop_ranges(dead, span)) == reach.stops_for_all(
        *reach.stop_ranges(requirements, span)
    )
    assert reach.widest_range(dead, span) == reach.widest_range(requirements, span)
    assert dead.only(range(count)).near_x.tolist() == requirements.near_x.tolist()


def test_what_binds_is_named():
    # sharp at 2 m and 8 m want a small stop, 30 m very soft a wide one
    requirements = reach.requirements_of(
        [[1 / 2, 1 / 8, 1 / 30]], [[1 / 2, 1 / 8, 1 / 30]], [2.0, 2.0, 20.0], [True, True, False],
        np.ones((1, 3), bool), [50], np.full((1, 3), PX_PER_MM),
    )  # fmt: skip
    bind = reach.binding(requirements, reach.Range(1.0, 22.0, np.array([100.0])))
    assert bind.least_by == (0, 1)
    assert 2 in bind.greatest_by
    assert bind.least > bind.greatest
    alone = reach.binding(requirements.only([0, 1]), reach.Range(1.0, 2.0, np.array([100.0])))
    assert (alone.least_by, alone.greatest_by, alone.greatest) == ((0, 1), (), 2.0)


def test_ranges_common_to_all_frames():
    least = np.array([[1.0, 4.0], [1.5, 9.0], [2.0, 2.5]])
    greatest = np.array([[3.0, 8.0], [6.0, 1.0], [5.0, 2.6]])
    assert reach.stops_for_all(least, greatest) == [(2.0, 3.0), (4.0, 5.0)]
    assert reach.stops_for_all(least, greatest - 4) == []


# The slowest path


def bands(rng, count):
    middle = np.cumsum(rng.normal(0, 0.3, count))
    half = rng.uniform(0.05, 1.0, count)
    return middle - half, middle + half


@pytest.mark.parametrize("seed", range(25))
def test_the_taut_path_has_the_least_travel_and_the_least_speed(seed):
    rng = np.random.default_rng(seed)
    count = 24
    low, high = bands(rng, count)
    path = taut(low, high)
    assert np.all((path >= low - 1e-9) & (path <= high + 1e-9))
    steps = np.diff(np.eye(count), axis=0)
    within = list(zip(low, high, strict=True))
    travel = linprog(
        np.r_[np.zeros(count), np.ones(count - 1)],
        np.block([[steps, -np.eye(count - 1)], [-steps, -np.eye(count - 1)]]),
        np.zeros(2 * count - 2), bounds=[*within, *[(0, None)] * (count - 1)],
    )  # fmt: skip
    assert np.abs(np.diff(path)).sum() == pytest.approx(travel.fun, abs=1e-7)
    column = np.ones((count - 1, 1))
    speed = linprog(
        np.r_[np.zeros(count), 1], np.block([[steps, -column], [-steps, -column]]),
        np.zeros(2 * count - 2), bounds=[*within, (0, None)],
    )  # fmt: skip
    assert np.abs(np.diff(path)).max() == pytest.approx(speed.fun, abs=1e-7)


def test_a_path_that_may_stand_still_does():
    low, high = np.array([0.0, 0.2, 0.1, 0.3]), np.array([1.0, 0.9, 0.8, 0.7])
    assert np.ptp(taut(low, high)) == 0
    assert fewest_corners(taut(low, high), low, high) == [0, 3]


@pytest.mark.parametrize("seed", range(10))
def test_few_corners_stay_within_the_band(seed):
    rng = np.random.default_rng(seed)
    low, high = bands(rng, 200)
    inset = (high - low) * 0.06
    path = taut(low + inset, high - inset)
    corners = fewest_corners(path, low, high)
    line = np.interp(np.arange(200), corners, path[corners])
    assert np.all((line >= low - 1e-9) & (line <= high + 1e-9))
    assert len(corners) <= np.count_nonzero(np.abs(np.diff(path, 2)) > 1e-12) + 2


def test_the_shortest_way_between_bands_is_chosen():
    low = np.array([[0.0, 5.0], [0.0, 5.0], [9.0, 5.5], [0.0, 5.5]])
    high = np.array([[1.0, 6.0], [1.0, 6.0], [8.0, 6.5], [1.0, 6.5]])
    chosen = choose_bands(low, high)
    np.testing.assert_array_equal(chosen[0], [5.0, 5.0, 5.5, 5.5])
    np.testing.assert_array_equal(chosen[1], [6.0, 6.0, 6.5, 6.5])
