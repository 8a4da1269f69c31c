"""A sequence's forecast in words and as data: what the Frames page, the terminal and `frames
--json` say."""

from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from typing import Any

from swift_sample.core.measure.kinds import Figure
from swift_sample.core.settings import Configuration
from swift_sample.core.study.answers.frames import Forecast, FrameResults
from swift_sample.core.study.answers.pick_report import show_seconds


def show_span(seconds: Figure) -> str:
    """A long duration with its interval: "2 h 5 min (1 h 50 min to 2 h 20 min)"."""
    return (
        f"{show_seconds(seconds.value)} ({show_seconds(seconds.low)} to "
        f"{show_seconds(seconds.high)})"
    )


def shared(seconds: Figure, machines: int, longest: float) -> Figure:
    """The same work on several machines like this one: no less than the longest frame takes."""
    value, low, high = (
        max(end / machines, longest) for end in (seconds.value, seconds.low, seconds.high)
    )
    return Figure(value, low, high)


def forecast_sentences(
    found: FrameResults,
    names: Mapping[Configuration, str],
    machines: int = 1,
    now: datetime | None = None,
) -> list[str]:
    """A few lines for each configuration, with the day on which the sequence is done if it is begun
    `now`."""
    plan = found.plan
    lines = []
    count = plan.last - plan.first + 1
    where = f" on {machines} machines" if machines > 1 else ""

    for configuration, name in names.items():
        forecast = found.forecast(configuration)
        if forecast is None:
            lines.append(f"{name}: fewer than two frames were measured")
            continue

        worst = forecast.worst
        anew = shared(forecast.built_anew, machines, worst.built_anew)
        can = configuration.catalogue.capabilities
        lines.append(f"{name}: {count} frames take {show_span(anew)}{where}")

        if forecast.built_once is not None:
            once = shared(forecast.built_once, machines, worst.built_anew)
            lines[-1] += ", the scene built for every frame"
            lines.append(
                f"  {show_span(once)} where it is built once and kept, as when nothing but the "
                "camera moves"
            )

        lines.append(f"  slowest: frame {worst.frame}, {show_seconds(worst.built_anew)}")
        if can.phases:
            lines[-1] += (
                f", of which {show_seconds(worst.build_seconds + worst.ready_seconds)} to read and "
                "build it"
            )

        begun = now or datetime.now(UTC).astimezone()
        done, latest = (begun + timedelta(seconds=end) for end in (anew.value, anew.high))
        lines.append(
            f"  if started now, it is done {done:%A %d %B, %H:%M}, at the latest "
            f"{latest:%A %d %B, %H:%M}"
        )
        judged = found.judged.get(configuration)

        if judged is not None:
            words = f"limit share {judged.share.value:.2f}" if not judged.why else judged.why
            lines.append(f"  at its grainiest, frame {judged.frame}: {judged.verdict}, {words}")

        if forecast.flicker_at_least is not None:
            lines.append(
                f"  grain alone flickers by {forecast.flicker_at_least:.1f} levels at the "
                "grainiest frame"
            )

    return lines


def forecast_as_data(
    found: FrameResults, names: Mapping[Configuration, str], machines: int = 1
) -> dict[str, Any]:
    """For `--json`; "forecast" is null where fewer than two frames were measured."""

    def figure(known: Figure | None) -> dict[str, float] | None:
        return (
            None if known is None else {"value": known.value, "low": known.low, "high": known.high}
        )

    def told(forecast: Forecast | None) -> dict[str, Any] | None:
        once = forecast.built_once if forecast is not None else None
        return (
            None
            if forecast is None
            else {
                "seconds_built_anew": figure(
                    shared(forecast.built_anew, machines, forecast.worst.built_anew)
                ),
                "seconds_built_once": figure(
                    once and shared(once, machines, forecast.worst.built_anew)
                ),
                "worst_frame": forecast.worst.frame,
                "flicker_at_least": forecast.flicker_at_least,
            }
        )

    def judged(configuration: Configuration) -> dict[str, Any] | None:
        one = found.judged.get(configuration)
        return (
            None
            if one is None
            else {"frame": one.frame, "verdict": one.verdict, "limit_share": figure(one.share)}
        )

    plan = found.plan
    return {
        "first": plan.first,
        "last": plan.last,
        "measured": plan.frames(),
        "machines": machines,
        **{
            name: {
                "configuration": dict(configuration),
                "forecast": told(found.forecast(configuration)),
                "judged": judged(configuration),
                "frames": [
                    {
                        "frame": result.frame,
                        "seconds": figure(result.seconds),
                        "build_seconds": result.build_seconds,
                        "ready_seconds": result.ready_seconds,
                        "grain": figure(result.grain),
                    }
                    for result in found.by_configuration.get(configuration, ())
                ],
            }
            for configuration, name in names.items()
        },
    }
