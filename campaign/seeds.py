"""Small good files of every format, to be damaged."""

import json
from pathlib import Path

import imath
import numpy as np
import opentimelineio as otio
import trimesh
from alembic3d.Abc import OArchive
from alembic3d.AbcGeom import OPolyMesh, OPolyMeshSchemaSample, OXform, XformSample
from PIL import Image
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade, UsdUtils, Vt
from tests.stage.characters import Walker
from tests.stage.gltf_files import FACES, SQUARE, GltfFile

import kobrel.demo
from kobrel.exchange.cameras.alembic import write_alembic
from kobrel.exchange.cameras.gltf import write_gltf
from kobrel.exchange.cameras.usd import write_usd
from kobrel.exchange.timeline import write_list
from kobrel.plan.file import open_plan
from kobrel.plan.keys import Key, Keyed
from kobrel.plan.start import empty_plan
from kobrel.session.commands.plates.drawing import KINDS
from kobrel.session.journal.file import Journal, Work
from kobrel.session.undo import History, Step
from kobrel.stage.read.plates.layered import layered_bytes
from kobrel.stage.stage import Stage

DEMO = Path(kobrel.demo.__file__).parent / "night_ferry.kobrel"


def make_seeds(folder: Path) -> list[Path]:
    """Write them, and tell where they are."""
    folder.mkdir(parents=True, exist_ok=True)
    picture = folder / "paint.png"
    pixels = np.random.default_rng(1).integers(0, 256, (16, 24, 4), dtype=np.uint8)
    Image.fromarray(pixels).save(picture)
    Image.fromarray(pixels[..., :3]).save(folder / "mask.jpg")
    Image.fromarray(pixels[..., 0]).save(folder / "mask.tif")
    made = [
        *_usd(folder, picture), *_gltf(folder, picture), _alembic(folder), *_meshes(folder),
        *_plans(folder), *_tables(folder), _journal(folder),
        *_cameras(folder), *(folder / name for name in ("paint.png", "mask.jpg", "mask.tif")), _exr(folder), _proof(folder),
        _hdr(folder), _layers(folder),
    ]  # fmt: skip
    for path in made:
        assert path.stat().st_size, path
    return made


def _usd(folder: Path, picture: Path) -> list[Path]:
    path = folder / "scene.usda"
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    stage.SetTimeCodesPerSecond(24)
    stage.SetStartTimeCode(1)
    stage.SetEndTimeCode(8)
    mesh = UsdGeom.Mesh.Define(stage, "/set/mesh")
    mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(SQUARE * 100))
    mesh.GetPointsAttr().Set(Vt.Vec3fArray.FromNumpy(SQUARE * 120), 4)
    mesh.CreateFaceVertexCountsAttr([4])
    mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3])
    mesh.CreateNormalsAttr([Gf.Vec3f(0, 0, 1)] * 4)
    uv = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, "faceVarying")
    uv.Set([Gf.Vec2f(0, 0), Gf.Vec2f(1, 0), Gf.Vec2f(1, 1), Gf.Vec2f(0, 1)])
    material = UsdShade.Material.Define(stage, "/set/paint")
    surface = UsdShade.Shader.Define(stage, "/set/paint/surface")
    surface.CreateIdAttr("UsdPreviewSurface")
    texture = UsdShade.Shader.Define(stage, "/set/paint/texture")
    texture.CreateIdAttr("UsdUVTexture")
    texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(f"./{picture.name}")
    surface.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).ConnectToSource(
        texture.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
    )
    surface.CreateInput("opacity", Sdf.ValueTypeNames.Float).Set(0.5)
    surface.CreateInput("emissiveColor", Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(0.1, 0.2, 0.1))
    material.CreateSurfaceOutput().ConnectToSource(surface.CreateOutput("surface", Sdf.ValueTypeNames.Token))
    UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(material)
    copies = UsdGeom.PointInstancer.Define(stage, "/copies")
    UsdGeom.Cube.Define(stage, "/copies/thing").CreateSizeAttr(10)
    copies.CreatePrototypesRel().AddTarget("/copies/thing")
    copies.CreateProtoIndicesAttr([0, 0, 0])
    copies.CreatePositionsAttr([Gf.Vec3f(x, 0, -50) for x in (0, 20, 40)])
    lamp = UsdLux.SphereLight.Define(stage, "/lamp")
    lamp.CreateRadiusAttr(2)
    lamp.CreateIntensityAttr(50)
    UsdLux.DistantLight.Define(stage, "/sun").CreateAngleAttr(0.5)
    ball = UsdGeom.Sphere.Define(stage, "/ball")
    move = ball.AddTranslateOp()
    move.Set(Gf.Vec3d(0, 50, 0), 1)
    move.Set(Gf.Vec3d(30, 50, 10), 8)
    camera = UsdGeom.Camera.Define(stage, "/eye")
    camera.CreateFocusDistanceAttr(400)
    camera.CreateFStopAttr(2.8)
    camera.AddTranslateOp().Set(Gf.Vec3d(50, 50, 400))
    stage.Save()
    binary, package = folder / "scene.usdc", folder / "scene.usdz"
    stage.GetRootLayer().Export(str(binary))
    UsdUtils.CreateNewUsdzPackage(str(path), str(package))
    return [path, binary, package]


