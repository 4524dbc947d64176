"""Pictures: only the kinds that are meant, by what they hold, and never more memory than they may take."""

import os
import subprocess
import sys
import zlib
from pathlib import Path

import numpy as np
import OpenImageIO as oiio
import pytest
from PIL import Image

from kobrel import trust
from kobrel.errors import KobrelError, SceneError
from kobrel.exchange.images import write_exr
from kobrel.exchange.movie import Times, write_movie
from kobrel.plan.masks import read_mask
from kobrel.stage.pictures.environment import load_environment
from kobrel.stage.pictures.pixels import open_image, read_pixels
from kobrel.stage.read.plates.playing import movie_frames, movie_reader
from kobrel.stage.read.plates.stills import read_still

EPS = b"%!PS-Adobe-3.0 EPSF-3.0\n%%BoundingBox: 0 0 100 100\n(touched) (w) file closefile\nshowpage\n%%EOF\n"
HLS = b"#EXTM3U\n#EXT-X-TARGETDURATION:1\n#EXTINF:1,\nsecret.mp4\n#EXT-X-ENDLIST\n"


@pytest.mark.parametrize(
    "content", [EPS, b"%PDF-1.4\n", b"GIF89a" + bytes(40), b"P6 1 1 255\nabc", b"<svg/>"]
)
def test_only_the_kinds_that_are_meant_are_opened(tmp_path, content, monkeypatch):
    path = tmp_path / "tex.png"
    path.write_bytes(content)
    monkeypatch.setattr(subprocess, "Popen", lambda *a, **k: pytest.fail("a program was started"))
    for read in (
        open_image,
        lambda p: open_image(p.read_bytes()),
        read_pixels,
        read_still,
        read_mask,
        load_environment,
    ):
        with pytest.raises(KobrelError):
            read(path)


@pytest.mark.parametrize(
    "text", [b"ffconcat version 1.0\nfile inside.mp4\n", HLS, b"v=0\no=- 0 0 IN IP4 127.0.0.1\n"]
)
def test_a_list_of_other_files_is_no_movie(tmp_path, text):
    folder = tmp_path / "scene"
    folder.mkdir()
    frames = [np.full((48, 64, 3), grey, np.uint8) for grey in (10, 20)]
    write_movie(tmp_path / "secret.mp4", frames, Times(24.0, 0), (64, 48))
    for name in ("inside.mp4", "secret.mp4"):
        (folder / name).symlink_to(tmp_path / "secret.mp4")
    (folder / "list.mp4").write_bytes(text)
    trust.allow([folder])
    for read in (movie_frames, lambda path: movie_reader(path)(0)):
        with pytest.raises(SceneError, match="not a movie"):
            read(folder / "list.mp4")
    assert movie_frames(tmp_path / "secret.mp4")[0] == 2


def huge_png(path: Path, side: int, channels=4):
    """A PNG of a great many black pixels in a small file."""

    def chunk(kind, content):
        body = kind + content
        return len(content).to_bytes(4, "big") + body + zlib.crc32(body).to_bytes(4, "big")

    kind = {1: 0, 3: 2, 4: 6}[channels]
    head = side.to_bytes(4, "big") * 2 + bytes([8, kind, 0, 0, 0])
    packer = zlib.compressobj(9)
    row = bytes(1 + side * channels)
    data = b"".join(packer.compress(row) for _ in range(side)) + packer.flush()
    path.write_bytes(b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", data) + chunk(b"IEND", b""))
    return path


MEASURE = """
import resource, sys
from pathlib import Path
from kobrel import trust
from kobrel.errors import KobrelError
from kobrel.plan.masks import read_mask
from kobrel.stage.pictures.environment import load_environment
from kobrel.stage.pictures.pixels import open_image
from kobrel.stage.read.plates.stills import read_still
path, how = Path(sys.argv[1]), sys.argv[2]
trust.allow([path.parent])
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
try:
    {"mask": read_mask, "environment": load_environment, "texture": open_image, "plate": read_still}[how](path)
    said = "read"
except KobrelError as error:
    said = "refused: " + str(error)
print((resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) // 1024, said)
"""


def test_a_small_file_takes_little_memory(tmp_path):
    path = huge_png(tmp_path / "huge.png", 16384, channels=1)
    assert path.stat().st_size < 2 << 20
    for how, said in (
        ("mask", "black"),
        ("environment", "read"),
        ("texture", "GB of memory"),
        ("plate", "GB of memory"),
    ):
        made = subprocess.run(
            [sys.executable, "-c", MEASURE, str(path), how], capture_output=True, text=True, check=True
        )
        megabytes, _, told = made.stdout.partition(" ")
        assert int(megabytes) < 900, (how, made.stdout)
        assert said in told


@pytest.mark.parametrize("ending", [".png", ".exr", ".tif"])
def test_a_picture_read_smaller_is_the_mean_of_its_squares(tmp_path, ending):
    dice = np.random.default_rng(3)
    path, tall, wide, by = tmp_path / f"a{ending}", 50, 70, 4
    if ending == ".exr":
        colour = dice.random((tall, wide, 3), np.float32)
        write_exr(path, colour, np.ones((tall, wide), np.float32), np.ones((tall, wide), np.float32))
    else:
        values = dice.integers(0, 255, (tall, wide, 3), np.uint8)
        Image.fromarray(values).save(path)
        colour = values.astype(np.float32) / 255
    found, _names = read_pixels(path, 18)
    assert found.shape[:2] == (13, 18)
    for row, column in ((0, 0), (5, 9), (12, 17), (12, 3), (4, 17)):
        square = colour[row * by : (row + 1) * by, column * by : (column + 1) * by]
        assert found[row, column, :3] == pytest.approx(square.mean(axis=(0, 1)), abs=2e-6)
    assert read_pixels(path, 70)[0].shape[:2] == (tall, wide)


def test_parts_of_a_file_count_together(tmp_path, monkeypatch):
    from kobrel.stage.read.rendered import frames

    path = tmp_path / "parts.exr"
    specs = [oiio.ImageSpec(64, 64, 3, oiio.FLOAT) for _ in range(8)]
    for number, spec in enumerate(specs):
        spec["name"] = f"p{number}"
        spec["compression"] = "zip"
    output = oiio.ImageOutput.create(str(path))
    output.open(str(path), tuple(specs))
    for number, spec in enumerate(specs):
        if number:
            output.open(str(path), spec, "AppendSubimage")
        output.write_image(np.zeros((64, 64, 3), np.float32))
    output.close()
    monkeypatch.setattr(
        "kobrel.stage.pictures.pixels.MOST_BYTES", 4 * 64 * 64 * 3 * 2 * 6 - 16 * os.stat(path).st_size
    )
    with pytest.raises(SceneError, match="GB of memory"):
        frames._parts(path)
