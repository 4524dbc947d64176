"""Commands for the camera: looking from elsewhere, taking that as the shot's camera, and moving it."""

import numpy as np

from kobrel.plan import edit
from kobrel.plan.model import FileCamera, MadeCamera
from kobrel.plan.space import moves
from kobrel.plan.space.moves import vector
from kobrel.session.document import Document
from kobrel.session.needs import needs, needs_now
from kobrel.session.numbers import Now
from kobrel.session.session import Session


@needs_now
def view_camera(session: Session, now: Now) -> MadeCamera:
    """The camera that looks now, as one that can be moved about: its aim lies in the focus."""
    if session.walk is not None:
        return session.walk
    camera, shot = now.camera, now.shot
    focus = min(float(camera.focus_m), 100.0)
    if isinstance(shot.camera, MadeCamera) and shot.camera.aims_at is None:
        here = moves.key_of(shot.camera, session.frame)
        return MadeCamera(
            position_m=here.position_m, aim_m=here.aim_m, roll_deg=here.roll_deg,
            near_clip_m=shot.camera.near_clip_m,
        )  # fmt: skip
    return moves.made_from_pose(camera.pose, focus, camera.near_clip_m)


needs_view_camera = needs(view_camera)
"""A command on the view camera, which is its second argument."""


@needs_view_camera
def orbit(session: Session, camera: MadeCamera, across_rad: float, up_rad: float) -> None:
    """Turn the view camera about its aim."""
    there = moves.turned_about(camera.position_m, camera.aim_m, across_rad, up_rad)
    session.walk = camera.replace(position_m=vector(there))


@needs_view_camera
def pan(session: Session, camera: MadeCamera, right: float, up: float) -> None:
    """Move the view camera aside and up by parts of the distance to its aim, which comes along."""
    pose = moves.look_at(camera.position_m, camera.aim_m)[0]
    reach = float(np.linalg.norm(np.subtract(camera.aim_m, camera.position_m)))
    step = (pose[:3, 0] * right + pose[:3, 1] * up) * reach
    session.walk = camera.replace(
        position_m=vector(camera.position_m + step), aim_m=vector(camera.aim_m + step)
    )


@needs_view_camera
def dolly(session: Session, camera: MadeCamera, steps: float) -> None:
    """Move the view camera toward its aim by a tenth of the way a step, or back."""
    away = np.subtract(camera.position_m, camera.aim_m) * 0.9**steps
    if 0.01 < float(np.linalg.norm(away)) < 1e5:
        session.walk = camera.replace(position_m=vector(np.asarray(camera.aim_m) + away))


def take_walk(session: Session) -> None:
    """Make the view camera the shot's: by a key at the frame where the shot's has keys."""
    walk, shot = session.walk, session.shot
    if walk is None or shot is None:
        return
    old = shot.camera
    if isinstance(old, MadeCamera) and old.keys:
        new = moves.posed(
            old, session.frame, position_m=walk.position_m, aim_m=walk.aim_m, roll_deg=walk.roll_deg
        )
    else:
        new = walk
    session.edit_shot("Camera placed", lambda s: edit.with_camera(s, new), Document.walk.to(None))
    session.say("Shot camera set.")


@needs_now
def edit_camera(session: Session, now: Now, name: str, /, **changes: object) -> None:
    """Move the shot's camera: at this frame where it has keys; one of a file becomes one made here."""
    old, camera = now.shot.camera, now.camera
    if not isinstance(old, MadeCamera):
        focus = min(float(camera.focus_m), 100.0)
        old = moves.made_from_pose(camera.pose, focus, camera.near_clip_m)
    try:
        new = moves.posed(old, session.frame, **changes)
    except ValueError:
        session.say("The aim must differ from the camera position.")
        return
    session.edit_shot(name, lambda s: s.replace(camera=new), Document.walk.to(None))


def choose_camera(session: Session, scene_name: str, path: str) -> None:
    """Give the shot another camera of a scene, with that camera's lens and focus."""
    from kobrel.plan.start import shot_from_camera

    shot, scene = session.shot, session.stage.scenes[scene_name]
    source = scene.camera(path)
    if shot is None or source is None:
        return
    fresh = shot_from_camera(shot.name, scene_name, scene, source, shot.first, shot.last)
    fresh = fresh.replace(brief=shot.brief, exposure=shot.exposure, width_px=shot.width_px)
    session.edit_shot(f"Camera {fresh.title}", lambda _shot: fresh)


def cameras_of_scenes(session: Session) -> list[FileCamera]:
    """Every camera of the scenes on the stage."""
    return [
        FileCamera(scene=name, path=source.path)
        for name, scene in session.stage.scenes.items()
        for source in scene.cameras
    ]