def _gltf(folder: Path, picture: Path) -> list[Path]:
    file = GltfFile()
    uv = file.accessor(SQUARE[:, :2].copy())
    normals = file.accessor(np.tile(np.array([0, 0, 1], np.float32), (4, 1)))
    file.mesh(targets=[SQUARE * 0.1], primitive={"material": 0}, TEXCOORD_0=uv, NORMAL=normals)
    file.json["meshes"][0]["primitives"][0]["attributes"] |= {"TEXCOORD_0": uv, "NORMAL": normals}
    file.json["materials"] = [
        {"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}, "emissiveFactor": [0.1, 0, 0],
         "alphaMode": "BLEND"}
    ]  # fmt: skip
    file.json["textures"] = [{"source": 0}]
    file.json["images"] = [{"bufferView": file.view(picture.read_bytes()), "mimeType": "image/png"}]
    file.json["extensions"] = {
        "KHR_lights_punctual": {"lights": [{"type": "point", "intensity": 3}, {"type": "directional"}]}
    }
    file.json["extensionsUsed"] = ["KHR_lights_punctual", "EXT_mesh_gpu_instancing"]
    file.json["cameras"] = [{"type": "perspective", "perspective": {"yfov": 0.7, "znear": 0.1}}]
    places = file.accessor(np.array([[0, 0, 0], [2, 0, 0]], np.float32))
    root = file.node(name="root", children=[1, 2, 3, 4])
    file.node(name="square", mesh=0, weights=[0.5])
    file.node(
        name="many", mesh=0, extensions={"EXT_mesh_gpu_instancing": {"attributes": {"TRANSLATION": places}}}
    )
    file.node(name="lamp", extensions={"KHR_lights_punctual": {"light": 0}}, translation=[0, 2, 0])
    file.node(name="eye", camera=0, translation=[0.5, 0.5, 4])
    file.animate(1, "translation", [0, 1], [[0, 0, 0], [0.2, 0, 0]])
    file.json["scenes"] = [{"nodes": [root]}]
    assert FACES.size
    return [
        file.write(folder / "scene.glb"),
        file.write(folder / "scene.gltf"),
        Walker().write(folder / "walk.glb"),
    ]


def _alembic(folder: Path) -> Path:
    path = folder / "scene.abc"
    archive = OArchive(str(path))
    walk = OXform(archive.getTop(), "walk")
    move = XformSample()
    move.setTranslation(imath.V3d(100, 0, 0))
    walk.getSchema().set(move)
    points, corners, counts = imath.V3fArray(4), imath.IntArray(4), imath.IntArray(1)
    for k in range(4):
        points[k], corners[k] = imath.V3f(*map(float, SQUARE[k])), 3 - k
    counts[0] = 4
    OPolyMesh(walk, "body").getSchema().set(OPolyMeshSchemaSample(points, corners, counts))
    return path


