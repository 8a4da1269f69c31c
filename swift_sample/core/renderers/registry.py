"""Which renderers there are, and what a study keeps of its own for the day when it is not there any more."""

import importlib
import json
from collections.abc import Callable
from pathlib import Path

from swift_sample.core.errors import CatalogueError, RendererError
from swift_sample.core.files import read_text
from swift_sample.core.renderers.port import Engine, Renderer, SceneContent, SceneFacts
from swift_sample.core.scene.staging import AS_IN_THE_FILE, Staging
from swift_sample.core.settings import Catalogue, Configuration

DESCRIPTION = "renderer.json"
"""The file in a study's folder that says what its renderer's settings are."""


def _built_in() -> Renderer:
    from swift_sample.core.renderers.builtin.renderer import RENDERER

    return RENDERER


RENDERERS: dict[str, Callable[[], Renderer]] = {"built-in": _built_in}
"""By the name that stands in study.toml."""

DEFAULT = "built-in"
"""The renderer of studies that name none."""


class MissingRenderer(Renderer):
    """A renderer that a study was measured with and that is not here: its settings are known, nothing can be rendered."""

    version = ""
    worker = ""

    def __init__(self, catalogue: Catalogue, title: str) -> None:
        self.name, self.title, self.catalogue = catalogue.name, title, catalogue

    def scene_content(self, scene: str, staging: Staging) -> SceneContent:
        raise RendererError(self._words)

    def facts(self, scene: str, base: Configuration, frame: int, staging: Staging = AS_IN_THE_FILE) -> SceneFacts:
        raise RendererError(self._words)

    def engine(self) -> Engine:
        raise RendererError(self._words)

    @property
    def _words(self) -> str:
        return f"the renderer {self.title} is not here any more, so nothing can be measured; what was measured is shown"


def renderer_named(name: str, folder: Path | None = None) -> Renderer:
    """The renderer of this name; where it is not here, what the study in `folder` knows of it. Raises RendererError."""
    if name in RENDERERS:
        return RENDERERS[name]()
    path = folder / DESCRIPTION if folder is not None else None
    if path is None or not path.is_file():
        raise RendererError(f"renderer={name}: it is not here; expected one of {', '.join(RENDERERS)}")
    try:
        data = json.loads(read_text(path))
        catalogue, title = Catalogue.from_data(data), str(data.get("title", name))
    except (OSError, ValueError, RecursionError, CatalogueError) as error:
        raise RendererError(f"{path}: does not say what the renderer {name} is ({' '.join(str(error).split())})") from error
    if catalogue.name != name:
        raise RendererError(f"{path}: tells of the renderer {catalogue.name}, the study names {name}")
    return MissingRenderer(catalogue, title)


def description_of(renderer: Renderer) -> str:
    """What a study keeps of its renderer, as JSON."""
    return json.dumps({"title": renderer.title, **renderer.catalogue.as_data()}, indent=1, ensure_ascii=False)


def renderer_at(place: str) -> Renderer:
    """The renderer that `Renderer.worker` names; for the worker's process."""
    module, _, attribute = place.partition(":")
    renderer = getattr(importlib.import_module(module), attribute)
    assert isinstance(renderer, Renderer)
    return renderer
