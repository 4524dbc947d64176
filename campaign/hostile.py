"""Files that are made to harm: bombs, depths, counts, pipes, and names that lead elsewhere."""

import itertools
import json
import os
import struct
import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from campaign.strangers import strange_cases
from kobrel.plan.start import empty_plan

_NUMBERS = (float("nan"), float("inf"), -float("inf"), -1.0, 0.0, 1e308, 1e15, 2**63, 10**400, 1e-320)
Case = tuple[str, Path]


def hostile_cases(folder: Path) -> Iterator[Case]:
    """Make them one by one: a name, and where it is."""
    folder.mkdir(parents=True, exist_ok=True)
    makers = (
        _odd_files, _odd_json, _odd_plans, _odd_pictures, _odd_usd, _odd_gltf, _odd_meshes, _odd_lists,
        strange_cases,
    )  # fmt: skip
    for maker in makers:
        yield from maker(folder)


def _text(folder: Path, name: str, content: str | bytes) -> Case:
    path = folder / name
    path.write_bytes(content if isinstance(content, bytes) else content.encode("utf-8", "surrogatepass"))
    return name, path


# What is no file, or no such file


def _odd_files(folder: Path) -> Iterator[Case]:
    kinds = (
        ".kobrel", ".usda", ".usdc", ".usdz", ".gltf", ".glb", ".abc", ".obj", ".ply", ".stl", ".otio", ".otioz",
        ".edl", ".png", ".exr", ".hdr", ".tif", ".jpg", ".journal", ".json", ".iris.json", ".csv",
    )  # fmt: skip
    for kind in kinds:
        made = folder / f"folder{kind}"
        made.mkdir(exist_ok=True)
        yield made.name, made
        pipe = folder / f"pipe{kind}"
        if not pipe.exists():
            os.mkfifo(pipe)
        yield pipe.name, pipe
        device = folder / f"device{kind}"
        if not device.is_symlink():
            device.symlink_to("/dev/zero")
        yield device.name, device
        circle = folder / f"circle{kind}"
        if not circle.is_symlink():
            circle.symlink_to(circle)
        yield circle.name, circle
        yield f"missing{kind}", folder / f"missing{kind}"
        yield f"long{kind}", folder / ("x" * 300 + kind)
        yield _text(folder, f"empty{kind}", b"")
        yield _text(folder, f"noughts{kind}", bytes(5000))
        yield _text(folder, f"ones{kind}", b"\xff" * 5000)
        yield _text(folder, f"spaces{kind}", b" " * 100_000)
        yield _text(folder, f"page{kind}", b"<!DOCTYPE html><html><body>404</body></html>")


def _odd_json(folder: Path) -> Iterator[Case]:
    for kind in (".kobrel", ".gltf", ".otio", ".json", ".iris.json"):
        for depth in (101, 1000, 5000, 1_000_000):
            yield _text(folder, f"deep{depth}{kind}", "[" * depth + "]" * depth)
            yield _text(folder, f"deeper{depth}{kind}", '{"a":' * depth + "0" + "}" * depth)
        for digits in (401, 5000, 500_000):
            yield _text(folder, f"digits{digits}{kind}", '{"format": ' + "9" * digits + "}")
        yield _text(folder, f"long_string{kind}", json.dumps({"format": 5, "name": "x" * 10_000_000}))
        yield _text(folder, f"half{kind}", '{"format": 5, "name": "\\ud800"}')
        yield _text(folder, f"half_in_part{kind}", '{"format": 5, "x": {"y": "\\ud800"}}')
        yield _text(folder, f"latin{kind}", '{"format": 5, "name": "é"}'.encode("latin-1"))
        yield _text(folder, f"utf16{kind}", '{"format": 5}'.encode("utf-16"))
        yield _text(folder, f"keys{kind}", "{" + ",".join(f'"k{i}": 0' for i in range(200_000)) + "}")
        yield _text(folder, f"nan{kind}", '{"format": NaN, "lenses": [Infinity]}')


