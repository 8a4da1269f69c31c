"""What every kind of feature has: what it is called, its cheaper values, whose it is, and a scene
without it."""

from abc import ABC, abstractmethod
from collections.abc import Iterable
from dataclasses import dataclass
from typing import ClassVar

from swift_sample.core.scene.model import Scene

AS_IS = "as is"
OFF = "off"
MATT = "matt"
GEOMETRY = "geometry"
LAMP = "lamp"
MEAN = "mean colour"
HALVINGS = {"half size": 1, "quarter size": 2}
"""Of the sides of pictures, and of the resolution of haze."""
MATERIAL = "material"
OBJECT = "object"
LIGHT = "light"
HAZE = "haze"
SKY = "sky"
"""Parts of a scene that have features."""


@dataclass(frozen=True)
class Kind(ABC):
    """One kind of feature. `what` ends the keys of its settings, `rays` are the kinds of rays that
    pay for it, none where all do."""

    what: str
    label: str
    values: tuple[str, ...]
    help: str
    rays: tuple[str, ...] = ()
    part: ClassVar[str]

    @abstractmethod
    def owners(self, scene: Scene) -> Iterable[str]:
        """Names of those that have it, each once, in the order of the scene."""

    @abstractmethod
    def applied(self, scene: Scene, owner: str, value: str) -> Scene:
        """The scene with a cheaper value; the scene given is not changed. Raises SceneError where
        that cannot be made."""

    def remark(self, scene: Scene, owner: str) -> str:
        """What about it can be said without rendering; "" for nothing."""
        return ""
