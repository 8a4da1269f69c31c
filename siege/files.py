"""Files that were mutated or made up, over every reader, each in a process of its own with limits.

Allowed is that a file is read, or refused in one sentence of at most 300 printable characters,
within five seconds and 512 MB. Nothing else may be printed on standard output, and nothing may be
written beside what was asked for.
"""

import io
import json
import os
import random
import resource
import shutil
import signal
import sqlite3
import struct
import tempfile
import time
import traceback
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from siege.findings import Findings
from siege.studies import plan_of, write_scene
from swift_sample.cli import run
from swift_sample.core.errors import MOST_CHARACTERS, SwiftSampleError, one_line
from swift_sample.core.picture.exr import write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.renderers.builtin.catalogue import CATALOGUE, configured
from swift_sample.core.renderers.builtin.rendering.accelerator import SHIPPED, read_accelerator
from swift_sample.core.scene.environment import read_environment
from swift_sample.core.scene.gltf import read_gltf
from swift_sample.core.settings.presets import preset_text, read_preset
from swift_sample.core.study.log.rebuild import events_from_pictures
from swift_sample.core.study.log.store import Store, create_study, look_at_study
from swift_sample.core.study.measuring.driver import Driver
from swift_sample.core.study.measuring.policies import Sweeping
from swift_sample.core.study.measuring.surroundings import read_snapshot

MOST_SECONDS = 5.0
MOST_BYTES = 512 << 20
ENDS_AFTER = 30
"""Seconds after which a process is ended; what is accepted may take longer than what is refused."""
ADDRESS_SPACE = 8 << 30
FINE, REFUSED, TOO_SLOW, TOO_LARGE, WRONG = 0, 10, 11, 12, 13
Make = Callable[[random.Random], bytes]


