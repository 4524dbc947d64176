"""A frame of a shot, rendered to a picture file."""

from pathlib import Path

from kobrel.errors import ExchangeError
from kobrel.exchange.images import write_exr, write_png
from kobrel.picture.develop import developed
from kobrel.picture.tracer import Film, blur_picture, sharp_picture
from kobrel.picture.view import View
from kobrel.plan.camera import camera_at
from kobrel.plan.model import Plan, Shot
from kobrel.stage.scene import Progress
from kobrel.stage.stage import Stage

MOST_PX = 16384


def check_target(path: Path) -> None:
    """See that a picture can be written to a path, before the work.

    Raises
    ------
    ExchangeError
        Its kind is unknown or its folder missing.
    """
    if path.suffix.lower() not in (".png", ".exr"):
        raise ExchangeError(f"{path}: pictures are written as .png or .exr.")
    if not path.absolute().parent.is_dir():
        raise ExchangeError(f"{path}: there is no folder {path.absolute().parent}.")


def render_frame(
    plan: Plan,
    shot: Shot,
    frame: int,
    stage: Stage,
    size: tuple[int, int] | None,
    samples: int,
    path: Path,
    progress: Progress,
) -> None:
    """Render a frame with its true depth of field.

    Parameters
    ----------
    size : width and height in pixels; None is the delivery size
    samples : lens samples a pixel
    path : .png (sRGB, with the view's exposure) or .exr (linear, with depth and blur)

    Raises
    ------
    KobrelError
        The camera is missing, or the file cannot be written.
    """
    check_target(path)
    camera = camera_at(plan, shot, frame, stage)
    width, height = size or (camera.width_px, camera.height_px)
    if not (1 <= width <= MOST_PX and 1 <= height <= MOST_PX):
        raise ExchangeError(f"{width} x {height}: a picture is 1 to {MOST_PX} pixels wide and high.")
    stage.prepare(progress)
    view = View(stage.snapshot(frame), camera, plan.light, width, height)
    film = Film(view)
    for done in range(samples):
        progress(f"Rendering frame {frame}", done / samples)
        film.expose()
    progress(f"Writing {path.name}", 1.0)
    if path.suffix.lower() == ".png":
        write_png(
            path,
            developed(film.picture(), plan.light.exposure_ev + float(camera.shown_ev), plan.light.shoulder),
        )
    else:
        depth = sharp_picture(view).depth
        write_exr(path, film.picture(), depth, blur_picture(view, depth))
