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
STOPS, NEARER, PASSES = (1.4, 2.8, 5.6, 11.0), (1.0, 1.5), 256
"""Stops, how much farther than planned the focus is (so that near things are blurred too), and passes of the
reference."""


def by_stop(table: Table, stage: Stage, plan: Plan) -> None:
    """How far the blur with occlusion and a plain gather are off the exact picture at stops, and how far the
    exact picture is off itself with other passes: of 255, on the average and of the worst one percent.
    """
    light = plan.light.replace(surfaces="plain")
    off: dict[tuple[float, str], list[np.ndarray]] = {}
    for shot in plan.shots:
        frame = (shot.first + shot.last) // 2
        camera, snapshot = camera_at(plan, shot, frame, stage), stage.snapshot(frame)
        flat = View(
            snapshot, replace(camera, f_number=np.asarray(1e5)), light, WIDE, round(WIDE / camera.aspect)
        )
        colour, depth = exposed(flat, PASSES), sharp_picture(flat).depth
        for stop in STOPS:
            for farther in NEARER:
                lens = replace(
                    camera, f_number=np.asarray(stop), focus_m=np.asarray(camera.focus_m * farther)
                )
                view = replace(flat, camera=lens)
                exact, half = (
                    as_shown(exposed(view, count), light, camera).astype(int)
                    for count in (PASSES, PASSES // 2)
                )
                made = {m: blurred_by(m, view, colour, depth) for m in ("layered", "gather")}
                shown = {m: as_shown(each, light, camera).astype(int) for m, each in made.items()}
                for name, each in {**shown, "noise": half}.items():
                    off.setdefault((stop, name), []).append(np.abs(each - exact).max(axis=2).ravel())
    for stop in STOPS:
        told = []
        for name in ("layered", "gather", "noise"):
            every = np.sort(np.concatenate(off[stop, name]))
            told.append(f"{every.mean():.2f} and {every[-max(1, len(every) // 100) :].mean():.1f}")
        table.add_row(
            f"finished pictures at f/{stop:g}: off on the average, and the worst one percent", told[0],
            f"gather {told[1]}, the reference's noise {told[2]}", "a third of the gather's",
        )  # fmt: skip


def defocusing(table: Table, stage: Stage, plan: Plan) -> None:
    """Frames of 1920 x 1080, and each way to blur the demo's shots through random lenses."""
    for shot, stop in ((plan.shots[1], 0.9), (plan.shots[1], 2.8), (plan.shots[2], 2.8)):
        frame = (shot.first + shot.last) // 2
        camera = replace(camera_at(plan, shot, frame, stage), f_number=np.asarray(stop))
        view = View(stage.snapshot(frame), camera, plan.light.replace(surfaces="plain"), 1920, 1080)
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
    by_stop(table, stage, plan)
    errors: dict[str, list[np.ndarray]] = {method: [] for method in METHODS}
    dice = np.random.default_rng(1)
    light = plan.light.replace(surfaces="plain")
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
