"""Blur of finished pictures: how long it takes, and how near it comes to the exact picture."""

import time
from dataclasses import replace

import numpy as np
from rich.table import Table

from kobrel.picture.defocus.simple import METHODS, blurred_by
from kobrel.picture.develop import as_shown
from kobrel.picture.tracer import exposed, sharp_picture, signed_blur
from kobrel.picture.view import View
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import Plan
from kobrel.stage.stage import Stage

LENSES, WIDE, ROUNDS = 3, 480, 3


def defocusing(table: Table, stage: Stage, plan: Plan) -> None:
    """Frames of 1920 x 1080, and each way to blur the demo's shots through random lenses."""
    for shot, stop in ((plan.shots[1], 0.9), (plan.shots[1], 2.8), (plan.shots[2], 2.8)):
        frame = (shot.first + shot.last) // 2
        camera = replace(camera_at(plan, shot, frame, stage), f_number=np.asarray(stop))
        view = View(stage.snapshot(frame), camera, plan.light.but(surfaces="plain"), 1920, 1080)
        sharp = sharp_picture(view)
        took = []
        for _ in range(ROUNDS + 1):
            begun = time.perf_counter()
            blurred_by("layered", view, sharp.colour, sharp.depth)
            took.append(time.perf_counter() - begun)
        blur = np.abs(signed_blur(view, sharp.depth))
        table.add_row(
            f"finished picture of 1920 x 1080 blurred, shot {shot.name} at f/{stop:g}", f"{min(took):.2f} s",
            f"discs of {np.quantile(blur, 0.5):.0f} px, up to {blur.max():.0f}", "≤ 1.0 s up to 60 px",
        )  # fmt: skip
    errors: dict[str, list[np.ndarray]] = {method: [] for method in METHODS}
    dice = np.random.default_rng(1)
    light = plan.light.but(surfaces="plain")
    for shot in plan.shots:
        frame = (shot.first + shot.last) // 2
        camera, snapshot = camera_at(plan, shot, frame, stage), stage.snapshot(frame)
        flat = View(
            snapshot, replace(camera, f_number=np.asarray(1e5)), light, WIDE, round(WIDE / camera.aspect)
        )
        colour, depth = exposed(flat, 48), sharp_picture(flat).depth
        for _ in range(LENSES):
            lens = replace(
                camera, f_number=np.asarray(dice.uniform(0.7, 2.8)),
                focus_m=np.asarray(camera.focus_m * dice.uniform(0.6, 1.8)),
            )  # fmt: skip
            view = replace(flat, camera=lens)
            exact = as_shown(exposed(view, 128), light, camera).astype(int)
            for method, off in errors.items():
                made = as_shown(blurred_by(method, view, colour, depth), light, camera).astype(int)
                off.append(np.abs(made - exact).max(axis=2).ravel())
    for method, off in errors.items():
        every = np.concatenate(off)
        table.add_row(
            f"finished pictures, {METHODS[method].lower()}", f"{every.mean():.2f} of 255 on the average",
            f"worst one percent {np.quantile(every, 0.99):.0f}", "",
        )  # fmt: skip
