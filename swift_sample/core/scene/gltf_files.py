"""The data of a glTF file: its containers, buffers, accessors and pictures, none of it trusted.

Counts, offsets and sizes are bounded before anything is allocated, and paths must stay inside the
scene's folder.
"""

import base64
import binascii
import hashlib
import io
import json
import struct
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import numpy as np
from PIL import Image

from swift_sample.core import budget
from swift_sample.core.errors import SceneError
from swift_sample.core.scene.gltf_document import Accessor, Document
from swift_sample.core.scene.model import PictureSource

_COMPONENTS: dict[int, Any] = {
    5120: np.int8,
    5121: np.uint8,
    5122: np.int16,
    5123: np.uint16,
    5125: np.uint32,
    5126: np.float32,
}
_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}


class GltfFiles:
    """Reads what a document refers to. Every method raises SceneError in one sentence."""

    def __init__(self, path: Path) -> None:
        self.path = path
        size = path.stat().st_size
        self.check(size, budget.FILE_BYTES, "bytes")
        self.check(_document_bytes(path, size), budget.DOCUMENT_BYTES, "bytes of JSON")
        data = path.read_bytes()
        text, self._chunk = split_glb(data) if data[:4] == b"glTF" else (data, b"")
        self.check(
            sum(map(text.count, (b",", b"{", b"["))), budget.DOCUMENT_VALUES, "values in its JSON"
        )
        self.document = Document.model_validate(json.loads(text))
        self._buffers: dict[int, bytes] = {}
        self._pixels = self._implied_bytes = 0

    def check(self, value: int, most: int, what: str) -> None:
        """Raise SceneError where the scene has more of something than is read (see core.budget)."""
        words = budget.over(value, most, what)
        if words:
            raise SceneError(f"{self.path}: {words}; use a lighter scene, or split it")

    def values(self, index: int, *widths: int) -> np.ndarray:
        """An accessor's elements, [count, width], normalised integers as shares of 1."""
        accessor = self.document.accessors[_place(index)]
        width = _WIDTHS.get(accessor.type, 0)

        if width not in widths or accessor.component_type not in _COMPONENTS:
            raise SceneError(
                f"{self.path}: accessor {index} has type {accessor.type} "
                f"{accessor.component_type}; export it again"
            )

        dtype = np.dtype(_COMPONENTS[accessor.component_type]).newbyteorder("<")
        size = accessor.count * width * dtype.itemsize

        if accessor.buffer_view is None:
            self._implied_bytes += size
            self.check(self._implied_bytes, budget.IMPLIED_BYTES, "bytes in accessors without data")
            values = np.zeros((accessor.count, width), dtype)
        else:
            self.check(size, budget.ACCESSOR_BYTES, f"bytes in accessor {index}")
            values = self._elements(
                index, accessor.buffer_view, accessor.byte_offset, accessor.count, width, dtype
            )

        if accessor.sparse is not None:
            values = self._with_sparse(index, accessor, values, width, dtype)
        if accessor.normalized and dtype.kind in "iu":
            return np.maximum(values / np.float32(np.iinfo(dtype).max), np.float32(-1))

        return values

    def _elements(
        self, index: int, view_index: int, offset: int, count: int, width: int, dtype: np.dtype
    ) -> np.ndarray:
        view = self.document.buffer_views[view_index]
        data = self._buffer(view.buffer)
        start = view.byte_offset + offset
        item = dtype.itemsize * width
        stride = view.byte_stride or item
        needed = (count - 1) * stride + item

        if start + needed > len(data) or offset + needed > view.byte_length:
            raise SceneError(
                f"{self.path}: accessor {index} reaches past its data; the file is cut off or "
                "damaged"
            )

        raw = np.lib.stride_tricks.as_strided(
            np.frombuffer(data, np.uint8, needed, start), (count, item), (stride, 1)
        )
        return np.ascontiguousarray(raw).view(dtype)

    def _with_sparse(
        self, index: int, accessor: Accessor, values: np.ndarray, width: int, dtype: np.dtype
    ) -> np.ndarray:
        sparse = accessor.sparse
        assert sparse is not None
        if sparse.indices.component_type not in (5121, 5123, 5125) or sparse.count > accessor.count:
            raise SceneError(
                f"{self.path}: accessor {index} has unusable sparse data; export it again"
            )

        kind = np.dtype(_COMPONENTS[sparse.indices.component_type]).newbyteorder("<")
        places = self._elements(
            index, sparse.indices.buffer_view, sparse.indices.byte_offset, sparse.count, 1, kind
        )[:, 0]
        if places.max() >= accessor.count:
            raise SceneError(
                f"{self.path}: accessor {index} replaces missing elements; export it again"
            )

        values = values.copy()
        values[places] = self._elements(
            index, sparse.values.buffer_view, sparse.values.byte_offset, sparse.count, width, dtype
        )
        return values

    def picture(self, index: int) -> PictureSource:
        """A PNG or JPEG, to be decoded when it is needed."""
        part = self.document.images[index]
        name = part.name or part.uri or f"image {index}"
        name = name if len(name) < 80 else f"image {index}"

        if part.buffer_view is not None:
            view = self.document.buffer_views[part.buffer_view]
            data = self._buffer(view.buffer)[view.byte_offset : view.byte_offset + view.byte_length]
        elif part.uri is not None:
            data = self.resolve(part.uri)
        else:
            raise SceneError(f"{self.path}: {name} has no data; export it again")

        label = f"{self.path}: {name}"
        with _opened(data, label) as picture:
            size = picture.size

        self._pixels += size[0] * size[1]
        words = budget.over(size[0] * size[1], budget.TEXTURE_PIXELS, "pixels")
        if words:
            raise SceneError(f"{label} {words}; use smaller textures")

        self.check(self._pixels, budget.ALL_TEXTURE_PIXELS, "pixels in all its textures")
        return PictureSource(hashlib.sha256(data).hexdigest(), size, lambda: _decoded(data, label))

    def _buffer(self, index: int) -> bytes:
        if index not in self._buffers:
            part = self.document.buffers[index]
            data = self._chunk if part.uri is None else self.resolve(part.uri)

            if len(data) < part.byte_length:
                raise SceneError(
                    f"{self.path}: buffer {index} has {len(data)} of {part.byte_length} bytes; "
                    "the file is cut off"
                )

            self._buffers[index] = data

        return self._buffers[index]

    def file(self, uri: str) -> Path:
        """The file of a relative path, which must stay inside the scene's folder, symbolic links
        resolved."""
        folder = self.path.resolve().parent
        try:
            target = (folder / unquote(uri)).resolve()
            inside = target.is_relative_to(folder)
            is_there = target.is_file()
        except (ValueError, OSError) as error:
            raise SceneError(
                f"{self.path}: {uri[:80]!r} is not a usable path; keep the scene's files together"
            ) from error

        if not inside:
            raise SceneError(
                f"{self.path}: {uri[:80]} lies outside the scene's folder; keep its files together"
            )
        if not is_there:
            raise SceneError(f"{self.path}: {uri[:80]} is missing; keep the scene's files together")

        words = budget.over(target.stat().st_size, budget.FILE_BYTES, "bytes")
        if words:
            raise SceneError(f"{self.path}: {uri[:80]} {words}; split the scene")

        return target

    def resolve(self, uri: str) -> bytes:
        """The bytes of a data URI or of a file beside the scene."""
        if uri.startswith("data:"):
            try:
                return base64.b64decode(uri.partition(",")[2], validate=True)
            except (binascii.Error, ValueError) as error:
                raise SceneError(f"{self.path}: a data URI is damaged; export it again") from error

        return self.file(uri).read_bytes()


