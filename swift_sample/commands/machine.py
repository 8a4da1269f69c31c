"""Commands on this program and this machine."""

import json
import shutil
import sys
import time
from pathlib import Path

import click

from swift_sample.commands.terminal import say
from swift_sample.core.errors import SwiftSampleError
from swift_sample.core.renderers.registry import DEFAULT, renderer_named


@click.command()
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def settings(as_json: bool) -> int:
    """List every setting."""
    catalogue = renderer_named(DEFAULT).catalogue
    if as_json:
        fields = [
            {
                "key": s.key,
                "group": s.group,
                "label": s.label,
                "help": s.help,
                "unit": s.unit,
                "type": s.kind,
                "default": s.default,
                "minimum": s.minimum,
                "maximum": s.maximum,
                "values": list(s.values),
                "suggested": list(s.suggested),
            }
            for s in catalogue.values()
        ]
        print(json.dumps({"settings": fields}))
        return 0

    group = ""
    for s in catalogue.values():
        if s.group != group:
            group = s.group
            print(group)
        print(f"  {s.key:26s} {s.help} ({s.expected}; {s.show(s.default)} by default)")

    return 0


@click.command()
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
@click.option("--seconds", type=click.FloatRange(0.1, 60), default=2.0, help="How long to listen.")
@click.option(
    "--clear",
    "clear",
    type=click.Choice(["kernels", "machines", "textures"]),
    help="Empty one of the caches first.",
)
def check(as_json: bool, seconds: float, clear: str | None) -> int:
    """What this machine has, what is kept on disk, and whether it is quiet enough to time."""
    from swift_sample.core.caches import clear_cache, list_caches
    from swift_sample.core.kernels.cache import cache_root, is_compiled
    from swift_sample.core.machine import QUIET_SHARE, LoadMeter, this_machine
    from swift_sample.core.renderers.builtin.rendering.accelerator import (
        SHIPPED,
        own_description,
        read_accelerator,
    )

    if clear is not None:
        say(f"{clear}: {clear_cache(clear) / 2**20:.1f} MiB freed")

    try:
        accelerator = read_accelerator()
    except SwiftSampleError as error:
        accelerator = read_accelerator(SHIPPED)
        say(f"{error}; below is the one that came with the program")

    machine = this_machine()
    meter = LoadMeter()
    time.sleep(seconds)
    load = meter.share()

    if as_json:
        print(
            json.dumps(
                {
                    "machine": {**machine.hardware(), "versions": machine.versions},
                    "load_of_others": load,
                    "quiet": load <= QUIET_SHARE,
                    "kernels_compiled": is_compiled(),
                    "cache": str(cache_root()),
                    "caches": [cache.as_dict() for cache in list_caches()],
                    "accelerator": {
                        "simulated": True,
                        "own_description": str(own_description()),
                        **accelerator.model_dump(),
                    },
                }
            )
        )
        return 0

    print(
        f"{machine.processor}, {machine.cores} cores, {machine.threads} threads, "
        f"{machine.memory_bytes / 2**30:.0f} GiB, {machine.system}"
    )
    print(machine.versions)
    state = "ready" if is_compiled() else "not compiled yet: the first start takes about a minute"
    print(f"renderer {state}; cache in {cache_root()}")
    for cache in list_caches():
        print(
            f"  {cache.name}: {cache.size_bytes / 2**20:.1f} MiB in {cache.files} files: "
            f"{cache.about}"
        )

    print(f"accelerator (simulated): {accelerator.name}; {own_description()} would be used instead")
    print(
        f"other programs use {load:.1%} of the processor: "
        + (
            "quiet enough to time"
            if load <= QUIET_SHARE
            else "too busy to time well; close what you can"
        )
    )

    return 0


@click.command()
@click.argument("what", type=click.Choice(["install", "remove"]))
@click.option(
    "--root",
    type=click.Path(path_type=Path),
    help="Another data folder than the user's own, such as /usr/share.",
)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def desktop(what: str, root: Path | None, as_json: bool) -> int:
    """Put launcher, icons and file type into the desktop, or take them away."""
    from swift_sample.desktop.entries import data_home, install, remove

    folder = root or data_home()
    program = shutil.which("swift-sample") or str(Path(sys.executable).with_name("swift-sample"))
    touched = install(folder, program) if what == "install" else remove(folder)

    if as_json:
        print(json.dumps({"files": [str(path) for path in touched]}))
    else:
        say(
            f"{len(touched)} files {'installed in' if what == 'install' else 'removed from'} "
            f"{folder}"
        )

    return 0


@click.command()
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
def completion(shell: str) -> int:
    """Print what has SHELL complete commands, settings, values and measures: eval "$(swift-sample
    completion bash)"."""
    from click.shell_completion import get_completion_class

    whole = click.get_current_context().find_root().command
    made = get_completion_class(shell)
    assert made is not None
    print(made(whole, {}, "swift-sample", "_SWIFT_SAMPLE_COMPLETE").source())

    return 0
