"""All kinds of features, those that a scene has, and the scene without some of them."""

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from swift_sample.core.scene.features import materials, objects
from swift_sample.core.scene.features.kinds import AS_IS, HAZE, LIGHT, MATERIAL, OBJECT, SKY, Kind
from swift_sample.core.scene.model import Scene

PREFIX = "feature."
KINDS: tuple[Kind, ...] = (*materials.KINDS, *objects.KINDS)
BY_WHAT: Mapping[str, Kind] = {kind.what: kind for kind in KINDS}


@dataclass(frozen=True)
class Feature:
    """A feature of the parts of a scene that have one name."""

    key: str
    owner: str
    kind: Kind


def features_of(scene: Scene) -> list[Feature]:
    """Every feature of everything that is used: those of materials, objects, lights, haze and sky,
    each in the order of the scene, those of one owner together."""
    found: dict[tuple[str, str], list[Kind]] = {}
    for kind in KINDS:
        for owner in kind.owners(scene):
            found.setdefault((kind.part, owner), []).append(kind)

    features = []
    for part, names in _names(scene).items():
        for owner, slug in _slugs(names).items():
            features += [
                Feature(f"{PREFIX}{slug}.{kind.what}", owner, kind)
                for kind in found.get((part, owner), ())
            ]

    return features


def _names(scene: Scene) -> dict[str, Iterable[str]]:
    """Of everything that may have features, by what it is."""
    return {
        MATERIAL: dict.fromkeys(scene.materials[mesh.material].name for mesh in scene.meshes),
        OBJECT: dict.fromkeys(mesh.name for mesh in scene.meshes),
        LIGHT: objects.named_lights(scene),
        HAZE: (HAZE,),
        SKY: (SKY,),
    }


def _slugs(names: Iterable[str]) -> dict[str, str]:
    """Names as they can stand in a key, each another one."""
    made: dict[str, str] = {}
    for name in names:
        slug = re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_") or "unnamed"
        taken = set(made.values())
        wanted = slug
        number = 2

        while slug in taken:
            slug = f"{wanted}_{number}"
            number = number + 1

        made[name] = slug

    return made


def with_changes(scene: Scene, changes: Mapping[str, str]) -> Scene:
    """The scene with cheaper values in the place of features, by their keys; what it does not have
    is left as it is.

    Raises SceneError where a value cannot be made.
    """
    wanted = {key: value for key, value in changes.items() if value != AS_IS}
    if not wanted:
        return scene

    chosen = [
        feature for feature in features_of(scene) if wanted.get(feature.key) in feature.kind.values
    ]
    for feature in sorted(chosen, key=lambda one: KINDS.index(one.kind)):
        if feature.owner in feature.kind.owners(scene):
            scene = feature.kind.applied(scene, feature.owner, wanted[feature.key])

    return scene
