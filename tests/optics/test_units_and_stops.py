import math

import numpy as np
import opentimelineio as otio
import pytest
from hypothesis import given
from hypothesis import strategies as st

from kobrel.errors import KobrelError
from kobrel.optics import exposure, sensor
from kobrel.optics.units import (
    METRES,
    exact_fps,
    format_length,
    measure,
    parse_length,
    parse_place,
    scene_measure,
    timecode,
)


@pytest.mark.parametrize(
    ("text", "metres"),
    [
        ("3.2 m", 3.2), ("320 cm", 3.2), ("3200mm", 3.2), ("3,2 m", 3.2), (".5", 0.5), ("10' 6\"", 3.2004),
        ("10 ft 6 in", 3.2004), ("10′ 6″", 3.2004), ("10'6", 3.2004), ("6 feet", 1.8288), ("7 inches", 0.1778),
        ("1.5 km", 1500), ("1 m 20 cm", 1.2), ("∞", math.inf), ("inf", math.inf), ("  2 Metres ", 2.0),
    ],
)  # fmt: skip
def test_lengths_as_people_type_them(text, metres):
    assert parse_length(text) == pytest.approx(metres)


@pytest.mark.parametrize("text", ["", "far", "3 parsecs", "m", "3 4", "1..2", "-2 m", "3 m x"])
def test_what_is_no_length_is_refused_with_an_example(text):
    with pytest.raises(KobrelError, match="Write it like"):
        parse_length(text)


def test_a_bare_number_is_in_the_chosen_unit():
    assert parse_length("12", "in") == pytest.approx(0.3048)
    assert parse_length("12", "cm") == pytest.approx(0.12)


@given(st.floats(0.01, 5000), st.sampled_from(sorted(METRES)))
def test_what_is_shown_reads_back_close(metres, unit):
    shown = format_length(metres, unit)
    assert parse_length(shown, unit) == pytest.approx(metres, rel=0.01, abs=0.002)


def test_no_number_and_infinity_have_signs():
    assert format_length(math.nan) == "–"
    assert format_length(math.inf, "ft") == "∞"
    assert format_length(0.05, "ft") == '2"'


def test_stops_step_by_marked_thirds():
    assert [exposure.step_stop(2.8, n) for n in (-3, -1, 0, 1, 2, 3)] == [2.0, 2.5, 2.8, 3.2, 3.5, 4.0]
    assert exposure.step_stop(128, 5) == 128
    assert exposure.step_stop(0.5, -5) == 0.5
    assert exposure.step_stop(2.9, -1) == 2.8


@given(st.floats(0.8, 64))
def test_three_thirds_are_one_stop_of_light(stop):
    marked = exposure.step_stop(exposure.step_stop(stop, 1), 3)
    assert exposure.ev_difference(exposure.step_stop(stop, 1), marked) == pytest.approx(1, abs=0.2)


def test_close_focus_costs_light():
    assert exposure.effective_f_number(2.8, 1.0) == pytest.approx(5.6)


@pytest.mark.parametrize(
    ("kind", "value", "expected"),
    [("pixels", 2, 0.0375), ("millimetres", 0.03, 0.03), ("diagonal", 1500, 0.0288444)],
)
def test_criteria(kind, value, expected):
    assert sensor.coc_mm(kind, value, 36, 24, 1920) == pytest.approx(expected, rel=1e-5)


def test_formats_are_found_by_size():
    assert sensor.format_of(24.89, 18.66).name == "Super 35, 4 perforations"
    assert sensor.format_of(11, 11) is None
    assert all(size.width_mm >= size.height_mm for size in sensor.FORMATS)


@pytest.mark.parametrize(
    ("text", "metres"), [("-2 m", -2.0), ("−40", -0.4), ("+3", 0.03), ("- 10' 6\"", -3.2004), ("7 cm", 0.07)]
)
def test_coordinates_may_be_negative(text, metres):
    assert parse_place(text, "cm") == pytest.approx(metres)
    with pytest.raises(KobrelError):
        parse_place("--3")


