"""Makes Night Ferry: the scene as USD, its textures, and the plan.

    python -m kobrel.demo.make

Everything is made here from simple solids and formulas; the results are kept in the
repository so that the demo starts at once.
"""

import itertools
from pathlib import Path
from typing import NamedTuple

import numpy as np
from pxr import Gf, Kind, Sdf, Usd, UsdGeom, UsdShade, Vt

from kobrel.demo import plan, props, textures
from kobrel.demo.props import Piece
from kobrel.stage.engine.meshes import corner_normals
from kobrel.stage.scene import Mesh
from kobrel.stage.shapes import box, cylinder, moved, plane, sphere

FOLDER = Path(__file__).parent
SCENE = "night_ferry.usdc"
FIRST, LAST = 1001, 1120
WATER, MIRRORED_Z = -1.0, -60.0
POLES = (-8.0, -3.2, 1.6, 6.4, 11.2)
POLE_Z, POLE_TOP = -6.5, 3.3
LANTERN_AT = (-0.28, 0.62, -2.1)
BULB_GLOW = (42.0, 23.0, 9.0)


Point = tuple[float, float, float]


class Look(NamedTuple):
    """A material: base colour, glow, roughness, metal, opacity, and pictures of colour, of gloss and of glow."""

    base: tuple[float, float, float]
    glow: tuple[float, float, float] = (0.0, 0.0, 0.0)
    rough: float = 0.75
    metal: float = 0.0
    opacity: float = 1.0
    picture: str = ""
    gloss: str = ""
    glow_picture: str = ""


MATERIALS = {
    "stone": Look((0.15, 0.14, 0.13), picture="quay.jpg", gloss="quay_gloss.jpg"),
    "stone_dark": Look((0.05, 0.05, 0.05), rough=0.35),
    "planks": Look((0.2, 0.16, 0.13), rough=0.45, picture="planks.png"),
    "water": Look((0.006, 0.011, 0.016), rough=0.14),
    "shore": Look((0.012, 0.014, 0.02), (0.016, 0.012, 0.016)),
    "iron": Look((0.035, 0.035, 0.038), rough=0.34),
    "brass": Look((0.86, 0.6, 0.26), rough=0.2, metal=1.0),
    "brass_dark": Look((0.5, 0.33, 0.15), rough=0.3, metal=1.0),
    "lantern_glass": Look((0.03, 0.02, 0.01), (0.95, 0.44, 0.14), rough=0.15, opacity=0.4),
    "flame": Look((1.0, 0.8, 0.5), (210.0, 112.0, 40.0)),
    "coat": Look((0.035, 0.045, 0.07), rough=0.85),
    "coat_red": Look((0.24, 0.03, 0.028), rough=0.8),
    "scarf": Look((0.3, 0.24, 0.14), rough=0.9),
    "hat": Look((0.022, 0.025, 0.036), rough=0.7),
    "boots": Look((0.02, 0.017, 0.015), rough=0.3),
    "skin": Look((0.5, 0.3, 0.21), rough=0.5),
    "eyes": Look((0.02, 0.018, 0.016), rough=0.08),
    "beard": Look((0.4, 0.37, 0.34), rough=0.9),
    "buttons": Look((0.86, 0.62, 0.3), rough=0.18, metal=1.0),
    "booth_paint": Look((0.06, 0.16, 0.15), rough=0.42),
    "wood_dark": Look((0.07, 0.05, 0.035), rough=0.5),
    "window_glow": Look((0.06, 0.05, 0.04), (2.1, 1.12, 0.42), rough=0.1),
    "window_dim": Look((0.06, 0.05, 0.04), (0.5, 0.28, 0.12), rough=0.1),
    "roof": Look((0.035, 0.032, 0.034), rough=0.3),
    "sign": Look((0.7, 0.6, 0.35), (0.16, 0.11, 0.05), rough=0.5),
    "hull": Look((0.04, 0.06, 0.09), rough=0.22),
    "deck": Look((0.16, 0.12, 0.08), rough=0.5),
    "cabin": Look((0.55, 0.53, 0.48), rough=0.3),
    "funnel": Look((0.35, 0.06, 0.04), rough=0.25),
    "rail": Look((0.7, 0.7, 0.7), rough=0.16, metal=1.0),
    "mast_light": Look((1, 1, 1), (26.0, 24.0, 21.0)),
    "bulb": Look((0.9, 0.75, 0.5), BULB_GLOW),
    "far_warm": Look((1, 0.8, 0.5), (9.0, 5.0, 2.0)),
    "far_white": Look((1, 1, 1), (6.5, 6.2, 6.0)),
    "far_green": Look((0.4, 1, 0.7), (1.2, 6.0, 3.4)),
    "glitter": Look((0.0, 0.0, 0.0), rough=1.0, glow_picture="glitter.png"),
    "crate": Look((0.17, 0.12, 0.075), rough=0.6, picture="planks.png"),
    "rope": Look((0.3, 0.24, 0.15), rough=0.95),
    "compass_face": Look((0.8, 0.75, 0.6), rough=0.35, picture="compass.png"),
    "needle_red": Look((0.5, 0.03, 0.02), rough=0.25),
    "needle_steel": Look((0.6, 0.62, 0.66), rough=0.15, metal=1.0),
}