_TOO_LARGE = "has more pixels than fit; use smaller textures"


@contextmanager
def _opened(data: bytes, label: str) -> Iterator[Image.Image]:
    """A picture whose header was read. Raises SceneError, also for what goes wrong while it is
    decoded."""
    try:
        with (
            warnings.catch_warnings(action="error", category=Image.DecompressionBombWarning),
            Image.open(io.BytesIO(data), formats=("PNG", "JPEG")) as picture,
        ):
            yield picture
    except (Image.DecompressionBombError, Image.DecompressionBombWarning) as error:
        raise SceneError(f"{label} {_TOO_LARGE}") from error
    except (OSError, ValueError, SyntaxError) as error:
        raise SceneError(f"{label} is not a readable PNG or JPEG; export it again") from error


def _decoded(data: bytes, label: str) -> np.ndarray:
    """uint8[h, w, 4]"""
    with _opened(data, label) as picture:
        if picture.mode.startswith("I"):
            grey = (np.asarray(picture).astype(np.uint32) >> 8).clip(0, 255).astype(np.uint8)
            return np.dstack([grey, grey, grey, np.full_like(grey, 255)])
        return np.asarray(picture.convert("RGBA"))


def _document_bytes(path: Path, size: int) -> int:
    """How long the JSON is, by the header of a GLB; of other files all of it."""
    with open(path, "rb") as file:
        head = file.read(16)
    return int.from_bytes(head[12:16], "little") if head[:4] == b"glTF" else size


def split_glb(data: bytes) -> tuple[bytes, bytes]:
    """The JSON and the binary chunk of a GLB (glTF 2.0, section 4). Raises ValueError."""
    _, version, total = struct.unpack_from("<4sII", data)
    if version != 2 or total > len(data):
        raise ValueError("the file is cut off or not GLB version 2")

    place = 12
    chunks: dict[bytes, bytes] = {}

    while place + 8 <= total:
        size, kind = struct.unpack_from("<I4s", data, place)
        if place + 8 + size > total:
            raise ValueError("a chunk reaches past the end")
        chunks.setdefault(kind, data[place + 8 : place + 8 + size])
        place += 8 + size

    return chunks[b"JSON"], chunks.get(b"BIN\0", b"")


def _place(index: int) -> int:
    if index < 0:
        raise IndexError("an index is negative")
    return index
