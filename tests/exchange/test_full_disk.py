"""Whatever Kobrel writes is whole, or is not there: every exporter on a disk that is full."""

import numpy as np
import pytest
from PIL import Image

from kobrel.errors import KobrelError
from kobrel.exchange.export import KINDS, export
from kobrel.exchange.images import write_exr, write_png
from kobrel.exchange.iris import write_iris
from kobrel.exchange.movie import Movie, write_shot
from kobrel.exchange.passes import write_passes
from kobrel.exchange.plates.layers import write_layers
from kobrel.exchange.proof import sheet as contact
from kobrel.exchange.proof.files import Kept, proof_of, write_proof
from kobrel.exchange.proof.thumbnail import write_thumbnail
from kobrel.exchange.render import render_frame
from kobrel.exchange.sheet.tables import write_tables
from kobrel.exchange.sound import write_sound
from kobrel.exchange.writing.checks import require_whole
from kobrel.optics.units import METRE
from kobrel.plan.export import PASSES
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.measure.depth_table import depth_table
from kobrel.plan.measure.survey import survey
from kobrel.stage.scene import no_progress
from tests.plates.flat import a_shot, picture, plate_at, staged


@pytest.fixture(scope="module")
def small(tmp_path_factory):
    """A plan of a small shot with a plate, its stage, and proofs on a disk with room."""
    folder = tmp_path_factory.mktemp("small")
    shot = a_shot(width_px=48, last=1003)
    plate = plate_at(picture(folder / "sheet.png"), 3.0, shot=shot)
    plan, stage = staged(plate, shot=shot)
    dice = np.random.default_rng(1)
    kept = Kept(
        dice.random((27, 48, 3), np.float32), np.ones((27, 48), np.float32), np.ones((27, 48), np.float32)
    )
    camera = camera_at(plan, shot, 1001, stage)
    proof = proof_of(shot, camera, 1001, (48, 27), 4, name="a", shown_ev=0.0, shoulder=0.0)
    return plan, stage, kept, write_proof(folder / "x.proofs", proof, kept)


def _exporters():
    """Every kind of file: its name, and what writes it, given all of `small` and a path."""
    # Changes need a camera of a scene file; what writes them is that of the whole camera.
    for kind in (kind for kind in KINDS.values() if kind.key != "usd-changes"):
        for ending in kind.endings:
            yield (
                f"{kind.key}{ending}",
                lambda plan, stage, _k, _p, path, key=kind.key: export(plan, plan.shots[0], stage, key, path),
            )
    for name, movie in {"movie.mp4": Movie(passes=1, sound=True), "movie.mov": Movie(passes=1)}.items():
        yield (
            name,
            lambda plan, stage, _k, _p, path, movie=movie: write_shot(
                plan, plan.shots[0], stage, movie, path, no_progress
            ),
        )
    for ending in (".png", ".exr"):
        yield (
            f"render{ending}",
            lambda plan, stage, _k, _p, path: render_frame(
                plan, plan.shots[0], 1001, stage, None, 1, path, no_progress
            ),
        )
        yield (
            f"frames{ending}",
            lambda plan, stage, _k, _p, path: write_shot(
                plan, plan.shots[0], stage, Movie(passes=1), path, no_progress
            ),
        )
    for ending in (".ora", ".exr", ".png"):
        yield (
            f"layers{ending}",
            lambda plan, stage, _k, _p, path: write_layers(plan, plan.shots[0], stage, [1001], path),
        )
    for ending in (".pdf", ".png"):
        yield (
            f"contact{ending}",
            lambda _plan, _s, _k, proof, path: contact.write_sheet(
                path, [proof], contact.Sheet("T"), no_progress
            ),
        )
    yield (
        "passes.exr",
        lambda plan, stage, _k, _p, path: write_passes(
            plan, plan.shots[0], stage, [1001], list(PASSES), path, no_progress
        ),
    )
    yield (
        "motor.wav",
        lambda plan, stage, _k, _p, path: write_sound(
            plan, plan.shots[0], survey(plan, plan.shots[0], stage), path
        ),
    )
    yield (
        "tables.csv",
        lambda _plan, _s, _k, _p, path: write_tables(
            [depth_table("T", 50.0, 0.03, "thin", [1.0, 2.0], [2.8, 4.0])], METRE, path
        ),
    )
    yield "thumb.png", lambda plan, _s, _k, _p, path: write_thumbnail(plan, path, 48)
    for ending in (".png", ".exr", ".csv", ".json"):
        yield (
            f"iris{ending}",
            lambda plan, stage, _k, _p, path: write_iris(
                path, camera_at(plan, plan.shots[0], 1001, stage), 64
            ),
        )
    yield "proof", lambda _plan, _s, kept, proof, path: write_proof(path, proof, kept)


EXPORTERS = dict(_exporters())


@pytest.mark.parametrize("name", EXPORTERS)
def test_what_is_written_on_a_full_disk_is_refused_and_leaves_nothing(small, name, tmp_path, full_disk):
    write, folder = EXPORTERS[name], tmp_path / "room"
    folder.mkdir()
    write(*small, folder / name)
    whole = {path.relative_to(folder): path.stat().st_size for path in folder.rglob("*") if path.is_file()}
    largest = max(whole.values())
    for number, room in enumerate({0, min(4096, largest // 2), largest * 3 // 4}):
        folder = tmp_path / f"full{number}"
        folder.mkdir()
        with full_disk(room), pytest.raises(KobrelError) as refused:
            write(*small, folder / name)
        assert name.partition(".")[0] in str(refused.value) or "proof" in name
        for path in folder.rglob("*"):  # what was finished before is whole
            if path.is_file():
                assert path.stat().st_size == whole[path.relative_to(folder)]


@pytest.mark.parametrize("ending", [".png", ".exr", ".jpg", ".tif"])
def test_every_cut_is_noticed(tmp_path, ending):
    path, cut = tmp_path / f"a{ending}", tmp_path / f"cut{ending}"
    dice = np.random.default_rng(2)
    if ending == ".exr":
        write_exr(path, dice.random((40, 30, 3), np.float32), *dice.random((2, 40, 30), np.float32))
    elif ending == ".png":
        write_png(path, dice.integers(0, 255, (40, 30, 3), np.uint8))
    else:
        Image.fromarray(dice.integers(0, 255, (40, 30, 3), np.uint8)).save(path)
    content = path.read_bytes()
    require_whole(path, path)
    for end in {0, 1, 100, len(content) // 2, len(content) - 40, len(content) - 2}:
        cut.write_bytes(content[:end])
        with pytest.raises(KobrelError, match=r"a\.x: .*to its end"):
            require_whole(cut, tmp_path / "a.x")
    hole = bytearray(content)
    hole[len(hole) // 2 : len(hole) // 2 + 60] = bytes(60)
    if ending == ".png":  # its chunks have checksums
        cut.write_bytes(hole)
        with pytest.raises(KobrelError, match="to its end"):
            require_whole(cut, cut)
