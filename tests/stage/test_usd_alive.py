"""USD scenes whose shapes and parts change over time."""

import numpy as np
import pytest
from pxr import Gf, Sdf, Usd, UsdGeom, UsdSkel, Vt
from scipy.spatial.transform import Rotation

from kobrel.stage.read import sanitising as gate
from kobrel.stage.read.load import load_scene
from kobrel.stage.stage import Place, Stage

from .test_scene_parts import SQUARE, new_stage


def define_mesh(stage, path, points=SQUARE, counts=(4,), indices=(0, 1, 2, 3)):
    mesh = UsdGeom.Mesh.Define(stage, path)
    mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(np.asarray(points, np.float32)))
    mesh.CreateFaceVertexCountsAttr(list(counts))
    mesh.CreateFaceVertexIndicesAttr(list(indices))
    return mesh


def quaternions(rotations):
    return Vt.QuatfArray(
        [Gf.Quatf(float(w), float(x), float(y), float(z)) for x, y, z, w in rotations.as_quat()]
    )


def skinned_stage(path, seed, rigid=False, extra=True):
    """Random joints over a random mesh, with blend shapes, bound by USD's own schemas."""
    random = np.random.default_rng(seed)
    stage = new_stage(path)
    stage.SetStartTimeCode(1)
    stage.SetEndTimeCode(9)
    root = UsdSkel.Root.Define(stage, "/Body")
    root.AddTranslateOp().Set(Gf.Vec3d(3, 1, 2))
    skeleton = UsdSkel.Skeleton.Define(stage, "/Body/Rig")
    skeleton.AddRotateYOp().Set(30.0)
    names = ["hip", "hip/spine", "hip/spine/head", "hip/leg"]
    skeleton.CreateJointsAttr(names)

    def matrices(count):
        result = []
        for turn, move in zip(
            Rotation.random(count, random_state=random), random.normal(size=(count, 3)), strict=True
        ):
            matrix = np.eye(4)
            matrix[:3, :3], matrix[3, :3] = turn.as_matrix().T, move
            result.append(Gf.Matrix4d(matrix.tolist()))
        return result

    skeleton.CreateBindTransformsAttr(matrices(4))
    skeleton.CreateRestTransformsAttr(matrices(4))
    animation = UsdSkel.Animation.Define(stage, "/Body/Walk")
    order = ["hip/leg", "hip", "hip/spine"]  # another order, and one joint stays at rest
    animation.CreateJointsAttr(order)
    for time in (1.0, 5.0, 9.0):
        animation.CreateTranslationsAttr().Set(
            Vt.Vec3fArray.FromNumpy(random.normal(size=(3, 3)).astype(np.float32)), time
        )
        animation.CreateRotationsAttr().Set(quaternions(Rotation.random(3, random_state=random)), time)
        animation.CreateScalesAttr().Set(Vt.Vec3hArray([Gf.Vec3h(*(1 + random.random(3)))] * 3), time)
        animation.CreateBlendShapeWeightsAttr().Set([float(random.random()), float(random.random())], time)
    animation.CreateBlendShapesAttr(["smile", "blink"])
    UsdSkel.BindingAPI.Apply(skeleton.GetPrim()).CreateAnimationSourceRel().SetTargets(["/Body/Walk"])
    count = 30
    points = random.normal(size=(count, 3)).astype(np.float32)
    mesh = define_mesh(stage, "/Body/skin", points, [3] * 40, random.integers(0, count, 120).tolist())
    mesh.AddTranslateOp().Set(Gf.Vec3d(9, 9, 9))
    binding = UsdSkel.BindingAPI.Apply(mesh.GetPrim())
    binding.CreateSkeletonRel().SetTargets(["/Body/Rig"])
    binding.CreateGeomBindTransformAttr(matrices(1)[0])
    if rigid:
        binding.CreateJointIndicesPrimvar(True, 2).Set([1, 3])
        binding.CreateJointWeightsPrimvar(True, 2).Set([0.75, 0.25])
    else:
        weights = random.random((count, 3)).astype(np.float32)
        weights /= weights.sum(axis=1, keepdims=True)
        binding.CreateJointsAttr(["hip/spine/head", "hip", "hip/leg"])
        binding.CreateJointIndicesPrimvar(False, 3).Set(random.integers(0, 3, count * 3).tolist())
        binding.CreateJointWeightsPrimvar(False, 3).Set(weights.ravel().tolist())
    if extra:
        binding.CreateBlendShapesAttr(["blink", "smile"])
        paths = []
        for name, few in (("blink", True), ("smile", False)):
            shape = UsdSkel.BlendShape.Define(stage, f"/Body/skin/{name}")
            which = random.choice(count, 7, replace=False) if few else np.arange(count)
            shape.CreateOffsetsAttr(
                Vt.Vec3fArray.FromNumpy(random.normal(size=(len(which), 3)).astype(np.float32))
            )
            if few:
                shape.CreatePointIndicesAttr(which.tolist())
            paths.append(shape.GetPath())
        binding.CreateBlendShapeTargetsRel().SetTargets(paths)
    stage.Save()
    return stage