# Plans


def _odd_plans(folder: Path) -> Iterator[Case]:
    plain = json.loads(empty_plan().model_dump_json())

    def plan(name: str, change: Any) -> Case:
        content = json.loads(json.dumps(plain))
        change(content)
        return _text(folder, f"p_{name}.kobrel", json.dumps(content))

    for number in _NUMBERS:
        for field in ("first", "last", "fps", "width_px", "handles", "ahead_m"):
            yield plan(f"shot_{field}_{number:g}"[:60] if abs(number) < 1e300 else f"shot_{field}_huge",
                       lambda c, f=field, n=number: c["shots"][0].update({f: n}))  # fmt: skip
        for field in ("key_strength", "sky_strength", "exposure_ev", "key_azimuth_deg", "shoulder"):
            yield plan(
                f"light_{field}_{str(number)[:12]}", lambda c, f=field, n=number: c["light"].update({f: n})
            )
        for field in ("squeeze", "field_m", "cone_deg", "transmission"):
            yield plan(f"glass_{field}_{str(number)[:12]}",
                       lambda c, f=field, n=number: c["shots"][0]["glass"].update({f: n}))  # fmt: skip
        yield plan(
            f"key_colour_{str(number)[:12]}", lambda c, n=number: c["light"].update(key_colour=[n, 0, n])
        )
        yield plan(f"focus_{str(number)[:12]}",
                   lambda c, n=number: c["shots"][0]["marks"][0]["target"].update(metres=n))  # fmt: skip
        yield plan(f"camera_{str(number)[:12]}",
                   lambda c, n=number: c["shots"][0]["camera"].update(position_m=[n, n, n]))  # fmt: skip
    for span in (10**5, 10**9, 10**15):
        yield plan(f"span_{span}", lambda c, s=span: c["shots"][0].update(first=0, last=s))
    for blades in (1, 65, 100_000, -3):
        yield plan(f"blades_{blades}", lambda c, b=blades: c["shots"][0]["iris"].update(blades=b))
    for path in (
        "/etc/passwd",
        "../" * 40 + "etc/shadow",
        "\0",
        "x" * 5000,
        "/dev/zero",
        "http://x/y.usd",
        "",
    ):
        scene = {"name": "s", "path": path}
        yield plan(f"path_{abs(hash(path))}", lambda c, s=scene: c.update(scenes=[s]))
        yield plan(f"about_{abs(hash(path))}", lambda c, p=path: c["light"].update(surround={"path": p}))
        mask = {"kind": "picture", "path": path}
        yield plan(f"mask_{abs(hash(path))}", lambda c, m=mask: c["shots"][0]["iris"].update(mask=m))
    for count in (3000, 100_000):
        yield plan(
            f"shots_{count}",
            lambda c, k=count: c.update(shots=[{**c["shots"][0], "name": str(i)} for i in range(k)]),
        )
        stand_in = {"name": "b", "kind": "box", "size_m": [1, 1, 1], "position_m": [0, 0, 0]}
        yield plan(f"stand_ins_{count}", lambda c, k=count, s=stand_in: c.update(
            stand_ins=[{**s, "number": i + 1} for i in range(k)]))  # fmt: skip
    marks = [{"frame": 1001 + i * 1e-9, "target": {"kind": "distance", "metres": 2}} for i in range(50_000)]
    yield plan("marks", lambda c: c["shots"][0].update(marks=marks))
    yield plan("name", lambda c: c["shots"][0].update(name="n" * 300, iris={"mask": {"kind": "drawn"}}))
    yield plan("string", lambda c: c.update(stand_ins=[{
        "number": 1, "name": "l", "kind": "string", "size_m": [1e9, 1e9, 1e9], "position_m": [0, 0, 0],
        "lights": {"count": 2000, "size_m": 1e9}}]))  # fmt: skip


# Pictures


