"""A glTF file opened: its JSON, its buffers, and the numbers of its accessors."""

import base64
import binascii
import struct
from collections.abc import Sequence
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import unquote

import numpy as np
from numpy.typing import NDArray
from pydantic import ValidationError

from kobrel.errors import SceneError
from kobrel.files import bytes_of, json_fault
from kobrel.stage.read.files import Beside, text_of
from kobrel.stage.read.gltf.compression import unpacked_view
from kobrel.stage.read.gltf.document import Accessor, Document, Versioned

T = TypeVar("T")

_TYPES = {5120: np.int8, 5121: np.uint8, 5122: np.int16, 5123: np.uint16, 5125: np.uint32, 5126: np.float32}
_PARTS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
_JSON, _BIN = 0x4E4F534A, 0x004E4942
_AGAIN = "Export the scene again."
MOST_BYTES = 16 << 30
"""The largest file, and buffer beside it, that is read."""
MOST_EMPTY_BYTES = 256 * 2**20
"""What an accessor may ask for that the file does not hold: it is all nought."""


class Container:
    """A glTF file with what it refers to.

    Raises
    ------
    SceneError
        It is not glTF 2.0, or damaged.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self.beside = Beside(path.parent)
        self._buffers: dict[int, bytes | memoryview] = {}
        self._views: dict[int, bytes | memoryview] = {}
        content = bytes_of(path, SceneError, MOST_BYTES)
        text = self._of_binary(content) if content[:4] == b"glTF" else text_of(content).encode()
        fault = json_fault(text)
        if fault:
            raise SceneError(fault, file=path, remedy=_AGAIN)
        self._require_version(text)
        try:
            self.document = Document.model_validate_json(text)
        except ValidationError as error:
            raise self._fault(error) from None

    def _require_version(self, text: bytes) -> None:
        """See that the file says version 2, before anything else in it counts."""
        try:
            said = Versioned.model_validate_json(text).asset
        except ValidationError as error:
            raise self._fault(error) from None
        version = said.version if said is not None else None
        if version is None or str(version).split(".")[0] != "2":
            which = "does not say its version" if version is None else f"is glTF {version}"
            raise SceneError(
                f"it {which}; glTF 2.0 is read.", file=self.path, remedy="Export it as glTF 2.0."
            )

    def _of_binary(self, content: bytes) -> bytes:
        """The JSON of a GLB; its binary chunk becomes the first buffer."""
        if len(content) < 20:  # header and the first chunk's own
            raise SceneError("the file breaks off.", file=self.path, remedy=_AGAIN)
        version = struct.unpack_from("<I", content, 4)[0]
        if version != 2:
            raise SceneError(
                f"it is glTF {version}; glTF 2.0 is read.", file=self.path, remedy="Export it as glTF 2.0."
            )
        text, at = b"", 12
        while at + 8 <= len(content):
            length, kind = struct.unpack_from("<II", content, at)
            if at + 8 + length > len(content):
                raise SceneError(
                    f"the file breaks off at byte {len(content)}.", file=self.path, remedy=_AGAIN
                )
            chunk = memoryview(content)[at + 8 : at + 8 + length]
            if kind == _JSON and not text:
                text = bytes(chunk)
            elif kind == _BIN and 0 not in self._buffers:
                self._buffers[0] = chunk
            at += 8 + length
        return text

    def _fault(self, error: ValidationError) -> SceneError:
        first = error.errors()[0]
        place = ""
        for part in first["loc"]:
            place += f"[{part}]" if isinstance(part, int) else f".{part}" if place else str(part)
        if first["type"] == "json_invalid":
            return SceneError("its JSON is damaged.", file=self.path, remedy=_AGAIN)
        return SceneError("what stands there makes no sense.", file=self.path, place=place, remedy=_AGAIN)

    def of(self, parts: Sequence[T], index: int, what: str) -> T:
        """One of the file's parts.

        Raises
        ------
        SceneError
            There is no such part.
        """
        if index >= len(parts):
            raise SceneError(
                f"{what} {index} is asked for, there are {len(parts)}.", file=self.path, remedy=_AGAIN
            )
        return parts[index]

    # Bytes

    def _buffer(self, index: int) -> bytes | memoryview:
        if index not in self._buffers:
            buffer = self.of(self.document.buffers, index, "buffer")
            if buffer.uri is None:
                raise SceneError(f"buffer {index} is missing.", file=self.path, remedy=_AGAIN)
            self._buffers[index] = self.named(buffer.uri, f"buffer {index}")
        return self._buffers[index]

    def named(self, uri: str, what: str) -> bytes:
        """The bytes behind a URI: in itself, or of a file beside the scene.

        Raises
        ------
        SceneError
            They are not there.
        """
        if uri.startswith("data:"):
            try:
                return base64.b64decode(uri.partition(",")[2], validate=False)
            except (binascii.Error, ValueError):
                raise SceneError(f"{what} is damaged.", file=self.path, remedy=_AGAIN) from None
        path = self.beside.find(unquote(uri))
        if path is None:
            raise SceneError(
                f"{what} is in {unquote(uri)}, which is not beside it.", file=self.path,
                remedy="Put that file into the scene's folder.",
            )  # fmt: skip
        return bytes_of(path, SceneError, MOST_BYTES)

    def view(self, index: int) -> bytes | memoryview:
        """The bytes of a buffer view, unpacked where it is compressed.

        Raises
        ------
        SceneError
            It reaches beyond its buffer.
        """
        if index not in self._views:
            view = self.of(self.document.bufferViews, index, "buffer view")
            packed = view.packed
            if packed is not None:
                content = self._cut(packed.buffer, packed.byteOffset, packed.byteLength, index)
                self._views[index] = unpacked_view(self.path, bytes(content), packed, index)
            else:
                self._views[index] = self._cut(view.buffer, view.byteOffset, view.byteLength, index)
        return self._views[index]

    def _cut(self, buffer: int, offset: int, length: int, view: int) -> memoryview:
        """Some bytes of a buffer, that a view asks for.

        Raises
        ------
        SceneError
            There are not so many.
        """
        content = self._buffer(buffer)
        if offset + length > len(content):
            raise SceneError(
                f"buffer view {view} ends at byte {offset + length} of {len(content)}.",
                file=self.path, remedy=_AGAIN,
            )  # fmt: skip
        return memoryview(content)[offset : offset + length]

    # Numbers

    def numbers(self, index: int) -> NDArray[Any]:
        """An accessor's numbers as the file has them, (count,) or (count, parts); normalised integers as
        floats between -1 or 0 and 1.

        Raises
        ------
        SceneError
            It reaches beyond the file, or is not finite.
        """
        accessor = self.of(self.document.accessors, index, "accessor")
        values = self._dense(accessor, index)
        if accessor.sparse is not None:
            values = self._with_sparse(values, accessor, index)
        if accessor.normalized and values.dtype != np.float32:
            values = np.maximum(values.astype(np.float32) / np.iinfo(values.dtype).max, -1.0)
        # A sum is finite if every part is; only a doubtful one is looked at number by number.
        with np.errstate(over="ignore", invalid="ignore"):
            doubtful = values.dtype == np.float32 and not np.isfinite(values.sum())
        if doubtful and not np.isfinite(values).all():
            raise SceneError(
                f"accessor {index} has values that are not numbers.", file=self.path, remedy=_AGAIN
            )
        return values[:, 0] if values.shape[1] == 1 else values

    def _dense(self, accessor: Accessor, index: int) -> NDArray[Any]:
        kind, parts = np.dtype(_TYPES[accessor.componentType]), _PARTS[accessor.type]
        if accessor.bufferView is None:
            if accessor.count * parts * kind.itemsize > MOST_EMPTY_BYTES:
                raise SceneError(
                    f"accessor {index} counts {accessor.count}, more than the file holds.",
                    file=self.path, remedy=_AGAIN,
                )  # fmt: skip
            return np.zeros((accessor.count, parts), kind)
        view = self.of(self.document.bufferViews, accessor.bufferView, "buffer view")
        stride = view.byteStride if view.packed is None else view.packed.byteStride
        return self._laid_out(
            accessor.bufferView, accessor.byteOffset, accessor.count, parts, kind, stride, index
        )

    def _laid_out(
        self, view: int, offset: int, count: int, parts: int, kind: np.dtype, stride: int | None, index: int
    ) -> NDArray[Any]:
        content = self.view(view)
        step = stride or parts * kind.itemsize
        if count and offset + step * (count - 1) + parts * kind.itemsize > len(content):
            raise SceneError(
                f"accessor {index} counts {count}, more than buffer view {view} holds.",
                file=self.path, remedy=_AGAIN,
            )  # fmt: skip
        if not count:
            return np.zeros((0, parts), kind)
        there = np.ndarray((count, parts), kind, content, offset, (step, kind.itemsize))
        return np.ascontiguousarray(there)

    def _with_sparse(self, values: NDArray[Any], accessor: Accessor, index: int) -> NDArray[Any]:
        sparse = accessor.sparse
        assert sparse is not None
        which, put = sparse.indices, sparse.values
        rows = self._laid_out(
            which.bufferView, which.byteOffset, sparse.count, 1, np.dtype(_TYPES[which.componentType]), None,
            index,
        )[:, 0]  # fmt: skip
        fresh = self._laid_out(
            put.bufferView, put.byteOffset, sparse.count, values.shape[1], values.dtype, None, index
        )
        if len(rows) and int(rows.max()) >= len(values):
            raise SceneError(
                f"accessor {index} changes value {int(rows.max())} of {len(values)}.",
                file=self.path, remedy=_AGAIN,
            )  # fmt: skip
        result = values.copy()
        result[rows] = fresh
        return result