def test_a_scenes_own_unit_is_shown_and_read():
    unit = scene_measure(0.1)
    assert format_length(1.234, unit) == "12.3 u"
    assert parse_length("12.3", unit) == pytest.approx(1.23)
    assert parse_length("12.3 u", unit) == pytest.approx(1.23)
    assert parse_length("1.23 m", unit) == pytest.approx(1.23)
    assert scene_measure(0.0254).symbol == "in"
    assert measure("cm") == scene_measure(0.01)


def test_stops_of_a_series():
    assert [exposure.step_stop(2.8, n, "full") for n in (-1, 1, 2)] == [2.0, 4.0, 5.6]
    assert exposure.step_stop(2.8, 1, "half") == 3.3
    assert exposure.step_stop(3.0, 1, "full") == 4.0
    for series, stop in (("full", 2.8), ("half", 3.3), ("third", 3.2), ("free", 3.12)):
        assert exposure.marked_stop(3.123, series) == stop


@pytest.mark.parametrize("series", ["full", "half", "third"])
def test_steps_of_a_series_are_alike(series):
    stops, per_stop = [0.5], {"full": 1, "half": 2, "third": 3}[series]
    while stops[-1] < 128:
        stops.append(exposure.step_stop(stops[-1], 1, series))
    assert len(stops) == 16 * per_stop + 1
    steps = exposure.ev_difference(stops[:-1], stops[1:])
    np.testing.assert_allclose(steps, 1 / per_stop, atol=0.2)


def test_light_by_stop_iso_shutter_and_density():
    base = exposure.light_value(2.8, 800, 180, 0)
    assert exposure.light_value(2.8, 1600, 180, 1) == pytest.approx(base)
    assert exposure.light_value(2.8 * np.sqrt(2), 800, 360, 0) == pytest.approx(base)
    assert exposure.light_value(exposure.t_stop(2.0, 0.25), 800, 180, 0) == pytest.approx(
        exposure.light_value(2.0, 800, 180, 2)
    )


def test_the_delivered_frame_on_the_sensor():
    assert sensor.frame_on_sensor(36, 24, 1, 0, "inside") == (36, 24)
    assert sensor.frame_on_sensor(36, 24, 1, 2.4, "inside") == pytest.approx((36, 15))
    assert sensor.frame_on_sensor(36, 24, 1, 1.0, "inside") == pytest.approx((24, 24))
    assert sensor.frame_on_sensor(36, 24, 1, 1.0, "width") == pytest.approx((36, 36))
    assert sensor.frame_on_sensor(36, 24, 1, 2.0, "height") == pytest.approx((48, 24))
    assert sensor.frame_on_sensor(21.95, 18.59, 2, 2.39, "height") == pytest.approx((22.215, 18.59), rel=1e-4)


def test_reads_as_compares_with_full_frame_at_f8():
    for width in (8.8, 24.9, 36.0, 54.0):
        focal = 50 * width / 36
        angle = sensor.view_angle_deg(width, focal)
        assert sensor.reads_as(50 / 8, angle) == pytest.approx(1)
        assert sensor.reads_as(50 / 1.4, angle) == pytest.approx(8 / 1.4)


@pytest.mark.parametrize("rate", [24000 / 1001, 24.0, 25.0, 30000 / 1001, 30.0, 50.0, 60000 / 1001, 60.0])
def test_timecodes_are_those_of_the_edits_own_library(rate):
    numbers = [0, 1, 1001, 1799, 1800, 1801, 3597, 3600, 17981, 17982, 107_892, 200_000, 999_999]
    for number in numbers:
        assert timecode(number, rate) == otio.opentime.RationalTime(number, rate).to_timecode()


@given(st.integers(0, 2_000_000), st.sampled_from([30000 / 1001, 60000 / 1001]))
def test_drop_frame_timecodes_count_every_frame(number, rate):
    assert otio.opentime.RationalTime.from_timecode(timecode(number, rate), rate).value == number


@given(st.floats(0.1, 1000))
def test_a_rate_stays_what_it_is_unless_it_is_ntscs(fps):
    assert exact_fps(fps) == pytest.approx(fps, abs=0.006)
    assert exact_fps(exact_fps(fps)) == exact_fps(fps)
    assert exact_fps(math.inf) == math.inf
