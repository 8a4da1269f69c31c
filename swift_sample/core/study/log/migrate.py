"""Brings a study of schema 1 or 2 to identities. Every run is kept; what its picture shows is kept where it can be told.

In those studies a picture's file name did not know the scene, so pictures of one size, frame or version of the scene were
overwritten by those of another: such a file belongs to the run that was made last, and the others are told to have lost
theirs. Figures did not say what they were of, so all are measured again from the pictures. The renderer's version was not
recorded: results stand under a version of that name, apart from new ones.
"""

import hashlib
import json
import re
import sqlite3
from collections.abc import Mapping
from dataclasses import fields, replace
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from swift_sample.core.errors import SettingError
from swift_sample.core.machine import Machine
from swift_sample.core.renderers.records import RunRecord
from swift_sample.core.settings import Configuration
from swift_sample.core.study.log.codec import is_picture_name, now, write_event
from swift_sample.core.study.log.events import (
    Event,
    Named,
    PlanEdited,
    ReferenceGrew,
    Run,
    RunFinished,
    RunResult,
    Said,
    TrialChosen,
)
from swift_sample.core.study.log.folder import PLAN, REFERENCE
from swift_sample.core.study.log.identity import (
    UNRECORDED,
    Identity,
    Place,
    SceneContent,
    appearance_identity,
    machine_identity,
    reference_identity,
    renderer_identity,
    scene_identity,
    trial_identity,
)
from swift_sample.core.study.plan.model import Study

_SCENE_KEY = re.compile(r"([0-9a-f]{16})(?:-([0-9a-f]{12}))?-(\d+)x(\d+)-(\d+)")
_FIRST_CHUNK, _CHUNK = 96, 128
"""Samples of a reference's first and later chunks in those versions."""


def migrate_from_2(database: sqlite3.Connection, plan: Study, folder: Path) -> None:
    """Turn the tables named old_… into the log, within the caller's transaction."""
    _Migration(database, plan, folder).run()


