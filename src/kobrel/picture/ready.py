"""Makes all compiled kernels ready, so that the first picture does not wait for them.

Run as a module it exits with 1 where the compiled form cannot be kept.
"""

import sys
from functools import cache
from pathlib import Path

import numpy as np

from kobrel.compiled import is_kept
from kobrel.picture import kernels
from kobrel.picture.develop import developed
from kobrel.picture.quick import blurred
from kobrel.picture.tracer import Film, sharp_picture
from kobrel.picture.view import View
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import FixedCamera, Light, Plan, Shot
from kobrel.stage.engine import rays
from kobrel.stage.motion import matrix_motion
from kobrel.stage.scene import Material, Node, Scene
from kobrel.stage.shapes import box, sphere
from kobrel.stage.stage import Stage


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


if __name__ == "__main__":
    prepare()
    sys.exit(0 if is_kept(kernels.draw_rows) else 1)
