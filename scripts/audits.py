"""Leave out every feature of the three demo scenes that may matter, print what each costs as a
table for the guide, and put the places where some show most on a sheet: `make audits`. Takes some
ten minutes of a quiet machine; kept in build/audits."""

import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from swift_sample.cli import run
from swift_sample.core.picture.reading import read_picture
from swift_sample.core.study.answers.features import (
    Row,
    rows_of,
    score_words,
    together,
    words_of_all,
)
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.log.store import create_study, is_study, look_at_study
from swift_sample.core.study.measuring.snapshot import Snapshot
from swift_sample.core.study.measuring.surroundings import read_snapshot
from swift_sample.core.study.plan.demo import demo_study
from swift_sample.core.study.plan.model import Limits

ROOT = Path(__file__).resolve().parent.parent
WORK = ROOT / "build" / "audits"
SHEET = ROOT / "docs" / "pictures" / "audits.png"
SCENES = ("honey-stall", "honey-room", "honey-jar")
SIZE = (240, 135)
SAMPLES = 24
ROOM = {"light_shift": 0.7, "light_shift_worst": 2.5}
"""Levels beyond the base's own that a change may be seen by."""
SHOWN = 4
CELL = (168, 112)
MARGIN = 8
LINE = 16


def main() -> None:
    """Measure what is missing, then print and draw."""
    strips = []
    for scene in SCENES:
        study = WORK / f"{scene}.study"
        if not is_study(study):
            _make(scene, study)
            run(["features", str(study)])

        with look_at_study(study) as reading:
            snapshot = read_snapshot(reading)
            results = snapshot.results
            rows = rows_of(results, snapshot.record)
            _print(scene, rows, results)
            strips.append(_strip(scene, rows, snapshot))

    width = max(strip.width for strip in strips)
    sheet = Image.new("RGB", (width, sum(strip.height for strip in strips)), "white")
    top = 0

    for strip in strips:
        sheet.paste(strip, (0, top))
        top += strip.height

    sheet.save(SHEET)
    print(SHEET, file=sys.stderr)


def _make(scene: str, study: Path) -> None:
    """A study of the scene's base, and limits a little beyond the base's own errors."""
    plan = demo_study(scene, SIZE)
    none = Limits(**dict.fromkeys(dict(Limits().items()), None))
    plan = replace(
        plan, name=scene, sweeps=(), base=plan.base.replace({"samples.max": SAMPLES}), limits=none
    )
    WORK.mkdir(parents=True, exist_ok=True)
    create_study(study, plan)
    run(["run", str(study)])
    with look_at_study(study) as reading:
        base = read_snapshot(reading).results.base

    for key, room in ROOM.items():
        figure = base.all_figures[key] if base is not None else None
        assert figure is not None
        run(["limit", str(study), key, f"{figure.high + room:.1f}"])


def _print(scene: str, rows: list[Row], results: Results) -> None:
    tried = [row for row in rows if row.trial is not None]
    print(
        f"\n| {scene} | may win | wins | light shift, worst place | seen |\n|---|---|---|---|---|"
    )

    for row in tried:
        saved = row.saved
        trial = row.trial
        if (
            saved is None
            or trial is None
            or not (row.is_measurable or trial.verdict != "acceptable")
        ):
            continue

        most = f"{row.most:.0%}" if row.most is not None else "–"
        won = (
            f"{saved.value:.0%} ({saved.low:.0%} to {saved.high:.0%})"
            if row.is_measurable
            else "nothing measurable"
        )
        figures = [trial.figures.get(key) for key in ROOM]
        told = ", ".join(f"{figure.value:.1f}" for figure in figures if figure is not None)
        seen = {"acceptable": "no", "not acceptable": "yes"}.get(trial.verdict, "too close to say")
        print(
            f"| {row.setting.label}: {row.setting.show(row.value)} | {most} | {won} | {told} | "
            f"{seen} |"
        )

    idle = sum(
        not row.is_measurable and row.trial is not None and row.trial.verdict == "acceptable"
        for row in tried
    )
    print(f"\n{idle} others cost nothing measurable and are not missed. {score_words(rows)}.")
    found = together(rows, results)

    if found is not None:
        print(words_of_all(found, results))


def _strip(scene: str, rows: list[Row], snapshot: Snapshot) -> Image.Image:
    """The base above what some features leave, each at the place where it shows most."""
    tried = [
        row
        for row in rows
        if row.trial is not None and row.trial.figures.get("light_shift_worst") is not None
    ]
    shown = sorted(tried, key=_worst)[-SHOWN:]
    wide, high = CELL
    strip = Image.new(
        "RGB", (SHOWN * (wide + MARGIN) + MARGIN, 2 * high + 3 * MARGIN + 2 * LINE), "white"
    )
    draw = ImageDraw.Draw(strip)
    font = ImageFont.load_default(11)
    view = snapshot.study.view
    base = snapshot.results.base
    draw.text((MARGIN, 2), f"{scene.replace('-', ' ')}, as it is", "black", font)

    for number, row in enumerate(shown):
        assert row.trial is not None
        figure = row.trial.figures["light_shift_worst"]
        left = MARGIN + number * (wide + MARGIN)

        for line, trial in enumerate((base, row.trial)):
            path = snapshot.picture_of(trial.id) if trial is not None else None
            if path is not None and figure is not None and figure.place is not None:
                levels = view.eight_bit(read_picture(path).beauty)
                strip.paste(
                    _crop(levels, figure.place), (left, MARGIN + LINE + line * (high + MARGIN))
                )

        words = f"{row.setting.label}: {row.setting.show(row.value)}"
        draw.text(
            (left, 2 * (high + MARGIN) + LINE + 2),
            words if len(words) < 34 else f"{words[:32]} …",
            "black",
            font,
        )

    return strip


def _worst(row: Row) -> float:
    figure = row.trial.figures["light_shift_worst"] if row.trial is not None else None
    return figure.value if figure is not None else 0.0


def _crop(levels: np.ndarray, place: tuple[int, int, int, int]) -> Image.Image:
    """A place with what is around it, enlarged."""
    wide = CELL[0] // 3
    high = CELL[1] // 3
    x = min(max(0, place[0] + place[2] // 2 - wide // 2), levels.shape[1] - wide)
    y = min(max(0, place[1] + place[3] // 2 - high // 2), levels.shape[0] - high)

    return Image.fromarray(levels[y : y + high, x : x + wide]).resize(
        CELL, Image.Resampling.LANCZOS
    )


if __name__ == "__main__":
    main()
