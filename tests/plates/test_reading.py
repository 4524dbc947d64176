"""Pictures for plates: kinds of files, alpha and colour, layers, what cannot be read."""

import zipfile

import numpy as np
import OpenImageIO as oiio
import pytest
from PIL import Image

from kobrel import trust
from kobrel.errors import KobrelError, SceneError
from kobrel.stage.read.plates.layered import layered_bytes
from kobrel.stage.read.plates.playing import Clock, movie_frames, movie_reader
from kobrel.stage.read.plates.stills import layers_of, read_still, size_of
from tests.plates.flat import picture


@pytest.fixture(autouse=True)
def _allowed(tmp_path):
    trust.allow([tmp_path])


def write(path, pixels, names, kind=oiio.FLOAT, **attributes):
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], pixels.shape[2], kind)
    spec.channelnames = names
    for name, value in attributes.items():
        spec[name.replace("__", ":")] = value
    output = oiio.ImageOutput.create(str(path))
    assert output.open(str(path), spec)
    assert output.write_image(np.ascontiguousarray(pixels))
    output.close()
    return path


def test_bytes_of_a_png_stay_as_they_are(tmp_path):
    path = picture(tmp_path / "a.png", (10, 200, 30), (20, 10, 60, 40), alpha=77)
    found = read_still(path).pixels
    assert found.rgba.dtype == np.uint8
    assert found.rgba[20, 30].tolist() == [10, 200, 30, 77]
    assert size_of(path) == (120, 80)
    assert layers_of(path) == [""]


def test_alpha_of_an_exr_is_taken_out_of_its_colours(tmp_path):
    pixels = np.zeros((4, 6, 4), np.float32)
    pixels[...] = (1.0, 0.25, 0.0, 0.5)
    found = read_still(write(tmp_path / "a.exr", pixels, ("R", "G", "B", "A"))).pixels.rgba
    assert found.dtype == np.float16
    assert found[2, 2].tolist() == pytest.approx([2.0, 0.5, 0.0, 0.5])


def test_a_tiff_says_whether_its_alpha_is_multiplied_in(tmp_path):
    pixels = np.zeros((4, 6, 4), np.uint8)
    pixels[...] = (100, 50, 0, 128)
    straight = write(tmp_path / "s.tif", pixels, ("R", "G", "B", "A"), oiio.UINT8, oiio__UnassociatedAlpha=1)
    multiplied = write(tmp_path / "m.tif", pixels, ("R", "G", "B", "A"), oiio.UINT8)
    assert read_still(multiplied).pixels.rgba[1, 1].tolist() == [199, 100, 0, 128]
    assert read_still(straight).pixels.rgba[1, 1, 3] == 128


def test_sixteen_bits_become_linear_halves(tmp_path):
    pixels = np.full((4, 6, 3), 0.5, np.float32)
    found = read_still(write(tmp_path / "a.png", pixels, ("R", "G", "B"), oiio.UINT16)).pixels.rgba
    assert found[1, 1].tolist() == pytest.approx([0.214, 0.214, 0.214, 1.0], abs=2e-4)


def test_grey_and_grey_with_alpha(tmp_path):
    Image.fromarray(np.full((4, 6), 90, np.uint8)).save(tmp_path / "g.png")
    assert read_still(tmp_path / "g.png").pixels.rgba[0, 0].tolist() == [90, 90, 90, 255]
    Image.fromarray(np.full((4, 6, 2), (90, 40), np.uint8)).save(tmp_path / "ga.png")
    assert read_still(tmp_path / "ga.png").pixels.rgba[0, 0].tolist() == [90, 90, 90, 40]


def test_layers_of_an_exr(tmp_path):
    pixels = np.zeros((4, 6, 8), np.float32)
    pixels[..., :4], pixels[..., 4:] = (0.1, 0.2, 0.3, 1.0), (0.5, 0.6, 0.7, 1.0)
    names = ("R", "G", "B", "A", "back.R", "back.G", "back.B", "back.A")
    path = write(tmp_path / "a.exr", pixels, names)
    assert sorted(layers_of(path)) == ["", "back"]
    assert read_still(path, "back").pixels.rgba[0, 0, 0] == pytest.approx(0.5, abs=1e-3)
    with pytest.raises(SceneError, match="no layer front"):
        read_still(path, "front")


def test_parts_of_an_exr(tmp_path):
    specs = []
    for name in ("far", "near"):
        spec = oiio.ImageSpec(6, 4, 4, oiio.HALF)
        spec["name"] = name
        specs.append(spec)
    path = tmp_path / "parts.exr"
    output = oiio.ImageOutput.create(str(path))
    assert output.open(str(path), tuple(specs))
    for number, spec in enumerate(specs):
        if number:
            assert output.open(str(path), spec, "AppendSubimage")
        output.write_image(np.full((4, 6, 4), (number, 0, 0, 1), np.float32))
    output.close()
    assert layers_of(path) == ["far", "near"]
    assert read_still(path, "near").pixels.rgba[0, 0].tolist() == [1, 0, 0, 1]


def test_pages_of_a_tiff(tmp_path):
    pages = [Image.fromarray(np.full((4, 6, 3), n, np.uint8)) for n in (10, 20)]
    pages[0].save(tmp_path / "p.tif", save_all=True, append_images=pages[1:])
    assert layers_of(tmp_path / "p.tif") == ["page 1", "page 2"]
    assert read_still(tmp_path / "p.tif", "page 2").pixels.rgba[0, 0, 0] == 20


