"""What somebody who means harm would try: studies, renderer files, programs, archives and machines
that ask for more than they should get. An attack is a fault where it succeeds: something
unconfirmed was started, something private was taken or written, something outlived its render, or
somebody beyond this computer was let in.
"""

import json
import os
import random
import secrets
import shutil
import tempfile
import time
import zipfile
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import psutil

from siege.findings import Findings
from siege.studies import plan_of, write_scene
from swift_sample.core.errors import SwiftSampleError
from swift_sample.core.machines.engine import is_here
from swift_sample.core.renderers.command.renderer import CommandEngine, CommandRenderer
from swift_sample.core.renderers.command.trust import confirm, is_confirmed, seen_file
from swift_sample.core.renderers.records import RenderSpec
from swift_sample.core.study.log.store import Store, create_study, look_at_study
from swift_sample.core.study.package.pack import pack_study, unpack_study
from swift_sample.core.study.plan.model import Study

PROGRAM = """
import os, subprocess, sys, time
from PIL import Image
HARM
Image.new("RGB", (8, 6)).save(sys.argv[2])
"""
FILE = """
format = 1
name = "small"
title = "a small program"
command = ["{python}", "{here}/program.py", "{scene}", "{picture}"]
[picture]
kind = "shown"
suffix = ".png"
[limits]
seconds = 20
[scene]
reads = READS
[[setting]]
key = "program.way"
label = "Way"
kind = "text"
default = "well"
arguments = ["{value}"]
"""
GONE_SECONDS = 5.0

Attack = Callable[[random.Random, Path], str]
"""Tries one thing in an empty folder; returns what succeeded, "" where nothing did."""


def _program(folder: Path, harm: str = "", reads: str = "[]") -> Path:
    """A small program that draws a picture, and its renderer file."""
    folder.mkdir()
    (folder / "program.py").write_text(PROGRAM.replace("HARM", harm))
    (folder / "scene.txt").write_text("a scene")
    (folder / "small.toml").write_text(FILE.replace("READS", reads))

    return folder / "small.toml"


def _render(file: Path) -> None:
    spec = RenderSpec(
        scene=str(file.parent / "scene.txt"), size=(8, 6), settings={"program.way": "well"}, seed=1
    )
    CommandEngine(CommandRenderer(file)).render(spec, None, lambda share: None, lambda stop: None)


def _study(folder: Path) -> tuple[Path, Study]:
    scene = folder / "scene.gltf"
    write_scene(scene)
    plan = plan_of(scene, (16, 9), 16, 1)
    return create_study(folder / "a.study", plan), plan


def link_to_a_confirmed_file(rng: random.Random, folder: Path) -> str:
    """Beside the link stands another program."""
    good = _program(folder / "good")
    confirm(seen_file(good))
    foreign = _program(folder / "foreign", f"open({str(folder / 'started')!r}, 'w').close()")
    foreign.unlink()
    foreign.symlink_to(good)
    with suppress(SwiftSampleError):
        _render(foreign)

    return "a program beside a link was started" if (folder / "started").exists() else ""


def exchanged_between_question_and_answer(rng: random.Random, folder: Path) -> str:
    """The file is another one by the time that a person has said yes."""
    file = _program(folder / "good")
    shown = seen_file(file)
    (folder / "good" / "other.py").write_text(f"open({str(folder / 'started')!r}, 'w').close()")
    file.write_text(file.read_text().replace("program.py", "other.py"))
    confirm(shown)
    with suppress(SwiftSampleError):
        _render(file)

    return (
        "what was not shown was started"
        if (folder / "started").exists() or is_confirmed(seen_file(file))
        else ""
    )


