"""The record of a render in its picture's header, so that a picture tells by itself what it is
of."""

import json
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path

from swift_sample.core.errors import PictureError
from swift_sample.core.picture.exr import RECORD_ATTRIBUTE, read_record, rewrite_record
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Value

ROOM_FOR_REST = 512
"""Characters kept free in a header for figures that grow longer."""
STUDY_LAYERS = (
    "half_a",
    "half_b",
    "albedo",
    "normal",
    "depth",
    "samples",
    "seconds",
    "error",
    "raw",
    "material",
    "object",
)
"""What a study keeps of each picture besides its beauty; light passes would triple its size."""


def put_record(picture: Picture, record: RunRecord, identity: Mapping[str, object] | None) -> None:
    """Put the record where the header is written from, with room for what is known only once the
    file is written. `identity` is what a study calls the run; None outside of studies."""
    picture.notes[RECORD_ATTRIBUTE] = (
        record.model_dump_json()
        if identity is None
        else _note(record, identity) + " " * ROOM_FOR_REST
    )


def complete_record(path: Path, record: RunRecord, identity: Mapping[str, object]) -> None:
    """Bring the record in a written picture's header up to date: bytes, the time of writing, how
    busy the machine was."""
    with suppress(
        OSError
    ):  # the picture is whole; only a study whose database is lost would miss this
        rewrite_record(path, _note(record, identity))


def settings_of_file(path: Path) -> Mapping[str, Value]:
    """The settings that a finished render was made with, by its header. Raises PictureError where
    that does not say."""
    try:
        settings = json.loads(read_record(path))["settings"]
    except (ValueError, KeyError, TypeError) as error:
        raise PictureError(
            f"{path}: its header does not say with which settings it was rendered; type them in"
        ) from error

    if not isinstance(settings, dict):
        raise PictureError(
            f"{path}: its header does not say with which settings it was rendered; type them in"
        )

    return settings


def _note(record: RunRecord, identity: Mapping[str, object]) -> str:
    return json.dumps({**record.model_dump(mode="json"), "study": dict(identity)})
