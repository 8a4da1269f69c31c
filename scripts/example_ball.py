"""Make examples/table-ball.glb, the scene of the guide's walk: a ball on a table, without camera
and without light."""

import json
import struct
from pathlib import Path

import numpy as np

OUT = Path(__file__).resolve().parent.parent / "examples" / "table-ball.glb"
ROUND = 96
HIGH = 48
"""Parts of the ball around and from pole to pole."""
FLOAT, UNSIGNED, JSON_CHUNK, BINARY_CHUNK = 5126, 5125, 0x4E4F534A, 0x004E4942


def ball(radius: float, height: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Positions and normals, float32[n, 3], and triangles, uint32[m, 3]."""
    around = np.linspace(0, 2 * np.pi, ROUND + 1)
    down = np.linspace(0, np.pi, HIGH + 1)[:, None]
    normals = np.stack(
        np.broadcast_arrays(
            np.sin(down) * np.cos(around), np.cos(down), np.sin(down) * np.sin(around)
        ),
        -1,
    )
    normals = normals.reshape(-1, 3)
    first = (np.arange(HIGH)[:, None] * (ROUND + 1) + np.arange(ROUND)).reshape(-1, 1)
    triangles = np.concatenate([first + (0, 1, ROUND + 1), first + (1, ROUND + 2, ROUND + 1)])

    return (
        (radius * normals + (0, height, 0)).astype(np.float32),
        normals.astype(np.float32),
        triangles.astype(np.uint32),
    )


def table(half: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A square at height 0, in the same form."""
    corners = np.array(
        [[-half, 0, -half], [-half, 0, half], [half, 0, half], [half, 0, -half]], np.float32
    )
    normals = np.tile(np.array([0, 1, 0], np.float32), (4, 1))
    return corners, normals, np.array([[0, 1, 2], [0, 2, 3]], np.uint32)


def main() -> None:
    """Write the file."""
    binary = b""
    views = []
    accessors = []
    meshes = []

    def add(values: np.ndarray, component: int, kind: str) -> int:
        nonlocal binary
        views.append({"buffer": 0, "byteOffset": len(binary), "byteLength": values.nbytes})
        accessor = {
            "bufferView": len(views) - 1,
            "componentType": component,
            "count": len(values),
            "type": kind,
        }

        if kind == "VEC3":
            accessor |= {"min": values.min(axis=0).tolist(), "max": values.max(axis=0).tolist()}

        accessors.append(accessor)
        binary += values.tobytes()
        return len(accessors) - 1

    for material, (name, (positions, normals, triangles)) in enumerate(
        {"ball": ball(0.45, 0.45), "table": table(2.5)}.items()
    ):
        attributes = {
            "POSITION": add(positions, FLOAT, "VEC3"),
            "NORMAL": add(normals, FLOAT, "VEC3"),
        }
        indices = add(triangles.reshape(-1), UNSIGNED, "SCALAR")
        meshes.append(
            {
                "name": name,
                "primitives": [
                    {"attributes": attributes, "indices": indices, "material": material}
                ],
            }
        )

    document = {
        "asset": {"version": "2.0", "generator": "Swift Sample, scripts/example_ball.py"},
        "scene": 0,
        "scenes": [{"nodes": [0, 1]}],
        "nodes": [{"name": "ball", "mesh": 0}, {"name": "table", "mesh": 1}],
        "meshes": meshes,
        "materials": [
            {
                "name": "red glaze",
                "pbrMetallicRoughness": {
                    "baseColorFactor": [0.6, 0.06, 0.04, 1],
                    "metallicFactor": 0,
                    "roughnessFactor": 0.15,
                },
            },
            {
                "name": "oak",
                "pbrMetallicRoughness": {
                    "baseColorFactor": [0.5, 0.33, 0.18, 1],
                    "metallicFactor": 0,
                    "roughnessFactor": 0.5,
                },
            },
        ],
        "buffers": [{"byteLength": len(binary)}],
        "bufferViews": views,
        "accessors": accessors,
    }
    text = json.dumps(document, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 4)
    binary += b"\0" * (-len(binary) % 4)
    whole = 12 + 8 + len(text) + 8 + len(binary)

    OUT.write_bytes(
        struct.pack("<4sII", b"glTF", 2, whole)
        + struct.pack("<II", len(text), JSON_CHUNK)
        + text
        + struct.pack("<II", len(binary), BINARY_CHUNK)
        + binary
    )


if __name__ == "__main__":
    main()
