"""The renderer of finished renders: it knows their settings, and cannot be started."""

from pathlib import Path

from swift_sample.core.errors import RendererError
from swift_sample.core.renderers.finished.rows import NAME
from swift_sample.core.renderers.port import Engine, Renderer, SceneContent
from swift_sample.core.scene.staging import Staging
from swift_sample.core.settings import Catalogue

TITLE = "finished renders"


class FinishedRenderer(Renderer):
    """What a study of finished renders was made with: the settings are those of its table."""

    name = NAME
    title = TITLE
    version = "1"

    def __init__(self, catalogue: Catalogue) -> None:
        self.catalogue = catalogue
        self.worker = f"{__name__}:MEASURING"

    def scene_content(self, scene: str, staging: Staging) -> SceneContent:
        return SceneContent(NAME)

    def scene_files(self, scene: str) -> list[Path]:
        return []

    def engine(self) -> Engine:
        return FinishedEngine(self)


class FinishedEngine(Engine):
    def draw(self, *_: object) -> None:  # type: ignore[override]
        raise RendererError(
            "these renders are finished: their pictures are measured, and no others can be made"
        )


MEASURING = FinishedRenderer(Catalogue(NAME, ()))
"""For the worker's process, which measures pictures and needs no settings for it."""
