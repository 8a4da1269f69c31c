"""Renderers for tests: a program of a few lines that does what its setting `way` says, and the file
that describes it."""

from pathlib import Path

from swift_sample.core.renderers.command.renderer import CommandEngine, CommandRenderer
from swift_sample.core.renderers.command.trust import confirm
from swift_sample.core.renderers.records import RenderSpec

PROGRAM = """
import json, os, struct, subprocess, sys, time, zlib

scene, picture, width, height, seed, way, extra = sys.argv[1:8]
width, height, seed = int(width), int(height), int(seed)

def png(path, width, height, value):
    def row(y):
        return bytes((value + x * 7 + y * 3) % 256 for x in range(width) for _ in range(3))
    rows = b"".join(b"\\0" + row(y) for y in range(height))
    def chunk(kind, data):
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
    head = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    with open(path, "wb") as stream:
        stream.write(b"\\x89PNG\\r\\n\\x1a\\n" + chunk(b"IHDR", head))
        stream.write(chunk(b"IDAT", zlib.compress(rows)) + chunk(b"IEND", b""))

print("began", flush=True)
if way == "status":
    print("no licence for the moon")
    sys.exit(3)
if way == "hang":
    time.sleep(60)
if way == "flood":
    while True:
        print("x" * 1000)
if way == "files":
    with open(picture + ".more", "wb") as stream:
        for _ in range(400):
            stream.write(b"x" * (1 << 20)); stream.flush(); time.sleep(0.005)
if way == "memory":
    held = bytearray(400 << 20); time.sleep(60)
if way == "child":
    away = "import os, time; os.setsid(); open(os.environ['LEFT'], 'w').write(str(os.getpid())); time.sleep(60)"
    subprocess.Popen([sys.executable, "-c", away])
    while not os.path.exists(os.environ["LEFT"]): time.sleep(0.01)
if way == "evil line":
    print("a" * 60 + "!", flush=True)
if way == "words":
    json.dump([os.fsencode(word).decode("latin-1") for word in sys.argv[1:]], open(os.environ["WORDS"], "w"))
if way == "busy":
    end = time.process_time() + 0.3
    while time.process_time() < end: pass
if way == "copy":
    open(picture, "wb").write(open(extra, "rb").read())
elif way == "half":
    png(picture, width, height, seed)
    data = open(picture, "rb").read()
    open(picture, "wb").write(data[: len(data) // 2])
elif way not in ("nothing", "stale"):
    png(picture, width * (2 if way == "size" else 1), height, 0 if way == "one grain" else 40 * seed)
print("50 % done", flush=True)
print("drawn", flush=True)
"""

FILE = """
format = 1
name = "small"
title = "a small program"
command = ["{python}", "{here}/program.py", "{scene}", "{picture}", "{width}", "{height}", "{seed}", "{arguments}"]
[picture]
kind = "shown"
suffix = ".png"
[seed]
[times]
progress = '(\\d+) % done'
phases = [{ name = "load", ends = "began" }, { name = "sampling", ends = "drawn" }]
[limits]
seconds = 1.5
memory_mb = 300
output_mb = 20
[[setting]]
key = "program.way"
label = "Way"
kind = "text"
default = "well"
arguments = ["{value}"]
[[setting]]
key = "program.extra"
label = "Extra"
kind = "text"
default = ""
arguments = ["{value}"]
"""


def program(folder: Path, *changes: tuple[str, str], confirmed: bool = True) -> CommandRenderer:
    """The small program, with changes of text in the file that describes it."""
    folder.mkdir(exist_ok=True)
    (folder / "program.py").write_text(PROGRAM)
    (folder / "scene.txt").write_text("a scene")
    text = FILE

    for old, new in changes:
        assert old in text
        text = text.replace(old, new)

    (folder / "small.toml").write_text(text)
    renderer = CommandRenderer(folder / "small.toml")
    if confirmed:
        confirm(renderer.seen)

    return renderer


def rendered(
    renderer: CommandRenderer,
    way: str = "well",
    seed: int = 1,
    extra: str = "",
    path: Path | None = None,
):
    """(picture, record) of one small render."""
    settings = {"program.way": way, "program.extra": extra}
    spec = RenderSpec(
        scene=str(renderer.path.parent / "scene.txt"), size=(8, 6), settings=settings, seed=seed
    )
    return CommandEngine(renderer).render(spec, path, lambda share: None, lambda stop: None)
