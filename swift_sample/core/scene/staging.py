"""What stands in for a scene's own light and camera."""

import math
from dataclasses import dataclass, replace

import numpy as np

from swift_sample.core.errors import SceneError, UsageError
from swift_sample.core.scene.environment import environment_fingerprint, parse_environment
from swift_sample.core.scene.model import Camera, Scene

NO_CAMERA_NOTE = "No camera in the file: one was placed that frames the scene."
NO_LIGHT_NOTE = "No light in the file: a soft grey sky was added."
LEAST_FIELD = 1.0
MOST_FIELD = 170.0
MOST_STRENGTH = 1e4


@dataclass(frozen=True)
class Viewpoint:
    """A camera that was placed by hand: where it stands, what it looks at, and its vertical field
    in degrees. Up is +Y."""

    position: tuple[float, float, float]
    target: tuple[float, float, float]
    field: float = 40.0

    def __post_init__(self) -> None:
        if not all(math.isfinite(v) for v in (*self.position, *self.target, self.field)):
            raise UsageError("camera: expected finite numbers")
        if not LEAST_FIELD <= self.field <= MOST_FIELD:
            raise UsageError(
                f"camera.field={self.field:g}: expected {LEAST_FIELD:g} to {MOST_FIELD:g} degrees"
            )
        if math.dist(self.position, self.target) < 1e-9:
            raise UsageError("camera: position and target are the same; move one of them")

    def orbited(self, turn: float, tilt: float) -> "Viewpoint":
        """Turned around its target by these degrees, to the right and up; it never passes over the
        top."""
        offset = np.subtract(self.position, self.target)
        distance = float(np.linalg.norm(offset))
        azimuth = math.atan2(offset[0], offset[2]) - math.radians(turn)
        height = math.asin(max(-1.0, min(1.0, offset[1] / distance))) + math.radians(tilt)
        height = max(math.radians(-89.0), min(math.radians(89.0), height))
        flat = distance * math.cos(height)
        moved = (flat * math.sin(azimuth), distance * math.sin(height), flat * math.cos(azimuth))

        return replace(self, position=_sum(self.target, moved))

    def moved(self, right: float, up: float) -> "Viewpoint":
        """Shifted sideways and upwards with what it looks at, in shares of the picture's height at
        the target."""
        forward = np.subtract(self.target, self.position)
        distance = float(np.linalg.norm(forward))
        forward = forward / distance
        side = np.cross(forward, (0.0, 1.0, 0.0))
        side = side / max(float(np.linalg.norm(side)), 1e-9)
        height = 2 * distance * math.tan(math.radians(self.field) / 2)
        shift = tuple(float(v) for v in (side * right + np.cross(side, forward) * up) * height)

        return replace(self, position=_sum(self.position, shift), target=_sum(self.target, shift))

    def nearer(self, factor: float) -> "Viewpoint":
        """At this many times its distance from the target."""
        offset = np.subtract(self.position, self.target) * factor
        return replace(self, position=_sum(self.target, tuple(float(v) for v in offset)))


def _sum(a: tuple[float, ...], b: tuple[float, ...]) -> tuple[float, float, float]:
    x, y, z = (round(float(p) + float(q), 6) for p, q in zip(a, b, strict=True))
    return x, y, z


@dataclass(frozen=True)
class Staging:
    """Light and camera in place of the scene's own. `environment` is `r,g,b` or the path of a
    picture of the sky, None for the scene's own light; its radiance is multiplied by `strength` and
    it is turned by `turn` degrees around +Y. `camera` names one of the file's cameras, "" for its
    first; a `viewpoint` replaces it."""

    environment: str | None = None
    strength: float = 1.0
    turn: float = 0.0
    camera: str = ""
    viewpoint: Viewpoint | None = None

    def __post_init__(self) -> None:
        if not (math.isfinite(self.strength) and 0 <= self.strength <= MOST_STRENGTH):
            raise UsageError(f"light.strength={self.strength:g}: expected 0 to {MOST_STRENGTH:g}")
        if not (math.isfinite(self.turn) and -360 <= self.turn <= 360):
            raise UsageError(f"light.turn={self.turn:g}: expected -360 to 360 degrees")

    def options(self) -> list[str]:
        """The words by which `swift-sample render` and `view` are told of it."""
        words = [] if self.environment is None else ["--environment", self.environment]
        words += ["--strength", f"{self.strength:g}"] if self.strength != 1 else []
        words += ["--turn", f"{self.turn:g}"] if self.turn != 0 else []
        words += ["--camera", self.camera] if self.camera else []

        if self.viewpoint is not None:
            for name, place in (
                ("position", self.viewpoint.position),
                ("target", self.viewpoint.target),
            ):
                words.append(f"--{name}={','.join(f'{part:.9g}' for part in place)}")
            words += ["--field", f"{self.viewpoint.field:g}"]

        return words

    def fingerprint(self) -> str:
        """Changes with everything it puts in place but the environment itself; "" where nothing
        else is said."""
        said = {
            "strength": self.strength if self.strength != 1 else None,
            "turn": self.turn if self.turn != 0 else None,
            "camera": self.camera or None,
            "viewpoint": self.viewpoint,
        }
        told = [f"{key}={value}" for key, value in said.items() if value is not None]
        return environment_fingerprint("; ".join(told)) if told else ""


