"""Movies, put together from their frames once all are there."""

import shutil
from collections.abc import Iterator, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kobrel.exchange.movie import Times, picture_path, write_movie
from kobrel.farm.bundle import shot_of
from kobrel.farm.making import SOUND, Item
from kobrel.farm.work import Work
from kobrel.plan.model import Plan
from kobrel.stage.pictures.pixels import open_image


def finish_movie(work: Work, plan: Plan, items: Sequence[Item], places: Path) -> None:
    """Put a movie together from its frames, which are forgotten then.

    Parameters
    ----------
    places : folder of the frames

    Raises
    ------
    ExchangeError
        It cannot be written; its frames stay.
    """
    shot = shot_of(plan, work)
    name = Path(f"{work.target.stem}.png")
    frames = [item for item in items if item.key != SOUND]
    paths = [_frame_path(places, name, item) for item in frames]
    sound = np.load(places / f"{SOUND}.npy") if any(item.key == SOUND for item in items) else None
    first = open_image(paths[0])
    even = first.width - first.width % 2, first.height - first.height % 2
    write_movie(work.target, _pictures(paths, even), Times(shot.fps, frames[0].number), even, sound)
    shutil.rmtree(places)


def _frame_path(places: Path, name: Path, item: Item) -> Path:
    """A frame's picture; one of a single rendered image has no number."""
    numbered = places / picture_path(name, item.number)
    return numbered if numbered.is_file() else places / name


def _pictures(paths: Sequence[Path], size: tuple[int, int]) -> Iterator[NDArray[np.uint8]]:
    for path in paths:
        yield np.asarray(open_image(path).convert("RGB"))[: size[1], : size[0]]
