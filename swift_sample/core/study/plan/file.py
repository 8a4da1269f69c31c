"""The plan as data, and as the text of study.toml. Reading is strict: a key that is not known is
named, with the nearest one, and nothing is dropped in silence. Scenes stand there relative to the
study's folder, so that both can be moved together."""

import os
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from difflib import get_close_matches
from pathlib import Path
from typing import Any

import tomlkit

from swift_sample.core.errors import RendererError, StudyError, SwiftSampleError, UsageError
from swift_sample.core.files import toml_values
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.registry import DEFAULT, renderer_named
from swift_sample.core.scene.staging import Staging, Viewpoint
from swift_sample.core.settings import Catalogue, Configuration, Opening, ScenePart, Setting, Value
from swift_sample.core.study.plan.model import FramePlan, Limits, Remark, Study, Sweep, WatchArea

FORMAT = 2
"""Version of study.toml. 2: the scene's place is relative to the study's folder."""
FORMATS_READ = (1, 2)

_KEYS: dict[str, tuple[str, ...]] = {
    "": (
        "format",
        "name",
        "scene",
        "size",
        "environment",
        "light",
        "camera",
        "frame",
        "renderer",
        "renderer_file",
        "repeats",
        "renders_per_opening",
        "goal",
        "view",
        "limits",
        "first_picture_limits",
        "no_worse_than_base",
        "forbidden",
        "reference",
        "base",
        "bases",
        "trials",
        "feature",
        "sweep",
        "frames",
        "area",
    ),
    "view": ("exposure", "curve"),
    "light": ("strength", "turn"),
    "camera": ("name", "position", "target", "field"),
    "reference": ("keep",),
    "frames": ("first", "last", "count"),
    "sweep": ("kind", "values"),
    "area": ("name", "x", "y", "width", "height", "limits"),
    "trial": ("name", "note", "left_out"),
    "feature": (
        "key",
        "group",
        "label",
        "help",
        "values",
        "remark",
        "part",
        "owner",
        "rays",
        "neutral_when",
    ),
}
"""Every key that may stand in a table; the settings of `base`, `forbidden` and `values` are checked
by the catalogue, limits by `Limits`."""


def plan_as_data(study: Study, folder: Path | None = None) -> dict[str, Any]:
    """The plan as plain data. With `folder`, places of files are written relative to it."""
    data: dict[str, Any] = {
        "format": FORMAT,
        "name": study.name,
        "scene": _portable(study.scene, folder),
        "renderer": study.catalogue.name,
        **(
            {"renderer_file": _portable(study.renderer_file, folder)} if study.renderer_file else {}
        ),
        "size": list(study.size),
    }
    staging = study.staging
    if staging.environment is not None:
        data["environment"] = _portable(staging.environment, folder)
    if (staging.strength, staging.turn) != (1.0, 0.0):
        data["light"] = {"strength": staging.strength, "turn": staging.turn}

    viewpoint = staging.viewpoint
    if viewpoint is not None:
        where = {
            "position": list(viewpoint.position),
            "target": list(viewpoint.target),
            "field": viewpoint.field,
        }
        data["camera"] = {**({"name": staging.camera} if staging.camera else {}), **where}
    elif staging.camera:
        data["camera"] = {"name": staging.camera}

    data |= {
        "frame": study.frame,
        "repeats": study.repeats,
        "renders_per_opening": study.renders_per_opening,
        "goal": study.goal,
        "view": {"exposure": study.view.exposure, "curve": study.view.curve},
        "limits": dict(study.limits.items()),
        "no_worse_than_base": study.no_worse_than_base,
    }
    if study.first_picture_limits is not None:
        data["first_picture_limits"] = dict(study.first_picture_limits.items())
    if study.forbidden:
        data["forbidden"] = {key: list(values) for key, values in study.forbidden.items()}
    if study.reference_keeps:
        data["reference"] = {"keep": list(study.reference_keeps)}
    if study.frames is not None:
        data["frames"] = {
            "first": study.frames.first,
            "last": study.frames.last,
            "count": study.frames.count,
        }

    if study.catalogue.of_scene:
        data["feature"] = [
            {
                "key": s.key,
                "group": s.group,
                "label": s.label,
                "help": s.help,
                "values": list(s.values),
                **({"remark": s.why_tried} if s.why_tried else {}),
                **_part_as_data(s),
            }
            for s in study.catalogue.of_scene
        ]

    data["base"] = dict(study.base)
    if study.bases:
        data["bases"] = {name: dict(kept) for name, kept in study.bases.items()}

    if study.remarks:
        data["trials"] = {
            trial: {key: text for key, text in asdict(remark).items() if text}
            for trial, remark in study.remarks.items()
        }

    if study.sweeps:
        data["sweep"] = [
            {"kind": s.kind, "values": {k: list(v) for k, v in s.values.items()}}
            for s in study.sweeps
        ]

    if study.areas:
        data["area"] = [
            {
                "name": a.name,
                "x": a.x,
                "y": a.y,
                "width": a.width,
                "height": a.height,
                **({"limits": dict(a.limits.items())} if a.limits is not None else {}),
            }
            for a in study.areas
        ]

    return data


