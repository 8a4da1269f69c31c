"""A program that renders, behind the port: what it is asked, what it leaves, and everything that
can go wrong with it."""

import json
import os
import subprocess
import sys
import threading
import time
from pathlib import Path

import numpy as np
import psutil
import pytest

from swift_sample.core.errors import RendererError, RenderStoppedError, SceneError
from swift_sample.core.picture.exr import read_exr, write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.command import pictures
from swift_sample.core.renderers.command.check import BAD, check
from swift_sample.core.renderers.command.description import RendererFile, parse_renderer_file
from swift_sample.core.renderers.command.renderer import CommandEngine, CommandRenderer
from swift_sample.core.renderers.command.starting import starting_file
from swift_sample.core.renderers.command.trust import confirm, is_confirmed, seen_file
from swift_sample.core.renderers.records import RenderSpec
from swift_sample.core.renderers.registry import renderer_at, renderer_in, renderer_named
from swift_sample.core.scene.staging import AS_IN_THE_FILE, Staging
from tests.core.renderers.command.programs import FILE, program, rendered


@pytest.fixture(autouse=True)
def own_home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What was confirmed is this test's alone."""
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "home"))


def test_its_picture_comes_back_as_it_is_shown_with_its_times(tmp_path: Path) -> None:
    renderer = program(tmp_path / "p")
    picture, record = rendered(renderer, "busy", seed=2, path=tmp_path / "kept.exr")
    levels = View().levels(picture.beauty)
    y, x = np.mgrid[0:6, 0:8]
    assert levels[..., 0] == pytest.approx((80 + 7 * x + 3 * y) % 256, abs=0.6)
    assert record.size == (8, 6)
    assert record.seconds["total"] >= record.cpu_seconds >= 0.3
    assert record.seconds["load"] + record.seconds["sampling"] == pytest.approx(
        record.seconds["total"], abs=0.1
    )
    assert record.peak_memory_bytes > 1 << 20
    assert record.notes == []
    assert np.array_equal(read_exr(tmp_path / "kept.exr").beauty, picture.beauty)
    assert not np.array_equal(rendered(renderer, seed=3)[0].beauty, picture.beauty)


def test_progress_is_told_as_it_is_made(tmp_path: Path) -> None:
    renderer = program(tmp_path / "p")
    told = []
    settings = {"program.way": "well", "program.extra": ""}
    spec = RenderSpec(
        scene=str(tmp_path / "p" / "scene.txt"), size=(8, 6), settings=settings, seed=1
    )
    CommandEngine(renderer).render(spec, None, told.append, lambda stop: None)
    assert told == [0.5]


@pytest.mark.parametrize(
    ("way", "words"),
    [
        ("status", "a small program ended with status 3; it last said: no licence for the moon"),
        ("nothing", "left no picture at picture.png; it last said: drawn"),
        ("size", "its picture is 16x6, 8x6 was asked for"),
        ("half", "its picture cannot be read"),
        ("hang", "it was ended after 2 s, more than the 1.5 s that its file allows"),
        ("flood", r"it was ended when it had written \d+ MiB"),
        ("files", r"it was ended when it had written \d+ MiB"),
        ("memory", r"it was ended at [34]\d\d MiB of memory"),
    ],
)
def test_what_goes_wrong_costs_one_run_and_is_told_in_a_sentence(
    tmp_path: Path, way: str, words: str
) -> None:
    renderer = program(
        tmp_path / "p", ("seconds = 1.5", "seconds = 1.5" if way == "hang" else "seconds = 20")
    )
    before = set(psutil.Process().children(recursive=True))
    with pytest.raises(RendererError, match=words):
        rendered(renderer, way)

    assert set(psutil.Process().children(recursive=True)) == before, "nothing is left running"
    assert rendered(renderer)[1].notes == [], "the next run is as if nothing had been"


