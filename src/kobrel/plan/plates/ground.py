"""A set from one picture: its horizon and the camera's height give a ground, and distances on it."""

import numpy as np

from kobrel.errors import PlanError
from kobrel.plan.keys import Level
from kobrel.plan.measure.camera import Camera
from kobrel.plan.model import MadeCamera
from kobrel.plan.pictures.plates import Plate
from kobrel.plan.plates.placing import filling
from kobrel.plan.space.moves import vector

_AIM_M = 10.0


def level_camera(camera: Camera, plate: Plate, horizon: float, height_m: float) -> MadeCamera:
    """The camera that took a picture which fills the frame: as high, and looking down or up as its horizon
    says, from the place and to the side that the camera has now.

    Parameters
    ----------
    camera : at one frame
    horizon : where the horizon is in the picture, of its height from the top
    """
    tall = filling(camera, 1.0, plate.picture.aspect)[1]
    down = float(np.arctan((0.5 - horizon) * tall))
    back = camera.pose[:3, 2]
    turn = float(np.arctan2(back[0], back[2]))
    place = np.array([camera.pose[0, 3], height_m, camera.pose[2, 3]])
    ahead = -np.array([np.sin(turn) * np.cos(down), np.sin(down), np.cos(turn) * np.cos(down)])
    return MadeCamera(position_m=vector(place), aim_m=vector(place + _AIM_M * ahead))


def ground_plate(camera: Camera, plate: Plate, horizon: float, height_m: float) -> Plate:
    """What a picture that fills the frame shows below its horizon, lying on the ground.

    Parameters
    ----------
    camera : at one frame, as :func:`level_camera` has it
    """
    back = camera.pose[:3, 2]
    return plate.replace(
        name=f"{plate.name} ground", position_m=vector(camera.pose[:3, 3]), keys=(), faces=False, lies=True,
        horizon=horizon, height_m=filling(camera, 1.0, plate.picture.aspect)[1], pivot=(0.5, 0.5),
        turn_deg=Level(value=float(np.degrees(np.arctan2(back[0], back[2])))), tilt_deg=Level(),
        roll_deg=Level(), scale=Level(value=height_m), cut=None, beyond="nothing",
    )  # fmt: skip


def distance_of_foot(camera: Camera, ground_y: float, right: float, down: float) -> float:
    """How far along the axis a thing stands whose foot is seen at a place of the frame.

    Parameters
    ----------
    camera : at one frame
    ground_y : height of the ground, metres
    right, down : the place, parts of the frame from the upper left

    Raises
    ------
    PlanError
        The place is at the horizon or above it.
    """
    origin, way = camera.ray(right, down, 1.0, 1.0)
    if way[1] >= -1e-6 or origin[1] <= ground_y:
        raise PlanError("The point must be below the horizon.", remedy="Click where it meets the ground.")
    return float((ground_y - origin[1]) / way[1])