class Ground:
    """A folder with good files, and what is made of them."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.outside = folder / "outside"
        self.inside = folder / "inside"
        self.outside.mkdir()
        self.inside.mkdir()
        scene = folder / "scene.gltf"
        write_scene(scene)
        self.gltf = json.loads(scene.read_text())

        self.gltf |= {
            "images": [{"uri": _data_uri(_picture_file("PNG"))}],
            "textures": [{"source": 0}],
            "animations": [
                {
                    "channels": [{"sampler": 0, "target": {"node": 0, "path": "translation"}}],
                    "samplers": [{"input": 0, "output": 0}],
                }
            ],
            "cameras": [{"type": "perspective", "perspective": {"yfov": 0.7, "znear": 0.1}}],
            "extensionsUsed": ["KHR_lights_punctual", "EXT_mesh_gpu_instancing"],
            "extensions": {"KHR_lights_punctual": {"lights": [{"type": "point"}]}},
            "extras": {"swift_sample": {"environment": {"colour": [1, 1, 1]}}},
        }
        self.study = create_study(folder / "good.study", plan_of(scene, (16, 9), 16, 1))
        driver = Driver(Store.open(self.study))
        driver.run_here(Sweeping())
        driver.close()
        sky = self.inside / "sky.exr"
        write_exr(sky, Picture(np.random.default_rng(1).random((8, 16, 3), np.float32)))
        self.exr = sky.read_bytes()
        self.picture = next((self.study / "pictures").glob("*.exr")).read_bytes()
        codes = np.random.default_rng(1).integers(0, 256, (8, 16, 4), np.uint8)
        self.hdr = b"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 8 +X 16\n" + codes.tobytes()
        self.plan = (self.study / "study.toml").read_text()
        self.preset = preset_text(configured({"samples.max": 50, "bounces.total": 3}))
        self.accelerator = SHIPPED.read_text()
        self.database = (self.study / "results.db").read_bytes()


def _picture_file(kind: str) -> bytes:
    stream = io.BytesIO()
    Image.fromarray(np.random.default_rng(2).integers(0, 256, (9, 12, 3), np.uint8)).save(
        stream, kind
    )
    return stream.getvalue()


def _data_uri(data: bytes) -> str:
    import base64

    return "data:image/png;base64," + base64.b64encode(data).decode()


def mutated(data: bytes, rng: random.Random) -> bytes:
    """Bytes changed, cut out, doubled, or cut off."""
    made = bytearray(data)
    for _ in range(rng.choice((1, 1, 2, 5, 30))):
        if not made:
            break

        at = rng.randrange(len(made))
        kind = rng.random()

        if kind < 0.6:
            made[at] = rng.choice((0, 1, 0x7F, 0x80, 0xFF, rng.randrange(256)))
        elif kind < 0.7:
            made[at : at + 4] = struct.pack(
                "<I", rng.choice((0, 1, 0x7FFFFFFF, 0xFFFFFFFF, 1 << rng.randrange(32)))
            )
        elif kind < 0.8:
            del made[at : at + rng.randrange(1, 40)]
        elif kind < 0.9:
            made[at:at] = made[at : at + rng.randrange(1, 200)] * rng.choice((1, 1, 50))
        else:
            del made[at:]

    return bytes(made)


ODD: tuple[Any, ...] = (
    None,
    True,
    -1,
    0,
    1 << 31,
    1 << 70,
    -(1 << 70),
    1e308,
    -1e-308,
    float("inf"),
    float("nan"),
    "",
    "x" * 100_000,
    "\x1b]0;owned\x07\x1b[2J",
    "../../outside/x",
    "file:///etc/passwd",
    [],
    {},
    [[[[[]]]]],
    [0] * 10_000,
)


def edited(value: Any, rng: random.Random) -> Any:
    """JSON with some of its values replaced, removed, doubled or moved."""
    made = json.loads(json.dumps(value))
    for _ in range(rng.choice((1, 1, 2, 4))):
        holder = made
        key = None

        while isinstance(holder, dict | list) and holder:
            keys = list(holder) if isinstance(holder, dict) else range(len(holder))
            key = rng.choice(list(keys))
            if not isinstance(holder[key], dict | list) or not holder[key] or rng.random() < 0.15:
                break
            holder = holder[key]

        if key is None or not holder:
            continue

        kind = rng.random()
        if kind < 0.5:
            holder[key] = rng.choice(ODD)
        elif kind < 0.6 and isinstance(holder[key], int | float):
            holder[key] = rng.choice(
                (holder[key] * 2, -holder[key], holder[key] + 1, holder[key] * 1e9)
            )
        elif kind < 0.75:
            del holder[key]
        elif kind < 0.9 and isinstance(holder, list):
            holder += holder * rng.choice((1, 10, 3000 // max(1, len(holder))))
        elif isinstance(holder, dict):
            holder[
                rng.choice(
                    ("extensions", "extras", "uri", "children", "count", "byteStride", "sparse")
                )
            ] = rng.choice(ODD)

    return made


def grammar(rng: random.Random) -> dict[str, Any]:
    """A glTF document made up from its grammar: of the right shape mostly, its numbers and
    references at random."""
    count = rng.choice((1, 2, 5, 40))

    def place() -> int:
        return rng.choice((*range(count), *range(count), count, -1))

    def numbers(length: int) -> list[float]:
        return [rng.choice((0, 1, -1, rng.uniform(-9, 9), 1e30)) for _ in range(length)]

    def accessor() -> dict[str, Any]:
        made = {
            "componentType": rng.choice((5120, 5121, 5122, 5123, 5125, 5126)),
            "count": rng.choice((1, 3, 100, 1_000_000, 1 << 40)),
            "type": rng.choice(("SCALAR", "VEC2", "VEC3", "VEC4", "MAT4")),
        }
        if rng.random() < 0.7:
            made |= {"bufferView": place(), "byteOffset": rng.choice((0, 4, 1 << 33))}

        return made

    def node() -> dict[str, Any]:
        made: dict[str, Any] = {"mesh": place()} if rng.random() < 0.7 else {}
        if rng.random() < 0.5:
            made["children"] = [place() for _ in range(rng.choice((1, 2, 30)))]
        if rng.random() < 0.5:
            made |= {"translation": numbers(3), "rotation": numbers(4), "scale": numbers(3)}
        if rng.random() < 0.3:
            made["extensions"] = {
                "EXT_mesh_gpu_instancing": {
                    "attributes": {"TRANSLATION": place(), "SCALE": place()}
                }
            }

        return made

    def primitive() -> dict[str, Any]:
        made: dict[str, Any] = {
            "attributes": {"POSITION": place()},
            "mode": rng.choice((0, 1, 4, 4, 4, 5, 6)),
        }
        if rng.random() < 0.5:
            made |= {"indices": place(), "material": place()}
        return made

    return {
        "asset": {"version": "2.0"},
        "scenes": [{"nodes": [place() for _ in range(count)]}],
        "nodes": [node() for _ in range(count)],
        "meshes": [
            {"primitives": [primitive() for _ in range(rng.choice((1, 2, 300)))]}
            for _ in range(count)
        ],
        "materials": [
            {"emissiveFactor": numbers(3), "alphaMode": rng.choice(("BLEND", "MASK", "OPAQUE"))}
        ]
        * count,
        "accessors": [accessor() for _ in range(count)],
        "bufferViews": [
            {
                "buffer": 0,
                "byteLength": rng.choice((1, 36, 1 << 40)),
                "byteStride": rng.choice((4, 12, 252)),
            }
            for _ in range(count)
        ],
        "buffers": [
            {
                "byteLength": rng.choice((36, 40, 1 << 33)),
                "uri": "data:x;base64," + "AAAA" * rng.choice((12, 400)),
            }
        ],
    }


def glb(document: Any, binary: bytes = b"") -> bytes:
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    chunk = struct.pack("<I4s", len(binary), b"BIN\0") + binary if binary else b""

    return (
        struct.pack("<4sII", b"glTF", 2, 20 + len(text) + len(chunk))
        + struct.pack("<I4s", len(text), b"JSON")
        + text
        + chunk
    )


def text_edited(text: str, rng: random.Random) -> bytes:
    """Lines of TOML dropped, doubled, moved, with odd values."""
    lines = text.splitlines()
    odd = (
        "nan",
        "-1",
        "1e999",
        '"' + "x" * 9000 + '"',
        "[" * 3000,
        '"\\u001b[2J"',
        "true",
        "[]",
        "9" * 400,
        "''",
        "{a = 1}",
    )

    for _ in range(rng.choice((1, 1, 2, 6))):
        at = rng.randrange(len(lines))
        kind = rng.random()

        if kind < 0.5 and "=" in lines[at]:
            lines[at] = lines[at].partition("=")[0] + "= " + rng.choice(odd)
        elif kind < 0.65:
            lines.insert(at, lines[rng.randrange(len(lines))])
        elif kind < 0.8:
            del lines[at]
        elif kind < 0.9:
            lines[at] = rng.choice(
                (
                    "[a.b.c.d",
                    "size = [1, 2, 3]",
                    "renderer = 'none'",
                    "[[sweep]]",
                    "x" * 5000,
                    "\x00",
                )
            )
        else:
            lines.insert(at, ".".join(["a"] * rng.choice((3, 5000))) + " = 1")

        if not lines:
            break

    return "\n".join(lines).encode("utf-8", "surrogatepass")


def values_edited(ground: Ground, target: Path, rng: random.Random) -> None:
    """A study whose database has other values somewhere."""
    shutil.copytree(ground.study, target)
    odd = (
        None,
        -1,
        1 << 62,
        1e308,
        "",
        "x" * 5000,
        "[" * 3000,
        "{}",
        "../x.exr",
        "\x1b[2J",
        b"\xff\x00",
        "nan",
    )

    with closing(sqlite3.connect(target / "results.db")) as database:
        for _ in range(rng.choice((1, 2, 5))):
            table = rng.choice(("events", "runs", "measurements", "identities", "records"))
            columns = [row[1] for row in database.execute(f"PRAGMA table_info({table})")]

            try:
                database.execute(
                    f"UPDATE {table} SET {rng.choice(columns)} = ? WHERE rowid IN "
                    f"(SELECT rowid FROM {table} ORDER BY random() LIMIT "
                    f"{rng.choice((1, 1, 100))})",
                    (rng.choice(odd),),
                )
            except sqlite3.Error:
                continue

        database.commit()


def besiege(findings: Findings, rng: random.Random, most: int) -> None:
    """`most` files, shared among the readers, or until time is up."""
    folder = Path(tempfile.mkdtemp(prefix="siege-"))
    ground = Ground(folder)
    png = _picture_file("PNG")
    jpeg = _picture_file("JPEG")
    write_exr(
        ground.folder / "good.exr", Picture(np.random.default_rng(3).random((9, 16, 3), np.float32))
    )
    good = str(ground.folder / "good.exr")

    def shown(path: Path) -> None:
        for command in (
            ["pick", str(path), "--json"],
            ["log", str(path)],
            ["cost", str(path)],
            ["versions", str(path)],
        ):
            _command(command)

    def opened(path: Path) -> None:
        with look_at_study(path) as reading:
            snapshot = read_snapshot(reading)
            _ = snapshot.results.pick(), snapshot.runs, snapshot.remarks, snapshot.to_come
        Store.open(path).close()

    def study_with(name: str, data: bytes, target: Path) -> None:
        shutil.copytree(ground.study, target)
        (target / name).write_bytes(data)

    def pictures_with(data: bytes, target: Path) -> None:
        shutil.copytree(ground.study, target)
        next((target / "pictures").glob("*.exr")).write_bytes(data)
        next((target / "reference").glob("*.exr")).write_bytes(data)

    def rebuilt(path: Path) -> None:
        (path / "results.db").unlink()
        with look_at_study(path) if False else Store.open(path) as store:
            events_from_pictures(store.folder, store.renderer.catalogue)

    inside = ground.inside
    kinds: list[tuple[str, float, Callable[[], Callable[[], object]]]] = []

    def kind(
        name: str, weight: float, suffix: str, make: Make, read: Callable[[Path], object]
    ) -> None:
        def ready() -> Callable[[], object]:
            path = inside / f"x{suffix}"
            path.write_bytes(make(rng))
            return lambda: read(path)

        kinds.append((name, weight, ready))

    def study_kind(
        name: str, weight: float, make: Callable[[Path], None], read: Callable[[Path], object]
    ) -> None:
        def ready() -> Callable[[], object]:
            path = inside / "x.study"
            make(path)
            return lambda: read(path)

        kinds.append((name, weight, ready))

    binary = bytes(ground.folder.joinpath("scene.gltf").read_bytes())
    kind(
        "glTF, JSON edited",
        20,
        ".gltf",
        lambda r: json.dumps(edited(ground.gltf, r)).encode(),
        read_gltf,
    )
    kind(
        "glTF, made from its grammar",
        20,
        ".gltf",
        lambda r: json.dumps(grammar(r)).encode(),
        read_gltf,
    )
    kind("GLB, bytes", 8, ".glb", lambda r: mutated(glb(ground.gltf, binary), r), read_gltf)
    kind(
        "PNG texture",
        4,
        ".gltf",
        lambda r: _with_texture(ground, mutated(png, r)),
        _read_with_pictures,
    )
    kind(
        "JPEG texture",
        4,
        ".gltf",
        lambda r: _with_texture(ground, mutated(jpeg, r)),
        _read_with_pictures,
    )
    kind("EXR sky", 4, ".exr", lambda r: mutated(ground.exr, r), read_environment)
    kind("HDR sky", 4, ".hdr", lambda r: mutated(ground.hdr, r), read_environment)
    kind(
        "EXR compared",
        5,
        ".exr",
        lambda r: mutated(ground.exr, r),
        lambda p: _command(["compare", str(p), good, "--json"]),
    )
    kind(
        "PNG compared",
        4,
        ".png",
        lambda r: mutated(png, r),
        lambda p: _command(["compare", str(p), good]),
    )
    kind(
        "JPEG compared",
        4,
        ".jpg",
        lambda r: mutated(jpeg, r),
        lambda p: _command(["compare", str(p), good]),
    )
    kind(
        "preset",
        5,
        ".toml",
        lambda r: text_edited(ground.preset, r),
        lambda p: read_preset(p, CATALOGUE),
    )
    kind(
        "device's description",
        4,
        ".toml",
        lambda r: text_edited(ground.accelerator, r),
        read_accelerator,
    )
    study_kind(
        "study.toml, edited",
        8,
        lambda p: study_with("study.toml", text_edited(ground.plan, rng), p),
        opened,
    )
    study_kind(
        "study.toml, bytes",
        3,
        lambda p: study_with("study.toml", mutated(ground.plan.encode(), rng), p),
        opened,
    )

    study_kind(
        "renderer.json",
        2,
        lambda p: study_with(
            "renderer.json", mutated((ground.study / "renderer.json").read_bytes(), rng), p
        ),
        opened,
    )
    study_kind(
        "results.db, bytes",
        6,
        lambda p: study_with("results.db", mutated(ground.database, rng), p),
        opened,
    )
    study_kind("results.db, values", 10, lambda p: values_edited(ground, p, rng), opened)
    study_kind("results.db, values, shown", 4, lambda p: values_edited(ground, p, rng), shown)
    study_kind(
        "a study's pictures", 5, lambda p: pictures_with(mutated(ground.picture, rng), p), rebuilt
    )
    weights = [weight for _, weight, _ in kinds]
    largest = 0
    slowest = 0.0

    while findings.tried.total() < most and not findings.time_is_up:
        shutil.rmtree(inside / "x.study", ignore_errors=True)
        name, _, ready = rng.choices(kinds, weights)[0]
        state = rng.getstate()
        read = ready()
        findings.tried[name] += 1
        status, seconds, grown, words = _in_a_process(read, inside, ground.outside)

        if status == REFUSED:
            slowest = max(slowest, seconds)
            largest = max(largest, grown)

        if status not in (FINE, REFUSED):
            kept = (
                Path("build")
                / f"siege-{name.replace(' ', '-').replace(',', '')}-{findings.tried.total()}"
            )
            kept.parent.mkdir(exist_ok=True)
            made = max(inside.iterdir(), key=lambda path: path.stat().st_mtime)
            (shutil.copytree if made.is_dir() else shutil.copyfile)(made, kept)
            findings.fault(
                f"{name}: {words} ({seconds:.1f} s, {grown >> 20} MB); kept as {kept}, state "
                f"{hash(state)}"
            )

    findings.figures |= {
        "slowest refusal": f"{slowest:.1f} s",
        "largest refusal": f"{largest >> 20} MB",
    }
    shutil.rmtree(folder, ignore_errors=True)


def _with_texture(ground: Ground, data: bytes) -> bytes:
    document = {**ground.gltf, "images": [{"uri": _data_uri(data)}]}
    document["materials"] = [{"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}]
    return json.dumps(document).encode()


def _read_with_pictures(path: Path) -> None:
    for material in read_gltf(path).materials:
        for use in material.textures.values():
            assert use.texture.pixels.dtype == np.uint8


def _command(arguments: list[str]) -> None:
    """A command as it is typed; raises AssertionError where it says what nobody should read."""
    status = run(arguments)
    assert status in (0, 1, 2, 3), f"status {status}"


def _in_a_process(
    read: Callable[[], object], inside: Path, outside: Path
) -> tuple[int, float, int, str]:
    """Status, seconds, bytes by which the process grew, and what it said."""
    said = inside.parent / "said"
    out = inside.parent / "out"
    began = time.monotonic()
    child = os.fork()

    if child == 0:
        _be_the_child(read, said, out)

    deadline = began + ENDS_AFTER
    while True:
        done, raw, _ = os.wait4(child, os.WNOHANG)
        if done:
            break

        if time.monotonic() > deadline:
            os.kill(child, signal.SIGKILL)
            os.wait4(child, 0)
            return WRONG, time.monotonic() - began, 0, "did not end"

        time.sleep(0.002)

    seconds = time.monotonic() - began
    status = os.waitstatus_to_exitcode(raw)
    words = said.read_text(errors="backslashreplace")
    grown = int(words.partition("\n")[0] or 0) if status >= 0 and words else 0
    words = words.partition("\n")[2]

    if status < 0:
        return WRONG, seconds, grown, f"ended by signal {-status}"
    if status not in (FINE, REFUSED):
        return WRONG, seconds, grown, words[-400:]
    if any(outside.iterdir()):
        return WRONG, seconds, grown, f"wrote {list(outside.iterdir())}"

    for line in words.splitlines():
        if len(line) > MOST_CHARACTERS + 40 or not line.isprintable():
            return WRONG, seconds, grown, f"said {line[:200]!r}"

    if "something went wrong" in words:
        return WRONG, seconds, grown, words[:400]

    printed = out.read_text(errors="backslashreplace")
    if (
        printed
        and not printed.lstrip().startswith(("{", "[", "20", "  ", "nothing", "no "))
        and "Warning" in printed
    ):
        return WRONG, seconds, grown, f"printed {printed[:200]!r}"
    if status == REFUSED and seconds > MOST_SECONDS:
        return TOO_SLOW, seconds, grown, "refused too late"
    if status == REFUSED and grown > MOST_BYTES:
        return TOO_LARGE, seconds, grown, "took too much memory to refuse"

    return status, seconds, grown, ""


def _be_the_child(read: Callable[[], object], said: Path, out: Path) -> None:
    status = WRONG
    words = io.StringIO()
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss

    try:
        resource.setrlimit(resource.RLIMIT_AS, (ADDRESS_SPACE, ADDRESS_SPACE))
        os.dup2(os.open(out, os.O_WRONLY | os.O_CREAT | os.O_TRUNC), 1)
        os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
        import sys

        sys.stdout = os.fdopen(os.dup(1), "w", errors="backslashreplace")
        sys.stderr = words
        read()
        sys.stdout.flush()
        status = FINE
    except SwiftSampleError as error:
        words.write(one_line(error) + "\n")
        status = REFUSED
    except MemoryError:
        words.write("MemoryError\n")
    except BaseException:
        words.write(traceback.format_exc())
    finally:
        grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) * 1024
        said.write_text(f"{max(0, grown)}\n{words.getvalue()}", errors="backslashreplace")
        os._exit(status)
