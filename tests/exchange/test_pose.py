"""Where a finished picture was taken from, by its header: matrices worked out here, in several conventions."""

import numpy as np
import OpenImageIO as oiio
import pytest

from kobrel.plan.model import CameraKey, FileCamera, MadeCamera
from kobrel.plan.pictures.rendered import opened
from kobrel.plan.start import empty_plan
from kobrel.session.commands import rendered_image
from kobrel.session.open_file import open_file
from kobrel.session.session import Session
from kobrel.stage.read.rendered.pose import taken_from
from kobrel.stage.read.rendered.relief import CAMERA
from kobrel.stage.scene import no_progress
from tests.exchange.test_finished import TALL, WIDE, colours, scene_depth, write
from tests.kinds.plans import staged

HALF_WIDTH = 0.4
HALF_HEIGHT = HALF_WIDTH * TALL / WIDE


def turned(degrees, axis):
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    return np.array({"y": [[c, 0, s], [0, 1, 0], [-s, 0, c]], "x": [[1, 0, 0], [0, c, -s], [0, s, c]]}[axis])


def a_pose(x=3.0):
    """A camera at (x, 1.6, -2), turned by 40 degrees and down by 10."""
    pose = np.eye(4)
    pose[:3, :3] = turned(40, "y") @ turned(-10, "x")
    pose[:3, 3] = x, 1.6, -2.0
    return pose


def rows(matrix):
    return tuple(float(v) for v in matrix.T.ravel())


def headers(pose, flips=(1.0, 1.0, 1.0), screen=True):
    """What a renderer writes whose cameras have their axes flipped so."""
    to_camera = np.diag([*flips, 1.0]) @ np.linalg.inv(pose)
    found = {"worldToCamera": rows(to_camera)}
    if screen:
        projection = np.zeros((4, 4))
        projection[0, 0], projection[1, 1] = flips[0] / HALF_WIDTH, flips[1] / HALF_HEIGHT
        projection[2] = 0.0, 0.0, -flips[2], -0.1
        projection[3, 2] = -flips[2]
        found["worldToScreen"] = rows(projection @ to_camera)
    return found


def a_file(path, matrices, scale=1.0):
    pixels = np.concatenate([colours(), scene_depth()[..., None] * scale], axis=-1)
    spec = oiio.ImageSpec(WIDE, TALL, 4, oiio.FLOAT)
    spec.channelnames = ("R", "G", "B", "Z")
    for name, value in matrices.items():
        spec.attribute(name, oiio.TypeDesc("matrix"), value)
    out = oiio.ImageOutput.create(str(path))
    out.open(str(path), spec)
    out.write_image(np.ascontiguousarray(pixels, np.float32))
    out.close()
    return path


def place_of(pose, column, row, away):
    """The place on the stage of a place within a pixel, at a distance along the axis."""
    x = ((column + 0.4) / WIDE * 2 - 1) * HALF_WIDTH * away
    y = (1 - (row + 0.5) / TALL * 2) * HALF_HEIGHT * away
    return (pose @ np.array([x, y, -away, 1.0]))[:3]


@pytest.mark.parametrize(
    ("flips", "screen"),
    [((1, 1, 1), True), ((1, 1, 1), False), ((1, 1, -1), True), ((1, 1, -1), False), ((1, -1, -1), True)],
)
def test_it_is_read_whichever_way_a_renderers_cameras_look(tmp_path, flips, screen):
    taken = taken_from(a_file(tmp_path / "a.exr", headers(a_pose(), flips, screen)))
    assert np.allclose(taken.pose, a_pose(), atol=1e-6)
    assert taken.half_width == (pytest.approx(HALF_WIDTH, rel=1e-6) if screen else None)
    assert np.allclose(taken.shift, 0.0, atol=1e-6)


@pytest.mark.parametrize(
    "matrix",
    [np.zeros((4, 4)), np.full((4, 4), np.nan), np.diag([1.0, 2.0, 1.0, 1.0]), np.eye(4) + np.eye(4, k=1),
     np.diag([1.0, 1.0, 1.0, 0.0])],
)  # fmt: skip
def test_what_is_no_camera_is_passed_over(tmp_path, matrix):
    assert taken_from(a_file(tmp_path / "a.exr", {"worldToCamera": rows(matrix)})) is None
    assert taken_from(write(tmp_path / "b.exr", ("R", "G", "B"), colours())) is None