def link_in_a_study(rng: random.Random, folder: Path) -> str:
    """A part of a study that is a link, a pipe or a folder elsewhere."""
    study, _ = _study(folder)
    part = rng.choice(
        [
            "renderer/a.toml",
            "renderer/programs/a.py",
            "pictures/a.exr",
            "passes/a.exr",
            "results.db",
        ]
    )
    place = study / part
    place.parent.mkdir(parents=True, exist_ok=True)
    outside = folder / "outside"
    outside.write_text("mine")
    with suppress(FileNotFoundError):
        place.unlink()

    if rng.random() < 0.5:
        place.symlink_to(outside)
    else:
        os.mkfifo(place)

    for open_ in (Store.open, look_at_study):
        with suppress(SwiftSampleError):
            open_(study)
            return f"a study with a link or a pipe as {part} was opened"

    return ""


def private_file_in_a_pack(rng: random.Random, folder: Path) -> str:
    """A study names a file of this computer as its scene, its light, or what its scene reads."""
    private = folder / rng.choice(["id_key", "notes.txt", "wallet.exr", "scene.glb"])
    private.write_bytes(secrets.token_bytes(64))
    study, _ = _study(folder)
    text = (study / "study.toml").read_text()

    if rng.random() < 0.5:
        lines = [
            f"scene = {json.dumps(str(private))}" if line.startswith("scene =") else line
            for line in text.split("\n")
        ]
        text = "\n".join(lines)
    else:
        text = f"environment = {json.dumps(str(private))}\n{text}"

    (study / "study.toml").write_text(text)
    with suppress(SwiftSampleError):
        pack_study(study, folder / "a.zip")

    if not (folder / "a.zip").exists():
        return ""

    with zipfile.ZipFile(folder / "a.zip") as archive:
        taken = [name for name in archive.namelist() if archive.read(name) == private.read_bytes()]

    return f"{private.name} was packed as {taken[0]}" if taken else ""


def pattern_that_climbs_out(rng: random.Random, folder: Path) -> str:
    """What a scene reads leads out of its folder, by dots, from the root, or by a link."""
    (folder / "secret").mkdir()
    (folder / "secret" / "key.png").write_text("mine")
    pattern = rng.choice(["../secret/*", "../**/*", f"{folder}/secret/*", "linked/*", "*.lnk"])

    try:
        file = _program(folder / "p", reads=json.dumps([pattern]))
        (folder / "p" / "linked").symlink_to(folder / "secret")
        (folder / "p" / "a.lnk").symlink_to(folder / "secret" / "key.png")
        files = CommandRenderer(file).scene_files(str(folder / "p" / "scene.txt"))
    except SwiftSampleError:
        return ""

    outside = [path for path in files if not path.resolve().is_relative_to(folder / "p")]
    return f"{pattern} reads {outside[0]}" if outside else ""


def program_that_stays(rng: random.Random, folder: Path) -> str:
    """A program leaves others behind: in its session, in one of their own, without surroundings,
    twice forked."""
    told = folder / "pids"
    stay = f"import os, time; open({str(told)!r}, 'a').write(f'{{os.getpid()}} '); time.sleep(300)"

    harm = rng.choice(
        [
            f"subprocess.Popen([sys.executable, '-c', {stay!r}])",
            f"subprocess.Popen([sys.executable, '-c', {stay!r}], start_new_session=True, env={{}})",
            (
                "os.fork() or (os.setsid(), os.fork() or os.execve(sys.executable, ['x', '-c', "
                f"{stay!r}], {{}}), os._exit(0))"
            ),
        ]
    )
    wait = f"\nwhile not os.path.exists({str(told)!r}): time.sleep(0.01)"
    file = _program(folder / "p", harm + wait)
    confirm(seen_file(file))
    with suppress(SwiftSampleError):
        _render(file)

    deadline = time.monotonic() + GONE_SECONDS
    left = [int(pid) for pid in told.read_text().split()] if told.exists() else []
    while any(map(psutil.pid_exists, left)) and time.monotonic() < deadline:
        time.sleep(0.05)

    return "a process outlived its render" if any(map(psutil.pid_exists, left)) else ""


