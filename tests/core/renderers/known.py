"""A renderer of a few lines that draws known pictures with known noise in known time. It takes no seed and tells nothing but
pictures and times: whatever works with it asks a renderer for no more."""

import time

import numpy as np

from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.port import Engine, Renderer, SceneContent
from swift_sample.core.scene.staging import Staging
from swift_sample.core.settings import Capabilities, Catalogue, Opening, Setting
from swift_sample.core.settings.setting import SAMPLES

NOISE, SECONDS, GREY = 0.1, 0.004, 0.25
"""Standard deviation of one sample's light, seconds that it takes, and the light that is drawn."""
COUNT = Setting(
    "quality.count", "Quality", "Samples", "More is cleaner.", "whole", 16, (4, 16, 64), minimum=1, maximum=4096,
    role=SAMPLES, reference=Opening(1024, is_choice=False), tried_first=True, noun="sample",
)  # fmt: skip
DIMMED = Setting(
    "light.dimmed", "Light", "Left out", "The share of light that is left out.", "number", 0.0, (0.0, 0.5), short="left out",
    minimum=0.0, maximum=1.0, reference=Opening(0.0), tried_first=True,
)  # fmt: skip


class KnownRenderer(Renderer):
    name, title, version, worker = "known", "known pictures", "1", "tests.core.renderers.known:KNOWN"
    catalogue = Catalogue("known", (COUNT, DIMMED), Capabilities())
    scene_names = ("wall",)

    def scene_content(self, scene: str, staging: Staging) -> SceneContent:
        return SceneContent(scene, staging.environment or "")

    def engine(self) -> Engine:
        return KnownEngine(self)


class KnownEngine(Engine):
    def draw(self, spec, configuration, progress, started) -> Picture:
        count, left = int(configuration[COUNT.key]), 1 - float(configuration[DIMMED.key])
        time.sleep(SECONDS * count)
        noise = np.random.default_rng(0).normal(0, NOISE / np.sqrt(count), (spec.size[1], spec.size[0], 3))
        return Picture((left * GREY + noise).astype(np.float32))


KNOWN = KnownRenderer()
