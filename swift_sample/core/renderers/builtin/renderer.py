"""The built-in path tracer behind the port."""

import shlex
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from swift_sample.core.errors import UsageError
from swift_sample.core.kernels.cache import is_compiled
from swift_sample.core.machine import available_processors
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, NAME
from swift_sample.core.renderers.builtin.findings import FINDINGS
from swift_sample.core.renderers.builtin.stems import why_not_derived
from swift_sample.core.renderers.builtin.version import renderer_version
from swift_sample.core.renderers.port import (
    Engine,
    Progress,
    Recording,
    Renderer,
    SceneContent,
    SceneFacts,
    ShowStage,
    Stop,
)
from swift_sample.core.renderers.records import RecordSpec, RenderSpec, RunRecord
from swift_sample.core.scene.environment import environment_fingerprint
from swift_sample.core.scene.facts import about, memory_to_build, missing_features, only_glows
from swift_sample.core.scene.features import AS_IS, Feature, features_of
from swift_sample.core.scene.features.kinds import HAZE, LIGHT, MATERIAL, OBJECT, SKY
from swift_sample.core.scene.features.objects import Divided
from swift_sample.core.scene.model import Choices
from swift_sample.core.scene.open import DEMO_SCENES, open_scene, scene_files, scene_fingerprint
from swift_sample.core.scene.staging import AS_IN_THE_FILE, Staging, staged, viewpoint_of
from swift_sample.core.settings import Configuration, Opening, ScenePart, Setting
from swift_sample.core.settings.setting import format_value

if TYPE_CHECKING:
    from swift_sample.core.renderers.builtin.preview import Preview

GROUPS = {
    MATERIAL: "Materials",
    OBJECT: "Objects",
    LIGHT: "Lights",
    HAZE: "Haze and sky",
    SKY: "Haze and sky",
}
"""Under which headings features of parts of a scene stand."""
DIVIDED_BY = "geometry.subdivision"
OPEN_SHUTTER = 0.5
"""Share of a frame that is enough to see whether anything moves."""


def _setting(feature: Feature, remark: str) -> Setting:
    """A feature of a scene as a setting."""
    kind = feature.kind
    values = (AS_IS, *feature.kind.values)
    label = f"{feature.owner}: {kind.label}"

    return Setting(
        key=feature.key,
        group=GROUPS[kind.part],
        label=label,
        help=f"{kind.help} {remark[:1].upper()}{remark[1:]}." if remark else kind.help,
        kind="choice",
        default=AS_IS,
        suggested=values,
        short=label,
        why_tried=remark,
        values=values,
        neutral_when=(DIVIDED_BY, (0,)) if isinstance(kind, Divided) else None,
        reference=Opening(AS_IS),
        of_scene=True,
        part=ScenePart(kind.part, feature.owner, kind.rays),
        cheaper=kind.values,
    )


