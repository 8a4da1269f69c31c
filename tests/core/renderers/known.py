"""A renderer of a few lines that draws known pictures with known noise in known time. It takes no
seed and tells nothing but pictures and times: whatever works with it asks a renderer for no
more."""

import hashlib
import os
import threading
import time
from pathlib import Path

import numpy as np

from swift_sample.core.errors import RenderStoppedError
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.port import Engine, Renderer, SceneContent
from swift_sample.core.scene.staging import Staging
from swift_sample.core.settings import Capabilities, Catalogue, Opening, Setting
from swift_sample.core.settings.setting import SAMPLES

NOISE = 0.1
SECONDS = 0.004
GREY = 0.25
"""Standard deviation of one sample's light, seconds that it takes, and the light that is drawn."""
COUNT = Setting(
    key="quality.count",
    group="Quality",
    label="Samples",
    help="More is cleaner.",
    kind="whole",
    default=16,
    suggested=(4, 16, 64),
    minimum=1,
    maximum=4096,
    role=SAMPLES,
    reference=Opening(1024, is_choice=False),
    tried_first=True,
    noun="sample",
)
DIMMED = Setting(
    key="light.dimmed",
    group="Light",
    label="Left out",
    help="The share of light that is left out.",
    kind="number",
    default=0.0,
    suggested=(0.0, 0.5),
    short="left out",
    minimum=0.0,
    maximum=1.0,
    reference=Opening(0.0),
    tried_first=True,
)


class KnownRenderer(Renderer):
    name = "known"
    title = "known pictures"
    version = "1"
    worker = "tests.core.renderers.known:KNOWN"
    catalogue = Catalogue("known", (COUNT, DIMMED), Capabilities())
    scene_names = ("wall",)

    def scene_content(self, scene: str, staging: Staging) -> SceneContent:
        return SceneContent(scene, staging.environment or "")

    def engine(self) -> Engine:
        return KnownEngine(self)


class KnownEngine(Engine):
    def draw(self, spec, configuration, progress, started) -> Picture:
        count = int(configuration[COUNT.key])
        left = 1 - float(configuration[DIMMED.key])
        time.sleep(SECONDS * count * float(os.environ.get("SWIFT_SAMPLE_TEST_SLOWNESS", "1")))
        noise = np.random.default_rng(0).normal(
            0, NOISE / np.sqrt(count), (spec.size[1], spec.size[0], 3)
        )

        return Picture((left * GREY + noise).astype(np.float32))


KNOWN = KnownRenderer()

BATCH = Setting(
    key="work.batch",
    group="Work",
    label="Batch",
    help="How much is done at once; no pixel depends on it.",
    kind="whole",
    default=1,
    suggested=(1, 4),
    minimum=1,
    maximum=16,
    changes_pixels=False,
    tried_first=True,
)
PROCESSORS_FOR = {1: 1, 4: 2}
"""On how many processors each batch is fastest."""


class SeededRenderer(KnownRenderer):
    """Takes seeds, so that its reference can grow, and has a setting whose best value depends on
    the machine."""

    name = "seeded"
    title = "seeded pictures"
    worker = "tests.core.renderers.known:SEEDED"
    catalogue = Catalogue(
        "seeded", (COUNT, DIMMED, BATCH), Capabilities(seeds=True, extends_reference=True)
    )

    def scene_content(self, scene: str, staging: Staging) -> SceneContent:
        """Of a file its content, wherever it stands."""
        path = Path(scene)
        return SceneContent(
            hashlib.sha256(path.read_bytes()).hexdigest()[:16] if path.is_file() else scene
        )

    def engine(self) -> Engine:
        return SeededEngine(self)


class SeededEngine(Engine):
    def draw(self, spec, configuration, progress, started) -> Picture:
        count = int(configuration[COUNT.key])
        left = 1 - float(configuration[DIMMED.key])
        fits = len(os.sched_getaffinity(0)) == PROCESSORS_FOR.get(int(configuration[BATCH.key]), 0)
        seconds = (
            SECONDS
            * min(count, 128)
            * (0.5 if fits else 1.0)
            * float(os.environ.get("SWIFT_SAMPLE_TEST_SLOWNESS", "1"))
        )
        end = time.perf_counter() + seconds
        stopped = threading.Event()
        started(stopped.set)

        while time.perf_counter() < end:
            if stopped.wait(min(0.05, max(0.0, end - time.perf_counter()))):
                raise RenderStoppedError("stopped")
            progress(1 - max(0.0, end - time.perf_counter()) / seconds)

        noise = np.random.default_rng(spec.seed).normal(
            0, NOISE / np.sqrt(count), (spec.size[1], spec.size[0], 3)
        )
        return Picture((left * GREY + noise).astype(np.float32))


SEEDED = SeededRenderer()