def put(path, plan=None):
    session = Session()
    session.show_plan(*staged(plan or empty_plan()))
    told = rendered_image.put(session, path)
    session.show_plan(*staged(session.plan))
    return session, told


def met(session, column, row, frame=None):
    """Where a click within a pixel meets the picture."""
    session.show_frame(session.frame if frame is None else frame)
    session.stage.prepare()
    return session.pick(*session.camera.ray(column + 0.4, row + 0.5, WIDE, TALL))


def test_the_shots_camera_stands_where_it_was_taken_from(tmp_path):
    session, told = put(a_file(tmp_path / "a.exr", headers(a_pose())))
    assert "The camera is at the position in the file's header." in told
    assert session.shot.camera == FileCamera(scene=session.shot.finished, path=CAMERA)
    assert np.allclose(session.camera.pose, a_pose(), atol=1e-6)
    assert float(session.camera.half_widths()[0]) == pytest.approx(HALF_WIDTH, rel=1e-6)
    for column, row, away in ((45, 40, 3.0), (80, 30, 8.0)):
        assert np.allclose(met(session, column, row).point, place_of(a_pose(), column, row, away), atol=0.02)


def test_places_count_in_the_unit_of_the_distances(tmp_path):
    pose = a_pose()
    pose[:3, 3] *= 100
    finished, _pixels = opened(a_file(tmp_path / "cm.exr", headers(pose), scale=100.0), focus_m=3.0)
    assert finished.rule.unit_m == 0.01
    session, _told = put(tmp_path / "cm.exr")
    assert np.allclose(session.camera.pose, a_pose(), atol=1e-5)
    assert np.allclose(met(session, 45, 40).point, place_of(a_pose(), 45, 40, 3.0), atol=0.02)


def test_a_camera_that_moves_is_followed_frame_by_frame(tmp_path):
    for frame in (1001, 1002, 1003, 1005):
        a_file(tmp_path / f"s.{frame}.exr", headers(a_pose(frame - 1001.0)))
    session, _told = put(tmp_path / "s.1001.exr")
    for frame in (1001, 1003, 1005):
        pose = a_pose(frame - 1001.0)
        pick = met(session, 45, 40, frame)
        assert np.allclose(session.camera.pose, pose, atol=1e-5)
        assert np.allclose(pick.point, place_of(pose, 45, 40, 3.0), atol=0.02)


def test_opened_as_a_file_it_stands_there_too(tmp_path):
    opened_file = open_file(a_file(tmp_path / "a.exr", headers(a_pose())), no_progress)
    session = Session()
    session.show_plan(opened_file.plan, opened_file.stage, opened_file.library)
    assert np.allclose(session.camera.pose, a_pose(), atol=1e-6)
    assert float(session.camera.half_widths()[0]) == pytest.approx(HALF_WIDTH, rel=1e-6)


def test_a_camera_with_keys_stays_and_the_picture_stands_before_it(tmp_path):
    plan = empty_plan()
    (shot,) = plan.shots
    keys = tuple(
        CameraKey(frame=frame, position_m=(0.0, 1.0, x), aim_m=(0.0, 1.0, x - 5))
        for frame, x in ((1001, 0), (1010, 1))
    )
    kept = MadeCamera(position_m=(0.0, 1.0, 0.0), aim_m=(0.0, 1.0, -5.0), keys=keys)
    plan = plan.replace(shots=(shot.replace(camera=kept),))
    session, told = put(a_file(tmp_path / "a.exr", headers(a_pose())), plan)
    assert session.shot.camera == kept
    assert told == []
    pick = met(session, 45, 40)
    assert session.camera.pose[:3, 2] @ (session.camera.pose[:3, 3] - pick.point) == pytest.approx(
        3.0, abs=0.02
    )


def test_a_lens_shift_is_told(tmp_path):
    matrices = headers(a_pose())
    shifted = np.array(matrices["worldToScreen"]).reshape(4, 4)
    shifted[:, 0] += 0.2 * shifted[:, 3]  # to the right, in half widths
    session, told = put(a_file(tmp_path / "a.exr", {**matrices, "worldToScreen": tuple(shifted.ravel())}))
    assert any("lens shift" in line for line in told)
    assert session.shot.finished