def plan_as_toml(study: Study, folder: Path | None = None) -> str:
    """The plan as TOML, meant to be read and compared by people."""
    return tomlkit.dumps(plan_as_data(study, folder))


def plan_from_toml(text: str, path: Path) -> Study:
    """Read study.toml at `path`. Raises StudyError naming the file and what is wrong in it."""
    if not text.strip():
        raise StudyError(
            f"{path}: is empty; restore it from a copy, or undo the last edit of that file"
        )

    try:
        data = toml_values(text)
    except ValueError as error:
        raise StudyError(
            f"{path}: not a readable study ({' '.join(str(error).split())}); correct it, or "
            "restore it from a copy"
        ) from error

    return plan_from_data(data, path)


def plan_from_data(data: Mapping[str, Any], path: Path) -> Study:
    """A plan from plain data; `path` is the study.toml that it stands for. Raises StudyError."""
    try:
        return _read(data, path.parent)
    except (StudyError, RendererError) as error:
        raise StudyError(f"{path}: {error}") from error
    except SwiftSampleError as error:
        raise StudyError(f"{path}: {error}; correct that line") from error
    except (KeyError, TypeError, ValueError, OverflowError, AttributeError) as error:
        raise StudyError(
            f"{path}: not a readable study ({type(error).__name__}: "
            f"{' '.join(str(error).split())}); restore it from a copy"
        ) from error


def _read(data: Mapping[str, Any], folder: Path) -> Study:
    if "format" not in data:
        raise StudyError(f"has no line that gives its format; add format = {FORMAT} at the top")

    version = data["format"]
    if type(version) is not int or version not in FORMATS_READ:
        remedy = (
            "open it with a newer version of Swift Sample"
            if isinstance(version, int) and version > FORMAT
            else f"expected format = {FORMAT}"
        )
        raise StudyError(f"has format {version}, this version reads up to {FORMAT}; {remedy}")

    _check_keys("", data)
    for key in ("name", "scene", "size"):
        if key not in data:
            raise StudyError(f"{key} is missing; add a line with it")

    file = _located(_text(data, "renderer_file"), folder) if "renderer_file" in data else ""
    renderer = renderer_named(
        _text(data, "renderer") if "renderer" in data else DEFAULT, folder, file
    )
    size = data["size"]
    view = _table(data, "view")
    catalogue = renderer.catalogue.with_scene([_feature(part) for part in data.get("feature", [])])

    if not (isinstance(size, list) and len(size) == 2 and all(type(side) is int for side in size)):
        raise UsageError(f"size={size}: expected two whole numbers")

    frames = _table(data, "frames")
    reference = _table(data, "reference")

    return Study(
        name=_text(data, "name"),
        scene=_located(_text(data, "scene"), folder, renderer.scene_names),
        renderer_file=file,
        size=(size[0], size[1]),
        staging=_staging(data, folder),
        frame=_whole(data, "frame", 0),
        view=View(_number(view, "exposure", 0.0), str(view.get("curve", "straight"))),
        base=Configuration(catalogue, _table(data, "base")),
        bases={
            str(name): Configuration(catalogue, kept)
            for name, kept in _table(data, "bases").items()
        },
        remarks={str(trial): _remark(part) for trial, part in _table(data, "trials").items()},
        sweeps=tuple(_sweep(part, catalogue) for part in data.get("sweep", [])),
        limits=Limits.read(_table(data, "limits"), "limits"),
        first_picture_limits=(
            Limits.read(_table(data, "first_picture_limits"), "first_picture_limits")
            if "first_picture_limits" in data
            else None
        ),
        repeats=_whole(data, "repeats", 3),
        renders_per_opening=_whole(data, "renders_per_opening", 1),
        goal=str(data.get("goal", "final")),
        areas=tuple(_area(part) for part in data.get("area", [])),
        forbidden={
            key: tuple(map(catalogue.setting(key).check, values))
            for key, values in _table(data, "forbidden").items()
        },
        frames=FramePlan(**{key: _whole(frames, key) for key in ("first", "last", "count")})
        if frames
        else None,
        no_worse_than_base=_switch(data, "no_worse_than_base"),
        reference_keeps=tuple(str(key) for key in reference.get("keep", [])),
    )