class Builder:
    """Writes props and cameras into a USD stage in metres, Y up."""

    def __init__(self, path: Path) -> None:
        self.stage = Usd.Stage.CreateNew(str(path))
        UsdGeom.SetStageUpAxis(self.stage, UsdGeom.Tokens.y)
        UsdGeom.SetStageMetersPerUnit(self.stage, 1.0)
        self.stage.SetTimeCodesPerSecond(24)
        self.stage.SetStartTimeCode(FIRST)
        self.stage.SetEndTimeCode(LAST)
        root = UsdGeom.Xform.Define(self.stage, "/NightFerry")
        Usd.ModelAPI(root).SetKind(Kind.Tokens.assembly)
        self.stage.SetDefaultPrim(root.GetPrim())
        self._materials = {name: self._material(name) for name in MATERIALS}

    def _material(self, name: str) -> UsdShade.Material:
        look = MATERIALS[name]
        material = UsdShade.Material.Define(self.stage, f"/NightFerry/Materials/{name}")
        shader = UsdShade.Shader.Define(self.stage, material.GetPath().AppendChild("Surface"))
        shader.CreateIdAttr("UsdPreviewSurface")
        types = Sdf.ValueTypeNames
        glow = shader.CreateInput("emissiveColor", types.Color3f)
        opacity = shader.CreateInput("opacity", types.Float)
        if look.glow_picture:
            picture = self._picture(material, "Glow", look.glow_picture)
            glow.ConnectToSource(picture.ConnectableAPI(), "rgb")
            opacity.ConnectToSource(picture.ConnectableAPI(), "a")
        else:
            glow.Set(Gf.Vec3f(*map(float, look.glow)))
            opacity.Set(look.opacity)
        base = shader.CreateInput("diffuseColor", types.Color3f)
        if look.picture:
            picture = self._picture(material, "Colour", look.picture)
            base.ConnectToSource(picture.ConnectableAPI(), "rgb")
        else:
            base.Set(Gf.Vec3f(*map(float, look.base)))
        rough, metal = (shader.CreateInput(entry, types.Float) for entry in ("roughness", "metallic"))
        if look.gloss:
            gloss = self._picture(material, "Gloss", look.gloss)
            rough.ConnectToSource(gloss.ConnectableAPI(), "g")
            metal.ConnectToSource(gloss.ConnectableAPI(), "b")
        else:
            rough.Set(look.rough)
            metal.Set(look.metal)
        material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        return material

    def _picture(self, material: UsdShade.Material, name: str, file: str) -> UsdShade.Shader:
        texture = UsdShade.Shader.Define(self.stage, material.GetPath().AppendChild(name))
        texture.CreateIdAttr("UsdUVTexture")
        texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(file)
        texture.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
        for channel in "gba":
            texture.CreateOutput(channel, Sdf.ValueTypeNames.Float)
        return texture

    def mesh(self, path: str, mesh: Mesh, material: str) -> UsdGeom.Mesh:
        """One mesh with its material, normals and texture coordinates."""
        made = UsdGeom.Mesh.Define(self.stage, path)
        made.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(mesh.points))
        made.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(mesh.triangles), 3, np.int32)))
        made.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(mesh.triangles.astype(np.int32).ravel()))
        made.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        made.CreateExtentAttr([Gf.Vec3f(*map(float, end)) for end in mesh.bounds()])
        normals = corner_normals(mesh)
        if normals is not None:
            vertex = np.zeros_like(mesh.points)
            vertex[mesh.triangles.ravel()] = normals.reshape(-1, 3)
            vertex /= np.maximum(np.linalg.norm(vertex, axis=1, keepdims=True), 1e-12)
            made.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(vertex))
            made.SetNormalsInterpolation(UsdGeom.Tokens.vertex)
        if mesh.uv is not None:
            primvar = UsdGeom.PrimvarsAPI(made).CreatePrimvar(
                "st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.faceVarying
            )
            primvar.Set(Vt.Vec2fArray.FromNumpy(np.ascontiguousarray(mesh.uv.reshape(-1, 2))))
        UsdShade.MaterialBindingAPI.Apply(made.GetPrim()).Bind(self._materials[material])
        return made

    def prop(
        self, name: str, pieces: list[Piece], at: tuple[float, ...] = (0, 0, 0), turn_y: float = 0.0
    ) -> UsdGeom.Xform:
        """A group of pieces at a place."""
        group = UsdGeom.Xform.Define(self.stage, f"/NightFerry/{name}")
        group.AddTranslateOp().Set(Gf.Vec3d(*at))
        if turn_y:
            group.AddRotateYOp().Set(turn_y)
        for piece in pieces:
            self.mesh(f"/NightFerry/{name}/{piece.name}", piece.mesh, piece.material)
        return group

    def lights(
        self, name: str, radius: float, places: list[tuple[float, float, float]], material: str
    ) -> None:
        """Small glowing balls, all instances of one."""
        prototype = f"/NightFerry/Prototypes/{name}"
        self.stage.CreateClassPrim("/NightFerry/Prototypes")
        UsdGeom.Xform.Define(self.stage, prototype)
        self.mesh(f"{prototype}/Ball", sphere(radius, 14), material)
        UsdGeom.Xform.Define(self.stage, f"/NightFerry/{name}")
        for number, place in enumerate(places, start=1):
            light = UsdGeom.Xform.Define(self.stage, f"/NightFerry/{name}/{name[:-1]}_{number:03d}")
            light.GetPrim().GetReferences().AddInternalReference(prototype)
            light.GetPrim().SetInstanceable(True)
            light.AddTranslateOp().Set(Gf.Vec3d(*place))

    def camera(self, name: str, lens: dict[str, float], path: list[tuple[int, Point, Point]]) -> None:
        """A camera through (frame, place, aim) points; lens lengths in mm, focus in metres."""
        camera = UsdGeom.Camera.Define(self.stage, f"/NightFerry/Cameras/{name}")
        tenth = 1.0 / 100.0  # millimetres to tenths of a metre
        camera.CreateFocalLengthAttr(lens["focal"] * tenth)
        camera.CreateHorizontalApertureAttr(24.89 * tenth)
        camera.CreateVerticalApertureAttr(14.0 * tenth)
        camera.CreateFStopAttr(lens["stop"])
        camera.CreateFocusDistanceAttr(lens["focus"])
        camera.CreateClippingRangeAttr(Gf.Vec2f(0.05, 2000))
        op = camera.AddTransformOp()
        frames = range(path[0][0], path[-1][0] + 1) if len(path) > 1 else [path[0][0]]
        at = np.array([p[0] for p in path], float)
        for frame in frames:
            u = _eased(at, frame)
            place = _through(at, np.array([p[1] for p in path], float), u)
            aim = _through(at, np.array([p[2] for p in path], float), u)
            view = Gf.Matrix4d().SetLookAt(Gf.Vec3d(*place), Gf.Vec3d(*aim), Gf.Vec3d(0, 1, 0))
            op.Set(view.GetInverse(), frame)


