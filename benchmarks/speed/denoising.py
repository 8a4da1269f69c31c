"""What the denoisers gain on the demo scene at 32 samples, and how fast they are."""

import time

import numpy as np

from benchmarks.alternate import alternate, ratio, show
from swift_sample.core.measure.compare import WHOLE, measure
from swift_sample.core.measure.comparison import Comparison
from swift_sample.core.picture.picture import Picture
from swift_sample.core.picture.view import View
from swift_sample.core.renderers.builtin.catalogue import configured
from swift_sample.core.renderers.builtin.denoise import DENOISERS, denoise_picture
from swift_sample.core.renderers.builtin.denoise.guides import guides_of
from swift_sample.core.renderers.builtin.denoise.patches import PATCH, SEARCH
from swift_sample.core.renderers.builtin.denoise.strays import spread_strays
from swift_sample.core.renderers.builtin.rendering.building import (
    Stopwatch,
    build_scene,
    choices_of,
)
from swift_sample.core.renderers.builtin.rendering.render import render
from swift_sample.core.scene.honey_stall import honey_stall

SIZE = (320, 180)
SAMPLES = 32
REFERENCE_SAMPLES = 1024
LARGE = (1920, 1080)


def main() -> None:
    """Print gains, then speeds."""
    base = configured(
        {
            "samples.max": SAMPLES,
            "bounces.total": 12,
            "denoise.method": "regression",
            "denoise.per_pass": True,
        }
    )
    view = View(curve="soft")
    built = build_scene(honey_stall(), Stopwatch(), choices_of(base))
    noisy, _ = render(built, base, SIZE, 2, view, Stopwatch())
    clean, _ = render(
        built,
        base.replace({"samples.max": REFERENCE_SAMPLES, "denoise.method": "none"}),
        SIZE,
        1,
        view,
        Stopwatch(),
    )
    raw_rms = 0.0

    for method in ("none", *DENOISERS):
        for per_pass in (False, True) if method != "none" else (False,):
            wanted = base.replace({"denoise.method": method, "denoise.per_pass": per_pass})
            started = time.perf_counter()
            shown = denoise_picture(noisy, wanted)
            seconds = time.perf_counter() - started
            found = measure(
                Comparison([shown.beauty], clean.beauty, view, None, clean.halves, seeds=False)
            )[WHOLE]
            rms = found["rms"].value
            raw_rms = raw_rms or rms
            detail = found["detail_kept"]
            print(
                f"  {method:11s}{' per pass' if per_pass else '':9s} rms {rms:6.2f} levels, "
                f"{rms / raw_rms:.2f} of raw; "
                f"detail kept {detail.value if detail else float('nan'):5.1f} %; {seconds:.2f} s"
            )

    _speeds(noisy)


def _speeds(noisy: Picture) -> None:
    repeats = (-(-LARGE[1] // noisy.height), -(-LARGE[0] // noisy.width), 1)
    layers = {
        name: np.tile(values, repeats[: values.ndim])[: LARGE[1], : LARGE[0]].copy()
        for name, values in noisy.layers.items()
        if name in ("half_a", "half_b", "albedo", "normal", "depth", "guides_half")
    }

    large = Picture(np.tile(noisy.beauty, repeats)[: LARGE[1], : LARGE[0]].copy(), layers)
    guides = guides_of(large, 2)
    megapixels = LARGE[0] * LARGE[1] / 1e6
    times = []

    for _ in range(5):
        started = time.perf_counter()
        DENOISERS["wavelet"](spread_strays(large, 2), guides, 2)
        times.append(time.perf_counter() - started)

    rates = megapixels / np.array(times)
    show(
        "wavelet, megapixels a second at 1920x1080 on two threads",
        (float(np.median(rates)), float(rates.min()), float(rates.max())),
        "at least 8",
    )

    try:
        from skimage.restoration import denoise_nl_means
    except ImportError:
        print("  patches against scikit-image: left out, scikit-image is not installed")
        return

    small = Picture(
        noisy.beauty, {k: v for k, v in noisy.layers.items() if k in ("half_a", "half_b")}
    )

    def ours() -> float:
        started = time.perf_counter()
        DENOISERS["patches"](small, None, 2)
        return noisy.beauty.size / (time.perf_counter() - started)

    def theirs() -> float:
        started = time.perf_counter()
        denoise_nl_means(
            noisy.beauty,
            patch_size=2 * PATCH + 1,
            patch_distance=SEARCH,
            h=0.1,
            fast_mode=True,
            channel_axis=2,
        )
        return noisy.beauty.size / (time.perf_counter() - started)

    found = alternate({"ours": ours, "theirs": theirs})
    show(
        "patches (both halves) over scikit-image's fast mode, speed",
        ratio(found, "ours", "theirs"),
        "at least 1.0",
    )
