"""Handing over: a long table of values, the sheet of many shots, a block of terms, passes of a frame."""

import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from rich.table import Table

from kobrel.exchange.passes import write_passes
from kobrel.exchange.sheet.write import SheetOptions, write_sheet
from kobrel.exchange.values import write_values
from kobrel.optics.units import METRE
from kobrel.plan.export import PASSES
from kobrel.plan.measure.survey import survey
from kobrel.plan.model import Plan
from kobrel.plan.values.blocks import block, blocks_for, terms
from kobrel.plan.values.lost import losses
from kobrel.plan.values.render_camera import render_camera
from kobrel.stage.scene import no_progress
from kobrel.stage.stage import Stage

FRAMES, SHOTS, ROUNDS = 10_000, 20, 3


def exporting(table: Table, stage: Stage, plan: Plan) -> None:
    """Rows about what leaves for renderer and crew."""
    long = plan.shots[1].replace(first=1, last=FRAMES)
    numbers = survey(plan, long, stage)
    families = blocks_for("perspective")
    with tempfile.TemporaryDirectory() as folder:
        out = Path(folder)
        taking = _least(lambda: survey(plan, long, stage))
        writing = _least(lambda: write_values(plan, long, numbers, families, METRE, out / "frames.csv"))
        table.add_row(
            f"{FRAMES:,} frames in all terms as CSV", f"{writing:.2f} s",
            f"{writing / taking:.0f} × their survey ({taking * 1000:.0f} ms)", "≤ 1 s",
        )  # fmt: skip
        shot = plan.shots[1]
        few, row = survey(plan, shot, stage), 40
        one, places = render_camera(shot, few).at(row), few.focus_distance_m[:, row]
        copying = _least(lambda: terms(block("aperture"), one, METRE, places))
        losing = _least(lambda: losses(block("aperture"), plan, shot, few, row))
        table.add_row(
            "a block of terms, to be copied", f"{copying * 1000:.1f} ms",
            f"what it loses {losing * 1000:.1f} ms", "at once",
        )  # fmt: skip
        many = plan.replace(
            shots=tuple(s.replace(name=f"{s.name}{k}") for k in range(SHOTS) for s in plan.shots)[:SHOTS]
        )
        sheet = _least(
            lambda: write_sheet(many, many.shots, stage, out / "s.pdf", SheetOptions(), no_progress), 1
        )
        table.add_row(f"sheet of {SHOTS} shots as PDF", f"{sheet:.1f} s", "", "≤ 20 s")
        passes = _least(
            lambda: write_passes(plan, shot, stage, [1030], list(PASSES), out / "p.exr", no_progress), 1
        )
        table.add_row("all passes of a frame of 1920 x 1080", f"{passes:.1f} s", "", "report")


def _least(work: Callable[[], object], rounds: int = ROUNDS) -> float:
    took = []
    for _ in range(rounds):
        begun = time.perf_counter()
        work()
        took.append(time.perf_counter() - begun)
    return min(took)