def _eased(times: np.ndarray, frame: float) -> float:
    """Time with a gentle start and end."""
    u = (frame - times[0]) / max(times[-1] - times[0], 1e-9)
    return float(times[0] + (times[-1] - times[0]) * u * u * (3 - 2 * u))


def _through(times: np.ndarray, values: np.ndarray, at: float) -> list[float]:
    return [float(np.interp(at, times, values[:, axis])) for axis in range(3)]


def bulbs() -> list[tuple[float, float, float]]:
    """Places along the strings between the poles."""
    places = []
    for left, right in itertools.pairwise(POLES):
        for u in np.linspace(0.04, 0.96, 15):
            sag = 0.75 * 4 * u * (1 - u)
            places.append((float(left + (right - left) * u), float(POLE_TOP - 0.05 - sag), POLE_Z))
    return places


def far_lights() -> list[tuple[str, tuple[float, float, float]]]:
    """Lights on the far shore: material and place."""
    random = np.random.default_rng(11)
    kinds = ["far_warm", "far_warm", "far_warm", "far_white", "far_green"]
    return [
        (
            kinds[int(random.integers(len(kinds)))],
            (float(x), float(0.4 + 5.0 * random.random() ** 2), -228.0 + float(3 * random.random())),
        )
        for x in np.sort(random.uniform(-110, 110, 110))
    ]