def _staging(data: Mapping[str, Any], folder: Path) -> Staging:
    light = _table(data, "light")
    camera = _table(data, "camera")
    viewpoint = None

    if "position" in camera or "target" in camera:
        viewpoint = Viewpoint(
            _place(camera, "position"),
            _place(camera, "target"),
            _number(camera, "field", Viewpoint.field),
        )

    return Staging(
        _located(_text(data, "environment"), folder) if "environment" in data else None,
        _number(light, "strength", 1.0),
        _number(light, "turn", 0.0),
        _text(camera, "name") if "name" in camera else "",
        viewpoint,
    )


def _place(camera: Mapping[str, Any], key: str) -> tuple[float, float, float]:
    place = camera.get(key)
    if not (isinstance(place, list) and len(place) == 3):
        raise UsageError(f"camera.{key}={place}: expected three numbers")

    x, y, z = (_number({f"camera.{key}": value}, f"camera.{key}", 0.0) for value in place)
    return x, y, z


def _check_keys(where: str, table: Mapping[str, Any]) -> None:
    for key in table:
        if key not in _KEYS[where]:
            near = get_close_matches(key, _KEYS[where], n=1, cutoff=0.5)
            hint = (
                f"did you mean {near[0]}?" if near else f"expected one of {', '.join(_KEYS[where])}"
            )
            raise UsageError(f"{where + '.' if where else ''}{str(key)[:60]}: no such key; {hint}")


def _table(data: Mapping[str, Any], key: str) -> dict[str, Any]:
    table = data.get(key, {})
    if not isinstance(table, dict):
        raise UsageError(f"{key}={table}: expected a table")
    if key in _KEYS:
        _check_keys(key, table)

    return table


def _text(data: Mapping[str, Any], key: str) -> str:
    if not isinstance(data[key], str):
        raise UsageError(f"{key}={data[key]}: expected text")
    return str(data[key])


def _whole(data: Mapping[str, Any], key: str, otherwise: int | None = None) -> int:
    value = data.get(key, otherwise)
    if type(value) is not int:
        raise UsageError(f"{key}={value}: expected a whole number")
    return value


def _number(data: Mapping[str, Any], key: str, otherwise: float) -> float:
    value = data.get(key, otherwise)
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise UsageError(f"{key}={value}: expected a number")
    return float(value)


def _switch(data: Mapping[str, Any], key: str) -> bool:
    value = data.get(key, False)
    if not isinstance(value, bool):
        raise UsageError(f"{key}={value}: expected true or false")
    return value


def _limits_if_there(data: Mapping[str, Any], key: str, where: str = "") -> Limits | None:
    return Limits.read(_table(data, key), where or key) if key in data else None


