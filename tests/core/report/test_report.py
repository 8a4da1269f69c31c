"""The report: everything in it comes from the study, stands on its own, and tells nothing of the
machine's folders."""

import math
import re
from dataclasses import replace
from html.parser import HTMLParser
from pathlib import Path

import numpy as np
import pytest

from swift_sample.core.errors import ReportStoppedError, StudyError, UsageError
from swift_sample.core.machine import this_machine
from swift_sample.core.measure.drift import DriftCorrection
from swift_sample.core.picture.exr import write_exr
from swift_sample.core.picture.picture import Picture
from swift_sample.core.report.charts import as_png, as_svg, map_chart, settings_chart
from swift_sample.core.report.model import CROP_PIXELS, WIDEST_PIXELS, _png, gather
from swift_sample.core.report.write import write_report
from swift_sample.core.study.answers.results import collect
from swift_sample.core.study.log.state import replace_state
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.plan.model import WatchArea
from tests.core.study.answers.test_results import STUDY, THREE, three_runs
from tests.core.study.states import measured, showing

MACHINE = this_machine()


class Reader(HTMLParser):
    """Collects what a reader sees, the addresses of pictures, and the rows of tables."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.seen = ""
        self.addresses = []
        self.rows = []
        self.open = []
        self.feed(text)

    def handle_starttag(self, tag: str, attributes: list) -> None:
        if tag not in ("meta", "img", "br", "path", "use"):
            self.open.append(tag)
        if tag == "tr":
            self.rows.append([])

        self.addresses += [value for name, value in attributes if name in ("src", "href")]

    def handle_endtag(self, tag: str) -> None:
        if tag in ("path", "use"):
            return
        assert self.open.pop() == tag

    def handle_data(self, data: str) -> None:
        self.seen += data
        if self.open and self.open[-1] in ("td", "th"):
            self.rows[-1].append(data)


@pytest.fixture
def snapshot(tmp_path: Path) -> Snapshot:
    """Three trials with pictures; the reference is a little darker."""
    study = replace(
        STUDY,
        name="Bees & <honey>",
        size=(32, 18),
        areas=(WatchArea(name="the jar", x=4, y=4, width=8, height=6),),
    )
    made = three_runs(THREE, study)

    for trial in made.state.planned:
        grain = THREE[int(trial.configuration["samples.max"])][1]
        made.measure(
            trial.configuration,
            {"grain": grain, "light_shift": (9.0, 8.0, 10.0), "grain@the jar": grain},
        )

    (tmp_path / "pictures").mkdir()
    (tmp_path / "reference").mkdir()
    light = np.linspace(0, 1, 32 * 18 * 3, dtype=np.float32).reshape(18, 32, 3)
    for run in made.state.results.runs:
        write_exr(tmp_path / "pictures" / run.picture, Picture(light))

    write_exr(
        tmp_path / "reference" / f"{made.state.reference_name}.exr",
        Picture(light * np.float32(0.9)),
    )
    return made.snapshot(tmp_path)


def page(snapshot: Snapshot, tmp_path: Path) -> Reader:
    write_report(tmp_path / "r.html", snapshot, MACHINE)
    return Reader((tmp_path / "r.html").read_text(encoding="utf-8"))


def test_the_page_stands_on_its_own_and_holds_everything(
    snapshot: Snapshot, tmp_path: Path
) -> None:
    found = page(snapshot, tmp_path)
    assert found.open == []
    assert all(a.startswith(("data:image/png;base64,", "#")) for a in found.addresses)
    assert sum(a.startswith("data:") for a in found.addresses) == 4 + 3, (
        "base, pick, reference, difference; three crops"
    )

    for words in (
        "Bees & <honey>",
        "faster than base: 50 samples",
        "reference, 1000 samples",
        "the jar",
        "pick less reference, 8 times, around grey",
        "What to set",
        "9 renders of 3 configurations",
        "No drift of the machine's speed could be told from chance.",
        "machine machine",
        "own grain of 0.50 levels",
    ):
        assert words in found.seen, words

    assert ["Sampling", "Samples, at most", "100", "50"] in found.rows
    assert [
        "grain",
        "1.0 of 2.0 levels (0.9 to 1.1)",
        "1.6 of 2.0 levels (1.5 to 1.7)",
    ] in found.rows
    trials = [row for row in found.rows if row and row[-1] == "3"]
    assert [row[-2] for row in trials] == ["not acceptable", "pick", "acceptable"], (
        "the fastest first"
    )


def test_a_report_tells_nothing_of_folders(snapshot: Snapshot, tmp_path: Path) -> None:
    moved = replace(
        snapshot,
        state=replace_state(
            snapshot.state,
            plan=replace(snapshot.study, scene=str(tmp_path / "my scenes" / "stall.gltf")),
        ),
    )
    found = page(moved, tmp_path)
    assert "Scene stall.gltf, frame 0" in found.seen
    assert str(tmp_path) not in (tmp_path / "r.html").read_text(encoding="utf-8")


def test_drift_and_odd_runs_are_told(snapshot: Snapshot, tmp_path: Path) -> None:
    uneven = replace(snapshot.results, correction=DriftCorrection({0: 1.12}, frozenset({1, 2})))
    found = page(showing(snapshot, uneven), tmp_path)
    assert "speed drifted by up to 12%" in found.seen
    assert "2 odd runs were left out and repeated." in found.seen


def test_without_a_pick_and_without_pictures_the_rest_still_stands(
    snapshot: Snapshot, tmp_path: Path
) -> None:
    for picture in tmp_path.glob("*/*.exr"):
        picture.unlink()

    found = page(showing(snapshot, snapshot.results.with_line(0.1)), tmp_path)
    assert "No configuration that keeps every limit was found." in found.seen
    assert not any(a.startswith("data:") for a in found.addresses)
    assert "All trials" in found.seen


def test_a_damaged_picture_is_left_out(snapshot: Snapshot, tmp_path: Path) -> None:
    for picture in (tmp_path / "pictures").iterdir():
        picture.write_bytes(b"no picture")
    assert [shot.caption for shot in gather(snapshot, MACHINE).pictures] == [
        "reference, 1000 samples"
    ]


def test_pdf_has_pages_and_the_title(snapshot: Snapshot, tmp_path: Path) -> None:
    write_report(tmp_path / "r.pdf", snapshot, MACHINE)
    data = (tmp_path / "r.pdf").read_bytes()
    assert data.startswith(b"%PDF-")
    assert len(re.findall(rb"/Type /Page\b", data)) >= 2
    assert data.count(b"/Subtype /Image") >= 7


def test_bad_names_and_empty_studies_cost_one_sentence(snapshot: Snapshot, tmp_path: Path) -> None:
    with pytest.raises(UsageError, match=r"r\.doc: expected a name that ends in \.html or \.pdf"):
        write_report(tmp_path / "r.doc", snapshot, MACHINE)

    with pytest.raises(StudyError, match=r"none/r\.html: cannot be written"):
        write_report(tmp_path / "none" / "r.html", snapshot, MACHINE)

    empty = three_runs({100: (10.0, None)}).snapshot()
    with pytest.raises(StudyError, match="there is nothing to report yet; measure the study first"):
        gather(empty, MACHINE)


def test_pictures_are_reduced_and_crops_enlarged_in_whole_steps() -> None:
    from io import BytesIO

    from PIL import Image

    wide = Image.open(BytesIO(_png(np.zeros((100, 2 * WIDEST_PIXELS, 3), np.float32))))
    assert wide.size == (WIDEST_PIXELS, 50)
    levels = np.arange(7 * 5 * 3, dtype=np.float32).reshape(5, 7, 3)
    crop = Image.open(BytesIO(_png(levels, CROP_PIXELS)))
    step = CROP_PIXELS // 7
    assert crop.size == (7 * step, 5 * step)
    assert crop.getpixel((step - 1, step - 1)) == tuple(levels[0, 0])
    assert crop.getpixel((step, 0)) == tuple(levels[0, 1])


def test_an_interval_that_rounding_turned_inside_out_is_drawn() -> None:
    """O1: of single pictures the low end lay a digit above the value, and no report could be
    written."""
    value = 1.0
    figures = {"grain": (value, math.nextafter(value, 2), 1.1)}
    made = measured(STUDY, {STUDY.base: [1.0] * 3}, {STUDY.base: figures})
    assert map_chart(collect(made.state)) is not None


def test_charts_show_every_trial_and_are_the_same_every_time() -> None:
    results = three_runs(THREE).snapshot().results
    chart = map_chart(results)
    (axes,) = chart.axes

    marks = {
        (round(line.get_xdata()[0], 2), round(line.get_ydata()[0], 3)): line
        for line in axes.lines
        if line.get_marker() in ("o", "s", "^")
    }
    assert {x for x, _ in marks} == {10.0, 5.0, 2.0}
    by_time = {x: line for (x, _), line in marks.items()}
    assert by_time[2.0].get_markerfacecolor() == "white", "over a limit is hollow"
    assert (by_time[10.0].get_marker(), by_time[5.0].get_marker()) == ("s", "^")
    assert as_svg(chart) == as_svg(map_chart(results))
    assert as_png(chart)[:4] == b"\x89PNG"
    panels = settings_chart(results, [("samples.max", results.trials)]).axes
    assert [bar.get_height() for bar in panels[0].patches] == [10.0, 5.0, 2.0]


def test_a_report_says_how_far_it_is_and_can_be_stopped(snapshot: Snapshot, tmp_path: Path) -> None:
    """U13: it took 25 s without a word."""
    told: list[tuple[float, str]] = []
    write_report(
        tmp_path / "a.pdf", snapshot, MACHINE, lambda share, words: told.append((share, words))
    )
    shares = [share for share, _ in told]
    assert shares == sorted(shares)
    assert len(told) >= 5
    assert all(words for _, words in told)

    def stop(share: float, words: str) -> None:
        if share > 0.5:
            raise ReportStoppedError("stopped")

    with pytest.raises(ReportStoppedError):
        write_report(tmp_path / "b.pdf", snapshot, MACHINE, stop)

    assert not (tmp_path / "b.pdf").exists()
