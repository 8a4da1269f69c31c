"""What was measured, by name. Every name is twelve hexadecimal digits made from a readable record;
both are kept.

    scene        content of its files and of the light from everywhere, size, frame
    renderer     its name, and the version of what can change pixels
    trial        the values that have an effect and differ from those that identities leave out
    appearance   the part of a trial that can change pixels, with the view where pixels depend on it
    picture      renderer, scene, appearance, seed
    machine      hardware and operating system
    reference    renderer, scene, and the appearance of what the reference is rendered with
    measurement  renderer, scene, appearance, what was done to the pictures, view, area, reference

A figure is shown only where its measurement is the wanted one; file names are made from these
names; nothing is found by comparing objects of the program. Two appearances are one where every
picture of the same seed is the same to the bit.
"""

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import Any

from swift_sample.core.machine import Machine
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.port import SceneContent
from swift_sample.core.settings import Configuration
from swift_sample.core.study.plan.model import Study

VERSION = 1
"""Of the records that names are made from. A change of what a record holds raises it, so that names
never mean two things."""


@dataclass(frozen=True)
class Identity:
    """A record and the name that stands for it."""

    kind: str
    record: Mapping[str, Any]

    @cached_property
    def name(self) -> str:
        """Twelve hexadecimal digits."""
        text = json.dumps(
            {"kind": self.kind, "version": VERSION, **self.record},
            sort_keys=True,
            ensure_ascii=False,
        )
        return hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()[:12]


@dataclass(frozen=True)
class Place:
    """What pictures depend on besides a configuration and a seed: results of different places never
    mix."""

    renderer: str
    scene: str


@dataclass(frozen=True)
class Rectangle:
    """A part of the picture in pixels, origin top left; with no width it is the whole picture."""

    x: int = 0
    y: int = 0
    width: int = 0
    height: int = 0

    @property
    def is_whole(self) -> bool:
        return self.width == 0


WHOLE = Rectangle()


@dataclass(frozen=True, kw_only=True)
class MeasurementKey:
    """What a set of figures is of, within one place. `recipe` says what was done to the pictures
    before they were measured ("" for nothing); `reference` is "" where figures need none."""

    appearance: str
    exposure: float
    curve: str
    area: Rectangle
    reference: str
    recipe: str = ""


def scene_identity(content: SceneContent, size: tuple[int, int], frame: int) -> Identity:
    record = {
        "scene": content.scene,
        "environment": content.environment,
        "size": list(size),
        "frame": frame,
    }
    return Identity(
        "scene", {**record, **({"staging": content.staging} if content.staging else {})}
    )


def renderer_identity(name: str, version: str) -> Identity:
    """A renderer in one version."""
    return Identity("renderer", {"renderer": name, "sources": version})


@lru_cache(40_000)
def trial_identity(configuration: Configuration) -> Identity:
    return Identity(
        "trial",
        {"catalogue": configuration.catalogue.name, "values": configuration.identity_values()},
    )


@lru_cache(40_000)
def appearance_identity(configuration: Configuration, view: View) -> Identity:
    record: dict[str, Any] = {
        "catalogue": configuration.catalogue.name,
        "values": configuration.pixel_values(),
    }
    if configuration.needs_view():
        record["view"] = {"exposure": view.exposure, "curve": view.curve}
    return Identity("appearance", record)


def picture_identity(place: Place, appearance: str, seed: int) -> Identity:
    return Identity(
        "picture",
        {"renderer": place.renderer, "scene": place.scene, "appearance": appearance, "seed": seed},
    )


def machine_identity(machine: Machine) -> Identity:
    return Identity("machine", machine.hardware())


def reference_identity(place: Place, study: Study) -> Identity:
    """The study's reference; how many samples it has so far is no part of its name."""
    appearance = appearance_identity(study.reference_configuration(1), study.view)
    return Identity(
        "reference",
        {"renderer": place.renderer, "scene": place.scene, "appearance": dict(appearance.record)},
    )


def measurement_identity(place: Place, key: MeasurementKey) -> Identity:
    area = [key.area.x, key.area.y, key.area.width, key.area.height]
    return Identity(
        "measurement",
        {
            "renderer": place.renderer,
            "scene": place.scene,
            "appearance": key.appearance,
            "view": {"exposure": key.exposure, "curve": key.curve},
            "area": area,
            "reference": key.reference,
            "recipe": key.recipe,
        },
    )


FIRST_CHUNK_SAMPLES = 96
CHUNK_SAMPLES = 128
"""Samples of the reference's first and later chunks: the first is shorter so that results come
soon."""
REFERENCE_SEED = 0x40000000
MOST_CHUNKS = 1 << 16
"""more than any reference has"""


def seed_of_chunk(chunk: int) -> int:
    """The seed of a chunk of any reference, which its recorded picture and all that are derived
    from that share."""
    before = FIRST_CHUNK_SAMPLES + (chunk - 1) * CHUNK_SAMPLES if chunk else 0
    return REFERENCE_SEED + before


def chunk_of_seed(seed: int) -> int | None:
    """The chunk of a reference that has this seed; None where it is no chunk's."""
    before = seed - REFERENCE_SEED
    if before == 0:
        return 0

    later, rest = divmod(before - FIRST_CHUNK_SAMPLES, CHUNK_SAMPLES)
    return later + 1 if not rest and 0 <= later < MOST_CHUNKS else None


def seed_of(*parts: object) -> int:
    """A seed from 0 to 2^31 - 1 that depends on all parts, so that pictures of different runs are
    independent."""
    text = "/".join(str(part) for part in parts)
    return int.from_bytes(hashlib.sha256(text.encode()).digest()[:4], "big") >> 1
