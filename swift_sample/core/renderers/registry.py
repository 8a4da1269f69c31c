"""Which renderers there are, and what a study keeps of its own for the day when it is not there any
more."""

import importlib
import json
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from swift_sample.core.errors import CatalogueError, RendererError
from swift_sample.core.files import read_text
from swift_sample.core.renderers.finished.renderer import FinishedRenderer
from swift_sample.core.renderers.finished.rows import NAME as FINISHED
from swift_sample.core.renderers.port import Engine, Renderer, SceneContent, SceneFacts
from swift_sample.core.scene.staging import AS_IN_THE_FILE, Staging
from swift_sample.core.settings import Catalogue, Configuration

if TYPE_CHECKING:
    from swift_sample.core.renderers.command.renderer import CommandRenderer

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
    """A renderer that a study was measured with and that is not here: its settings are known,
    nothing can be rendered."""

    version = ""
    worker = ""

    def __init__(self, catalogue: Catalogue, title: str) -> None:
        self.name = catalogue.name
        self.title = title
        self.catalogue = catalogue

    def scene_content(self, scene: str, staging: Staging) -> SceneContent:
        raise RendererError(self._words)

    def facts(
        self, scene: str, base: Configuration, frame: int, staging: Staging = AS_IN_THE_FILE
    ) -> SceneFacts:
        raise RendererError(self._words)

    def engine(self) -> Engine:
        raise RendererError(self._words)

    @property
    def _words(self) -> str:
        return (
            f"the renderer {self.title} is not here any more, so nothing can be measured; what "
            "was measured is shown"
        )


def renderer_in(file: Path) -> "CommandRenderer":
    """The program that a renderer file describes. Raises RendererError."""
    from swift_sample.core.renderers.command.renderer import CommandRenderer

    renderer = CommandRenderer(file)
    if renderer.name in RENDERERS:
        raise RendererError(
            f"{file}: name={renderer.name}: is taken by a renderer that comes with Swift "
            "Sample; choose another"
        )

    return renderer


def renderer_named(name: str, folder: Path | None = None, file: str = "") -> Renderer:
    """The renderer of this name, which the renderer file `file` describes where there is one; where
    it is not here, what the study in `folder` knows of it. Raises RendererError."""
    if name in RENDERERS:
        return RENDERERS[name]()

    if file and Path(file).is_file():
        renderer = renderer_in(Path(file))
        if renderer.name != name:
            raise RendererError(
                f"{file}: describes the renderer {renderer.name}, the study names {name}"
            )
        return renderer

    path = folder / DESCRIPTION if folder is not None else None
    if path is None or not path.is_file():
        raise RendererError(
            f"renderer={name}: it is not here; expected one of {', '.join(RENDERERS)}"
        )

    try:
        data = json.loads(read_text(path))
        catalogue = Catalogue.from_data(data)
        title = str(data.get("title", name))
    except (OSError, ValueError, RecursionError, CatalogueError) as error:
        raise RendererError(
            f"{path}: does not say what the renderer {name} is ({' '.join(str(error).split())})"
        ) from error

    if catalogue.name != name:
        raise RendererError(
            f"{path}: tells of the renderer {catalogue.name}, the study names {name}"
        )

    return FinishedRenderer(catalogue) if name == FINISHED else MissingRenderer(catalogue, title)


def renderer_of(catalogue: Catalogue, file: str = "") -> Renderer:
    """The renderer whose settings these are, described by this file where it is a program. Raises
    RendererError."""
    return (
        FinishedRenderer(catalogue)
        if catalogue.name == FINISHED
        else renderer_named(catalogue.name, file=file)
    )


def description_of(renderer: Renderer) -> str:
    """What a study keeps of its renderer, as JSON."""
    return json.dumps(
        {"title": renderer.title, **renderer.catalogue.as_data()}, indent=1, ensure_ascii=False
    )


def renderer_at(place: str) -> Renderer:
    """The renderer that `Renderer.worker` names; for the worker's process."""
    module, attribute, *file = place.split(":", 2)
    renderer = getattr(importlib.import_module(module), attribute)
    if file:
        renderer = renderer(Path(file[0]))

    assert isinstance(renderer, Renderer)
    return renderer