def by_usd(stage, code):
    """The skinned points in the scene's space by USD's own queries."""
    cache = UsdSkel.Cache()
    root = UsdSkel.Root(stage.GetPrimAtPath("/Body"))
    cache.Populate(root, Usd.PrimDefaultPredicate)
    binding = cache.ComputeSkelBindings(root, Usd.PrimDefaultPredicate)[0]
    skeleton, query = cache.GetSkelQuery(binding.GetSkeleton()), binding.GetSkinningTargets()[0]
    points = Vt.Vec3fArray(UsdGeom.Mesh(query.GetPrim()).GetPointsAttr().Get())
    if query.HasBlendShapes():
        weights = skeleton.GetAnimQuery().ComputeBlendShapeWeights(code)
        order = [str(n) for n in skeleton.GetAnimQuery().GetBlendShapeOrder()]
        shapes = UsdSkel.BlendShapeQuery(UsdSkel.BindingAPI(query.GetPrim()))
        own = [weights[order.index(str(n))] for n in query.GetBlendShapeOrder()]
        sub = shapes.ComputeSubShapeWeights(own)
        shapes.ComputeDeformedPoints(
            *sub, shapes.ComputeBlendShapePointIndices(), shapes.ComputeSubShapePointOffsets(), points
        )
    transforms = skeleton.ComputeSkinningTransforms(code)
    query.ComputeSkinnedPoints(transforms, points, code)
    world = UsdGeom.XformCache(code).GetLocalToWorldTransform(skeleton.GetPrim())
    return np.array([world.Transform(Gf.Vec3d(*map(float, p))) for p in points])


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize("rigid", [False, True])
def test_skins_agree_with_usds_own_query(tmp_path, seed, rigid):
    stage = skinned_stage(tmp_path / "s.usda", seed, rigid)
    scene = load_scene(tmp_path / "s.usda")
    index = scene.find("/Body/skin")
    mesh = scene.nodes[index].mesh
    for frame in (1.0, 2.5, 5.0, 8.25, 12.0):
        wanted = by_usd(stage, frame)
        world = scene.world(index, [frame])[0]
        found = mesh.deformation.points(frame) @ world[:3, :3].T + world[:3, 3]
        assert np.abs(found - wanted).max() < 1e-5 * np.ptp(wanted)
        few = mesh.deformation.some([frame], [4, 29])[0] @ world[:3, :3].T + world[:3, 3]
        np.testing.assert_allclose(few, found[[4, 29]], atol=1e-5 * np.ptp(wanted))


