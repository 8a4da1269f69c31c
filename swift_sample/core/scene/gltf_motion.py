"""Animation of transforms: where nodes are at a frame (glTF 2.0, section 3.11 and appendix C)."""

import numpy as np

from swift_sample.core.errors import SceneError
from swift_sample.core.scene.gltf_document import Node
from swift_sample.core.scene.gltf_files import GltfFiles

FRAME_RATE = 24.0
"""Frames per second, which glTF does not say."""
MAX_FRAMES = 100_000

_Track = tuple[np.ndarray, np.ndarray, str]
"""Times in seconds, values, and how to go from one to the next."""


class Motion:
    """The first animation of a document; nodes that it does not move stay where they are."""

    def __init__(self, files: GltfFiles) -> None:
        self.notes: list[str] = []
        self._nodes = files.document.nodes
        self._tracks: dict[int, dict[str, _Track]] = {}
        animations = files.document.animations

        if len(animations) > 1:
            self.notes.append(f"The first of {len(animations)} animations is shown.")

        longest = 0.0
        for channel in animations[0].channels if animations else []:
            path = channel.target.path
            node = channel.target.node

            if path not in ("translation", "rotation", "scale") or node is None:
                self.notes.append(f"Left out: animation of {path[:20]}.")
                continue

            sampler = animations[0].samplers[channel.sampler]
            times = files.values(sampler.input, 1)[:, 0].astype(np.float64)
            values = files.values(sampler.output, 4 if path == "rotation" else 3).astype(np.float64)
            parts = 3 if sampler.interpolation == "CUBICSPLINE" else 1

            if (
                len(values) != parts * len(times)
                or not (np.isfinite(values).all() and np.isfinite(times).all())
                or (np.diff(times) < 0).any()
                or times[0] < 0
                or times[-1] * FRAME_RATE > MAX_FRAMES
            ):
                raise SceneError(
                    f"{files.path}: an animation has unusable times or values; export it again"
                )

            if node >= len(self._nodes):
                raise SceneError(
                    f"{files.path}: an animation moves node {node}, which is missing; export "
                    "it again"
                )

            self._tracks.setdefault(node, {})[path] = (times, values, sampler.interpolation)
            longest = max(longest, float(times[-1]))

        self.frames = int(np.ceil(longest * FRAME_RATE)) + 1

    def moves(self, index: int) -> bool:
        return index in self._tracks

    def matrix(self, index: int, frame: float) -> np.ndarray:
        """A moving node's own transform at a frame, which may lie between two."""
        node = self._nodes[index]
        tracks = self._tracks[index]
        given = {"translation": node.translation, "rotation": node.rotation, "scale": node.scale}
        now = {
            path: _value(tracks[path], frame / FRAME_RATE, path == "rotation")
            if path in tracks
            else np.array(neutral)
            for path, neutral in given.items()
        }

        return turned_matrix(now["translation"], now["rotation"], now["scale"])


def _value(track: _Track, seconds: float, turns: bool) -> np.ndarray:
    times, values, interpolation = track
    after = int(np.searchsorted(times, seconds, side="right"))
    cubic = interpolation == "CUBICSPLINE"
    points = values[1::3] if cubic else values

    if after == 0 or after == len(times) or interpolation == "STEP":
        return points[min(max(after - 1, 0), len(times) - 1)]

    before = after - 1
    length = times[after] - times[after - 1]
    t = (seconds - times[before]) / length
    a = points[before]
    b = points[after]

    if cubic:
        leave = values[3 * before + 2] * length
        arrive = values[3 * after] * length

        return (
            (2 * t**3 - 3 * t**2 + 1) * a
            + (t**3 - 2 * t**2 + t) * leave
            + (-2 * t**3 + 3 * t**2) * b
            + (t**3 - t**2) * arrive
        )

    if not turns:
        return a + (b - a) * t

    cosine = float(a @ b)
    b, cosine = (-b, -cosine) if cosine < 0 else (b, cosine)
    if cosine > 0.9995:
        return a + (b - a) * t

    angle = np.arccos(min(cosine, 1.0))
    return (np.sin((1 - t) * angle) * a + np.sin(t * angle) * b) / np.sin(angle)


def node_matrix(node: Node) -> np.ndarray:
    """A node's own transform."""
    if node.matrix is not None:
        return np.array(node.matrix).reshape(4, 4).T
    return turned_matrix(np.array(node.translation), np.array(node.rotation), np.array(node.scale))


def turned_matrix(translation: np.ndarray, rotation: np.ndarray, scale: np.ndarray) -> np.ndarray:
    """A matrix from a translation, a quaternion x, y, z, w, and a scale."""
    x, y, z, w = rotation / max(float(np.linalg.norm(rotation)), 1e-20)
    turned = np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    )

    matrix = np.eye(4)
    matrix[:3, :3] = turned * scale
    matrix[:3, 3] = translation

    return matrix
