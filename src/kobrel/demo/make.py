"""Makes Night Ferry: the scene as USD, its textures, and the plan.

    python -m kobrel.demo.make

Everything is made here from simple solids and formulas; the results are kept in the
repository so that the demo starts at once.
"""

import itertools
from pathlib import Path

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
WATER = -1.0
POLES = (-8.0, -3.2, 1.6, 6.4, 11.2)
POLE_Z, POLE_TOP = -6.5, 3.3
LANTERN_AT = (-0.28, 0.62, -2.1)
BULB_GLOW = (9.0, 5.2, 2.2)

# base colour, emission, base texture, emission texture
MATERIALS: dict[str, tuple[tuple[float, ...], tuple[float, ...], str, str]] = {
    "stone": ((0.15, 0.14, 0.13), (0, 0, 0), "quay.jpg", "quay_glow.jpg"),
    "stone_dark": ((0.07, 0.07, 0.07), (0, 0, 0), "", ""),
    "planks": ((0.2, 0.16, 0.13), (0, 0, 0), "planks.png", ""),
    "water": ((0.012, 0.02, 0.028), (0.002, 0.0025, 0.0045), "", ""),
    "shore": ((0.012, 0.014, 0.018), (0, 0, 0), "", ""),
    "iron": ((0.05, 0.05, 0.055), (0.004, 0.0025, 0.001), "", ""),
    "brass": ((0.62, 0.42, 0.16), (0.02, 0.012, 0.004), "", ""),
    "brass_dark": ((0.2, 0.13, 0.06), (0.02, 0.011, 0.003), "", ""),
    "lantern_glass": ((0.9, 0.7, 0.4), (1.25, 0.62, 0.2), "", ""),
    "flame": ((1.0, 0.8, 0.5), (14.0, 8.0, 3.0), "", ""),
    "coat": ((0.05, 0.065, 0.1), (0.007, 0.005, 0.004), "", ""),
    "coat_red": ((0.26, 0.05, 0.04), (0.012, 0.003, 0.002), "", ""),
    "hat": ((0.03, 0.035, 0.05), (0.004, 0.003, 0.002), "", ""),
    "boots": ((0.03, 0.025, 0.022), (0, 0, 0), "", ""),
    "skin": ((0.5, 0.32, 0.23), (0.035, 0.018, 0.009), "", ""),
    "beard": ((0.42, 0.4, 0.38), (0.012, 0.009, 0.007), "", ""),
    "booth_paint": ((0.09, 0.2, 0.19), (0.004, 0.004, 0.003), "", ""),
    "wood_dark": ((0.07, 0.05, 0.035), (0.003, 0.002, 0.001), "", ""),
    "window_glow": ((0.8, 0.6, 0.35), (0.72, 0.40, 0.16), "", ""),
    "window_dim": ((0.4, 0.35, 0.28), (0.22, 0.13, 0.06), "", ""),
    "roof": ((0.05, 0.045, 0.045), (0, 0, 0), "", ""),
    "sign": ((0.7, 0.6, 0.35), (0.12, 0.085, 0.035), "", ""),
    "hull": ((0.05, 0.075, 0.11), (0.002, 0.002, 0.002), "", ""),
    "deck": ((0.16, 0.12, 0.08), (0.01, 0.006, 0.003), "", ""),
    "cabin": ((0.55, 0.53, 0.48), (0.02, 0.014, 0.008), "", ""),
    "funnel": ((0.35, 0.07, 0.05), (0.006, 0.001, 0.001), "", ""),
    "rail": ((0.4, 0.4, 0.4), (0.006, 0.005, 0.004), "", ""),
    "mast_light": ((1, 1, 1), (6.0, 5.6, 5.0), "", ""),
    "bulb": ((0.9, 0.75, 0.5), BULB_GLOW, "", ""),
    "far_warm": ((1, 0.8, 0.5), (9.0, 5.0, 2.0), "", ""),
    "far_white": ((1, 1, 1), (6.5, 6.2, 6.0), "", ""),
    "far_green": ((0.4, 1, 0.7), (1.2, 6.0, 3.4), "", ""),
    "glitter": ((0.1, 0.07, 0.04), (0.17, 0.1, 0.045), "", ""),
    "crate": ((0.17, 0.12, 0.075), (0.004, 0.002, 0.001), "", ""),
    "crate_top": ((0.2, 0.14, 0.09), (0.006, 0.003, 0.001), "", ""),
    "rope": ((0.3, 0.24, 0.15), (0.006, 0.004, 0.002), "", ""),
    "compass_face": ((0.8, 0.75, 0.6), (0, 0, 0), "compass.png", ""),
    "needle_red": ((0.5, 0.03, 0.02), (0.03, 0.002, 0.001), "", ""),
    "needle_steel": ((0.12, 0.13, 0.15), (0, 0, 0), "", ""),
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
        base, glow, base_file, glow_file = MATERIALS[name]
        material = UsdShade.Material.Define(self.stage, f"/NightFerry/Materials/{name}")
        shader = UsdShade.Shader.Define(self.stage, material.GetPath().AppendChild("Surface"))
        shader.CreateIdAttr("UsdPreviewSurface")
        for entry, colour, file in (("diffuseColor", base, base_file), ("emissiveColor", glow, glow_file)):
            target = shader.CreateInput(entry, Sdf.ValueTypeNames.Color3f)
            if not file:
                target.Set(Gf.Vec3f(*(float(c) for c in colour)))
                continue
            texture = UsdShade.Shader.Define(self.stage, material.GetPath().AppendChild(entry))
            texture.CreateIdAttr("UsdUVTexture")
            texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(file)
            texture.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
            target.ConnectToSource(texture.ConnectableAPI(), "rgb")
        material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        return material

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

    def camera(self, name: str, lens: dict[str, float], path: list[tuple[int, tuple, tuple]]) -> None:
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
    builder.prop("Water", [Piece("Surface", moved(plane(900, 900), (0, WATER, -300)), "water")])
    builder.prop("Shore", [Piece("Hills", moved(props.shore(), (0, 0, -230)), "shore")])
    builder.prop("Bollard", props.bollard(), (LANTERN_AT[0], 0, LANTERN_AT[2]))
    builder.prop("BollardFar", props.bollard(), (6.0, 0, -5.8))
    builder.prop("Lantern", props.lantern(), LANTERN_AT)
    builder.prop("Ferryman", props.person("coat", "hat"), (0.72, 0, -6.05), turn_y=-16)
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
    streaks = [moved(plane(0.55, 120), (place[0], WATER + 0.01, -168)) for _kind, place in shore]
    builder.prop("Glitter", [Piece("Streaks", props.joined(*streaks), "glitter")])
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


def lamps() -> list[tuple[np.ndarray, np.ndarray]]:
    """The lights that lie on the quay: place and colour times power."""
    warm = np.array([1.0, 0.55, 0.22])
    lamps = [(np.array(LANTERN_AT) + [0, 0.15, 0], warm * 0.55), (np.array([-3.2, 1.5, -4.2]), warm * 2.2)]
    return lamps + [(np.array(place), warm * 0.09) for place in bulbs()]


def main() -> None:
    """Make the scene, its textures and the plan, beside this file."""
    textures.planks(FOLDER / "planks.png")
    textures.quay_stone(FOLDER / "quay.jpg", FOLDER / "quay_glow.jpg", lamps())
    textures.compass_face(FOLDER / "compass.png")
    (FOLDER / SCENE).unlink(missing_ok=True)
    build_scene(FOLDER / SCENE)
    plan.save(FOLDER / SCENE, FOLDER / "night_ferry.kobrel")


if __name__ == "__main__":
    main()
