"""Details of the stage that a small change would spoil without a crash."""

import numpy as np
import pytest

from kobrel.stage.motion import matrix_motion
from kobrel.stage.scene import Cutout, Material, Mesh, Node, Scene, Texture
from kobrel.stage.stage import Place, Stage
from tests.conftest import box_at

CORNERS = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], np.float32)
FACES = np.array([[0, 1, 2], [0, 2, 3]], np.uint32)


def stage_of(*nodes):
    from pathlib import Path

    return Stage([("s", Scene(Path("s"), nodes))])


@pytest.mark.parametrize("turn", range(4))
def test_a_ray_sees_the_place_of_the_picture_that_it_meets(turn):
    """A square that is there only in one quarter of its picture, however its corners lie in it."""
    there = np.zeros((16, 16, 3), np.uint8)
    there[:8, 8:] = 255  # above, on the right; pictures begin with their top row
    uv = np.roll(CORNERS[:, :2], turn, axis=0)
    leaf = Material("leaf", cutout=Cutout(1.0, Texture("t", pixels=there), "red", 0.5))
    stage = stage_of(Node("/leaf", mesh=Mesh(CORNERS, FACES, uv=uv[FACES]), materials=(leaf,)))
    for x, y in ((0.2, 0.3), (0.8, 0.2), (0.3, 0.8), (0.7, 0.9), (0.9, 0.7)):
        bent = np.array([x, y])
        for _ in range(turn):  # the picture's own place of this point
            bent = np.array([bent[1], 1 - bent[0]])
        met = stage.pick(1, (x, y, 1), (0, 0, -1))
        assert (met is not None) == (bent[0] > 0.5 and bent[1] > 0.5), (x, y, bent)


def test_what_is_hidden_takes_what_lies_below_it_along():
    from pathlib import Path

    from kobrel.stage.piece import _hidden_nodes

    nodes = (Node("/a"), Node("/a/b", 0), Node("/a/b/c", 1), Node("/d"))
    scene = Scene(Path("s"), nodes)
    assert _hidden_nodes(scene, frozenset({"/a/b"})) == {1, 2}
    assert _hidden_nodes(scene, frozenset()) == set()


def test_faces_of_what_is_placed_aslant_are_told_as_they_stand():
    """The normal of a face that stands turned and stretched, met by a ray."""
    matrix = np.diag([2.0, 1.0, 1.0, 1.0])
    a = np.radians(30)
    turn = np.array([[np.cos(a), 0, np.sin(a), 0], [0, 1, 0, 0], [-np.sin(a), 0, np.cos(a), 0], [0, 0, 0, 1]])
    stage = stage_of(
        Node("/sheet", motion=matrix_motion(turn @ matrix), mesh=Mesh(CORNERS, FACES)),
        box_at((9, 0, 0), name="/far"),
    )
    met = stage.pick(1, (1.0, 0.5, 5.0), (0, 0, -1))
    assert met.place == Place("s", "/sheet")
    np.testing.assert_allclose(met.along, 5.0 + np.tan(a) * 1.0, atol=1e-5)