def _area(part: dict[str, Any]) -> WatchArea:
    _check_keys("area", part)
    limits = _limits_if_there(part, "limits", "area.limits")

    return WatchArea(
        name=_text(part, "name"),
        x=_whole(part, "x"),
        y=_whole(part, "y"),
        width=_whole(part, "width"),
        height=_whole(part, "height"),
        limits=limits,
    )


def _remark(part: object) -> Remark:
    if not isinstance(part, dict):
        raise UsageError(f"trials: {str(part)[:40]}: expected a table")
    _check_keys("trial", part)
    return Remark(**{key: _text(part, key) for key in part})


def _feature(part: dict[str, Any]) -> Setting:
    """A setting of the scene; what it does stands in the scene's own features."""
    _check_keys("feature", part)
    values = part.get("values", [])
    if not (
        isinstance(values, list)
        and len(values) > 1
        and all(isinstance(value, str) for value in values)
    ):
        raise UsageError(f"feature {str(part.get('key', ''))[:60]}: expected two or more values")

    key, group, label, words = (_text(part, name) for name in ("key", "group", "label", "help"))
    own = tuple(values)

    return Setting(
        key=key,
        group=group,
        label=label,
        help=words,
        kind="choice",
        default=own[0],
        suggested=own,
        short=label,
        values=own,
        reference=Opening(own[0]),
        why_tried=str(part.get("remark", "")),
        neutral_when=_neutral_when(part),
        of_scene=True,
        cheaper=own[1:],
        part=ScenePart(
            str(part.get("part", "material")),
            str(part.get("owner", label.partition(": ")[0])),
            _texts(part.get("rays", [])),
        ),
    )


def _neutral_when(part: dict[str, Any]) -> tuple[str, tuple[Value, ...]] | None:
    """At which values of another setting a feature has no effect; as `{"geometry.subdivision" =
    [0]}`."""
    told = part.get("neutral_when", {})
    if not (
        isinstance(told, dict)
        and len(told) <= 1
        and all(isinstance(values, list) for values in told.values())
    ):
        raise UsageError(
            f"feature {str(part.get('key', ''))[:60]}: neutral_when: expected a setting and "
            "its values"
        )

    return next(((key, tuple(values)) for key, values in told.items()), None)


def _texts(told: object) -> tuple[str, ...]:
    return tuple(str(one) for one in told) if isinstance(told, list) else ()


def _part_as_data(setting: Setting) -> dict[str, Any]:
    """What part of the scene a feature is of, as it stands in study.toml."""
    part = setting.part
    assert part is not None
    neutral = (
        {"neutral_when": {setting.neutral_when[0]: list(setting.neutral_when[1])}}
        if setting.neutral_when
        else {}
    )

    return {
        "part": part.kind,
        "owner": part.name,
        **({"rays": list(part.rays)} if part.rays else {}),
        **neutral,
    }


def _sweep(part: dict[str, Any], catalogue: Catalogue) -> Sweep:
    _check_keys("sweep", part)
    values = {
        key: tuple(catalogue.setting(key).check(v) for v in tried)
        for key, tried in part["values"].items()
    }
    return Sweep(str(part["kind"]), values)


def _portable(name: str, folder: Path | None) -> str:
    """A file's place relative to the study, as long as both have more in common than the root."""
    if folder is None or not os.path.isabs(name):
        return name

    relative = os.path.relpath(name, os.path.abspath(folder))
    shared = os.path.commonpath([name, os.path.abspath(folder)])
    return relative if shared != os.path.sep else name


def _located(name: str, folder: Path, known: Sequence[str] = ()) -> str:
    """The inverse of `_portable`: names that the renderer knows, colours and absolute places stay
    as they are."""
    if name in known or os.path.isabs(name) or _is_colour(name):
        return name
    return os.path.normpath(os.path.join(os.path.abspath(folder), name))


def _is_colour(text: str) -> bool:
    parts = text.split(",")
    try:
        return len(parts) == 3 and all(float(part) is not None for part in parts)
    except ValueError:
        return False
