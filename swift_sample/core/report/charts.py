"""The report's charts, drawn by Matplotlib in the colours of the window on white."""

import io
import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from swift_sample.core.colours import DAY, PHASE_ROLES
from swift_sample.core.study.answers.acceptance import ACCEPTABLE, NOT_ACCEPTABLE
from swift_sample.core.study.answers.pick_report import show_seconds
from swift_sample.core.study.answers.results import Results
from swift_sample.core.study.answers.trial import TrialResult

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

DOTS_PER_INCH = 160
TEXT_POINTS = 8.0
LEAST_SHARE = 0.01
MANY_DOUBLINGS = 5


def as_png(figure: "Figure") -> bytes:
    return _drawn(figure, "png")


def as_svg(figure: "Figure") -> str:
    """Without the file's heading, to stand in a page."""
    text = _drawn(figure, "svg").decode()
    return text[text.index("<svg") :]


def _drawn(figure: "Figure", form: str) -> bytes:
    out = io.BytesIO()
    # No date in it: the same study gives the same file.
    figure.savefig(
        out,
        format=form,
        dpi=DOTS_PER_INCH,
        metadata={"Date": None} if form == "svg" else {"Software": None},
    )
    return out.getvalue()


def _figure(width: float, height: float) -> "Figure":
    import matplotlib as mpl
    from matplotlib.figure import Figure

    mpl.rcParams.update(
        {
            "svg.fonttype": "path",
            "svg.hashsalt": "swift-sample",
            "font.size": TEXT_POINTS,
            "axes.edgecolor": DAY.line,
            "axes.labelcolor": DAY.quiet,
            "xtick.color": DAY.quiet,
            "ytick.color": DAY.quiet,
            "text.color": DAY.text,
            "axes.spines.top": False,
            "axes.spines.right": False,
        }
    )
    return Figure(figsize=(width, height), layout="constrained")


def map_chart(results: Results) -> "Figure":
    """Time across, limit share up, as on the window's map: filled where acceptable, hollow where
    not."""
    figure = _figure(7.0, 3.9)
    axes = figure.subplots()
    pick = results.pick()
    axes.axhspan(LEAST_SHARE, 1, color=DAY.acceptable, alpha=0.07, linewidth=0)
    axes.axhline(1, color=DAY.acceptable, linewidth=1.2)

    for trial in (t for t in results.trials if t.is_on_map):
        assert trial.seconds is not None
        assert trial.share is not None
        x, y = trial.seconds, trial.share
        chosen = pick is not None and trial.id == pick.trial.id
        colour, full = _mark(trial)
        colour = DAY.pick if chosen else colour
        at = max(y.value, LEAST_SHARE)

        axes.errorbar(
            x.value,
            at,
            xerr=_reach(x.value, x.low, x.high),
            yerr=_reach(at, max(y.low, LEAST_SHARE), y.high),
            color=DAY.quiet,
            alpha=0.45,
            linewidth=0.7,
        )
        axes.plot(
            x.value,
            at,
            marker="s" if trial.is_base else "^" if chosen else "o",
            markersize=8 if chosen else 5,
            zorder=3,
            color=colour,
            markerfacecolor=colour if full else "white",
            linestyle="none",
        )

        if chosen or trial.is_base:
            words = f"pick {show_seconds(x.value)}" if chosen else f"base {show_seconds(x.value)}"
            axes.annotate(
                words,
                (x.value, at),
                (0, 8),
                textcoords="offset points",
                ha="center",
                color=colour,
                weight="bold",
            )

    shown = [t for t in results.trials if t.seconds is not None and t.share is not None]
    _log_scale(axes, "x", [t.seconds.value for t in shown if t.seconds is not None])
    _log_scale(
        axes, "y", [1.0, *(max(t.share.value, LEAST_SHARE) for t in shown if t.share is not None)]
    )
    axes.set_xlabel("time of a render in seconds")
    axes.set_ylabel("share of the limits")
    axes.text(
        0.995,
        0.97,
        "over a limit above the green line",
        transform=axes.transAxes,
        ha="right",
        va="top",
        color=DAY.quiet,
    )

    return figure


