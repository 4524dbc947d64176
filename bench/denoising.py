"""The error of the denoised picture beside that of the noisy one, and the time until the first of them."""

import itertools
from collections.abc import Callable, Iterator
from dataclasses import replace
from time import perf_counter

import numpy as np
from numpy.typing import NDArray
from rich.table import Table

from kobrel.picture.denoise import can_denoise
from kobrel.picture.develop import as_shown
from kobrel.picture.tracer import Film, exposed
from kobrel.picture.view import View
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import Plan
from kobrel.stage.stage import Stage

Paired = Callable[..., list[float]]
SIZE, TRUTH, AT = (240, 136), 256, (2, 8, 32)
LENSES = (1.4, 2.8, 5.6)
STEPS = 4
"""Frames over which flicker is measured."""


def denoising(table: Table, paired: Paired, stage: Stage, plan: Plan) -> None:
    """Over the demo's shots in full light with three stops each, tone-mapped."""
    if not can_denoise():
        table.add_row("denoised picture", "not on this machine", "", "")
        return
    errors: dict[tuple[int, bool], list[NDArray[np.float64]]] = {}
    for view in _views(stage, plan):
        truth, film = _shown(view, exposed(view, TRUTH)), Film(view)
        for number in range(1, max(AT) + 1):
            film.expose()
            if number in AT:
                for clean, linear in ((False, film.picture()), (True, film.denoised())):
                    off = np.abs(_shown(view, linear) - truth).max(axis=2).ravel()
                    errors.setdefault((number, clean), []).append(off)
    for number in AT:
        noisy, clean = (np.concatenate(errors[number, on]) for on in (False, True))
        table.add_row(
            f"{number} samples denoised, demo's shots with three stops",
            f"{clean.mean():.4f}, worst one percent {np.quantile(clean, 0.99):.3f}",
            f"{clean.mean() / noisy.mean():.2f} × noisy: {noisy.mean():.4f}, {np.quantile(noisy, 0.99):.3f}",
            "≤ 0.3" if number == AT[0] else "",
        )
    _time(table, paired, stage, plan)
    _flicker(table, stage, plan)


def _views(stage: Stage, plan: Plan) -> Iterator[View]:
    for shot in plan.shots:
        frame = (shot.first + shot.last) // 2
        camera = camera_at(plan, shot, frame, stage)
        for stop in LENSES:
            lens = replace(camera, f_number=np.asarray(stop))
            yield View(stage.snapshot(frame), lens, plan.light.replace(surfaces="full"), *SIZE)


def _shown(view: View, linear: NDArray[np.float32]) -> NDArray[np.float64]:
    return as_shown(linear, view.light, view.camera).astype(float) / 255


def _view(stage: Stage, plan: Plan, frame: int, size: tuple[int, int]) -> View:
    shot = plan.shots[1]
    light = plan.light.replace(surfaces="full")
    return View(stage.snapshot(frame), camera_at(plan, shot, frame, stage), light, *size)


def _time(table: Table, paired: Paired, stage: Stage, plan: Plan) -> None:
    view = _view(stage, plan, 1049, (640, 360))
    film = Film(view)
    film.expose()
    clean, sample = paired(film.denoised, Film(view).expose)
    begun = perf_counter()
    first = Film(view)
    first.expose()
    first.expose()
    first.denoised()
    table.add_row(
        "two samples, denoised, 640 x 360", f"{(perf_counter() - begun) * 1000:.0f} ms",
        f"denoising {clean * 1000:.0f} ms, {clean / sample:.2f} × a sample", "≤ 500 ms",
    )  # fmt: skip


def _flicker(table: Table, stage: Stage, plan: Plan) -> None:
    """How much pictures of other samples differ from one another where nothing moves."""
    view = _view(stage, plan, 1049, SIZE)
    changes = []
    for samples, clean in ((16, True), (64, False)):
        films = [Film(view, first=number * samples) for number in range(STEPS)]
        shown = []
        for film in films:
            for _ in range(samples):
                film.expose()
            shown.append(_shown(view, film.denoised() if clean else film.picture()))
        changes.append(np.mean([np.abs(a - b).mean() for a, b in itertools.pairwise(shown)]))
    table.add_row(
        "flicker of 16 samples denoised", f"{changes[0]:.4f} a frame",
        f"{changes[0] / changes[1]:.2f} × of 64 raw samples, {changes[1]:.4f}", "≤ 1",
    )  # fmt: skip