def pipe_as_the_picture(rng: random.Random, folder: Path) -> str:
    """Whoever opens it to read waits for ever."""
    file = _program(folder / "p", "os.mkfifo(sys.argv[2]); sys.exit()")
    confirm(seen_file(file))
    began = time.monotonic()

    with suppress(SwiftSampleError):
        _render(file)
        return "a pipe was taken for a picture"

    return "a render waited for a pipe" if time.monotonic() - began > 15 else ""


def archive_of_someone(rng: random.Random, folder: Path) -> str:
    """A packed study with names that lead out, links, what no study has, or more than it says."""
    study, _ = _study(folder)
    pack_study(study, folder / "a.zip")
    name = rng.choice(
        [
            "../outside",
            "/tmp/siege-outside",
            "pictures/../../outside",
            "renderer/../../outside",
            "x/y",
            "pictures\\x",
        ]
    )

    with zipfile.ZipFile(folder / "a.zip", "a") as archive:
        info = zipfile.ZipInfo(name if rng.random() < 0.7 else "pictures/link.exr")
        if info.filename == "pictures/link.exr":
            info.external_attr = 0o120777 << 16
        archive.writestr(info, "/etc/hostname")

    with suppress(SwiftSampleError):
        unpack_study(folder / "a.zip", folder / "in" / "b.study")
        return f"{info.filename} was unpacked"

    left = [path for path in folder.rglob("*outside*")] + [
        path for path in (folder / "in").glob("*")
    ]
    return f"{left[0]} was left behind" if left else ""


def machine_that_writes(rng: random.Random, folder: Path) -> str:
    """A machine's answer names files of this computer."""
    from swift_sample.core.machines.fleet import Fleet, RemoteLink
    from swift_sample.core.worker.messages import Ready

    fleet = Fleet("127.0.0.1:1")
    wanted = str(folder / "wanted.exr")
    other = str(folder / rng.choice(["other.exr", "../outside.exr", "study.toml"]))
    RemoteLink(fleet, "tcp://127.0.0.1:2", "odd")._kept(
        Ready(), {wanted: b"a", other: b"b"}, [wanted]
    )
    fleet.close()

    return f"a machine wrote {other}" if Path(other).exists() else ""


def machine_that_listens(rng: random.Random, folder: Path) -> str:
    """Where a machine would listen that joins the server on this computer."""
    from swift_sample.core.machines.engine import listening_host

    host = listening_host(
        rng.choice(["tcp://127.0.0.1:8786", "tcp://localhost:8786", "tcp://[::1]:8786"])
    )
    return (
        f"a machine on this computer alone listens at {host}"
        if host not in ("127.0.0.1", "::1")
        else ""
    )


ATTACKS: tuple[Attack, ...] = (
    link_to_a_confirmed_file,
    exchanged_between_question_and_answer,
    link_in_a_study,
    private_file_in_a_pack,
    pattern_that_climbs_out,
    program_that_stays,
    pipe_as_the_picture,
    archive_of_someone,
    *((machine_that_writes, machine_that_listens) if is_here() else ()),
)


def besiege(findings: Findings, rng: random.Random, most: int) -> None:
    """`most` attacks, each kind in turn, or until time is up."""
    whole = Path(tempfile.mkdtemp(prefix="siege-attacks-"))
    os.environ["XDG_DATA_HOME"] = str(whole / "own")

    while findings.tried.total() < most and not findings.time_is_up:
        attack = ATTACKS[findings.tried.total() % len(ATTACKS)]
        folder = whole / "here"
        folder.mkdir()
        name = attack.__name__.replace("_", " ")
        findings.tried[name] += 1

        try:
            succeeded = attack(rng, folder)
            if succeeded:
                findings.fault(f"{name}: {succeeded}")
        except Exception as error:
            findings.fault(f"{name}: {type(error).__name__}: {error}")

        shutil.rmtree(folder, ignore_errors=True)

    shutil.rmtree(whole, ignore_errors=True)
