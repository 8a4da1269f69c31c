"""A program with a command line: the guided search from its times and pictures alone
(`bank_outside`), and the built-in renderer by its own command line beside itself, in process."""

import math
import os
import tempfile
from dataclasses import replace
from pathlib import Path

import trimesh
from trimesh.visual.material import PBRMaterial
from trimesh.visual.texture import TextureVisuals

from benchmarks.search.bank_outside import EXAMPLES, OutsidePool
from benchmarks.search.guided import compare
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.renderer import RENDERER
from swift_sample.core.renderers.command.renderer import CommandRenderer
from swift_sample.core.renderers.command.trust import confirm, seen_file
from swift_sample.core.renderers.port import Renderer
from swift_sample.core.settings import Configuration, Value
from swift_sample.core.study.answers.pick_report import pick_sentences
from swift_sample.core.study.log.store import Store, create_study
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.policies import Searching
from swift_sample.core.study.plan.model import Limits, Study, Sweep

SIZE = (320, 180)
EXPOSURE = 1.5
BASE: dict[str, Value] = {"samples.max": 64, "bounces.total": 12, "denoise.method": "none"}
TRIED: dict[str, tuple[Value, ...]] = {
    "samples.max": (8, 16, 32, 64),
    "bounces.total": (2, 4, 12),
    "denoise.method": ("none", "wavelet"),
}
LIMITS = Limits(
    grain=4.0,
    light_shift=2.0,
    detail_kept=90.0,
    stray_pixels=5_000.0,
    grain_worst=9.0,
    light_shift_worst=None,
    detail_kept_worst=None,
)


def shelf(path: Path) -> Path:
    """A small scene as a file: three matt jars on a board before a wall, lit by a panel."""
    scene = trimesh.Scene()

    def put(
        mesh: trimesh.Trimesh,
        colour: tuple[float, ...],
        place: tuple[float, ...],
        glow: float = 0.0,
    ) -> None:
        look = PBRMaterial(
            baseColorFactor=[*colour, 1.0],
            metallicFactor=0.0,
            roughnessFactor=0.8,
            emissiveFactor=[glow] * 3,
        )
        mesh.visual = TextureVisuals(material=look)
        mesh.apply_translation(place)
        scene.add_geometry(mesh)

    put(trimesh.creation.box((6, 0.1, 3)), (0.7, 0.55, 0.4), (0, -0.05, 0))
    put(trimesh.creation.box((6, 4, 0.1)), (0.75, 0.75, 0.7), (0, 2, -1.5))
    put(trimesh.creation.box((0.1, 4, 3)), (0.8, 0.5, 0.25), (-3, 2, 0))

    for x, colour in ((-1.2, (0.85, 0.5, 0.1)), (0.1, (0.8, 0.76, 0.68)), (1.3, (0.6, 0.25, 0.12))):
        upright = trimesh.creation.cylinder(0.45, 1.0, 24)
        upright.apply_transform(trimesh.transformations.rotation_matrix(math.pi / 2, (1, 0, 0)))
        put(upright, colour, (x, 0.5, 0))

    put(trimesh.creation.box((3.0, 0.05, 2.0)), (0.5, 0.5, 0.5), (0.5, 3.6, 0.7), 1.0)
    path.write_bytes(scene.export(file_type="glb"))
    return path


def _pick(renderer: Renderer, scene: Path, folder: Path, file: str = "") -> None:
    base = Configuration(renderer.catalogue, BASE)
    plan = Study(
        name=renderer.name,
        scene=str(scene),
        size=SIZE,
        view=View(exposure=EXPOSURE),
        sweeps=(Sweep("one at a time", TRIED),),
        limits=LIMITS,
        base=base,
    )
    driver = Driver(
        Store.open(
            create_study(folder / f"{renderer.name}.study", replace(plan, renderer_file=file))
        )
    )
    driver.run_here(Searching(driver.record))
    results = driver.snapshot.results
    pick = results.pick()
    lines = pick_sentences(results, pick) if pick is not None else ["no pick"]
    print(f"  {renderer.title}: {sum(t.is_on_map for t in results.trials)} trials")
    for line in lines[:4]:
        print(f"    {line}")

    driver.close()


def main() -> None:
    """Print how close each search comes, and both picks."""
    compare(OutsidePool, 0.08)
    os.environ["XDG_DATA_HOME"] = str(Path("build/bank/confirmed").absolute())
    described = EXAMPLES / "built-in.toml"
    confirm(seen_file(described))

    with tempfile.TemporaryDirectory() as place:
        scene = shelf(Path(place) / "shelf.glb")
        _pick(RENDERER, scene, Path(place))
        _pick(CommandRenderer(described), scene, Path(place), str(described))