def build_scene(path: Path) -> None:
    """Write the scene."""
    builder = Builder(path)
    width, length = textures.QUAY_SIZE_M
    quay = moved(props.sheet(width, length), (textures.QUAY_CENTRE_M[0], 0, textures.QUAY_CENTRE_M[1]))
    builder.prop("Quay", [
        Piece("Paving", quay, "stone"),
        Piece("Wall", moved(box((width, 1.6, 0.3)), (0, -0.82, -7.15)), "stone_dark"),
        Piece("Kerb", moved(box((width, 0.14, 0.35)), (0, 0.05, -6.85)), "stone_dark"),
    ])  # fmt: skip
    jetty = moved(props.sheet(2.4, 11.0, (1.0, 4.6)), (3.4, -0.02, -12.5))
    posts = [
        props.between((x, -2.0, z), (x, 0.75, z), 0.11, 14)
        for x in (2.15, 4.65)
        for z in (-7.8, -10.5, -13.2, -15.9, -18.0)
    ]
    builder.prop("Jetty", [
        Piece("Planks", jetty, "planks"),
        Piece("Beams", props.joined(*(moved(box((0.2, 0.2, 11.0)), (x, -0.14, -12.5)) for x in (2.4, 4.4))), "wood_dark"),
        Piece("Posts", props.joined(*posts), "wood_dark"),
    ])  # fmt: skip
    builder.prop("Water", [
        Piece("Surface", moved(props.waves(), (0, WATER, -7.0)), "water"),
        Piece("Far", moved(plane(900, 500), (0, WATER - 0.05, -350)), "water"),
    ])  # fmt: skip
    builder.prop("Shore", [Piece("Hills", moved(props.shore(), (0, 0, -230)), "shore")])
    builder.prop("Bollard", props.bollard(), (LANTERN_AT[0], 0, LANTERN_AT[2]))
    builder.prop("BollardFar", props.bollard(), (6.0, 0, -5.8))
    builder.prop("Lantern", props.lantern(), LANTERN_AT)
    ferryman = builder.prop("Ferryman", props.person("coat", "hat"), (0.72, 0, -6.05))
    turn = ferryman.AddRotateYOp()
    for frame, degrees in (
        (FIRST, 168.0),
        (1036, 165.0),
        (1040, 150.0),
        (1048, 20.0),
        (1052, -10.0),
        (1056, -14.0),
    ):
        turn.Set(degrees, frame)
    builder.prop("Booth", props.booth(), (-3.6, 0, -5.2), turn_y=24)
    builder.prop("Ferry", props.ferry(), (9.2, WATER, -20.4))
    builder.prop("Crate", props.crate(0.7, 0.62, 0.5), (2.5, 0, -2.4), turn_y=12)
    builder.prop("CrateTall", props.crate(0.6, 0.9, 0.5), (3.35, 0, -3.0), turn_y=-9)
    builder.prop("RopeCoil", props.rope_coil(), (1.35, 0.0, -4.6))
    builder.prop("Compass", props.compass(), (2.5, 0.63, -2.32), turn_y=-14)
    builder.prop("Poles", [
        Piece("Posts", props.joined(*(moved(cylinder(0.05, POLE_TOP, 14), (x, POLE_TOP / 2, POLE_Z)) for x in POLES)), "iron"),
    ])  # fmt: skip
    builder.lights("Bulbs", 0.04, bulbs(), "bulb")
    shore = far_lights()
    for material in ("far_warm", "far_white", "far_green"):
        name = {"far_warm": "WarmLights", "far_white": "WhiteLights", "far_green": "GreenLights"}[material]
        builder.lights(name, 0.3, [place for kind, place in shore if kind == material], material)
    # Standing at a distance, so that they are upright to every camera.
    part = MIRRORED_Z / shore[0][1][2]
    streaks = [
        moved(
            props.sheet(0.3, 1.3),
            (x * part + 0.3 * (1 - part), WATER + 0.66, MIRRORED_Z),
            turn_deg=(90, 0, 0),
        )
        for _kind, (x, _y, _z) in shore
    ]
    builder.prop("Glitter", [Piece("Streaks", props.joined_sheets(streaks), "glitter")])
    passenger = builder.prop("Passenger", props.person("coat_red", "hat", 1.68, cap=False))
    walk = passenger.GetOrderedXformOps()[0]
    for frame in range(FIRST, LAST + 1):
        u = (frame - FIRST) / (LAST - FIRST)
        stride = 0.02 * abs(np.sin(u * 11 * np.pi))
        walk.Set(Gf.Vec3d(3.3 + 0.12 * np.sin(u * 3), stride, -5.4 - 8.2 * u), frame)
    passenger.AddRotateYOp().Set(180.0)
    _cameras(builder)
    builder.stage.Save()


