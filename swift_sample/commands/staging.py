"""Options for light and camera in place of the scene's own, which several commands have."""

from collections.abc import Callable
from dataclasses import replace
from functools import partial, wraps
from pathlib import Path
from typing import Any

import click

from swift_sample.core.errors import UsageError
from swift_sample.core.scene.staging import Staging, Viewpoint

OWN = "own"
_OPTIONS = (
    click.option(
        "--environment",
        help="Light from everywhere: r,g,b or an .exr or .hdr picture; own for the scene's own.",
    ),
    click.option("--strength", type=float, help="What that light is multiplied by."),
    click.option("--turn", type=float, help="Degrees by which it is turned."),
    click.option("--camera", help="A camera of the scene by its name; own for its first."),
    click.option("--position", metavar="X,Y,Z", help="Where a camera of your own stands."),
    click.option("--target", metavar="X,Y,Z", help="What it looks at."),
    click.option("--field", type=float, help="Its vertical field in degrees."),
)
_NAMES = ("environment", "strength", "turn", "camera", "position", "target", "field")


def with_staging(command: Callable[..., int]) -> Callable[..., int]:
    """Give a command these options; it is called with `stage`, which changes a Staging as they say,
    and raises UsageError."""

    @wraps(command)
    def called(**given: Any) -> int:
        said = {name: given.pop(name) for name in _NAMES}
        return command(stage=partial(_staged, **said), **given)

    for option in reversed(_OPTIONS):
        called = option(called)

    return called


def _staged(
    staging: Staging,
    environment: str | None,
    strength: float | None,
    turn: float | None,
    camera: str | None,
    position: str | None,
    target: str | None,
    field: float | None,
) -> Staging:
    if (position is None) != (target is None):
        raise UsageError("a camera of your own needs --position and --target")

    if environment is not None:
        light = str(Path(environment).resolve()) if Path(environment).is_file() else environment
        staging = replace(staging, environment=None if environment == OWN else light)

    staging = replace(
        staging,
        strength=staging.strength if strength is None else strength,
        turn=staging.turn if turn is None else turn,
    )
    if camera is not None:
        staging = replace(staging, camera="" if camera == OWN else camera, viewpoint=None)

    if position is not None and target is not None:
        hand = Viewpoint(
            _triple("position", position), _triple("target", target), field or Viewpoint.field
        )
        return replace(staging, viewpoint=hand)

    if field is not None:
        if staging.viewpoint is None:
            raise UsageError(
                "--field belongs to a camera of your own; give --position and --target"
            )
        return replace(staging, viewpoint=replace(staging.viewpoint, field=field))

    return staging


def _triple(name: str, text: str) -> tuple[float, float, float]:
    try:
        x, y, z = (float(part) for part in text.split(","))
    except ValueError:
        raise UsageError(f"{name}={text}: expected three numbers x,y,z") from None

    return x, y, z
