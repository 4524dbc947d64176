"""Small glTF files made by hand, part by part."""

import json
import struct
from pathlib import Path

import numpy as np

_TYPES = {np.int8: 5120, np.uint8: 5121, np.int16: 5122, np.uint16: 5123, np.uint32: 5125, np.float32: 5126}
_KINDS = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4", 16: "MAT4"}
SQUARE = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], np.float32)
FACES = np.array([0, 1, 2, 0, 2, 3], np.uint16)


class GltfFile:
    """Gathers JSON and bytes; `json` may be changed before it is written."""

    def __init__(self, **parts):
        self.json = {
            "asset": {"version": "2.0"}, "accessors": [], "bufferViews": [], "meshes": [], "nodes": [], **parts
        }  # fmt: skip
        self.content = bytearray()

    def view(self, content, **more):
        self.content += b"\0" * (-len(self.content) % 4)
        entry = {"buffer": 0, "byteOffset": len(self.content), "byteLength": len(content), **more}
        self.content += content
        self.json["bufferViews"].append(entry)
        return len(self.json["bufferViews"]) - 1

    def accessor(self, values, **more):
        values = np.ascontiguousarray(values)
        parts = 1 if values.ndim == 1 else int(np.prod(values.shape[1:]))
        entry = {
            "bufferView": self.view(values.tobytes()), "componentType": _TYPES[values.dtype.type],
            "count": len(values), "type": _KINDS[parts], **more,
        }  # fmt: skip
        self.json["accessors"].append(entry)
        return len(self.json["accessors"]) - 1

    def mesh(self, points=SQUARE, faces=FACES, targets=(), primitive=(), **attributes):
        part = {
            "attributes": {"POSITION": self.accessor(np.asarray(points, np.float32)), **attributes},
            "indices": self.accessor(faces), **dict(primitive),
        }  # fmt: skip
        if targets:
            part["targets"] = [{"POSITION": self.accessor(np.asarray(t, np.float32))} for t in targets]
        self.json["meshes"].append({"primitives": [part]})
        return len(self.json["meshes"]) - 1

    def node(self, **parts):
        self.json["nodes"].append(parts)
        return len(self.json["nodes"]) - 1

    def animate(self, node, path, times, values, way="LINEAR", name="move"):
        entry = {
            "name": name,
            "channels": [{"sampler": 0, "target": {"node": node, "path": path}}],
            "samplers": [{
                "input": self.accessor(np.asarray(times, np.float32)),
                "output": self.accessor(np.asarray(values, np.float32)), "interpolation": way,
            }],
        }  # fmt: skip
        self.json.setdefault("animations", []).append(entry)

    def write(self, path: Path) -> Path:
        """As GLB, or as JSON with a .bin beside it."""
        body = bytes(self.content) + b"\0" * (-len(self.content) % 4)
        buffer = {"byteLength": len(body)}
        if path.suffix == ".gltf":
            buffer["uri"] = path.with_suffix(".bin").name
            path.with_suffix(".bin").write_bytes(body)
        text = json.dumps({**self.json, "buffers": [buffer]}).encode()
        if path.suffix == ".gltf":
            path.write_bytes(text)
            return path
        text += b" " * (-len(text) % 4)
        path.write_bytes(
            struct.pack("<4sII", b"glTF", 2, 28 + len(text) + len(body))
            + struct.pack("<I4s", len(text), b"JSON") + text
            + struct.pack("<I4s", len(body), b"BIN\0") + body
        )  # fmt: skip
        return path


def joint_matrix(frames, angle_of):
    """(F, 4, 4) turns about Z."""
    a = angle_of(np.asarray(frames, float))
    result = np.tile(np.eye(4), (len(a), 1, 1))
    result[:, 0, 0] = result[:, 1, 1] = np.cos(a)
    result[:, 1, 0], result[:, 0, 1] = np.sin(a), -np.sin(a)
    return result
