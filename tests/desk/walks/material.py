"""Scenes and pictures that are made for the walks and for nothing else."""

import numpy as np
from PIL import Image
from pxr import Gf, Usd, UsdGeom, UsdLux

SPREAD = {"Near": (-0.9, 3.0), "Middle": (0.0, 5.0), "Far": (1.2, 9.0)}
"""Things in a row of :func:`row_of_three`: metres aside and ahead of the camera."""


def _stage(unit_m, up, first=1001, last=1024):
    stage = Usd.Stage.CreateInMemory()
    UsdGeom.SetStageMetersPerUnit(stage, unit_m)
    UsdGeom.SetStageUpAxis(stage, up)
    stage.SetTimeCodesPerSecond(24)
    stage.SetStartTimeCode(first)
    stage.SetEndTimeCode(last)
    return stage


def _ball(stage, path, place, radius):
    ball = UsdGeom.Sphere.Define(stage, path)
    ball.CreateRadiusAttr(radius)
    ball.AddTranslateOp().Set(Gf.Vec3d(*place))
    return ball


def table_top(path):
    """Three pieces on a table, in millimetres with Z up; the camera looks along +Y and holds no focus."""
    stage = _stage(0.001, "Z")
    table = UsdGeom.Cube.Define(stage, "/Table")
    table.CreateSizeAttr(1.0)
    table.AddTranslateOp().Set(Gf.Vec3d(0, 600, -10))
    table.AddScaleOp().Set(Gf.Vec3f(900, 1400, 20))
    for name, x, y in (("Pawn", -110, 380), ("Knight", 0, 600), ("Rook", 130, 950)):
        _ball(stage, f"/{name}", (x, y, 40), 40)
    camera = UsdGeom.Camera.Define(stage, "/Macro")
    camera.CreateFocalLengthAttr(50.0)
    camera.CreateHorizontalApertureAttr(36.0)
    camera.CreateVerticalApertureAttr(20.25)
    camera.CreateFStopAttr(2.8)
    camera.AddTranslateOp().Set(Gf.Vec3d(0, 0, 90))
    camera.AddRotateXOp().Set(88.0)
    stage.GetRootLayer().Export(str(path))
    return path


def row_of_three(path):
    """Three balls at 3, 5 and 9 m with a wall 20 m away, in metres with Y up; focus and stop are authored."""
    stage = _stage(1.0, "Y")
    for name, (aside, ahead) in SPREAD.items():
        _ball(stage, f"/{name}", (aside, 1.0, -ahead), 0.25)
    wall = UsdGeom.Cube.Define(stage, "/Wall")
    wall.CreateSizeAttr(1.0)
    wall.AddTranslateOp().Set(Gf.Vec3d(0, 2, -20))
    wall.AddScaleOp().Set(Gf.Vec3f(30, 10, 0.1))
    camera = UsdGeom.Camera.Define(stage, "/Main")
    camera.CreateFocalLengthAttr(35.0)
    camera.CreateHorizontalApertureAttr(36.0)
    camera.CreateVerticalApertureAttr(20.25)
    camera.CreateFStopAttr(4.0)
    camera.CreateFocusDistanceAttr(5.0)
    camera.AddTranslateOp().Set(Gf.Vec3d(0, 1.0, 0))
    stage.GetRootLayer().Export(str(path))
    return path


def walker(path, names=("Body", "Eye", "Lamp")):
    """Somebody who walks and nods, in centimetres with Z up: an eye on a turning head, a lamp that stands,
    and a keyed camera.
    """
    body, eye, lamp = names
    stage = _stage(0.01, "Z")
    root = UsdGeom.Xform.Define(stage, f"/{body}")
    walk = root.AddTranslateOp()
    walk.Set(Gf.Vec3d(-60, 420, 0), 1001)
    walk.Set(Gf.Vec3d(40, 300, 0), 1024)
    trunk = UsdGeom.Capsule.Define(stage, f"/{body}/Trunk")
    trunk.CreateAxisAttr("Z")
    trunk.CreateRadiusAttr(20.0)
    trunk.CreateHeightAttr(100.0)
    trunk.AddTranslateOp().Set(Gf.Vec3d(0, 0, 80))
    head = UsdGeom.Xform.Define(stage, f"/{body}/Head")
    head.AddTranslateOp().Set(Gf.Vec3d(0, 0, 165))
    turn = head.AddRotateZOp()
    for frame, degrees in ((1001, -25.0), (1012, 20.0), (1024, -5.0)):
        turn.Set(degrees, frame)
    _ball(stage, f"/{body}/Head/Skull", (0, 0, 0), 11)
    _ball(stage, f"/{body}/Head/{eye}", (4, -10, 2), 3)
    _ball(stage, f"/{lamp}", (70, 700, 120), 12)
    camera = UsdGeom.Camera.Define(stage, "/Handheld")
    camera.CreateFocalLengthAttr(40.0)
    camera.CreateHorizontalApertureAttr(24.0)
    camera.CreateVerticalApertureAttr(13.5)
    camera.CreateFStopAttr(2.0)
    camera.CreateFocusDistanceAttr(400.0)
    place = camera.AddTranslateOp()
    for frame, x, z in ((1001, 0, 160), (1012, 12, 156), (1024, 20, 162)):
        place.Set(Gf.Vec3d(x, 0, z), frame)
    camera.AddRotateXOp().Set(90.0)
    stage.GetRootLayer().Export(str(path))
    return path