def _png(width: int, height: int, rows: bytes) -> bytes:
    def chunk(kind: bytes, content: bytes) -> bytes:
        return (
            struct.pack(">I", len(content)) + kind + content + struct.pack(">I", zlib.crc32(kind + content))
        )

    head = struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0)
    return (
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", head)
        + chunk(b"IDAT", zlib.compress(rows))
        + chunk(b"IEND", b"")
    )


def _odd_pictures(folder: Path) -> Iterator[Case]:
    sizes = ((1, 65_000), (65_000, 1), (30_000, 30_000), (2**31 - 1, 2**31 - 1), (0, 0), (100_000, 100_000))
    for width, height in sizes:
        rows = bytes(min((width + 1) * height, 1_000_000))
        yield _text(folder, f"size_{width}_{height}.png", _png(width, height, rows))
        head = f"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y {height} +X {width}\n".encode()
        yield _text(folder, f"size_{width}_{height}.hdr", head + bytes(2000))
        tags = struct.pack(
            "<HHHII HHII HHII HHII HHII HHII I", 6, 256, 4, 1, width, 257, 4, 1, height, 258, 3, 1, 8,
            259, 3, 1, 1, 262, 3, 1, 1, 273, 4, 1, 8, 0,
        )  # fmt: skip
        yield _text(folder, f"size_{width}_{height}.tif", b"II*\0\x08\0\0\0" + tags)
    bomb = zlib.compress(bytes(300_000_000), 9)
    yield _text(folder, "text.png", _png(2, 2, bytes(6))[:33] + _text_chunk(bomb) + _png(2, 2, bytes(6))[33:])
    yield _text(
        folder,
        "odd_text.png",
        _png(2, 2, bytes(6))[:33] + _text_chunk(b"\xff\xfe", b"tEXt") + _png(2, 2, bytes(6))[33:],
    )


def _text_chunk(content: bytes, kind: bytes = b"zTXt") -> bytes:
    body = b"Comment\0" + (b"\0" if kind == b"zTXt" else b"") + content
    return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))


# Scenes