def test_weights_of_a_skin_that_do_not_add_up_to_one_count_by_their_share(tmp_path):
    stage = skinned_stage(tmp_path / "s.usda", 1, extra=False)
    whole = load_scene(tmp_path / "s.usda")
    weights = UsdSkel.BindingAPI(stage.GetPrimAtPath("/Body/skin")).GetJointWeightsAttr()
    weights.Set((3.0 * np.asarray(weights.Get())).tolist())
    stage.Export(str(tmp_path / "thrice.usda"))
    thrice = load_scene(tmp_path / "thrice.usda")
    one, other = (scene.nodes[scene.find("/Body/skin")].mesh.deformation for scene in (whole, thrice))
    np.testing.assert_allclose(other.points(5.0), one.points(5.0), atol=1e-5)


def talking_stage(path, between, weights=((0, 0.0), (10, 1.0), (20, 1.5))):
    """A face whose mouth opens over time, with steps between."""
    stage = new_stage(path)
    UsdSkel.Root.Define(stage, "/Body")
    skeleton = UsdSkel.Skeleton.Define(stage, "/Body/Rig")
    skeleton.CreateJointsAttr(["only"])
    skeleton.CreateBindTransformsAttr([Gf.Matrix4d(1)])
    skeleton.CreateRestTransformsAttr([Gf.Matrix4d(1)])
    animation = UsdSkel.Animation.Define(stage, "/Body/Talk")
    animation.CreateBlendShapesAttr(["open"])
    for time, weight in weights:
        animation.CreateBlendShapeWeightsAttr().Set([weight], time)
    UsdSkel.BindingAPI.Apply(skeleton.GetPrim()).CreateAnimationSourceRel().SetTargets(["/Body/Talk"])
    mesh = define_mesh(stage, "/Body/face")
    binding = UsdSkel.BindingAPI.Apply(mesh.GetPrim())
    binding.CreateSkeletonRel().SetTargets(["/Body/Rig"])
    binding.CreateBlendShapesAttr(["open"])
    shape = UsdSkel.BlendShape.Define(stage, "/Body/face/open")
    shape.CreateOffsetsAttr([Gf.Vec3f(0, 0, 1)] * 4)
    for number, (weight, offset) in enumerate(between):
        step = shape.CreateInbetween(f"step{number}")
        step.SetOffsets([Gf.Vec3f(*offset)] * 4)
        step.SetWeight(weight)
    binding.CreateBlendShapeTargetsRel().SetTargets([shape.GetPath()])
    stage.Save()
    return stage


def test_steps_between_blend_shapes_go_by_usds_rule(tmp_path):
    talking_stage(tmp_path / "b.usda", [(0.5, (1, 0, 0))])
    face = load_scene(tmp_path / "b.usda")
    assert face.warnings == ()
    moved = face.nodes[face.find("/Body/face")].mesh.deformation
    for frame, shift in (
        (2.5, (0.5, 0, 0)),
        (5, (1, 0, 0)),
        (7.5, (0.5, 0, 0.5)),
        (10, (0, 0, 1)),
        (0, (0, 0, 0)),
    ):
        np.testing.assert_allclose(moved.points(frame), np.array(SQUARE) + shift, atol=1e-6)


@pytest.mark.parametrize(
    "between",
    [
        [(-0.5, (0, 1, 0))],
        [(-1.0, (2, 0, 0)), (-0.25, (0, 1, 0)), (0.4, (1, 1, 0))],
        [(0.7, (0, 0, 3)), (1.5, (0, -1, 0))],
    ],
)
def test_steps_between_blend_shapes_move_points_as_usds_own_query_does(tmp_path, between):
    times = (0.0, 10.0, 20.0)
    stage = talking_stage(tmp_path / "b.usda", between, zip(times, (-1.25, 0.0, 1.75), strict=True))
    face = load_scene(tmp_path / "b.usda")
    moved = face.nodes[face.find("/Body/face")].mesh.deformation
    binding = UsdSkel.BindingAPI(stage.GetPrimAtPath("/Body/face"))
    query = UsdSkel.BlendShapeQuery(binding)
    offsets, indices = query.ComputeSubShapePointOffsets(), query.ComputeBlendShapePointIndices()
    for frame in (*times, 2.0, 5.0, 8.0, 11.0, 14.0, 17.0):
        weight = np.interp(frame, times, (-1.25, 0.0, 1.75))
        parts = query.ComputeSubShapeWeights([float(weight)])
        points = Vt.Vec3fArray.FromNumpy(np.array(SQUARE, np.float32))
        assert query.ComputeDeformedPoints(*parts, indices, offsets, points)
        np.testing.assert_allclose(moved.points(frame), np.array(points), atol=1e-5, err_msg=str(frame))