def _cameras(folder: Path) -> list[Path]:
    """Cameras as Kobrel hands them over, of a short shot."""
    plan = empty_plan()
    keys = tuple(Key(frame=frame, value=value) for frame, value in ((1001, 50.0), (1004, 60.0)))
    glass = plan.shots[0].glass.replace(focal_mm=Keyed(value=50.0, keys=keys), model="thin")
    shot = plan.shots[0].replace(last=1004, glass=glass)
    paths = [folder / name for name in ("camera.gltf", "camera.abc", "camera.usda")]
    for write, path in zip((write_gltf, write_alembic, write_usd), paths, strict=True):
        write(plan, shot, Stage(), path)
    return paths


def _meshes(folder: Path) -> list[Path]:
    ball = trimesh.creation.icosphere(subdivisions=1)
    made = []
    for name in ("scene.ply", "scene.stl"):
        ball.export(folder / name)
        made.append(folder / name)
    path = folder / "scene.obj"
    (folder / "scene.mtl").write_text("newmtl red\nKd 0.8 0.1 0.1\nd 0.7\nmap_Kd paint.png\n")
    path.write_text(
        "mtllib scene.mtl\nusemtl red\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\n"
        "vn 0 0 1\nf 1/1/1 2/2/1 3/3/1 4/4/1\n"
    )
    return [*made, path]


def _plans(folder: Path) -> list[Path]:
    demo, empty = folder / "demo.kobrel", folder / "empty.kobrel"
    content = json.loads(DEMO.read_text())
    content["scenes"][0]["path"] = str(DEMO.parent / content["scenes"][0]["path"])
    demo.write_text(json.dumps(content, indent=1))
    empty.write_text(empty_plan().model_dump_json(indent=1))
    return [demo, empty, _plates(folder)]


def _plates(folder: Path) -> Path:
    """Paper Harbour's plan on small pictures, one plate of it lifted and filled behind; and a plate of each
    kind that needs no file.
    """
    plan = open_plan(DEMO.with_name("paper_harbour.kobrel"))
    picture = {"path": "paint.png", "layer": "", "size_px": (24, 16)}
    plates = [{**plate.model_dump(mode="json"), "picture": picture} for plate in plan.plates]
    box = {"kind": "rectangle", "one": (0.2, 0.2), "other": (0.7, 0.8)}
    plates[4]["cut"] = {"shapes": [box, {"kind": "colour", "colour": (1, 0, 0), "takes_away": True}]}
    plates[0]["fill"] = {"kind": "patches", "of": [plates[4]["number"]]}
    plates[1]["fade"], plates[2]["lies"] = {"by": "blur", "whole": 1.0, "gone": 9.0}, True
    for number, drawn in enumerate(KINDS, 100):
        said = {"drawn": drawn.model_dump(mode="json"), "size_px": (24, 16)}
        plates.append({**plates[3], "number": number, "name": drawn.kind, "picture": said})
    path = folder / "plates.kobrel"
    path.write_text(json.dumps({**plan.model_dump(mode="json"), "plates": plates}, indent=1))
    return path


def _layers(folder: Path) -> Path:
    pixels = np.random.default_rng(2).integers(0, 256, (16, 24, 4), dtype=np.uint8)
    path = folder / "paint.ora"
    path.write_bytes(layered_bytes([("Far", pixels), ("Near", pixels[::-1])], pixels))
    return path


