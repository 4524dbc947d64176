"""Compressed parts of glTF: Draco meshes and meshopt buffer views."""

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kobrel.errors import SceneError
from kobrel.stage.read.gltf.document import Packed

_MOST_BYTES = 4 * 2**30
_AGAIN = "Export the scene again, or without compression."


def draco_mesh(
    path: Path, content: bytes, wanted: dict[str, int]
) -> tuple[NDArray[np.uint32], dict[str, NDArray[Any]]]:
    """The faces (T, 3) and the attributes by name of a mesh compressed with Draco
    (KHR_draco_mesh_compression).

    Parameters
    ----------
    path : the file that it is in
    content : its bytes
    wanted : the number of each attribute by its name

    Raises
    ------
    SceneError
        It cannot be unpacked.
    """
    import DracoPy

    try:
        packed = DracoPy.decode(content)
        by_id = {entry["unique_id"]: np.asarray(entry["data"]) for entry in packed.attributes}
        faces = np.ascontiguousarray(packed.faces, np.uint32).reshape(-1, 3)
        return faces, {name: by_id[number] for name, number in wanted.items()}
    except Exception:  # its reader fails in its own ways
        raise SceneError(
            "a mesh compressed with Draco cannot be unpacked.", file=path, remedy=_AGAIN
        ) from None


def unpacked_view(path: Path, content: bytes, packed: Packed, index: int) -> bytes:
    """The bytes of a buffer view compressed with meshopt (EXT_meshopt_compression).

    Parameters
    ----------
    path : the file that it is in
    content : the packed bytes
    packed : how they are packed
    index : number of the view

    Raises
    ------
    SceneError
        It cannot be unpacked.
    """
    import meshoptimizer

    try:
        count, stride, mode, kind = packed.count, packed.byteStride, packed.mode, packed.filter
        if count * stride > _MOST_BYTES:
            raise ValueError(packed)
        if mode == "ATTRIBUTES":
            values = meshoptimizer.decode_vertex_buffer(count, stride, content, np.dtype((np.void, stride)))
            if kind != "NONE":
                values = _FILTERS[kind](meshoptimizer)(values, count, stride)
            return bytes(values.tobytes())
        decode = (
            meshoptimizer.decode_index_buffer if mode == "TRIANGLES" else meshoptimizer.decode_index_sequence
        )
        numbers = np.asarray(decode(count, 4, content), np.uint32)
        return bytes(numbers.astype(np.uint16 if stride == 2 else np.uint32).tobytes())
    except Exception:  # its reader fails in its own ways
        raise SceneError(
            f"buffer view {index}, compressed with meshopt, cannot be unpacked.",
            file=path, remedy=_AGAIN,
        ) from None  # fmt: skip


_FILTERS: dict[str, Any] = {
    "OCTAHEDRAL": lambda library: library.decode_filter_oct,
    "QUATERNION": lambda library: library.decode_filter_quat,
    "EXPONENTIAL": lambda library: library.decode_filter_exp,
}