def test_two_steps_at_one_weight_are_told(tmp_path):
    talking_stage(tmp_path / "b.usda", [(0.5, (1, 0, 0)), (0.5, (0, 1, 0)), (0.0, (0, 0, 9))])
    face = load_scene(tmp_path / "b.usda")
    assert face.warnings == ("/Body/face/open: 2 steps skipped; what it is at 0, 0.5 is said already.",)
    moved = face.nodes[face.find("/Body/face")].mesh.deformation
    np.testing.assert_allclose(moved.points(5.0), np.array(SQUARE) + (1, 0, 0), atol=1e-6)
    np.testing.assert_allclose(moved.points(0.0), np.array(SQUARE), atol=1e-6)


def test_faces_that_change_are_seen_in_their_turn(tmp_path):
    stage = new_stage(tmp_path / "t.usda")
    mesh = define_mesh(stage, "/water")
    for time, faces in ((1, [4]), (3, [3])):
        mesh.GetFaceVertexCountsAttr().Set(faces, time)
        mesh.GetFaceVertexIndicesAttr().Set(list(range(faces[0])), time)
        mesh.GetPointsAttr().Set(Vt.Vec3fArray.FromNumpy(np.array(SQUARE[: faces[0]], np.float32)), time)
    stage.Save()
    made = Stage([("s", load_scene(tmp_path / "t.usda"))])
    upper_left = (0.2, 0.8, 3.0)
    assert made.pick(2, upper_left, (0, 0, -1)) is not None
    assert made.pick(3, upper_left, (0, 0, -1)) is None
    assert made.pick(3, (0.8, 0.2, 3.0), (0, 0, -1)).place == Place("s", "/water/at 3")
    assert made.moves


def test_things_that_come_and_go(tmp_path):
    stage = new_stage(tmp_path / "v.usda")
    group = UsdGeom.Xform.Define(stage, "/late")
    define_mesh(stage, "/late/card")
    group.CreateVisibilityAttr().Set("invisible", 1)
    group.CreateVisibilityAttr().Set("inherited", 10)
    UsdGeom.Imageable(define_mesh(stage, "/never").GetPrim()).MakeInvisible()
    stage.Save()
    made = Stage([("s", load_scene(tmp_path / "v.usda"))])
    ray = (0.5, 0.5, 3.0), (0, 0, -1)
    assert made.pick(5, *ray) is None
    assert made.pick(10, *ray).place.path == "/late/card"
    assert np.isnan(made.boxes(1)).all()
    np.testing.assert_allclose(made.bounds(10)[1], [1, 1, 0])


def test_solids_whose_sizes_change(tmp_path):
    stage = new_stage(tmp_path / "g.usda")
    ball = UsdGeom.Sphere.Define(stage, "/ball")
    ball.CreateRadiusAttr().Set(1.0, 0)
    ball.CreateRadiusAttr().Set(3.0, 10)
    still = UsdGeom.Capsule.Define(stage, "/pill")
    still.CreateAxisAttr("X")
    still.AddTranslateOp().Set(Gf.Vec3d(0, 20, 0))
    UsdGeom.Plane.Define(stage, "/floor").AddTranslateOp().Set(Gf.Vec3d(0, -20, 0))
    UsdGeom.BasisCurves.Define(stage, "/hair")
    stage.Save()
    scene = load_scene(tmp_path / "g.usda")
    made = Stage([("s", scene)])
    assert made.pick(5, (0, 0, 9), (0, 0, -1)).point[2] == pytest.approx(2.0, abs=0.02)
    low, high = made.local_bounds(Place("s", "/pill"), [0.0])
    np.testing.assert_allclose(high - low, [[2, 1, 1]], atol=0.02)
    assert made.pick(0, (0.5, 0.5, 9), (0, 0, -1)) is not None
    assert scene.find("/floor") >= 0
    assert any("/hair" in w and "BasisCurves" in w for w in scene.warnings)


