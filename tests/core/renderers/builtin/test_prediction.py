import numpy as np
import pytest

from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.lowlevel.records import CELL
from swift_sample.core.renderers.builtin.pipeline import SceneCache, run_render
from swift_sample.core.renderers.builtin.prediction import CELL_LOSS, shift_by_cap
from swift_sample.core.renderers.records import RenderSpec


def test_missing_light_of_a_known_size_is_predicted() -> None:
    view = View()
    light = view.light(np.full((3, 4, 3), 100.0))
    dimmer = view.light(np.full((3, 4, 3), 90.0))
    cells = {
        "light.0": dimmer,
        "light.1": light - dimmer,
        "light.2": np.zeros_like(light),
        "grain.4": np.ones((3, 4)),
    }
    found = shift_by_cap(cells, view)
    assert found == {0: pytest.approx(10 * CELL_LOSS, abs=0.01), 1: pytest.approx(0.0, abs=1e-3)}
    assert shift_by_cap({"light.0": light}, view) == {}


def test_one_deep_render_tells_what_a_lower_cap_really_leaves_out() -> None:
    """Against the capped render itself: the same samples without their later bounces, so they
    differ by that light alone."""
    settings = {"samples.max": 16, "bounces.total": 8, "bounces.roulette_start": 64}
    spec = RenderSpec(scene="honey-stall-small", size=(64, 32), settings=settings, seed=3)
    deep, result = run_render(spec, SceneCache(), None)

    for cap in (0, 1, 3):
        capped, _ = run_render(
            spec.model_copy(
                update={"settings": dict(configured({**settings, "bounces.total": cap}))}
            ),
            SceneCache(),
            None,
        )
        blocks = [view_of(picture.beauty) for picture in (capped, deep)]
        measured = float(np.sqrt(((blocks[0] - blocks[1]) ** 2).mean()))
        assert result.shift_by_bounces[cap] / CELL_LOSS == pytest.approx(measured, rel=0.15)


def view_of(picture: np.ndarray) -> np.ndarray:
    """Levels of means over the cells in which light by bounce is kept."""
    height, width = (side // CELL * CELL for side in picture.shape[:2])
    return View().levels(
        picture[:height, :width]
        .reshape(height // CELL, CELL, width // CELL, CELL, 3)
        .mean(axis=(1, 3))
    )
