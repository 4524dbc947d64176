"""What a shot is exported as: its camera as a USD layer, or its numbers as a table."""

from pathlib import Path
from typing import Literal

from kobrel.plan.measure.survey import survey
from kobrel.plan.model import Plan, Shot
from kobrel.stage.stage import Stage

ExportKind = Literal["usd", "csv"]


def export(plan: Plan, shot: Shot, stage: Stage, kind: ExportKind, path: Path) -> None:
    """Write a shot's camera (usd) or numbers (csv) to a file.

    Raises
    ------
    KobrelError
        It cannot be written, or the shot has no camera.
    """
    if kind == "usd":
        from kobrel.exchange.cameras.usd import write_usd

        write_usd(plan, shot, stage, path)
    else:
        from kobrel.exchange.table import write_csv

        write_csv(plan, shot, survey(plan, shot, stage), path)
