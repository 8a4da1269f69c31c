"""Renders on request: run with the path of a checkout, old or new, on PYTHONPATH. Reads one JSON
object a line and answers with one.

    {"scene": "room.pickle"}                        builds it, answers with processor seconds of
                                                    that
    {"samples": 16, "seed": 1, "out": "a.npy", ...} renders it, answers with seconds of the sampling
"""

import dataclasses
import json
import pickle
import sys
import time
from typing import Any

import numpy as np

from swift_sample.core.scene import model


def from_data(data: Any) -> Any:
    """A scene, from what `efficiency.as_data` made of it, with the fields that this checkout
    knows."""
    if isinstance(data, list):
        return [from_data(one) for one in data]
    if isinstance(data, tuple):
        return tuple(from_data(one) for one in data)
    if not isinstance(data, dict):
        return data
    if "class" not in data:
        return {key: from_data(one) for key, one in data.items()}

    kind = getattr(model, data["class"])
    known = {one.name for one in dataclasses.fields(kind)}
    values = {key: from_data(one) for key, one in data["fields"].items()}

    if data["class"] == "Texture":
        return kind(
            values["name"], values["pixels"], values["srgb"], values["wrap"], values["nearest"]
        )

    return kind(**{key: value for key, value in values.items() if key in known})


def main() -> None:
    try:
        from swift_sample.core.picture.view import View
        from swift_sample.core.renderers.builtin.catalogue import CATALOGUE
        from swift_sample.core.renderers.builtin.rendering.building import (
            Stopwatch,
            build_scene,
            choices_of,
        )
        from swift_sample.core.renderers.builtin.rendering.render import render
        from swift_sample.core.settings import Configuration

        def configured(values: dict[str, Any]) -> Any:
            return Configuration(CATALOGUE, values)
    except ImportError:
        from swift_sample.core.render.render import Stopwatch, build_scene, choices_of, render  # type: ignore[no-redef]
        from swift_sample.core.view import View  # type: ignore[no-redef]

        from swift_sample.core.settings import Configuration

        def configured(values: dict[str, Any]) -> Any:
            return Configuration(values)

    built = None
    for line in sys.stdin:
        wanted = json.loads(line)
        if "scene" in wanted:
            with open(wanted["scene"], "rb") as file:
                scene = from_data(pickle.load(file))

            started = time.process_time()
            built = build_scene(scene, Stopwatch(), choices_of(configured({})))
            answer = {"seconds": time.process_time() - started}
        else:
            stopwatch = Stopwatch()
            configuration = configured(wanted["settings"])
            view = View(0.0, "soft")
            picture, _ = render(
                built,
                configuration,
                tuple(wanted["size"]),
                wanted["seed"],
                view,
                stopwatch,
                passes=False,
            )

            if wanted["out"]:
                np.save(wanted["out"], picture.beauty)
            answer = {"seconds": stopwatch.wall["sampling"]}

        print(json.dumps(answer), flush=True)


if __name__ == "__main__":
    main()
