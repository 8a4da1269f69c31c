"""Makes a study's log anew from what stands in the headers of its pictures, where the database is
lost."""

import json
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from swift_sample.core.errors import PictureError, SettingError
from swift_sample.core.picture.exr import read_record
from swift_sample.core.picture.stored import digest_of_picture
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Catalogue, Configuration
from swift_sample.core.study.log.events import (
    Event,
    Named,
    ReferenceGrew,
    Run,
    RunFinished,
    RunResult,
    Said,
)
from swift_sample.core.study.log.folder import Folder
from swift_sample.core.study.log.identity import Identity, Place, picture_identity, trial_identity


def events_from_pictures(folder: Folder, catalogue: Catalogue) -> list[tuple[str, Event]]:
    """Runs, references and the records behind their names, with their times, in order. What cannot
    be read is told."""
    found: list[tuple[str, Event]] = []
    unread = 0
    named: set[str] = set()

    for path in sorted(folder.pictures.glob("*.exr")):
        try:
            at, events = _run(path, named, catalogue)
            found += [(at, event) for event in events]
        except (
            OSError,
            PictureError,
            ValidationError,
            SettingError,
            KeyError,
            TypeError,
            ValueError,
        ):
            unread += 1

    for path in sorted(folder.references.glob("*.exr")):
        try:
            note = json.loads(read_record(path))
            found.append(
                (
                    str(note["at"]),
                    ReferenceGrew(
                        reference=path.stem,
                        samples=int(note["referenceSamples"]),
                        chunks=int(note["chunks"]),
                        floor=None if note["floor"] is None else float(note["floor"]),
                        seconds=float(note["seconds"]),
                        digest=digest_of_picture(path),
                    ),
                )
            )
        except (OSError, PictureError, KeyError, TypeError, ValueError):
            unread += 1

    found.sort(key=lambda line: line[0])
    runs = sum(isinstance(event, RunFinished) for _, event in found)
    words = f"the database was lost: {runs} runs were found again in the headers of their pictures"

    if unread:
        words += f", {unread} pictures say nothing of their run"

    lost = "; failures, searches and steps to undo are lost, figures are measured again"
    return [*found, ("", Said("rebuilt", words + lost))]


def _run(path: Path, named: set[str], catalogue: Catalogue) -> tuple[str, Iterable[Event]]:
    note: dict[str, Any] = json.loads(read_record(path))
    study: dict[str, Any] = note.pop("study")
    record = RunRecord.model_validate(note)

    if not record.changes.keys() <= catalogue.keys():
        raise ValueError("it was rendered with features of the scene that the plan does not name")

    configuration = Configuration(catalogue, {**record.settings, **record.changes})
    place = Place(str(study["renderer"]), str(study["scene"]))
    at = str(study["at"])

    if (
        trial_identity(configuration).name != study["trial"]
        or path.name != f"{picture_identity(place, study['appearance'], record.seed).name}.exr"
    ):
        raise ValueError("its header belongs to another picture")

    run = Run(
        number=0,
        finished_at=at,
        place=place,
        trial=str(study["trial"]),
        appearance=str(study["appearance"]),
        machine=str(study["machine"]),
        seed=record.seed,
        block=int(study["block"]),
        control=bool(study["control"]),
        picture=path.name,
        result=RunResult.of(record),
        reason="",
        software=str(study["software"]),
        digest=digest_of_picture(path),
        host=str(study.get("host", "")),
    )
    events: list[Event] = []

    for kind in ("scene", "renderer", "machine"):
        identity = Identity(kind, study["records"][kind])
        if identity.name == study[kind] and identity.name not in named:
            named.add(identity.name)
            events.append(
                Named(
                    kind,
                    identity.name,
                    dict(identity.record),
                    str(study.get("label", "")) if kind == "scene" else "",
                )
            )

    return at, [*events, RunFinished(run, configuration, record)]
