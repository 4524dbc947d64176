"""Makes Paper Harbour: Night Ferry's harbour as five painted layers, and the plan that moves them.

    python -m kobrel.demo.harbour

Everything is painted here by formulas; the results are kept in the repository.
"""

from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFilter
from scipy import ndimage

from kobrel.files import write_whole
from kobrel.optics.exposure import light_value
from kobrel.plan.edit import add_plate, add_subject
from kobrel.plan.file import save_plan
from kobrel.plan.instrument import Exposure
from kobrel.plan.keys import Keyed, Level, LevelKey, Settle
from kobrel.plan.measure.camera import camera_at
from kobrel.plan.model import CameraKey, DistanceTarget, MadeCamera, Mark, Plan, Shot
from kobrel.plan.pictures.plates import Dial, Drive, Plate, PlateAnchor, PlatePicture
from kobrel.plan.plates.placing import filling, pivoted
from kobrel.stage.read.plates.layered import layered_bytes
from kobrel.stage.stage import Stage

FOLDER = Path(__file__).parent
PICTURE, PLAN = "paper_harbour.ora", "paper_harbour.kobrel"
CANVAS, SIZE = (1600, 900), (1200, 675)
"""What is painted on, and what is kept of it."""
FINER, _TONES = 2, 4
FIRST, LAST = 1001, 1120
STOP = 1.4
LAYERS = (("Sky", 60.0), ("Far shore", 32.0), ("Ferry", 13.0), ("Pier", 6.5), ("Lantern", 2.6))
"""The layers, the farthest first, and how far they stand, metres."""
PIVOTS = {"Lantern": (0.775, 0.62), "Pier": (0.3225, 0.58), "Ferry": (0.6, 0.56)}
"""Where subjects are in their layers."""
Rgba = NDArray[np.uint8]
Colour = tuple[int, int, int]


