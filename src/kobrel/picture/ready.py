"""Makes all compiled kernels ready, so that the first picture does not wait for them.

Run as a module it exits with 1 where the compiled form cannot be kept.
"""

import sys
from dataclasses import replace
from functools import cache
from pathlib import Path

import numpy as np

from kobrel.compiled import is_kept
from kobrel.picture.defocus.simple import blurred_by
from kobrel.picture.develop import developed
from kobrel.picture.quick import blurred
from kobrel.picture.tracer import Film, sharp_picture
from kobrel.picture.tracing.rows import draw_rows
from kobrel.picture.view import View
from kobrel.plan.look import Light
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import FixedCamera, Plan, Shot
from kobrel.stage.deform import Deformation, Skin, Still
from kobrel.stage.engine import rays
from kobrel.stage.joints import Joints
from kobrel.stage.motion import Motion, matrix_motion
from kobrel.stage.pictures.fill import diffused, patched
from kobrel.stage.read.rendered.relief import relief_points
from kobrel.stage.scene import Cutout, Material, Node, Scene
from kobrel.stage.shapes import box, sphere
from kobrel.stage.stage import Place, Stage


@cache
def prepare() -> None:
    """Compile, or load from the cache, every kernel, by drawing a few pixels with each.

    Does nothing the second time.
    """
    ahead = np.eye(4)
    ahead[2, 3] = -3.0
    glow = Material("lamp", emission=(1.0, 1.0, 1.0))
    lamp = Node("/lamp", motion=matrix_motion(ahead), mesh=sphere(0.002), materials=(glow,))
    nodes = (Node("/box", mesh=box()), Node("/ball", mesh=sphere()), lamp)
    stage = Stage([("ready", Scene(Path("ready"), nodes))])
    shot = Shot(name="1", camera=FixedCamera(pose=tuple(np.eye(4).ravel().tolist())))
    camera = camera_at(Plan(), shot, 1001, stage)
    view = View(stage.snapshot(0), camera, Light(), 32, 18)
    developed(blurred(view, sharp_picture(view)))
    Film(view).expose()
    stage.pick(0, (0, 0, 5), (0, 0, -1))
    rays.blocked_rays(view.snapshot.handle, np.zeros((1, 3)), np.ones((1, 3)))


def warmed_up() -> bool:
    """Compile every kernel to be kept on disk; whether it is."""
    prepare()
    prepare_rare()
    return is_kept(draw_rows)


def prepare_rare() -> None:
    """Compile, to be kept on disk, what only rendered images, fills, skins and cut-outs need."""
    _prepare_rendered()
    _prepare_fills()
    mesh = sphere(1.0, 8)
    count = len(mesh.points)
    skin = Skin(
        np.zeros((count, 1), np.int32), np.ones((count, 1), np.float32), Joints((-1,), (Motion(),)),
        np.zeros(1, np.int64), np.eye(4)[None],
    )  # fmt: skip
    alive = replace(mesh, deformation=Deformation(Still(mesh.points), None, skin))
    glass = Material("glass", cutout=Cutout(0.5))
    scene = Scene(Path("rare"), (Node("/alive", mesh=alive, materials=(glass,)),))
    stage = Stage([("rare", scene)])
    stage.pick(0, (0, 0, 5), (0, 0, -1))
    stage.surface_point(Place("rare", "/alive"), (0, 1, 2), (1.0, 0.0, 0.0), [0.0])


def _prepare_fills() -> None:
    hole = np.zeros((64, 64), bool)
    hole[24:40, 24:40] = True
    for fill in (diffused, patched):
        fill(np.ones((64, 64, 3), np.float32), hole)


def _prepare_rendered() -> None:
    shot = Shot(name="1", camera=FixedCamera(pose=tuple(np.eye(4).ravel().tolist())))
    view = View(Stage().snapshot(0), camera_at(Plan(), shot, 1001, Stage()), Light(), 32, 18)
    depth = np.full((18, 32), 5.0, np.float32)
    depth[:, 16:] = 1.0
    colour = np.ones((18, 32, 3), np.float32)
    colour[4, 4] = 200.0
    for method in ("layered", "gather"):
        blurred_by(method, view, colour, depth)
    relief_points(depth.astype(float), 0.36)


if __name__ == "__main__":
    sys.exit(0 if warmed_up() else 1)
