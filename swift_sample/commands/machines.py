"""Commands that bring machines together, and `--on`, which has them measure a study."""

import json
import platform
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from swift_sample.commands.terminal import say
from swift_sample.core.errors import UsageError

if TYPE_CHECKING:
    from swift_sample.core.machines.fleet import Fleet
    from swift_sample.core.study.measuring.driver import Driver

Command = TypeVar("Command", bound=Callable[..., Any])

KEYS = click.option(
    "--keys",
    type=click.Path(path_type=Path),
    help="The folder of the machines' keys, the same on each of them.",
)
UNPROTECTED = click.option(
    "--unprotected",
    is_flag=True,
    help="Without keys, also beyond this computer: whoever reaches it can run programs on it.",
)


def on_machines(command: Command) -> Command:
    """The options of a command that machines can do."""
    for option in (
        UNPROTECTED,
        KEYS,
        click.option(
            "--machine",
            default="",
            metavar="NAME",
            help="Time renders on this kind of machine alone (with --on).",
        ),
        click.option(
            "--on", "address", default="", metavar="ADDRESS", help="Have the machines there do it."
        ),
    ):
        command = option(command)

    return command


def fleet_at(address: str, keys: Path | None, unprotected: bool) -> "Fleet | None":
    """The machines of `--on`; None without. Raises UsageError."""
    if not address:
        return None

    from swift_sample.core.machines.fleet import Fleet

    return Fleet(address, keys, unprotected)


def kind_named(driver: "Driver", name: str) -> str:
    """The machine that `--machine` means; "" without. Raises UsageError."""
    from swift_sample.core.study.answers.kinds import machine_named

    return machine_named(driver.state, name) if name else ""


@click.group()
def machines() -> None:
    """Several machines: a meeting place, who is there, and joining it."""


@machines.command()
@click.option(
    "--at",
    "address",
    default="127.0.0.1",
    help="HOST or HOST:PORT that this computer is reached by.",
)
@click.option(
    "--here/--not-here", default=True, help="Whether this computer is one of the machines."
)
@click.option("--name", default="", help="What this computer is called among them.")
@KEYS
@UNPROTECTED
def start(address: str, here: bool, name: str, keys: Path | None, unprotected: bool) -> int:
    """Open a meeting place for machines, until it is stopped or interrupted."""
    import subprocess
    import sys

    from swift_sample.core.machines.serving import meet

    own: list[subprocess.Popen[bytes]] = []

    def began(at: str) -> None:
        if here:
            options = [
                *(["--keys", str(keys)] if keys is not None else []),
                *(["--unprotected"] if unprotected else []),
            ]
            command = [
                sys.executable,
                "-m",
                "swift_sample.cli",
                "machines",
                "join",
                at,
                "--name",
                name or platform.node(),
            ]
            own.append(subprocess.Popen([*command, *options]))

    try:
        meet(address, keys, unprotected, say, began)
    finally:
        for process in own:
            process.terminate()
            process.wait()

    return 0


@machines.command()
@click.argument("address")
@click.option(
    "--name",
    default="",
    help="What this machine is called; the computer's name unless told otherwise.",
)
@click.option(
    "--processors",
    default="",
    metavar="0,1,...",
    help="Use these processors alone: a part of a computer.",
)
@KEYS
@UNPROTECTED
def join(address: str, name: str, processors: str, keys: Path | None, unprotected: bool) -> int:
    """Be one of the machines that meet at ADDRESS, until they are stopped or this is
    interrupted."""
    from swift_sample.core.machines.serving import join as join_them

    try:
        numbers = [int(number) for number in processors.split(",") if number.strip()]
    except ValueError as error:
        raise UsageError(
            f"--processors {processors}: expected numbers with commas between them, as in 0,1"
        ) from error

    called = name or platform.node() + (f" {processors.strip()}" if numbers else "")
    join_them(address, called, keys, unprotected, numbers, say)
    return 0


@machines.command(name="list")
@click.argument("address", default="127.0.0.1")
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
@KEYS
@UNPROTECTED
def list_(address: str, as_json: bool, keys: Path | None, unprotected: bool) -> int:
    """Say which machines have joined, and what each does."""
    from swift_sample.core.machines.serving import present

    there = present(address, keys, unprotected)
    if as_json:
        print(
            json.dumps(
                {
                    "machines": [
                        {"name": m.name, "address": m.address, "doing": m.doing} for m in there
                    ]
                }
            )
        )
    else:
        for machine in there:
            print(f"{machine.name:24s} {machine.address:32s} {machine.doing or 'nothing'}")
        if not there:
            print("no machine has joined yet")

    return 0


@machines.command()
@click.argument("address", default="127.0.0.1")
@KEYS
@UNPROTECTED
def stop(address: str, keys: Path | None, unprotected: bool) -> int:
    """Send all machines home and close the meeting place; what they have in hand is lost."""
    from swift_sample.core.machines.serving import stop as stop_them

    count = stop_them(address, keys, unprotected)
    say(f"{count} machine{'s' if count != 1 else ''} went home")
    return 0


@machines.command()
@click.argument("folder", type=click.Path(path_type=Path))
def keys(folder: Path) -> int:
    """Make keys, by which machines know each other: copy the folder to each of them."""
    from swift_sample.core.machines.engine import make_keys

    ends = make_keys(folder)
    say(
        f"{folder} holds the machines' keys: copy it to each, and give --keys there; who has "
        "it can run programs on them"
    )
    say(f"they end on {ends:%Y-%m-%d}; make new ones before")

    return 0