AS_IN_THE_FILE = Staging()


def staged(scene: Scene, staging: Staging) -> Scene:
    """The scene with light and camera as chosen. Raises SceneError for a camera that it does not
    have, and what `parse_environment` raises."""
    notes = scene.notes
    if staging.environment is not None:
        light = parse_environment(staging.environment)
        pixels = (
            light.pixels if staging.strength == 1 else light.pixels * np.float32(staging.strength)
        )
        scene = replace(
            scene,
            environment=replace(light, pixels=pixels, turn=light.turn + math.radians(staging.turn)),
        )
        notes = [note for note in notes if note != NO_LIGHT_NOTE]
    elif staging.strength != 1 or staging.turn != 0:
        sky = scene.environment
        turned = replace(
            sky,
            pixels=sky.pixels * np.float32(staging.strength),
            turn=sky.turn + math.radians(staging.turn),
        )
        scene = replace(scene, environment=turned)

    if staging.camera:
        if staging.camera not in scene.cameras:
            there = (
                f"there are {', '.join(scene.cameras)}"
                if scene.cameras
                else "it has none with a name"
            )
            raise SceneError(
                f"{scene.name}: camera={staging.camera} is not one of its cameras; {there}"
            )

        own = scene.camera
        chosen = replace(
            scene.cameras[staging.camera], aperture=own.aperture, focus_distance=own.focus_distance
        )
        scene = replace(scene, camera=chosen)

    if staging.viewpoint is not None:
        scene = replace(scene, camera=_placed_by_hand(scene.camera, staging.viewpoint))
        notes = [note for note in notes if note != NO_CAMERA_NOTE]

    return replace(scene, notes=notes)


def _placed_by_hand(own: Camera, viewpoint: Viewpoint) -> Camera:
    """The lens stays, sharp where the camera looks."""
    return replace(
        own,
        position=viewpoint.position,
        target=viewpoint.target,
        up=(0.0, 1.0, 0.0),
        vertical_field=math.radians(viewpoint.field),
        half_height=None,
        focus_distance=math.dist(viewpoint.position, viewpoint.target)
        if own.aperture
        else own.focus_distance,
        closing=None,
    )


def viewpoint_of(scene: Scene) -> Viewpoint:
    """The scene's camera as one that can be turned and moved by hand: around the middle of what it
    looks at."""
    camera = scene.camera
    position = np.asarray(camera.position, float)
    forward = np.subtract(camera.target, camera.position)
    forward = forward / np.linalg.norm(forward)
    low = np.min([mesh.positions.min(axis=0) for mesh in scene.meshes], axis=0)
    high = np.max([mesh.positions.max(axis=0) for mesh in scene.meshes], axis=0)
    size = float(np.linalg.norm(high - low))
    distance = float(np.dot((low + high) / 2 - position, forward))
    distance = distance if distance > 0.02 * size else 0.5 * size
    target = position + forward * distance
    field = 40.0

    if camera.half_height is None:
        field = math.degrees(camera.vertical_field)
    else:
        field = math.degrees(2 * math.atan(camera.half_height / distance))

    x, y, z = (round(float(v), 6) for v in target)
    px, py, pz = (round(float(v), 6) for v in position)
    return Viewpoint((px, py, pz), (x, y, z), min(MOST_FIELD, max(LEAST_FIELD, round(field, 4))))