def _noise(seed: int, soft: float) -> NDArray[np.float64]:
    """(H, W) about 0, soft over so many pixels."""
    width, height = CANVAS
    grain = np.random.default_rng(seed).normal(size=(height // 2, width // 2))
    values = ndimage.zoom(ndimage.gaussian_filter(grain, soft / 2, mode="wrap"), 2, order=1)
    return np.asarray(values / (values.std() + 1e-9))


class _Canvas:
    """A layer that is painted at twice its size: places are pixels of 1600 x 900."""

    def __init__(self) -> None:
        self._image = Image.new("RGBA", (CANVAS[0] * FINER, CANVAS[1] * FINER))
        self._draw = ImageDraw.Draw(self._image)

    def shape(self, points: list[tuple[float, float]], colour: Colour) -> None:
        """A filled shape."""
        self._draw.polygon([(x * FINER, y * FINER) for x, y in points], fill=(*colour, 255))

    def box(self, left: float, top: float, right: float, bottom: float, colour: Colour) -> None:
        """A filled rectangle."""
        self.shape([(left, top), (right, top), (right, bottom), (left, bottom)], colour)

    def disc(self, x: float, y: float, radius: float, colour: Colour) -> None:
        """A filled disc."""
        box = [(x - radius) * FINER, (y - radius) * FINER, (x + radius) * FINER, (y + radius) * FINER]
        self._draw.ellipse(box, fill=(*colour, 255))

    def line(self, points: list[tuple[float, float]], wide: float, colour: Colour) -> None:
        """A line."""
        at = [(x * FINER, y * FINER) for x, y in points]
        self._draw.line(at, fill=(*colour, 255), width=round(wide * FINER), joint="curve")

    def painted(self, seed: int, edge_px: float = 1.2) -> Rgba:
        """The layer with the tooth of its paper, its edge a little torn."""
        pixels = np.asarray(self._image.resize(CANVAS, Image.Resampling.LANCZOS), float)
        wash = _noise(seed, 40.0)[..., None] * 5 + _noise(seed + 1, 5.0)[..., None] * 3
        colour = np.clip(pixels[..., :3] + wash, 0, 255)
        alpha = Image.fromarray(pixels[..., 3].astype(np.uint8)).filter(ImageFilter.GaussianBlur(edge_px))
        soft = np.clip((np.asarray(alpha, float) - 127 + _noise(seed + 2, 5.0) * 14) * 1.6 + 127, 0, 255)
        there = np.where(pixels[..., 3] >= 254, 255.0, soft)
        return np.dstack([colour, np.where(soft > 8, np.minimum(there, soft), 0)]).astype(np.uint8)


def sky() -> Rgba:
    """Dusk over the sea, a moon, three bands of cloud."""
    width, height = CANVAS
    down = np.linspace(0, 1, height)[:, None, None]
    top, low = np.array([44, 58, 104.0]), np.array([226, 150, 108.0])
    tone = top * (1 - down**0.8) + low * down**0.8
    pixels = np.broadcast_to(tone, (height, width, 3)).copy()
    for k, (y, wide) in enumerate(((180, 40), (300, 26), (420, 18))):
        band = np.exp(-(((np.arange(height)[:, None] - y - _noise(k, 90.0) * wide * 0.6) / wide) ** 2))
        pixels += band[..., None] * np.array([34, 22, 16.0])
    yy, xx = np.mgrid[:height, :width]
    moon = np.clip(48.5 - np.hypot(xx - 1180, yy - 190), 0, 1)[..., None]
    pixels = pixels * (1 - moon) + moon * np.array([250, 238, 205.0])
    pixels += _noise(31, 50.0)[..., None] * 4 + _noise(32, 5.0)[..., None] * 3
    colour = np.clip(pixels, 0, 255)
    return np.dstack([colour, np.full((height, width), 255.0)]).astype(np.uint8)


def far_shore() -> Rgba:
    """Hills, houses with lit windows, and the water before them."""
    canvas, rng = _Canvas(), np.random.default_rng(11)
    hills = [(x, 500 - 46 * np.sin(x / 210.0) - 24 * np.sin(x / 83.0 + 1)) for x in range(-20, 1640, 20)]
    canvas.shape([*hills, (1640, 920), (-20, 920)], (58, 64, 96))
    canvas.box(-10, 560, 1610, 910, (70, 82, 116))
    for k in range(34):
        x, wide, tall = 20 + k * 47 + rng.uniform(-12, 12), rng.uniform(26, 44), rng.uniform(26, 62)
        canvas.box(x, 562 - tall, x + wide, 562, (44, 46, 70))
        canvas.shape(
            [(x - 3, 562 - tall), (x + wide / 2, 562 - tall - 18), (x + wide + 3, 562 - tall)], (36, 36, 58)
        )
        for row in range(int(tall // 22)):
            if rng.random() < 0.7:
                at = x + rng.uniform(6, wide - 12)
                canvas.box(at, 544 - 20 * row, at + 7, 553 - 20 * row, (255, 214, 130))
    for _ in range(90):
        x, y = rng.uniform(0, 1600), 575 + 320 * rng.random() ** 1.6
        canvas.line([(x, y), (x + rng.uniform(30, 120), y)], 2.0, (98, 108, 140))
    return canvas.painted(40)


def ferry() -> Rgba:
    """The ferry at the right, with its lights and a wake."""
    canvas = _Canvas()
    canvas.shape([(700, 560), (1280, 560), (1235, 650), (760, 650)], (42, 62, 92))
    canvas.shape([(700, 560), (1280, 560), (1276, 574), (706, 574)], (222, 214, 194))
    canvas.box(800, 480, 1180, 560, (226, 220, 204))
    canvas.box(860, 430, 1080, 480, (206, 200, 186))
    canvas.shape([(985, 330), (1050, 330), (1060, 430), (980, 430)], (152, 48, 40))
    canvas.box(983, 352, 1053, 370, (238, 228, 206))
    for k in range(8):
        canvas.box(818 + k * 44, 500, 846 + k * 44, 530, (255, 214, 128))
    for k in range(4):
        canvas.disc(890 + k * 50, 455, 10, (255, 226, 150))
    canvas.line([(840, 480), (840, 300)], 5, (70, 66, 70))
    canvas.disc(840, 298, 7, (255, 244, 214))
    canvas.line([(840, 304), (1018, 330)], 1.6, (70, 66, 70))
    for k in range(6):
        canvas.line([(730 - 30 * k, 652 + 5 * k), (1240 + 24 * k, 652 + 5 * k)], 3, (158, 172, 190))
    return canvas.painted(50)


def pier() -> Rgba:
    """The jetty with its booth, a ferryman and mooring posts."""
    canvas = _Canvas()
    canvas.shape([(-20, 690), (760, 665), (900, 700), (900, 730), (-20, 920)], (96, 74, 58))
    for k in range(9):
        x = 40 + k * 96
        canvas.line([(x, 690 - k * 2), (x - 46, 905 - k * 18)], 3, (66, 50, 40))
    canvas.box(120, 420, 330, 690, (44, 92, 86))
    canvas.shape([(100, 424), (225, 350), (350, 424)], (120, 56, 44))
    canvas.box(160, 480, 290, 570, (255, 214, 132))
    canvas.line([(225, 480), (225, 570)], 5, (44, 60, 58))
    canvas.box(196, 600, 254, 690, (34, 62, 60))
    canvas.shape([(480, 676), (492, 540), (516, 512), (540, 540), (552, 676)], (38, 44, 62))
    canvas.disc(516, 498, 21, (196, 150, 118))
    canvas.shape([(490, 490), (494, 470), (538, 470), (544, 490)], (30, 34, 48))
    canvas.line([(540, 556), (566, 610)], 13, (38, 44, 62))
    for x, top in ((650, 570), (720, 588), (790, 606)):
        canvas.box(x, top, x + 26, 730, (74, 56, 44))
        canvas.box(x - 4, top - 8, x + 30, top + 8, (92, 72, 56))
    for left, right, y in ((663, 733, 600), (733, 803, 616)):
        t = np.linspace(0.0, 1.0, 16)
        rope = [(left + (right - left) * p, y + 16 * p + 4 * 30 * p * (1 - p)) for p in t.tolist()]
        canvas.line(rope, 5, (190, 168, 120))
    return canvas.painted(60)


def lantern() -> Rgba:
    """A lantern on a bollard, close by, and a coil of rope."""
    canvas = _Canvas()
    canvas.shape([(985, 905), (1010, 862), (1620, 842), (1620, 920), (985, 920)], (78, 72, 72))
    canvas.shape([(1010, 862), (1620, 842), (1620, 850), (1006, 871)], (112, 104, 100))
    canvas.shape([(1130, 920), (1150, 690), (1330, 690), (1350, 920)], (52, 46, 46))
    canvas.shape([(1120, 700), (1136, 660), (1344, 660), (1360, 700)], (66, 58, 56))
    canvas.box(1168, 640, 1312, 662, (150, 112, 52))
    canvas.box(1184, 430, 1296, 640, (255, 206, 112))
    canvas.disc(1240, 560, 40, (255, 238, 178))
    canvas.disc(1240, 572, 17, (255, 252, 232))
    for x in (1184, 1221, 1259, 1296):
        canvas.line([(x, 430), (x, 640)], 9, (120, 86, 38))
    canvas.shape([(1166, 432), (1204, 380), (1276, 380), (1314, 432)], (160, 118, 54))
    canvas.box(1212, 350, 1268, 382, (120, 86, 38))
    arc = np.linspace(np.pi, 2 * np.pi, 24)
    canvas.line([(1240 + 62 * np.cos(a), 352 + 92 * np.sin(a)) for a in arc], 8, (120, 86, 38))
    for k in range(4):
        turn = np.linspace(0, 2 * np.pi, 40)
        canvas.line(
            [(1450 + (84 - 9 * k) * np.cos(a), 846 - 20 * k + 22 * np.sin(a)) for a in turn], 15,
            (184 - 8 * k, 160 - 8 * k, 116 - 8 * k),
        )  # fmt: skip
    return canvas.painted(70)


def painted() -> list[tuple[str, Rgba]]:
    """All layers with their names, the farthest first."""
    makers = (sky, far_shore, ferry, pier, lantern)
    return [(name, _kept(make())) for (name, _away), make in zip(LAYERS, makers, strict=True)]


def _kept(pixels: Rgba) -> Rgba:
    """A layer at the size that is kept, of few tones, as paint has; nothing where nothing is seen."""
    small = np.asarray(Image.fromarray(pixels).resize(SIZE, Image.Resampling.LANCZOS), float)
    colour = np.minimum(np.round(small[..., :3] / _TONES) * _TONES, 255)
    colour[small[..., 3] == 0] = 0
    return np.dstack([colour, small[..., 3]]).astype(np.uint8)


def merged(layers: list[tuple[str, Rgba]]) -> Rgba:
    """All layers together, as they are seen."""
    whole = Image.fromarray(layers[0][1])
    for _name, pixels in layers[1:]:
        whole.alpha_composite(Image.fromarray(pixels))
    return np.asarray(whole)


def the_plan(picture: Path) -> Plan:
    """The plan: five plates, a push-in, and a dial that exports from the lantern to the ferry."""
    start = CameraKey(frame=FIRST, position_m=(0.0, 1.5, 0.0), aim_m=(0.0, 1.5, -12.0), ease="smooth")
    camera = MadeCamera(
        position_m=start.position_m, aim_m=start.aim_m,
        keys=(start, start.replace(frame=LAST, position_m=(0.16, 1.5, -0.55), aim_m=(0.1, 1.5, -12.0))),
    )  # fmt: skip
    lens = Shot(name="1", camera=camera).glass
    shot = Shot(
        name="PH010", title="Lantern to ferry", first=FIRST, last=LAST, camera=camera,
        glass=lens.replace(focal_mm=Keyed(value=40.0), f_number=Keyed(value=STOP)),
        exposure=Exposure(metered=float(light_value(STOP, 800, 180, 0))),
        marks=(Mark(frame=FIRST, target=DistanceTarget(metres=LAYERS[-1][1])),),
    )  # fmt: skip
    plan = Plan(name="Paper Harbour", shots=(shot,))
    eye = camera_at(plan, shot, FIRST, Stage())
    numbers = {}
    for name, away in LAYERS:
        place, height = filling(eye, away, SIZE[0] / SIZE[1])
        plate = Plate(
            number=1, name=name, position_m=place, height_m=height, faces=False,
            picture=PlatePicture(path=str(picture), layer=name, size_px=SIZE),
            beyond="nothing" if name == "Ferry" else "mirrored", beyond_part=0.2,
        )  # fmt: skip
        plan, made = add_plate(plan, pivoted(plate, (), eye, FIRST, PIVOTS.get(name, (0.5, 0.5))))
        numbers[name] = made.number
    for name in ("Lantern", "Pier", "Ferry"):
        plan, _subject = add_subject(plan, name, PlateAnchor(number=numbers[name]))
    turn = Level(keys=(
        LevelKey(frame=FIRST + 30, value=0.0, settle=Settle(part=0.08, frames=20)),
        LevelKey(frame=FIRST + 66, value=1.0),
    ))  # fmt: skip
    drives = (
        Drive(what="focus", low=LAYERS[-1][1], high=LAYERS[2][1] - 0.3),
        Drive(plate=numbers["Lantern"], what="opacity", low=1.0, high=0.55),
        Drive(plate=numbers["Lantern"], what="scale", low=1.0, high=0.94),
        Drive(plate=numbers["Ferry"], what="scale", low=1.0, high=1.06, ease="smooth"),
    )
    dial = Dial(name="Lantern to ferry", level=turn, drives=drives, shot=shot.name)
    return plan.replace(dials=(dial,))


def main() -> None:
    """Paint the layers and save the plan beside them."""
    layers = painted()
    write_whole(FOLDER / PICTURE, layered_bytes(layers, merged(layers)))
    save_plan(the_plan(FOLDER / PICTURE), FOLDER / PLAN, versions=0)


if __name__ == "__main__":
    main()