class _Migration:
    def __init__(self, database: sqlite3.Connection, plan: Study, folder: Path) -> None:
        self._database, self._plan, self._folder = database, plan, folder
        self._renderer = renderer_identity(plan.catalogue.name, UNRECORDED)
        self._scenes: dict[str, Identity | None] = {}
        self._machines: dict[str, tuple[str, str]] = {}
        self._lines: list[tuple[str, int, Event]] = []
        self._told: list[str] = []

    def run(self) -> None:
        database = self._database
        self._trials = self._read_trials()
        for fingerprint, description in database.execute("SELECT fingerprint, description FROM old_machines").fetchall():
            self._read_machine(fingerprint, description)
        self._read_runs()
        for key, trial in database.execute("SELECT scene_key, trial FROM old_chosen").fetchall():
            scene, configuration = self._scene(key), self._trials.get(trial)
            if scene is not None and configuration is not None:
                self._add("", TrialChosen(self._place(scene), configuration.identity_values(), "chosen by an earlier search"))
        for at, kind, text in database.execute("SELECT at, kind, text FROM old_events ORDER BY id").fetchall():
            self._add(at, Said(str(kind), str(text)))
        self._read_references()
        self._write()

    def _add(self, at: str, event: Event) -> None:
        self._lines.append((at, len(self._lines), event))

    def _place(self, scene: Identity) -> Place:
        return Place(self._renderer.name, scene.name)

    def _read_trials(self) -> dict[int, Configuration]:
        trials, unread = {}, 0
        for number, text in self._database.execute("SELECT id, configuration FROM old_trials").fetchall():
            try:
                trials[number] = Configuration(self._plan.catalogue, json.loads(text))
            except (SettingError, ValueError, AttributeError):
                unread += 1
        if unread:
            self._told.append(f"{unread} trials have settings that are no more, and were left out with their runs")
        return trials

    def _read_machine(self, fingerprint: str, description: str) -> None:
        try:
            told = json.loads(description)
            known = {field.name: told[field.name] for field in fields(Machine)}
            machine = Machine(**{**known, "memory_bytes": int(known["memory_bytes"]) >> 30 << 30})
            self._machines[fingerprint] = (machine_identity(machine).name, str(machine.versions))
            self._add("", Named("machine", machine_identity(machine).name, machine.hardware()))
        except (ValueError, KeyError, TypeError):
            self._machines[fingerprint] = (fingerprint, "")

    def _scene(self, key: str) -> Identity | None:
        if key not in self._scenes:
            match = _SCENE_KEY.fullmatch(key)
            if match is None:
                self._told.append(f"results of a version of the scene that cannot be told ({key[:60]}) were left out")
                self._scenes[key] = None
            else:
                content = SceneContent(match[1], match[2] or "")
                made = scene_identity(content, (int(match[3]), int(match[4])), int(match[5]))
                self._scenes[key] = made
                self._add("", Named("scene", made.name, dict(made.record), Path(self._plan.scene).name))
        return self._scenes[key]

    def _read_runs(self) -> None:
        rows = self._database.execute(
            "SELECT id, trial, scene_key, control, block, machine, finished_at, picture, result, "
            "reason FROM old_runs ORDER BY id"
        ).fetchall()
        owners: dict[str, tuple[int, str]] = {}
        for number, _, key, *_, picture, result, _ in rows:
            if picture and result is not None:
                owners[picture] = (number, key)
        overwritten = 0
        for number, trial, key, control, block, fingerprint, at, picture, text, reason in rows:
            configuration, scene = self._trials.get(trial), self._scene(key)
            if configuration is None or scene is None:
                continue
            record = _record(text)
            if text is not None and record is None:
                reason = "its record is damaged"
            lost = record is not None and owners.get(picture, (number,))[0] != number and owners[picture][1] != key
            overwritten += lost
            if record is not None and (lost or not is_picture_name(picture)):
                record, reason = (
                    None,
                    "its picture was overwritten by one of another size, frame or version of the scene"
                    if lost
                    else "the name of its picture is none that this program gives",
                )
            view = self._plan.view
            machine, software = self._machines.get(fingerprint, (str(fingerprint), ""))
            run = Run(
                0,
                at,
                self._place(scene),
                trial_identity(configuration).name,
                appearance_identity(configuration, view).name,
                machine,
                record.seed if record is not None else 0,
                block,
                bool(control),
                picture if record is not None else "",
                RunResult.of(record) if record is not None else None,
                "" if record is not None else reason or "its record is missing",
                software,
            )
            self._add(at, RunFinished(run, configuration, record))
        if overwritten:
            self._told.append(
                f"{overwritten} runs had lost their pictures to those of another size, frame or version of the "
                "scene, and count as not made"
            )

    def _read_references(self) -> None:
        """A reference's old name is a digest of its whole configuration, so those of known bases are found by trying."""
        known = {
            _old_digest(made): base
            for base in (self._plan.base, *self._trials.values())
            for made in [replace(self._plan, base=base).reference_configuration(1)]
        }
        for key, samples, floor, seconds in self._database.execute(
            "SELECT key, samples, floor, seconds FROM old_reference"
        ).fetchall():
            scene_key, _, digest = key.rpartition("-")
            scene, base = self._scene(scene_key), known.get(digest)
            old = self._folder / REFERENCE / f"{key}.exr"
            if scene is None or base is None or not old.is_file():
                self._told.append(f"the reference {key[:60]} belongs to no trial of this study, and is rendered again")
                continue
            name = reference_identity(self._place(scene), replace(self._plan, base=base)).name
            new = old.with_name(f"{name}.exr")
            if not new.exists():
                try:
                    new.hardlink_to(old)
                except OSError:
                    self._told.append(f"the reference {key[:60]} could not be given its new name, and is rendered again")
                    continue
            chunks = 1 + max(0, samples - _FIRST_CHUNK) // _CHUNK
            self._add("", ReferenceGrew(name, samples, chunks, floor, seconds))

    def _write(self) -> None:
        path = self._folder / PLAN
        lines = sorted(self._lines, key=lambda line: (line[0], line[1]))
        first = next((at for at, _, _ in lines if at), now())
        write_event(self._database, PlanEdited("The study began", self._plan), path, first)
        write_event(self._database, Named("renderer", self._renderer.name, dict(self._renderer.record)), path, first)
        for at, _, event in lines:
            write_event(self._database, event, path, at or first)
        told = [
            "the study is from an earlier version: its runs and pictures are kept as results of a renderer whose version "
            "was not recorded, and figures are measured again",
            *self._told,
        ]
        for text in told:
            write_event(self._database, Said("brought up to date", text), path)


def _record(text: str | None) -> RunRecord | None:
    if text is None:
        return None
    try:
        return RunRecord.model_validate_json(text)
    except ValidationError:
        return None


def _old_digest(configuration: Mapping[str, Any]) -> str:
    """How those versions named a configuration: by all its values, defaults too."""
    return hashlib.sha256(json.dumps(dict(configuration), sort_keys=True).encode()).hexdigest()[:12]