def test_layers_of_an_openraster_file_there_and_back(tmp_path):
    far = np.full((8, 10, 4), (10, 20, 30, 255), np.uint8)
    near = np.zeros((8, 10, 4), np.uint8)
    near[2:4, 3:5] = (200, 0, 0, 128)
    path = tmp_path / "a.ora"
    path.write_bytes(layered_bytes([("Far", far), ("Near", near)], far))
    assert layers_of(path) == ["Far", "Near"]
    assert size_of(path) == (10, 8)
    assert (read_still(path, "Near").pixels.rgba == near).all()
    with zipfile.ZipFile(path) as archive:
        assert archive.infolist()[0].filename == "mimetype"
        assert archive.read("mimetype") == b"image/openraster"


def test_groups_offsets_and_hidden_layers_of_openraster(tmp_path):
    import io

    room = io.BytesIO()
    Image.fromarray(np.full((2, 2, 4), (9, 8, 7, 255), np.uint8)).save(room, "PNG")
    text = (
        '<image w="10" h="8"><stack><layer name="Gone" src="a.png" visibility="hidden"/>'
        '<stack x="1" y="2" opacity="0.5"><layer name="In" src="a.png" x="3" y="1"/></stack>'
        '<layer name="Last" src="a.png"/></stack></image>'
    )
    path = tmp_path / "g.ora"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("mimetype", "image/openraster")
        archive.writestr("stack.xml", text)
        archive.writestr("a.png", room.getvalue())
    assert set(layers_of(path)) == {"In", "Last"}
    found = read_still(path, "In").pixels.rgba
    assert found[3, 4].tolist() == [9, 8, 7, 128]
    assert read_still(path, "In").told == ("g.ora: 1 hidden layers are skipped.",)
    assert found[0, 0, 3] == 0


def test_a_photograph_is_turned_as_it_was_taken(tmp_path):
    pixels = np.zeros((4, 6, 3), np.uint8)
    pixels[0, 0] = 255
    exif = Image.Exif()
    exif[0x0112] = 6
    Image.fromarray(pixels).save(tmp_path / "a.tif", exif=exif)
    found = read_still(tmp_path / "a.tif").pixels
    assert (found.width, found.height) == (4, 6)
    assert found.rgba[0, 3, 0] == 255
    assert size_of(tmp_path / "a.tif") == (4, 6)


def test_a_movie_gives_its_frames_in_any_order(tmp_path):
    import av

    path = tmp_path / "m.mp4"
    with av.open(str(path), "w") as container:
        stream = container.add_stream("mpeg4", rate=24)
        stream.width, stream.height, stream.pix_fmt = 64, 48, "yuv420p"
        for number in range(6):
            frame = av.VideoFrame.from_ndarray(np.full((48, 64, 3), 40 * number, np.uint8), format="rgb24")
            container.mux(stream.encode(frame))
        container.mux(stream.encode())
    assert movie_frames(path) == (6, (64, 48))
    read = movie_reader(path)
    assert [round(float(read(n).rgba[24, 32, 0]) / 40) for n in (0, 4, 2, 5)] == [0, 4, 2, 5]
    with pytest.raises(SceneError):
        read(99)


def test_a_clock_at_another_speed():
    assert [Clock(1001, 0, 9, "held", 0.5).own(f) for f in (1001, 1002, 1003, 1100)] == [0, 0, 1, 9]


@pytest.mark.parametrize("name", ["a.png", "a.exr", "a.tif", "a.jpg", "a.ora", "a.mp4"])
@pytest.mark.parametrize(
    "content", [b"", b"nothing of the kind", b"\x89PNG\r\n\x1a\n" + b"\0" * 40, b"PK\x03\x04" + b"x" * 60]
)
def test_what_is_no_picture_is_told_with_its_name(tmp_path, name, content):
    path = tmp_path / name
    path.write_bytes(content)
    with pytest.raises(KobrelError, match=name):
        movie_frames(path) if name.endswith("mp4") else read_still(path)


def test_an_openraster_file_with_entities_or_a_bad_list_is_refused(tmp_path):
    for text in ('<!DOCTYPE x [<!ENTITY a "b">]><image w="4" h="4"/>', "<image", '<image w="0" h="4"/>', '<image w="4" h="4"/>',
                 '<image w="4" h="4"><stack><layer src="no.png"/></stack></image>'):  # fmt: skip
        path = tmp_path / "bad.ora"
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("stack.xml", text)
        with pytest.raises(SceneError, match=r"bad\.ora"):
            read_still(path)


def test_a_file_of_another_kind_says_what_can_be_read(tmp_path):
    (tmp_path / "a.txt").write_text("x")
    with pytest.raises(SceneError, match=r"\.png"):
        read_still(tmp_path / "a.txt")


def test_damaged_pictures_never_end_it(tmp_path):
    rng = np.random.default_rng(5)
    noise = rng.integers(0, 255, (40, 60, 4)).astype(np.uint8)
    Image.fromarray(noise).save(tmp_path / "w.png")
    Image.fromarray(noise).save(tmp_path / "w.tif")
    (tmp_path / "w.ora").write_bytes(layered_bytes([("A", noise)], noise))
    write(tmp_path / "w.exr", rng.uniform(0, 1, (40, 60, 4)).astype(np.float32), ("R", "G", "B", "A"))
    for ending in ("png", "tif", "ora", "exr"):
        whole = bytearray((tmp_path / f"w.{ending}").read_bytes())
        for _ in range(40):
            broken = bytearray(whole)
            for at in rng.integers(0, len(whole), 6):
                broken[at] = rng.integers(0, 256)
            if rng.uniform() < 0.3:
                broken = broken[: rng.integers(1, len(broken))]
            path = tmp_path / f"b.{ending}"
            path.write_bytes(bytes(broken))
            try:
                layers_of(path)
                read_still(path)
            except KobrelError as error:
                assert "b." in str(error)
