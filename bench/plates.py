"""Plates: many large ones against two, focus dragged over them, a large fill."""

import resource
import tempfile
import time
from pathlib import Path

import numpy as np
from PIL import Image
from rich.table import Table

from kobrel import trust
from kobrel.picture.quick import PREVIEW_TAPS, blurred
from kobrel.picture.tracer import Film, sharp_picture
from kobrel.picture.view import View
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import FixedCamera, Plan, Shot
from kobrel.plan.pictures.plates import Plate, PlatePicture
from kobrel.plan.plates.placing import distances_between, filling
from kobrel.plan.staging import Library, stage_of
from kobrel.stage.pictures.fill import diffused, mirrored, patched
from kobrel.stage.stage import Stage

SIDE, MANY, FEW = 4000, 20, 2
PICTURE = (640, 360)


def plates(table: Table) -> None:
    """Rows about plates."""
    with tempfile.TemporaryDirectory() as folder:
        trust.allow([Path(folder)])
        paths = _pictures(Path(folder))
        before = _memory()
        many, reading_many = _staged(paths)
        grown = _memory() - before
        few, reading_few = _staged(paths[:FEW])
        first_many, first_few = (min(_first(*each) for _ in range(5)) for each in (many, few))
        pixels = MANY * SIDE * SIDE * 4
        table.add_row(
            f"first picture of {MANY} plates of {SIDE} x {SIDE}", f"{first_many * 1000:.0f} ms",
            f"{first_many / first_few:.2f} x that of {FEW}", "≤ 1.5 x",
        )  # fmt: skip
        table.add_row(
            "reading them", f"{reading_many:.1f} s", f"{reading_many / reading_few:.1f} x that of {FEW}",
            "report",
        )  # fmt: skip
        table.add_row("memory", f"{grown / 2**30:.2f} GB", f"{grown / pixels:.2f} x the pixels", "≤ 1.3 x")
        table.add_row("focus dragged over them", f"{_dragged(*many):.0f} pictures/s", "", "≥ 30/s")
    colours = np.random.default_rng(1).uniform(0, 255, (SIDE, SIDE, 3)).astype(np.float32)
    hole = np.zeros((SIDE, SIDE), bool)
    hole[1600:2400, 1600:2400] = True
    for name, fill in (("mirrored", mirrored), ("diffused", diffused), ("by patches", patched)):
        fill(colours[:64, :64].copy(), hole[1590:1654, 1590:1654].copy())
        start = time.perf_counter()
        fill(colours, hole)
        took = time.perf_counter() - start
        table.add_row(
            f"a hole of 800 x 800 in {SIDE} x {SIDE}, {name}", f"{took:.1f} s", "", "in the background"
        )


def _pictures(folder: Path) -> list[Path]:
    """Pictures with holes, half of each, whose edges fade over some ten pixels."""
    y, x = np.mgrid[:SIDE, :SIDE].astype(np.float32)
    paths = []
    for number in range(MANY):
        pixels = np.empty((SIDE, SIDE, 4), np.uint8)
        pixels[..., 0], pixels[..., 1], pixels[..., 2] = x / SIDE * 255, y / SIDE * 255, number * 12
        wave = np.sin(x / (40 + 9 * number)) * np.cos(y / (60 + 7 * number))
        pixels[..., 3] = np.clip(wave * 1500, 0, 255) if number else 255
        paths.append(folder / f"p{number:02d}.png")
        Image.fromarray(pixels).save(paths[-1], compress_level=1)
    return paths


def _staged(paths: list[Path]) -> tuple[tuple[Plan, Stage], float]:
    shot = Shot(name="1", camera=FixedCamera(pose=tuple(np.eye(4).ravel().tolist())))
    camera = camera_at(Plan(shots=(shot,)), shot, 1001, Stage())
    made = []
    away = distances_between(1.0, 30.0, len(paths), "dioptres")[::-1]
    for number, (path, metres) in enumerate(zip(paths, away.tolist(), strict=True), 1):
        place, height = filling(camera, metres, 1.0)
        picture = PlatePicture(path=str(path), size_px=(SIDE, SIDE))
        made.append(Plate(number=number, name=path.stem, picture=picture, position_m=place, height_m=height))
    plan = Plan(shots=(shot,), plates=tuple(made))
    library = Library()
    start = time.perf_counter()
    library.read(plan)
    stage = stage_of(plan, library)
    stage.prepare()
    return (plan, stage), time.perf_counter() - start


def _view(plan: Plan, stage: Stage, focus_m: float = 3.0) -> View:
    from dataclasses import replace

    camera = replace(camera_at(plan, plan.shots[0], 1001, stage), focus_m=np.float64(focus_m))
    return View(stage.snapshot(1001, eye=camera.eye), camera, plan.light, *PICTURE)


def _first(plan: Plan, stage: Stage) -> float:
    """Seconds to the first picture: sharp, blurred, and one exact pass."""
    start = time.perf_counter()
    view = _view(plan, stage)
    blurred(view, sharp_picture(view))
    Film(view).expose()
    return time.perf_counter() - start


def _dragged(plan: Plan, stage: Stage) -> float:
    """Pictures a second while the focus is dragged."""
    sharp = sharp_picture(_view(plan, stage))
    steps = np.linspace(1.0, 20.0, 60)
    start = time.perf_counter()
    for focus in steps:
        blurred(_view(plan, stage, float(focus)), sharp, count=PREVIEW_TAPS)
    return len(steps) / (time.perf_counter() - start)


def _memory() -> float:
    """Bytes that the process has now."""
    pages = int(Path("/proc/self/statm").read_text(encoding="ascii").split()[1])
    return float(pages * resource.getpagesize())