def street(path, count=200):
    """A street of instances at night whose only light is a lamp; the camera moves along it."""
    stage = _stage(1.0, "Y")
    houses = UsdGeom.PointInstancer.Define(stage, "/Houses")
    UsdGeom.Cube.Define(stage, "/Houses/House").CreateSizeAttr(2.0)
    houses.CreatePrototypesRel().AddTarget("/Houses/House")
    houses.CreateProtoIndicesAttr([0] * count)
    houses.CreatePositionsAttr([Gf.Vec3f(-5 if k % 2 else 5, 1, -3 - 1.5 * (k // 2)) for k in range(count)])
    _ball(stage, "/Sign", (1.0, 1.6, -6.0), 0.2)
    _ball(stage, "/Door", (-1.2, 1.4, -14.0), 0.3)
    lamp = UsdLux.SphereLight.Define(stage, "/Lamp")
    lamp.CreateRadiusAttr(0.1)
    lamp.CreateIntensityAttr(900)
    lamp.AddTranslateOp().Set(Gf.Vec3d(0, 4, -9))
    camera = UsdGeom.Camera.Define(stage, "/Dolly")
    camera.CreateFocalLengthAttr(32.0)
    camera.CreateHorizontalApertureAttr(24.0)
    camera.CreateVerticalApertureAttr(13.5)
    camera.CreateFStopAttr(2.0)
    camera.CreateFocusDistanceAttr(6.0)
    place = camera.AddTranslateOp()
    place.Set(Gf.Vec3d(0, 1.6, 0), 1001)
    place.Set(Gf.Vec3d(0.2, 1.6, -1.0), 1024)
    stage.GetRootLayer().Export(str(path))
    return path


def portrait(path, size=(360, 240)):
    """Like a photograph: a pale wall with stripes, a floor, and somebody in a red coat."""
    rng = np.random.default_rng(11)
    y, x = np.mgrid[: size[1], : size[0]]
    wall = np.stack([170 + 20 * np.sin(x / 9.0), 172 + 12 * np.sin(x / 9.0), 165 + 0 * x], -1)
    floor = np.stack([90 + 0.1 * y, 76 + 8 * np.sin(x / 14.0), 60 + 0 * x], -1)
    pixels = np.where((y < 0.7 * size[1])[..., None], wall, floor)
    coat = (abs(x - 180) < 30) & (y > 100) & (y < 210)
    head = (x - 180) ** 2 + (y - 78) ** 2 < 24**2
    pixels[coat], pixels[head] = (190, 30, 40), (214, 170, 140)
    pixels += rng.normal(0, 3, pixels.shape)
    Image.fromarray(np.clip(pixels, 0, 255).astype(np.uint8)).save(path)
    return path


def dusty(path, side=96):
    """A mask from a picture: a bright disc with dark specks."""
    rng = np.random.default_rng(4)
    y, x = np.mgrid[:side, :side] / (side / 2) - 1 + 1 / side
    light = np.where(np.hypot(x, y) < 1, 255.0, 0.0)
    for _ in range(9):
        a, b = rng.uniform(-0.7, 0.7, 2)
        light[np.hypot(x - a, y - b) < 0.08] = 20
    Image.fromarray(light.astype(np.uint8)).save(path)
    return path


def disparity(path, near_m=1.2, far_m=9.0, size=(360, 240)):
    """The depth of :func:`portrait` in 16 bits, even in dioptres, white at the near end: somebody at
    2 m before a wall at the far end, on a floor that begins at the near one.
    """
    y, x = np.mgrid[: size[1], : size[0]]
    edge = 0.7 * size[1]
    floor = 1 / far_m + (1 / near_m - 1 / far_m) * (y - edge) / (size[1] - 1 - edge)
    dioptres = np.where(y < edge, 1 / far_m, floor)
    somebody = (abs(x - 180) < 30) & (y > 100) & (y < 210) | ((x - 180) ** 2 + (y - 78) ** 2 < 24**2)
    dioptres[somebody] = 1 / 2.0
    part = (dioptres - 1 / far_m) / (1 / near_m - 1 / far_m) + np.random.default_rng(3).uniform(
        0, 2e-3, x.shape
    )
    part = np.clip(part, 0, 1)
    Image.fromarray(np.round(part * 65535).astype(np.uint16)).save(path)
    return path