def test_the_middle_of_a_group_follows_its_parts(tmp_path):
    stage = new_stage(tmp_path / "m.usda")
    UsdGeom.Xform.Define(stage, "/pair")
    for name, far in (("a", 0.0), ("b", 10.0)):
        move = UsdGeom.Xformable(define_mesh(stage, f"/pair/{name}").GetPrim()).AddTranslateOp()
        move.Set(Gf.Vec3d(0, 0, 0), 0)
        move.Set(Gf.Vec3d(far, 0, 0), 10)
    stage.Save()
    made = Stage([("s", load_scene(tmp_path / "m.usda"))])
    centres = made.centre(Place("s", "/pair"), [0.0, 5.0, 10.0])
    np.testing.assert_allclose(centres, [[0.5, 0.5, 0], [3, 0.5, 0], [5.5, 0.5, 0]])


def instancer(stage, path, places, kinds=None, targets=()):
    made = UsdGeom.PointInstancer.Define(stage, path)
    made.CreatePositionsAttr(Vt.Vec3fArray.FromNumpy(np.asarray(places, np.float32)))
    made.CreateProtoIndicesAttr(list(kinds or [0] * len(places)))
    made.CreatePrototypesRel().SetTargets(list(targets))
    return made


def test_instancers_move_turn_and_hide_their_copies(tmp_path):
    stage = new_stage(tmp_path / "i.usda")
    many = instancer(stage, "/field", [[0, 0, 0], [5, 0, 0], [10, 0, 0]], targets=["/field/plant"])
    UsdGeom.Xform.Define(stage, "/field/plant").AddTranslateOp().Set(Gf.Vec3d(0, 2, 0))
    define_mesh(stage, "/field/plant/leaf")
    many.CreatePositionsAttr().Set(Vt.Vec3fArray([Gf.Vec3f(0), Gf.Vec3f(5, 0, 0), Gf.Vec3f(10, 0, 0)]), 0)
    many.CreatePositionsAttr().Set(Vt.Vec3fArray([Gf.Vec3f(0), Gf.Vec3f(5, 0, 4), Gf.Vec3f(10, 0, 0)]), 10)
    many.CreateScalesAttr([Gf.Vec3f(1), Gf.Vec3f(2), Gf.Vec3f(1)])
    turn = Rotation.from_euler("z", 90, degrees=True).as_quat()
    many.CreateOrientationsAttr([Gf.Quath(1, 0, 0, 0)] * 2 + [Gf.Quath(turn[3], *map(float, turn[:3]))])
    many.CreateInvisibleIdsAttr().Set([0], 10)
    many.CreateInvisibleIdsAttr().Set([], 0)
    stage.Save()
    scene = load_scene(tmp_path / "i.usda")
    made = Stage([("s", scene)])
    expected = many.ComputeInstanceTransformsAtTime(5, 5)
    for copy in range(3):
        world = made.world(Place("s", f"/field/plant/leaf[{copy}]"), [5.0])[0]
        np.testing.assert_allclose(world, np.array(expected[copy]).T, atol=1e-3)
    assert made.pick(5, (0.5, 2.5, 9), (0, 0, -1)).place == Place("s", "/field/plant/leaf[0]")
    assert made.pick(10, (0.5, 2.5, 9), (0, 0, -1)) is None
    assert made.pick(10, (6, 5, 9), (0, 0, -1)).point[2] == pytest.approx(4.0, abs=1e-3)


