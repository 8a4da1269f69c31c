"""Features of a scene that can be taken away, or replaced by something cheaper. The scene's file is
never changed.

A feature goes by the key `feature.OWNER.WHAT`; its values are AS_IS and cheaper ones. A new kind is
one class or entry in `materials` or `objects`.
"""

from swift_sample.core.scene.features.kinds import AS_IS, Kind
from swift_sample.core.scene.features.listing import (
    BY_WHAT,
    KINDS,
    Feature,
    features_of,
    with_changes,
)

__all__ = ["AS_IS", "BY_WHAT", "KINDS", "Feature", "Kind", "features_of", "with_changes"]