def _tables(folder: Path) -> list[Path]:
    plan = open_plan(DEMO)
    listed, edl, packed = folder / "list.otio", folder / "list.edl", folder / "list.otioz"
    write_list(plan, Stage(), listed)
    otio.adapters.write_to_file(
        otio.adapters.read_from_file(str(listed)), str(packed), media_policy="ALL_MISSING"
    )
    edl.write_text(
        "TITLE: CUT\n\n001  AX       V     C        00:00:00:00 00:00:02:00 01:00:00:00 01:00:02:00\n"
        "* FROM CLIP NAME: 01\n002  BX       V     C        00:00:01:00 00:00:03:00 01:00:02:00 01:00:04:00\n"
    )
    made = [listed, edl, packed]
    for name, text in (
        ("cues.csv", "name,first,last\nturns,1010,\nsmiles,1020,1030\n"),
        ("readings.csv", "name,distance,unit\nDoor,3.2,m\nLamp,412,cm\n"),
        ("marks.txt", "1010\tLantern\n1030\t3.2 m\n"),
        ("kit.csv", "name,focal_mm,widest\nA,50,1.4\nB,85,1.8\n"),
        ("kit.json", json.dumps({"kit": "Mine", "lenses": [{"name": "A", "focal_mm": [24, 70], "widest": 2.8}]})),
        ("values.csv", "frame,aperture_radius [cm],focus_distance [cm]\n1001,1.2,300\n1002,1.3,310\n"),
        ("values.json", json.dumps({"unit": "cm", "frames": [{"frame": 1001, "f_number": 2.0, "near_limit": 250.0}]})),
        ("values.txt", "Radius: 1.25 cm\nFocus distance: 3.2 m\nBlades: 7\n"),
        ("mine.terms.json", json.dumps({"title": "Mine", "terms": [{"name": "ap", "quantity": "aperture_radius"}]})),
        ("soft.iris.json", json.dumps({"format": 1, "name": "Soft", "iris": {"blades": 6, "roundness": 0.5}})),
        ("settings.json", json.dumps({"recent": json.dumps(["/a"]), "throw_px": "3.0", "window/card": "4"})),
    ):  # fmt: skip
        (folder / name).write_text(text)
        made.append(folder / name)
    return made


def _journal(folder: Path) -> Path:
    plan = open_plan(DEMO)
    steps, old = [], plan
    for k in range(4):
        new = old.replace(name=f"Night {k}", subjects=old.subjects[: len(old.subjects) - k])
        steps.append(Step("Name", old, new))
        old = new
    path = folder / "work.journal"
    journal = Journal(path)
    journal.begin(Work(old, History(tuple(steps[:2]), 2, 0)), None, "")
    journal.add(Work(old, History(tuple(steps), 3, 0)))
    journal.close(keep=True)
    return path


def _exr(folder: Path) -> Path:
    from kobrel.exchange.images import write_exr

    path = folder / "sky.exr"
    light = np.random.default_rng(2).random((8, 16, 3)).astype(np.float32)
    write_exr(path, light, 1.0 + 9.0 * light[..., 0], light[..., 1])
    return path


def _proof(folder: Path) -> Path:
    from kobrel.exchange.proof.files import Kept, write_proof
    from kobrel.plan.measure.camera import camera_at
    from kobrel.plan.variants.proofs import proof_of

    shot = empty_plan().shots[0]
    light = np.random.default_rng(4).random((8, 16, 3)).astype(np.float32)
    camera = camera_at(empty_plan(), shot, shot.first, Stage())
    proof = proof_of(shot, camera, shot.first, (16, 8), 4, name="proof")
    return Path(write_proof(folder, proof, Kept(light, 1.0 + light[..., 0], light[..., 1])).path)


def _hdr(folder: Path) -> Path:
    import OpenImageIO as oiio

    path = folder / "sky.hdr"
    out = oiio.ImageOutput.create(str(path))
    out.open(str(path), oiio.ImageSpec(16, 8, 3, oiio.FLOAT))
    out.write_image(np.random.default_rng(3).random((8, 16, 3)).astype(np.float32))
    out.close()
    return path