def _odd_usd(folder: Path) -> Iterator[Case]:
    def usd(name: str, body: str, head: str = "") -> Case:
        return _text(folder, f"u_{name}.usda", f"#usda 1.0\n(\n{head}\n)\n{body}\n")

    cube = 'def Cube "c" {\n}\n'
    levels = 'def "L0" {\n' + cube + "}\n" + "".join(
        f'def "L{i}" {{\n' + "".join(f'def "r{k}" (references = </L{i - 1}>) {{\n}}\n' for k in range(10)) + "}\n"
        for i in range(1, 14)
    )  # fmt: skip
    yield usd("billions", levels)
    yield usd(
        "instances",
        levels.replace(">) {", ">\ninstanceable = true) {").replace("(references", "(\nreferences"),
    )
    for depth in (301, 5000, 200_000):
        yield usd(f"deep_{depth}", "".join(f'def "d{i}" {{\n' for i in range(depth)) + "}\n" * depth)
    yield usd("circle", 'def "a" (references = </b>) {\n}\ndef "b" (references = </a>) {\n}\n')
    yield usd("self", 'def "a" (references = @./u_self.usda@</a>) {\n}\n')
    yield usd("outside", 'def "a" (references = @/etc/passwd@) {\n}\ndef "b" (payload = @/dev/zero@) {\n}\n')
    yield usd("net", 'def "a" (references = @http://127.0.0.1:1/x.usd@) {\n}\n')
    for number in ("nan", "inf", "-1", "0", "1e308", "1e-308", "-inf"):
        yield usd(f"unit_{number}", cube, f"metersPerUnit = {number}")
        yield usd(
            f"rate_{number}",
            cube,
            f"timeCodesPerSecond = {number}\nstartTimeCode = {number}\nendTimeCode = 9",
        )
        yield usd(f"range_{number}", cube, f"startTimeCode = 0\nendTimeCode = {number}")
        yield usd(f"size_{number}", f'def Cube "c" {{\ndouble size = {number}\n}}\n')
        yield usd(f"place_{number}", f'def Cube "c" {{\ndouble3 xformOp:translate = ({number}, 0, 0)\n'
                  'uniform token[] xformOpOrder = ["xformOp:translate"]\n}\n')  # fmt: skip
        yield usd(f"scale_{number}", f'def Cube "c" {{\ndouble3 xformOp:scale = ({number}, {number}, {number})\n'
                  'uniform token[] xformOpOrder = ["xformOp:scale"]\n}\n')  # fmt: skip
        for field in ("focalLength", "horizontalAperture", "fStop", "focusDistance", "exposure"):
            yield usd(f"camera_{field}_{number}", f'def Camera "c" {{\nfloat {field} = {number}\n}}\n' + cube)
        for field in ("inputs:intensity", "inputs:exposure", "inputs:colorTemperature", "inputs:radius"):
            yield usd(f"lamp_{field[7:]}_{number}", f'def SphereLight "l" {{\nfloat {field} = {number}\n'
                      'bool inputs:enableColorTemperature = 1\n}\n' + cube)  # fmt: skip
            yield usd(
                f"sun_{field[7:]}_{number}", f'def DistantLight "l" {{\nfloat {field} = {number}\n}}\n' + cube
            )
        mesh = 'def Mesh "m" {{\npoint3f[] points = [{p}]\nint[] faceVertexCounts = [3]\nint[] faceVertexIndices = [0, 1, 2]\n{more}\n}}\n'
        good = "(0, 0, 0), (1, 0, 0), (0, 1, 0)"
        yield usd(f"points_{number}", mesh.format(p=f"({number}, 0, 0), (1, 0, 0), (0, 1, 0)", more=""))
        yield usd(
            f"normals_{number}",
            mesh.format(p=good, more=f"normal3f[] normals = [({number}, 0, 0), (0, 0, 1), (0, 0, 1)]"),
        )
        yield usd(
            f"uv_{number}",
            mesh.format(
                p=good,
                more=f'texCoord2f[] primvars:st = [({number}, 0), (1, {number}), (0, 1)] (interpolation = "vertex")',
            ),
        )
        yield usd(
            f"colour_{number}",
            mesh.format(p=good, more=f"color3f[] primvars:displayColor = [({number}, 0, 0)]"),
        )
    for counts, indices in (
        ("[1000000000]", "[0, 1, 2]"),
        ("[-3]", "[0, 1, 2]"),
        ("[3]", "[0, 1, 99]"),
        ("[3]", "[0, -1, 2]"),
        ("[2, 1]", "[0, 1, 2]"),
        ("[]", "[]"),
    ):
        yield usd(f"faces_{abs(hash(counts + indices))}", 'def Mesh "m" {\npoint3f[] points = [(0,0,0),(1,0,0),(0,1,0)]\n'
                  f"int[] faceVertexCounts = {counts}\nint[] faceVertexIndices = {indices}\n}}\n")  # fmt: skip
    yield usd("name", f'def Cube "{"n" * 300}" {{\n}}\n')
    for kind in ("Sphere", "Cone", "Cylinder", "Capsule"):
        yield usd(f"shape_{kind}", f'def {kind} "s" {{\ndouble radius = nan\ndouble height = inf\n}}\n')


