"""The record of a render in its picture's header, so that a picture tells by itself what it is of."""

import json
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path

from swift_sample.core.picture.exr import RECORD_ATTRIBUTE, rewrite_record
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.records import RunRecord

ROOM_FOR_REST = 512
"""Characters kept free in a header for figures that grow longer."""
STUDY_LAYERS = ("half_a", "half_b", "albedo", "normal", "depth", "samples", "seconds", "error", "raw")
"""What a study keeps of each picture besides its beauty; light passes would triple its size."""


def put_record(picture: Picture, record: RunRecord, identity: Mapping[str, object] | None) -> None:
    """Put the record where the header is written from, with room for what is known only once the file is written. `identity`
    is what a study calls the run; None outside of studies."""
    picture.notes[RECORD_ATTRIBUTE] = (
        record.model_dump_json() if identity is None else _note(record, identity) + " " * ROOM_FOR_REST
    )


def complete_record(path: Path, record: RunRecord, identity: Mapping[str, object]) -> None:
    """Bring the record in a written picture's header up to date: bytes, the time of writing, how busy the machine was."""
    with suppress(OSError):  # the picture is whole; only a study whose database is lost would miss this
        rewrite_record(path, _note(record, identity))


def _note(record: RunRecord, identity: Mapping[str, object]) -> str:
    return json.dumps({**record.model_dump(mode="json"), "study": dict(identity)})