def _cameras(builder: Builder) -> None:
    builder.camera(
        "Wide",
        {"focal": 24, "stop": 4, "focus": 9.0},
        [(FIRST, (-3.4, 1.75, 4.4), (1.5, 1.15, -7.0)), (1072, (-3.0, 1.7, 4.0), (1.7, 1.1, -7.0))],
    )
    builder.camera(
        "Rack",
        {"focal": 50, "stop": 2.8, "focus": 2.4},
        [(FIRST, (0.16, 0.97, 0.62), (0.2, 0.97, -6)), (1096, (0.1, 0.955, 0.12), (0.2, 0.955, -6))],
    )
    builder.camera(
        "Compass",
        {"focal": 85, "stop": 5.6, "focus": 0.52},
        [
            (FIRST, (2.62, 0.98, -1.93), (2.5, 0.645, -2.33)),
            (1060, (2.56, 0.99, -1.93), (2.5, 0.645, -2.335)),
        ],
    )
    builder.camera(
        "Departure",
        {"focal": 65, "stop": 2, "focus": 8.0},
        [(FIRST, (1.4, 1.5, 2.6), (3.2, 1.25, -5.4)), (LAST, (1.7, 1.5, 1.2), (3.35, 1.2, -13.6))],
    )


def main() -> None:
    """Make the scene, its textures and the plan, beside this file."""
    textures.planks(FOLDER / "planks.png")
    textures.quay_stone(FOLDER / "quay.jpg", FOLDER / "quay_gloss.jpg")
    textures.glitter(FOLDER / "glitter.png")
    textures.compass_face(FOLDER / "compass.png")
    (FOLDER / SCENE).unlink(missing_ok=True)
    build_scene(FOLDER / SCENE)
    plan.save(FOLDER / SCENE, FOLDER / "night_ferry.kobrel")


if __name__ == "__main__":
    main()
