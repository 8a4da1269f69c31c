"""Small glTF documents for tests."""

import io
import json
import struct
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

COMPONENTS = {"i1": 5120, "u1": 5121, "i2": 5122, "u2": 5123, "u4": 5125, "f4": 5126}
TYPES = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4"}

SQUARE = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], np.float32)
ORDER = np.array([0, 1, 2, 0, 2, 3], np.uint16)


class GltfMaker:
    """A document with one buffer; a square, a node that shows it and a camera unless told
    otherwise."""

    def __init__(self, positions: np.ndarray = SQUARE, **changes: Any) -> None:
        self.data = b""
        self.accessors: list[dict] = []
        self.views: list[dict] = []
        self.changes = changes
        self.images: list[dict] = []
        self.attributes = {"POSITION": self.add(positions)}
        self.order: int | None = self.add(ORDER)

    def view(self, data: bytes, stride: int | None = None) -> int:
        self.data += b"\0" * (-len(self.data) % 4)
        self.views.append(
            {
                "buffer": 0,
                "byteOffset": len(self.data),
                "byteLength": len(data),
                **({"byteStride": stride} if stride else {}),
            }
        )
        self.data += data

        return len(self.views) - 1

    def add(
        self, values: np.ndarray, normalized: bool = False, stride: int | None = None, **more: Any
    ) -> int:
        """Another accessor; with a stride its elements stand that many bytes apart."""
        values = np.ascontiguousarray(values)
        width = values.shape[1] if values.ndim > 1 else 1
        rows = values.reshape(len(values), -1).view(np.uint8).reshape(len(values), -1)

        if stride:
            padded = np.full((len(values), stride), 0xEE, np.uint8)
            padded[:, : rows.shape[1]] = rows
            rows = padded

        self.accessors.append(
            {
                "bufferView": self.view(rows.tobytes(), stride),
                "count": len(values),
                "type": TYPES[width],
                "componentType": COMPONENTS[values.dtype.str[1:]],
                "normalized": normalized,
                **more,
            }
        )
        return len(self.accessors) - 1

    def picture(self, pixels: np.ndarray, kind: str = "PNG") -> int:
        """Another image inside the buffer, and a texture of the same number that shows it."""
        stream = io.BytesIO()
        Image.fromarray(pixels).save(stream, kind)
        self.images.append(
            {"bufferView": self.view(stream.getvalue()), "mimeType": f"image/{kind.lower()}"}
        )

        return len(self.images) - 1

    def document(self) -> dict:
        primitive = {"attributes": self.attributes, "material": 0}
        if self.order is not None:
            primitive["indices"] = self.order

        made = {
            "asset": {"version": "2.0"},
            "scene": 0,
            "scenes": [{"nodes": [0, 1]}],
            "nodes": [{"mesh": 0}, {"camera": 0, "translation": [0.5, 0.5, 3]}],
            "cameras": [
                {
                    "type": "orthographic",
                    "orthographic": {"xmag": 0.5, "ymag": 0.5, "znear": 0, "zfar": 9},
                }
            ],
            "meshes": [{"name": "square", "primitives": [primitive]}],
            "materials": [{"name": "first", "pbrMetallicRoughness": {"metallicFactor": 0}}],
            "accessors": self.accessors,
            "bufferViews": self.views,
            "buffers": [{"byteLength": len(self.data)}],
            "images": self.images,
            "textures": [{"source": k} for k in range(len(self.images))],
        }
        return {**made, **self.changes}

    def save(self, path: Path) -> Path:
        path.write_bytes(glb(self.document(), self.data))
        return path


def glb(content: dict, binary: bytes) -> bytes:
    text = json.dumps(content).encode()
    text += b" " * (-len(text) % 4)
    binary += b"\0" * (-len(binary) % 4)
    chunks = (
        struct.pack("<I4s", len(text), b"JSON")
        + text
        + struct.pack("<I4s", len(binary), b"BIN\0")
        + binary
    )

    return struct.pack("<4sII", b"glTF", 2, 12 + len(chunks)) + chunks