def test_a_command_that_is_not_there_is_told(tmp_path: Path) -> None:
    renderer = program(
        tmp_path / "p", ('"{python}", "{here}/program.py"', '"{here}/no such program"')
    )
    with pytest.raises(
        RendererError, match=r"no such program: cannot be started \(No such file or directory\)"
    ):
        rendered(renderer)


def test_a_picture_of_an_earlier_render_is_never_believed(tmp_path: Path) -> None:
    fixed = tmp_path / "always here.png"
    renderer = program(
        tmp_path / "p",
        ('suffix = ".png"', f'suffix = ".png"\nfile = "{fixed}"'),
        ('"{picture}"', f'"{fixed}"'),
    )
    rendered(renderer)
    assert fixed.is_file()
    with pytest.raises(
        RendererError, match=r"left the picture of an earlier render at always here\.png"
    ):
        rendered(renderer, "stale")


def test_a_picture_that_changes_while_it_is_read_is_refused(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    real = pictures.read_picture

    def read_while_it_grows(path: Path) -> Picture:
        picture = real(path)
        with path.open("ab") as stream:
            stream.write(b"more")
        return picture

    monkeypatch.setattr(pictures, "read_picture", read_while_it_grows)
    with pytest.raises(RendererError, match="was still being written when the program had ended"):
        rendered(program(tmp_path / "p"))


def test_eight_bits_where_light_was_said_and_numbers_that_are_none(tmp_path: Path) -> None:
    said = ('kind = "shown"\nsuffix = ".png"', 'kind = "light"\nsuffix = ".exr"')
    renderer = program(tmp_path / "p", said)
    with pytest.raises(RendererError, match=r"picture.exr is no EXR, as its renderer file says"):
        rendered(renderer)

    light = np.full((6, 8, 3), 0.5, np.float32)
    light[2, 3] = np.nan
    write_exr(tmp_path / "holes.exr", Picture(light))
    picture, _ = rendered(renderer, "copy", extra=str(tmp_path / "holes.exr"))
    assert np.isnan(picture.beauty).sum() == 3, "the worker refuses it, as any renderer's"


def test_a_child_that_outlives_its_parent_is_ended_and_told(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    left = tmp_path / "left"
    monkeypatch.setenv("LEFT", str(left))
    _, record = rendered(program(tmp_path / "p"), "child")
    assert record.notes == ["it left 1 of its processes running, which were ended"]
    assert not psutil.pid_exists(int(left.read_text()))


def test_what_else_this_process_started_is_left_alone(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Also in a session of its own, as a render of another study is while the window proves a
    file."""
    monkeypatch.setenv("LEFT", str(tmp_path / "left"))
    other = subprocess.Popen(
        [sys.executable, "-c", "import time; time.sleep(60)"], start_new_session=True
    )

    try:
        rendered(program(tmp_path / "p"), "child")
        assert other.poll() is None
    finally:
        other.kill()
        other.wait()


def test_a_pattern_without_end_is_given_up(tmp_path: Path) -> None:
    renderer = program(tmp_path / "p", (r"progress = '(\d+) % done'", r"progress = '^(a|a)*$'"))
    _, record = rendered(renderer, "evil line")
    assert record.notes == [
        "times.progress: the pattern takes too long to look for and was given up"
    ]
    assert "sampling" in record.seconds, "the others go on"


def test_a_preview_shows_a_small_picture_first(tmp_path: Path) -> None:
    renderer = program(tmp_path / "p")
    seen: list[tuple[tuple[int, ...], int]] = []
    spec = RenderSpec(
        scene=str(tmp_path / "p" / "scene.txt"),
        size=(200, 160),
        settings={"program.way": "well"},
        seed=1,
    )
    engine = CommandEngine(renderer)
    whole = engine.preview(
        spec, 32, lambda light, samples: seen.append((light.shape, samples)), lambda stop: None
    )
    assert seen == [((40, 50, 3), 4), ((160, 200, 3), 32)]
    assert whole.beauty.shape == (160, 200, 3)
    seen.clear()
    engine.preview(
        spec.model_copy(update={"size": (8, 6)}),
        32,
        lambda light, _: seen.append((light.shape, 0)),
        lambda stop: None,
    )
    assert seen == [((6, 8, 3), 0)], "too small to begin smaller"


def test_a_render_can_be_stopped(tmp_path: Path) -> None:
    renderer = program(tmp_path / "p", ("seconds = 1.5", "seconds = 60"))
    began = time.monotonic()
    spec = RenderSpec(
        scene=str(tmp_path / "p" / "scene.txt"),
        size=(8, 6),
        settings={"program.way": "hang", "program.extra": ""},
        seed=1,
    )
    with pytest.raises(RenderStoppedError):
        CommandEngine(renderer).render(
            spec, None, lambda share: None, lambda stop: threading.Timer(0.3, stop).start()
        )

    assert time.monotonic() - began < 10


@pytest.mark.parametrize(
    "value", ["two words", 'a "quoted" one', "$(touch here) `x` ; | & > $HOME", "-dash", "ünï", ""]
)
def test_values_and_paths_reach_the_program_as_they_are(
    tmp_path: Path, value: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """No shell: whatever stands in a value or path is one word."""
    monkeypatch.setenv("WORDS", str(tmp_path / "words"))
    folder = tmp_path / "a 'folder' with\n\"signs\" $HOME"
    rendered(program(folder), "words", extra=value)
    words = [
        word.encode("latin-1").decode() for word in json.loads((tmp_path / "words").read_text())
    ]
    assert words[0] == str(folder / "scene.txt")
    assert words[-1] == value


def test_paths_that_are_not_text_are_no_trouble(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("WORDS", str(tmp_path / "words"))
    folder = Path(os.fsdecode(os.fsencode(tmp_path) + b"/\xff\xfe"))
    rendered(program(folder), "words")
    assert json.loads((tmp_path / "words").read_text())[0].encode("latin-1") == os.fsencode(
        folder / "scene.txt"
    )


def test_nothing_starts_before_a_person_has_seen_the_file(tmp_path: Path) -> None:
    renderer = program(tmp_path / "p", confirmed=False)
    for asked in (lambda: rendered(renderer), lambda: renderer.version):
        with pytest.raises(
            RendererError, match="names programs to start and was not confirmed as it is now"
        ):
            asked()

    confirm(renderer.seen)
    rendered(renderer)
    renderer.path.write_text(renderer.path.read_text() + "\n# another line\n")
    assert not is_confirmed(seen_file(renderer.path))
    moved = program(tmp_path / "elsewhere", confirmed=False)
    assert not is_confirmed(moved.seen), "the same text beside other programs is another file"


def test_settings_reach_it_as_words_variables_and_places_in_files(tmp_path: Path) -> None:
    folder = tmp_path / "p"
    folder.mkdir()
    (folder / "a.json").write_text('{"render": {"samples": 1, "kept": [1, 2]}}')
    (folder / "b.toml").write_text("# stays\n[light]\ncap = 1.0\n")
    (folder / "c.txt").write_text("soften <<0>> after\n")

    described = RendererFile.model_validate(
        {
            "format": 1,
            "name": "mixed",
            "title": "mixed",
            "command": ["prog", "{scene}", "{seed}", "{arguments}", "{one}", "{settings}"],
            "copies": {"one": "{here}/a.json", "two": "{here}/b.toml", "three": "{here}/c.txt"},
            "environment": {"FRAME": "{frame}"},
            "picture": {"kind": "light", "suffix": ".exr"},
            "seed": {"first": 100},
            "setting": [
                _whole(
                    "samples.max",
                    role="samples",
                    in_file={"file": "one", "pointer": "/render/samples"},
                ),
                _whole("light.cap", in_file={"file": "two", "key": "light.cap"}),
                _whole("soften", in_file={"file": "three", "between": ["<<", ">>"]}),
                _whole("depth", arguments=["--depth", "{value}"], written={"8": "deep"}),
                _whole(
                    "kept",
                    in_file={"file": "one", "pointer": "/render/kept/1"},
                    written={"9": "all"},
                ),
                {
                    **_whole("error", arguments=["--error", "{value}"]),
                    "kind": "number",
                    "default": 0.00012345678,
                },
                _whole("threads", role="threads", environment="THREADS"),
            ],
        }
    )
    from swift_sample.core.renderers.command.values import Order, prepare, threads_of
    from swift_sample.core.settings import Configuration

    work = tmp_path / "work"
    work.mkdir()
    values = Configuration(
        described.catalogue,
        {"samples.max": 16, "light.cap": 3, "soften": 2, "depth": 8, "threads": 2, "kept": 9},
    )
    order = Order(Path("/s/scene"), (8, 6), 4, 7, threads_of(values, 64))
    made = prepare(described, folder, values, order, work)
    assert made.command[:7] == [
        "prog",
        "/s/scene",
        "107",
        "--depth",
        "deep",
        "--error",
        "0.00012345678",
    ]
    assert made.environment == {"FRAME": "4", "THREADS": "2"}
    assert order.threads == 2
    assert json.loads(Path(made.command[7]).read_text()) == {
        "render": {"samples": 16, "kept": [1, "all"]}
    }, "written differently"
    assert (work / "two.toml").read_text() == "# stays\n[light]\ncap = 3\n"
    assert (work / "three.txt").read_text() == "soften <<2>> after\n"
    assert json.loads(Path(made.command[8]).read_text())["depth"] == 8
    assert (folder / "c.txt").read_text() == "soften <<0>> after\n", (
        "the file itself is never edited"
    )
    (folder / "a.json").write_text('{"render": {}}')
    with pytest.raises(
        RendererError, match=r"one.json: there is no render/samples in the copied file"
    ):
        prepare(described, folder, values, order, work)

    (folder / "a.json").write_text("no JSON")
    with pytest.raises(RendererError, match=r"one.json: the copied file is no JSON"):
        prepare(described, folder, values, order, work)

    (folder / "a.json").write_text('{"render": {"samples": 1, "kept": [1, 2]}}')
    (folder / "c.txt").write_text("nothing here")
    with pytest.raises(
        RendererError, match=r"three.txt: the copied file has nothing between '<<' and '>>'"
    ):
        prepare(described, folder, values, order, work)


def _whole(key: str, **more: object) -> dict[str, object]:
    return {
        "key": key,
        "label": key,
        "kind": "whole",
        "default": 1,
        "minimum": 0,
        "maximum": 99,
        **more,
    }


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        (
            '"{picture}"',
            '"{pictures}"',
            r"command\[3\]: \{pictures\}: no such placeholder; there are arguments, frame",
        ),
        ("[seed]", "", r"seed: expected a table \[seed\] and \{seed\} somewhere"),
        ('kind = "shown"', 'kind = "light"', r"picture: suffix=.png: pictures of light are .exr"),
        ("format = 1", "format = 2", "format: Input should be 1"),
        ("[limits]", "[limit]", "limit: Extra inputs are not permitted"),
        ('kind = "text"', 'kind = "texts"', "setting.0.kind: Input should be 'choice'"),
        (r"(\d+) % done", "(unclosed", "times.progress: is no regular expression"),
        ('name = "load"', 'name = "thinking"', "phase thinking: expected one of load, textures"),
        (
            'label = "Extra"',
            'label = "Extra"\nrole = "magic"',
            "role=magic: expected one of samples",
        ),
        ('"program.extra"', '"program.way"', "program.way is declared twice"),
        ("[picture]", "[picture", r"Expected ']'"),
    ],
)
def test_a_file_with_a_mistake_says_where_and_what(
    tmp_path: Path, old: str, new: str, words: str
) -> None:
    with pytest.raises(RendererError, match=words) as caught:
        program(tmp_path / "p", (old, new))
    assert str(caught.value).startswith(f"{tmp_path}/p/small.toml: ")


def test_a_renderer_is_found_by_its_file_and_by_its_worker(tmp_path: Path) -> None:
    renderer = program(tmp_path / "p")
    found = renderer_at(renderer.worker)
    assert isinstance(found, CommandRenderer)
    assert found.path == renderer.path
    assert renderer_named("small", file=str(renderer.path)).title == "a small program"
    with pytest.raises(RendererError, match="describes the renderer small, the study names other"):
        renderer_named("other", file=str(renderer.path))

    with pytest.raises(RendererError, match="name=built-in: is taken"):
        renderer_in(program(tmp_path / "q", ('name = "small"', 'name = "built-in"')).path)


def test_scenes_are_told_apart_by_all_that_they_read(tmp_path: Path) -> None:
    renderer = program(
        tmp_path / "p",
        ("[limits]", '[scene]\nsuffixes = [".txt"]\nreads = ["pictures/*"]\n[limits]'),
    )
    scene = tmp_path / "p" / "scene.txt"
    (tmp_path / "p" / "pictures").mkdir()
    first = renderer.scene_content(str(scene), AS_IN_THE_FILE)
    (tmp_path / "p" / "pictures" / "wood.png").write_bytes(b"wood")
    second = renderer.scene_content(str(scene), AS_IN_THE_FILE)
    assert first.scene != second.scene

    for name, staging, words in (
        (str(scene), Staging(strength=2.0), "takes light and camera from its scene"),
        (str(renderer.path), AS_IN_THE_FILE, "a small program renders .txt"),
        (str(tmp_path / "none.txt"), AS_IN_THE_FILE, "no such scene"),
    ):
        with pytest.raises(SceneError, match=words):
            renderer.scene_content(name, staging)


def test_its_version_is_what_it_answers_and_what_its_file_says(tmp_path: Path) -> None:
    asked = (
        'title = "a small program"',
        'title = "a small program"\nversion = ["{python}", "-c", "print(1)"]',
    )
    one = program(tmp_path / "p", asked).version
    assert one == program(tmp_path / "p", asked).version
    two = program(tmp_path / "p", (asked[0], asked[1].replace("print(1)", "print(2)"))).version
    assert one != two
    wrong = program(tmp_path / "p", (asked[0], asked[1].replace("print(1)", "exit(4)")))
    with pytest.raises(RendererError, match="does not tell its version"):
        wrong.version  # noqa: B018


def test_a_check_finds_what_is_wrong_with_a_file(tmp_path: Path) -> None:
    renderer = program(tmp_path / "p", ('label = "Way"', 'label = "Way"\ntried = ["well", "size"]'))
    shown: list[Picture] = []
    found = {
        one.what: one
        for one in check(renderer, str(tmp_path / "p" / "scene.txt"), (8, 6), show=shown.append)
    }
    assert found["command"].words.endswith("(work)/picture.png 8 6 1 well ''")
    assert found["picture"].words.startswith("found, 8x6, ")
    assert found["repeat"].words == "the same seed gives the same picture"
    assert found["seed"].words == "another seed gives another grain"
    assert (found["program.way"].state, "16x6" in found["program.way"].words) == (BAD, True)
    assert found["program.extra"].words == "has no second value to try"
    assert len(shown) == 1
    still = program(tmp_path / "q", ('default = "well"', 'default = "one grain"'))
    found = {one.what: one for one in check(still, str(tmp_path / "q" / "scene.txt"), (8, 6))}
    assert (found["seed"].state, found["seed"].words[:35]) == (
        BAD,
        "another seed gives the same picture",
    )


def test_a_file_to_begin_with_is_a_file() -> None:
    text = starting_file("mine", "mine -o {picture} --seed {seed} '{scene}' {arguments}", ".png")
    described = parse_renderer_file(text)
    assert described.command == [
        "mine",
        "-o",
        "{picture}",
        "--seed",
        "{seed}",
        "{scene}",
        "{arguments}",
    ]
    assert described.capabilities.seeds
    with pytest.raises(RendererError, match="no such placeholder"):
        starting_file("mine", "mine {sceen}", ".exr")


def test_the_schema_that_is_published_is_the_one_in_use() -> None:
    published = Path(__file__).parents[4] / "docs" / "renderer-file.schema.json"
    assert json.loads(published.read_text()) == RendererFile.model_json_schema()
    assert parse_renderer_file(FILE).name == "small"


def test_a_daemon_that_forgot_who_it_was_ends_with_its_render(tmp_path: Path) -> None:
    """It has a session of its own and an empty environment, as a program's helpers may have
    (S8)."""
    renderer = program(tmp_path / "p")
    daemon = (
        f"import os, time; open({str(tmp_path / 'daemon')!r}, 'w').write(str(os.getpid())); "
        "time.sleep(600)"
    )

    started = f"""
import subprocess, time
subprocess.Popen([sys.executable, "-c", {daemon!r}], env={{}}, start_new_session=True)
while not os.path.exists({str(tmp_path / "daemon")!r}):
    time.sleep(0.01)
"""
    script = renderer.path.parent / "program.py"
    script.write_text("import os, sys\n" + started + script.read_text())
    _, record = rendered(renderer)
    pid = int((tmp_path / "daemon").read_text())
    assert not psutil.pid_exists(pid)
    assert record.notes == ["it left 1 of its processes running, which were ended"]


def test_a_pipe_in_place_of_the_picture_is_refused_and_not_waited_for(tmp_path: Path) -> None:
    """S7: whoever opens a pipe to read waits for ever for somebody who writes."""
    renderer = program(tmp_path / "p")
    script = renderer.path.parent / "program.py"
    script.write_text("import os, sys; os.mkfifo(sys.argv[2]); sys.exit()")
    with pytest.raises(RendererError, match=r"picture\.png is not a plain file"):
        rendered(renderer)


def test_a_link_to_a_confirmed_file_starts_what_was_confirmed(tmp_path: Path) -> None:
    """S2: beside the link stands another program, which nobody has seen."""
    renderer = program(tmp_path / "p")
    foreign = tmp_path / "foreign"
    foreign.mkdir()
    (foreign / "program.py").write_text(f"open({str(tmp_path / 'started')!r}, 'w')")
    (foreign / "small.toml").symlink_to(renderer.path)
    rendered(CommandRenderer(foreign / "small.toml"))
    assert not (tmp_path / "started").exists()


def test_what_is_confirmed_is_what_was_shown(tmp_path: Path) -> None:
    """S6: the file is exchanged between the question and the answer."""
    renderer = program(tmp_path / "p", confirmed=False)
    renderer.path.write_text(
        renderer.path.read_text().replace("{here}/program.py", "{here}/other.py")
    )
    confirm(renderer.seen)
    changed = CommandRenderer(renderer.path)
    assert not is_confirmed(changed.seen)
    with pytest.raises(RendererError, match="was not confirmed as it is now"):
        rendered(changed)


@pytest.mark.parametrize("pattern", ["../../secret/*", "../**/*", "/etc/*", "~/x"])
def test_a_scene_reads_only_what_is_beside_it(tmp_path: Path, pattern: str) -> None:
    """S12."""
    with pytest.raises(RendererError, match="leads out of the scene's folder"):
        program(tmp_path / "p", ("[seed]", f'[scene]\nreads = ["{pattern}"]\n[seed]'))


def test_a_link_out_of_the_scenes_folder_is_not_read_with_it(tmp_path: Path) -> None:
    renderer = program(tmp_path / "p", ("[seed]", '[scene]\nreads = ["*.key", "*.png"]\n[seed]'))
    (tmp_path / "private.key").write_text("mine")
    (tmp_path / "p" / "a.key").symlink_to(tmp_path / "private.key")
    (tmp_path / "p" / "a.png").write_bytes(b"")
    scene = tmp_path / "p" / "scene.txt"
    assert renderer.scene_files(str(scene)) == [scene, tmp_path / "p" / "a.png"], (
        "the scene first, whatever it is called (S5)"
    )