def _odd_gltf(folder: Path) -> Iterator[Case]:
    def gltf(name: str, **parts: Any) -> Case:
        content = {"asset": {"version": "2.0"}, **parts}
        return _text(folder, f"g_{name}.gltf", json.dumps(content))

    triangle = struct.pack("<9f", 0, 0, 0, 1, 0, 0, 0, 1, 0)
    data = "data:application/octet-stream;base64," + __import__("base64").b64encode(triangle).decode()
    base = {
        "buffers": [{"byteLength": 36, "uri": data}], "bufferViews": [{"buffer": 0, "byteLength": 36}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
        "accessors": [{"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"}],
    }  # fmt: skip
    chain = [{"children": [i + 1]} for i in range(5000)] + [{"mesh": 0}]
    yield gltf("deep", nodes=chain, scenes=[{"nodes": [0]}], **base)
    yield gltf(
        "circle", nodes=[{"children": [1]}, {"children": [0], "mesh": 0}], scenes=[{"nodes": [0]}], **base
    )
    yield gltf("twice", nodes=[{"children": [1, 1, 1], "mesh": 0}, {}], scenes=[{"nodes": [0, 0]}], **base)
    for count in (10**5, 10**9, 2**31, 10**18):
        yield gltf(
            f"count_{count}",
            nodes=[{"mesh": 0}],
            **{**base, "accessors": [{**base["accessors"][0], "count": count}]},
        )
        empty = {"componentType": 5126, "count": count, "type": "VEC3"}
        yield gltf(f"empty_{count}", nodes=[{"mesh": 0}], **{**base, "accessors": [empty]})
        many = {"EXT_mesh_gpu_instancing": {"attributes": {"TRANSLATION": 1}}}
        yield gltf(f"copies_{count}", nodes=[{"mesh": 0, "extensions": many}], extensionsUsed=list(many),
                   **{**base, "accessors": [base["accessors"][0], empty]})  # fmt: skip
    for uri in (
        "../../../../etc/passwd",
        "/dev/zero",
        "http://127.0.0.1:1/x.bin",
        "data:,",
        "%00",
        "x" * 5000,
        "file:///etc/passwd",
    ):
        yield gltf(
            f"uri_{abs(hash(uri))}",
            nodes=[{"mesh": 0}],
            **{**base, "buffers": [{"byteLength": 36, "uri": uri}]},
        )
    for number in (1e308, -1.0, 0.0, 1e-320):
        yield gltf(f"light_{number}", nodes=[{"mesh": 0}, {"extensions": {"KHR_lights_punctual": {"light": 0}}}],
                   extensions={"KHR_lights_punctual": {"lights": [{"type": "point", "intensity": number, "color": [number] * 3}]}}, **base)  # fmt: skip
        yield gltf(f"yfov_{number}", nodes=[{"mesh": 0}, {"camera": 0}],
                   cameras=[{"type": "perspective", "perspective": {"yfov": number, "znear": number}}], **base)  # fmt: skip
        yield gltf(f"matrix_{number}", nodes=[{"mesh": 0, "matrix": [number] * 16}], **base)
    bad = b"\x89PNG\r\n\x1a\n" + bytes(40)
    image = "data:image/png;base64," + __import__("base64").b64encode(bad).decode()
    material = {"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}
    yield gltf("picture", nodes=[{"mesh": 0}], materials=[material], textures=[{"source": 0}], images=[{"uri": image}],
               **{**base, "meshes": [{"primitives": [{"attributes": {"POSITION": 0, "TEXCOORD_0": 0}, "material": 0}]}]})  # fmt: skip


def _odd_meshes(folder: Path) -> Iterator[Case]:
    for number in ("nan", "inf", "-inf", "1e400", "1e38", "x"):
        yield _text(folder, f"point_{number}.obj", f"v {number} 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
        yield _text(
            folder, f"uv_{number}.obj", f"v 0 0 0\nv 1 0 0\nv 0 1 0\nvt {number} {number}\nf 1/1 2/1 3/1\n"
        )
    for faces in (
        "f 1 2 9999999999",
        "f -9 -8 -7",
        "f 0 0 0",
        "f 1 1 1",
        "f",
        "f 1/9/9 2/9/9 3/9/9",
        "f 1 2 " + "3 " * 100_000,
    ):
        yield _text(folder, f"faces_{abs(hash(faces))}.obj", f"v 0 0 0\nv 1 0 0\nv 0 1 0\n{faces}\n")
    yield _text(
        folder, "library.obj", "mtllib ../../../etc/passwd\nusemtl a\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"
    )
    yield _text(folder, "long_name.obj", f"o {'n' * 100_000}\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
    for count in (10**6, 10**9, 10**15):
        head = f"ply\nformat ascii 1.0\nelement vertex {count}\nproperty float x\nproperty float y\nproperty float z\nend_header\n"
        yield _text(folder, f"count_{count}.ply", head + "0 0 0\n")
        binary = head.replace("ascii", "binary_little_endian").encode() + bytes(12)
        yield _text(folder, f"binary_{count}.ply", binary)
    for count in (2**31, 2**32 - 1, 10**6):
        yield _text(folder, f"count_{count}.stl", bytes(80) + struct.pack("<I", count) + bytes(50))


# Lists


def _clip(first: float, count: float, rate: float, name: str = "c") -> dict[str, Any]:
    def time(value: float) -> dict[str, Any]:
        return {"OTIO_SCHEMA": "RationalTime.1", "rate": rate, "value": value}

    return {
        "OTIO_SCHEMA": "Clip.1", "name": name, "effects": [], "markers": [], "metadata": {}, "enabled": True,
        "media_reference": None,
        "source_range": {"OTIO_SCHEMA": "TimeRange.1", "start_time": time(first), "duration": time(count)},
    }  # fmt: skip


def _odd_lists(folder: Path) -> Iterator[Case]:
    def listed(name: str, clips: list[dict[str, Any]]) -> Case:
        track = {
            "OTIO_SCHEMA": "Track.1",
            "name": "v",
            "kind": "Video",
            "children": clips,
            "effects": [],
            "markers": [],
            "metadata": {},
        }
        stack = {
            "OTIO_SCHEMA": "Stack.1",
            "name": "s",
            "children": [track],
            "effects": [],
            "markers": [],
            "metadata": {},
        }
        whole = {"OTIO_SCHEMA": "Timeline.1", "name": "t", "tracks": stack, "metadata": {}}
        return _text(folder, f"o_{name}.otio", json.dumps(whole))

    numbers = (float("nan"), float("inf"), -1.0, 0.0, 1e15, 1e5, 1e300)
    for (i, one), (j, other) in itertools.product(enumerate(numbers), repeat=2):
        yield listed(f"times_{i}_{j}", [_clip(one, other, 24.0)])
    for number in numbers:
        yield listed(f"rate_{number}", [_clip(0, 10, number)])
    for count in (1900, 9000, 60_000):
        yield listed(f"clips_{count}", [_clip(0, 10, 24.0) for _ in range(count)])
    yield listed("name", [_clip(0, 10, 24.0, "n" * 100_000)])
    yield listed("odd_name", [_clip(0, 10, 24.0, "a\0b/../c\n")])
    for timecode in ("99:99:99:99", "-1:00:00:00", "00:00:00:00", "x", "1" * 500):
        yield _text(folder, f"code_{abs(hash(timecode))}.edl",
                    f"TITLE: T\n001  AX V C {timecode} {timecode} {timecode} {timecode}\n")  # fmt: skip
    package = folder / "bomb.otioz"
    with zipfile.ZipFile(package, "w", zipfile.ZIP_DEFLATED) as made:
        made.writestr("content.otio", b"[" * 400_000_000)
        made.writestr("../../escaped.txt", b"x")
    yield package.name, package
    for name, line in (
        ("cell", '"' + "x" * 5_000_000 + '",1,2'), ("huge", "a,99999999999999999999,1"), ("nought", "a\0b,1,2"),
        ("quote", '"a,1,2'), ("cells", "," * 1_000_000),
    ):  # fmt: skip
        yield _text(folder, f"cues_{name}.csv", f"name,first,last\n{line}\n")
        yield _text(folder, f"readings_{name}.csv", f"name,distance,unit\n{line}\n")
        yield _text(folder, f"kit_{name}.csv", f"name,focal_mm,widest\n{line}\n")
        yield _text(folder, f"marks_{name}.txt", f"{line}\n")
    yield _text(folder, "readings_many.csv", "name,distance,unit\n" + "Door,3.2,m\n" * 200_000)
    yield _text(folder, "marks_many.txt", "".join(f"{i}\t3 m\n" for i in range(100_000)))