class BuiltInRenderer(Renderer):
    name = NAME
    title = "built-in path tracer"
    catalogue = CATALOGUE
    worker = "swift_sample.core.renderers.builtin.renderer:RENDERER"
    scene_names = tuple(DEMO_SCENES)
    findings = FINDINGS

    @property
    def version(self) -> str:
        return renderer_version()

    def is_ready(self) -> bool:
        return is_compiled()

    def scene_content(self, scene: str, staging: Staging) -> SceneContent:
        light = environment_fingerprint(staging.environment) if staging.environment else ""
        return SceneContent(scene_fingerprint(scene), light, staging.fingerprint())

    def scene_files(self, scene: str) -> list[Path]:
        return scene_files(scene)

    def facts(
        self, scene: str, base: Configuration, frame: int, staging: Staging = AS_IN_THE_FILE
    ) -> SceneFacts:
        choices = Choices(str(base["geometry.variant"]), frame=frame, shutter=OPEN_SHUTTER)
        opened = staged(open_scene(scene, choices), staging)

        return SceneFacts(
            missing=missing_features(opened),
            choices={"geometry.variant": opened.variants},
            notes=tuple(opened.notes),
            about=about(opened),
            cameras=tuple(opened.cameras),
            viewpoint=viewpoint_of(opened),
            frames=opened.frames,
            memory_bytes=memory_to_build(
                opened, Choices(subdivision=int(base["geometry.subdivision"]))
            ),
            only_glows=only_glows(opened),
        )

    def scene_settings(
        self, scene: str, frame: int = 0, staging: Staging = AS_IN_THE_FILE
    ) -> Sequence[Setting]:
        opened = staged(open_scene(scene, Choices(frame=frame)), staging)
        return [
            _setting(feature, feature.kind.remark(opened, feature.owner))
            for feature in features_of(opened)
        ]

    def command_for(self, spec: RenderSpec) -> str:
        width, height = spec.size
        words = [
            "swift-sample",
            "render",
            spec.scene,
            "-o",
            "picture.exr",
            "--size",
            f"{width}x{height}",
        ]
        words += ["--frame", str(spec.frame)] if spec.frame else []
        words += spec.staging.options()
        for key, value in (
            spec.configuration(self.catalogue).without_defaults() | spec.changes
        ).items():
            words += ["--set", f"{key}={format_value(value)}"]

        return shlex.join(words)

    def doubts(self, configuration: Configuration) -> Sequence[str]:
        least = int(configuration["samples.min"])
        most = int(configuration["samples.max"])
        if least > most:
            raise UsageError(f"samples.min={least}: expected at most samples.max, which is {most}")

        threads = available_processors()
        own = int(configuration["device.threads"])
        if own <= threads:
            return ()

        return (
            (
                f"device.threads={own}: this machine runs {threads} at once; more only wait for "
                "one another"
            ),
        )

    def why_not_derived(self, recorded: Configuration, wanted: Configuration) -> str:
        return why_not_derived(recorded, wanted)

    def engine(self) -> Engine:
        return BuiltInEngine(self)


class BuiltInEngine(Engine):
    def __init__(self, renderer: Renderer) -> None:
        from swift_sample.core.renderers.builtin.pipeline import (
            SceneCache,
        )  # the compiler comes with it

        super().__init__(renderer)
        self._scene_cache = SceneCache()
        self._preview: Preview | None = None

    def warm_up(self, tell: Callable[[float, str], None]) -> None:
        from swift_sample.core.renderers.builtin.pipeline import warm_up

        warm_up(tell)

    def make_ready(self, spec: RenderSpec) -> float:
        return self._scene_cache.make_ready(spec)

    def render(
        self,
        spec: RenderSpec,
        path: Path | None,
        progress: Progress,
        started: Callable[[Stop], None],
        layers: tuple[str, ...] | None = None,
        identity: Mapping[str, object] | None = None,
    ) -> tuple[Picture, RunRecord]:
        from swift_sample.core.renderers.builtin.pipeline import run_render

        return run_render(
            spec,
            self._scene_cache,
            path,
            progress,
            lambda sampling: started(sampling.stop),
            layers,
            identity,
        )

    def preview(
        self, spec: RenderSpec, samples: int, show: ShowStage, started: Callable[[Stop], None]
    ) -> Picture:
        from swift_sample.core.renderers.builtin.preview import Preview

        self._preview = self._preview or Preview()
        return self._preview.run(spec, samples, show, started)

    def record(
        self, wanted: RecordSpec, path: Path, progress: Progress, started: Callable[[Stop], None]
    ) -> Picture:
        from swift_sample.core.renderers.builtin.recordings import make_recording

        return make_recording(
            wanted, self._scene_cache, path, progress, lambda sampling: started(sampling.stop)
        )

    def open_recording(self, path: Path) -> Recording:
        from swift_sample.core.renderers.builtin.recordings import OpenRecording

        return OpenRecording(path)

    def denoise(self, picture: Picture, configuration: Configuration) -> Picture:
        from swift_sample.core.renderers.builtin.denoise import denoise_picture

        return denoise_picture(picture, configuration)


RENDERER = BuiltInRenderer()