def _reach(value: float, low: float, high: float) -> list[list[float]]:
    """How far an interval reaches down and up, as an error bar wants it: not below nothing, which
    rounding may lead to."""
    return [[max(value - low, 0.0)], [max(high - value, 0.0)]]


def _mark(trial: TrialResult) -> tuple[str, bool]:
    """Colour, and whether the mark is filled."""
    if trial.is_base:
        return DAY.ink, trial.verdict != NOT_ACCEPTABLE
    if trial.verdict == ACCEPTABLE:
        return DAY.acceptable, True

    return (DAY.over if trial.verdict == NOT_ACCEPTABLE else DAY.quiet), False


def _log_scale(axes: "Axes", which: str, values: Sequence[float]) -> None:
    """A logarithmic axis around these values, with ticks at powers of two, and half way between
    where they are few."""
    from matplotlib.ticker import FuncFormatter, NullLocator

    low, high = min(values) / 1.4, max(values) * 1.4
    first = math.floor(math.log2(low))
    last = math.ceil(math.log2(high))
    steps = (1.0, 1.5) if last - first < MANY_DOUBLINGS else (1.0,)
    axis = axes.xaxis if which == "x" else axes.yaxis
    (axes.set_xscale if which == "x" else axes.set_yscale)("log", base=2)
    (axes.set_xlim if which == "x" else axes.set_ylim)(low, high)
    ticks = (step * 2.0**power for power in range(first, last + 1) for step in steps)
    axis.set_ticks([tick for tick in ticks if low <= tick <= high])
    axis.set_minor_locator(NullLocator())
    axis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:.3g}"))
    axis.grid(True, color=DAY.line, linewidth=0.5)
    axes.set_axisbelow(True)


def settings_chart(
    results: Results, trails: Sequence[tuple[str, Sequence[TrialResult]]]
) -> "Figure":
    """Each setting by itself against the base: the time of every value with its interval, filled
    where acceptable.

    trails: key and trials in the order of their values, the base among them.
    """
    columns = 3
    rows = max(1, math.ceil(len(trails) / columns))
    figure = _figure(7.0, 1.55 * rows)
    panels = figure.subplots(rows, columns, squeeze=False).ravel()
    for panel in panels[len(trails) :]:
        panel.axis("off")

    for panel, (key, trials) in zip(panels, trails, strict=False):
        for place, trial in enumerate(trials):
            assert trial.seconds is not None
            colour, full = _mark(trial)
            time = trial.seconds
            panel.bar(
                place,
                time.value,
                width=0.62,
                color=colour if full else "white",
                edgecolor=colour,
                linewidth=1,
                alpha=0.85,
            )
            panel.plot([place, place], [time.low, time.high], color=DAY.text, linewidth=0.8)

        declared = results.study.catalogue[key]
        panel.set_title(declared.label, fontsize=TEXT_POINTS, color=DAY.text, loc="left")
        panel.set_xticks(range(len(trials)), [declared.show(t.configuration[key]) for t in trials])
        panel.set_ylim(0, None)
        panel.tick_params(length=0, labelsize=TEXT_POINTS - 1)

    return figure


def phases_chart(trials: Sequence[tuple[str, TrialResult]]) -> "Figure":
    """Where the time goes, one bar a trial."""
    figure = _figure(7.0, 0.5 + 0.36 * len(trials))
    axes = figure.subplots()

    for row, (_, trial) in enumerate(trials):
        left = 0.0
        for role, phases in PHASE_ROLES:
            seconds = sum(trial.phases[phase].value for phase in phases if phase in trial.phases)
            axes.barh(
                row,
                seconds,
                left=left,
                height=0.62,
                color=getattr(DAY, role),
                label=role if row == 0 else None,
            )
            left += seconds

    axes.set_yticks(range(len(trials)), [name for name, _ in trials])
    axes.invert_yaxis()
    axes.tick_params(length=0)
    axes.set_xlabel("seconds")

    axes.legend(
        ncols=len(PHASE_ROLES),
        frameon=False,
        loc="lower right",
        bbox_to_anchor=(1, 1),
        borderaxespad=0,
        fontsize=TEXT_POINTS - 1,
    )
    return figure