def test_an_instancer_that_copies_itself_is_left_out_there(tmp_path):
    """By its prototype's tree, or by way of another one."""
    stage = new_stage(tmp_path / "i.usda")
    instancer(stage, "/town", [[0, 0, 0], [9, 0, 0]], targets=["/town"])
    define_mesh(stage, "/town/pane")
    instancer(stage, "/a", [[0, 0, 0]] * 2, targets=["/a/house"])
    instancer(stage, "/b", [[0, 0, 0]] * 2, targets=["/b/house"])
    for path, other in (("/a", "/b"), ("/b", "/a")):
        define_mesh(stage, f"{path}/house/wall")
        stage.DefinePrim(f"{path}/house/inner").GetReferences().AddInternalReference(other)
    stage.Save()
    scene = load_scene(tmp_path / "i.usda")
    assert any("/town would copy itself" in told for told in scene.warnings)
    assert sum(node.copies.count for node in scene.nodes if node.copies is not None) < 100


def test_a_scene_has_a_bound_on_all_its_copies(tmp_path, monkeypatch):
    monkeypatch.setattr(gate, "MOST_COPIES", 5)
    stage = new_stage(tmp_path / "i.usda")
    for number in range(3):
        define_mesh(stage, f"/field{number}/plant")
        places = [[k, 0, 0] for k in range(2)]
        instancer(stage, f"/field{number}", places, targets=[f"/field{number}/plant"])
    stage.Save()
    scene = load_scene(tmp_path / "i.usda")
    assert len(Stage([("s", scene)]).boxes(1.0)) == 4
    assert any("2 copies are more than the 5 that a scene may have" in told for told in scene.warnings)


def test_instancers_within_instancers(tmp_path):
    stage = new_stage(tmp_path / "n.usda")
    instancer(stage, "/town", [[0, 0, 0], [100, 0, 0]], targets=["/town/house"])
    UsdGeom.Xform.Define(stage, "/town/house").AddTranslateOp().Set(Gf.Vec3d(0, 7, 0))
    instancer(stage, "/town/house/row", [[0, 0, 0], [10, 0, 0], [20, 0, 0]], targets=["/pane"])
    define_mesh(stage, "/pane").AddTranslateOp().Set(Gf.Vec3d(1, 0, 0))
    stage.Save()
    scene = load_scene(tmp_path / "n.usda")
    made = Stage([("s", scene)])
    hit = made.pick(0, (111.5, 7.5, 9), (0, 0, -1))
    assert hit.place.path == "/town/pane[4]"
    np.testing.assert_allclose(made.world(hit.place, [0.0])[0, :3, 3], [111, 7, 0])
    assert made.pick(0, (1.5, 0.5, 9), (0, 0, -1)).place.path == "/pane"  # it stands for itself too


def test_particles_that_are_born_and_die_keep_their_numbers(tmp_path):
    stage = new_stage(tmp_path / "p.usda")
    drops = instancer(stage, "/rain", [[0, 0, 0]], targets=["/rain/drop"])
    define_mesh(stage, "/rain/drop")
    for time, ids, places in (
        (1, [7], [[0, 0, 0]]),
        (2, [7, 9], [[2, 0, 0], [9, 0, 0]]),
        (3, [9], [[9, 5, 0]]),
    ):
        drops.CreateIdsAttr().Set(ids, time)
        drops.CreateProtoIndicesAttr().Set([0] * len(ids), time)
        drops.CreatePositionsAttr().Set(Vt.Vec3fArray.FromNumpy(np.array(places, np.float32)), time)
    UsdGeom.Points.Define(stage, "/dust").CreatePointsAttr([Gf.Vec3f(50, 0, 0), Gf.Vec3f(60, 0, 0)])
    UsdGeom.Points(stage.GetPrimAtPath("/dust")).CreateWidthsAttr([2.0])
    stage.Save()
    made = Stage([("s", load_scene(tmp_path / "p.usda"))])

    def seen(frame, x, y=0.5):
        hit = made.pick(frame, (x, y, 9), (0, 0, -1))
        return hit.place.path if hit else None

    assert [seen(1, 0.5), seen(1, 9.5)] == ["/rain/drop[0]", None]
    assert [seen(1.5, 1.5), seen(2, 2.5), seen(2, 9.5)] == ["/rain/drop[0]", "/rain/drop[0]", "/rain/drop[1]"]
    assert [seen(3, 2.5), seen(3, 9.5, 5.5)] == [None, "/rain/drop[1]"]
    assert seen(1, 60.4) == "/dust/point[1]"


def test_time_codes_of_another_rate_become_frames(tmp_path):
    stage = new_stage(tmp_path / "r.usda")
    stage.SetTimeCodesPerSecond(1000)
    stage.SetFramesPerSecond(25)
    stage.SetStartTimeCode(0)
    stage.SetEndTimeCode(4000)
    move = define_mesh(stage, "/card").AddTranslateOp()
    move.Set(Gf.Vec3d(0), 0)
    move.Set(Gf.Vec3d(8, 0, 0), 4000)
    stage.Save()
    scene = load_scene(tmp_path / "r.usda")
    assert (scene.fps, scene.first_frame, scene.last_frame) == (25.0, 0, 100)
    np.testing.assert_allclose(scene.world(0, [50.0])[0, :3, 3], [4, 0, 0])


def test_variants_purposes_and_payloads_are_choices(tmp_path):
    stage = new_stage(tmp_path / "c.usda")
    prim = UsdGeom.Xform.Define(stage, "/lamp").GetPrim()
    sets = prim.GetVariantSets().AddVariantSet("shade")
    for name, size in (("small", 1.0), ("large", 5.0)):
        sets.AddVariant(name)
        sets.SetVariantSelection(name)
        with sets.GetVariantEditContext():
            UsdGeom.Cube.Define(stage, "/lamp/box").CreateSizeAttr(size)
    sets.SetVariantSelection("small")
    proxy = UsdGeom.Cube.Define(stage, "/simple")
    UsdGeom.Imageable(proxy.GetPrim()).CreatePurposeAttr("proxy")
    other = new_stage(tmp_path / "load.usda")
    other.SetDefaultPrim(UsdGeom.Cube.Define(other, "/heavy").GetPrim())
    other.Save()
    stage.DefinePrim("/far").GetPayloads().AddPayload("load.usda")
    stage.Save()
    path = tmp_path / "c.usda"
    scene = load_scene(path)
    assert [(c.label, c.options, c.chosen) for c in scene.choices] == [
        ("lamp: shade", ("large", "small"), "small"), ("Payloads", ("load", "leave out"), "load"),
        ("Drawn parts", ("render", "proxy", "guide"), "render"),
    ]  # fmt: skip

    def boxes(*choices):
        drawn = [n for n in load_scene(path, choices=choices).nodes if n.mesh is not None]
        return {n.path: float(np.ptp(n.mesh.points[:, 0])) for n in drawn}

    assert boxes() == {"/lamp/box": 1.0, "/far": 2.0}
    assert boxes(("/lamp{shade}", "large"), ("payloads", "leave out")) == {"/lamp/box": 5.0}
    assert boxes(("purpose", "proxy")) == {"/lamp/box": 1.0, "/far": 2.0, "/simple": 2.0}


def test_a_missing_reference_is_named_with_its_layer(tmp_path):
    stage = new_stage(tmp_path / "layer.usda")
    UsdGeom.Xform.Define(stage, "/house").GetPrim().GetReferences().AddReference("gone.usda")
    stage.Save()
    told = " ".join(load_scene(tmp_path / "layer.usda").warnings)
    assert "gone.usda" in told
    assert "layer.usda" in told


def test_attributes_are_untouched_by_reading(tmp_path):
    stage = skinned_stage(tmp_path / "s.usda", 0)
    before = (tmp_path / "s.usda").read_bytes()
    load_scene(tmp_path / "s.usda", choices=(("subdivision", "1 level"),))
    stage.Reload()
    assert (tmp_path / "s.usda").read_bytes() == before
    assert Sdf.Layer.FindOrOpen(str(tmp_path / "s.usda")) is not None
