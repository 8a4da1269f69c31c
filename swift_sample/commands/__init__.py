"""The commands of the command line, by what they work on; each module is imported when one of its
commands is used."""

import importlib
from collections.abc import Mapping

import click

Place = tuple[str, str, str]
"""A command's module, its name there, and what it does in a line."""

SECTIONS: Mapping[str, Mapping[str, Place]] = {
    "Begin": {
        "demo": ("measuring", "demo", "Measure the demo scene, the honey stall."),
        "open": ("study", "open_", "Open a study or a scene in the window."),
        "begin": (
            "planning",
            "begin",
            "What a scene holds, what is worth trying, and what measuring it takes.",
        ),
        "new": ("study", "new", "Make a study of your scene, with a first set of values to try."),
        "finished": (
            "renderers",
            "finished",
            "Make a study of renders that are finished, with their times.",
        ),
    },
    "Plan": {
        "set": ("planning", "set_", "Change values of the base: your settings today."),
        "try": ("planning", "try_", "Choose the values to try of one setting."),
        "sweep": (
            "planning",
            "sweep",
            "Also try all combinations of what is tried of some settings.",
        ),
        "limit": ("planning", "limit", "Set how much of an error, time or memory is acceptable."),
        "area": ("planning", "area", "Watch a part of the picture under a name."),
        "view": ("planning", "view", "Change size, frame, view, light and camera."),
        "goal": ("planning", "goal", "Compare total times, or the time until anything is visible."),
        "forbid": ("planning", "forbid", "Say that a value must not be used."),
        "plan": (
            "planning",
            "plan",
            "Set runs a trial, renders per opening, or no worse than the base.",
        ),
        "trial": ("planning", "trial", "Name a trial, note something of it, or leave it out."),
        "base": (
            "planning",
            "base",
            "Make a preset, a finished render or the pick the base, or keep it by name.",
        ),
        "preset": ("planning", "preset", "Write the settings of the pick, or of the base."),
    },
    "Measure": {
        "run": ("measuring", "run_", "Measure what is still to be measured, then print the pick."),
        "search": ("measuring", "search", "Find the pick among all combinations with few renders."),
        "frames": (
            "measuring",
            "frames",
            "Measure frames of a sequence, and forecast the whole of it.",
        ),
        "features": ("materials", "features", "Leave out one feature of the scene at a time."),
        "holds": ("measuring", "holds", "Check the answer at another size or frame."),
    },
    "Look": {
        "pick": ("looking", "pick", "The fastest acceptable configuration, and why."),
        "trials": ("looking", "trials", "A table of all trials: time, limit share, verdict."),
        "field": (
            "deriving",
            "field",
            "Every combination with its figures, derived, and its foreseen time.",
        ),
        "derive": (
            "deriving",
            "derive",
            "The picture that other settings would give, out of a recording.",
        ),
        "cost": (
            "looking",
            "cost",
            "Where the time of the base goes, and what is worth trying because of it.",
        ),
        "report": ("looking", "report", "Write what was found as a page for others."),
        "export": ("looking", "export", "Write all results as open data."),
        "log": (
            "looking",
            "log",
            "What was decided while a study was measured, and what happened.",
        ),
        "versions": (
            "looking",
            "versions",
            "What was measured of which version of scene, size and renderer.",
        ),
    },
    "Move": {
        "pack": ("study", "pack", "Put a study with its scene and pictures into one file."),
        "unpack": ("study", "unpack", "Make a study folder of a packed study."),
        "merge": ("study", "merge", "Add what another study knows of the same scene."),
    },
    "Pictures": {
        "render": ("picture", "render", "Render a scene once."),
        "compare": ("picture", "compare", "Measure how far a picture is from a reference."),
        "denoise": (
            "picture",
            "denoise",
            "Denoise a frame together with its neighbours, against flicker.",
        ),
        "blend": ("picture", "blend", "Blend a picture between raw and denoised."),
        "caching": (
            "picture",
            "caching",
            "After how many renders each cache pays for itself, measured.",
        ),
    },
    "Renderers and machines": {
        "renderer": (
            "renderers",
            "renderer_",
            "Other renderers: programs that a renderer file describes.",
        ),
        "machines": (
            "machines",
            "machines",
            "Several machines: a server, who is there, and joining it.",
        ),
        "settings": ("machine", "settings", "List every setting."),
        "check": (
            "machine",
            "check",
            "What this machine has, and whether it is quiet enough to measure.",
        ),
        "desktop": ("machine", "desktop", "Put launcher, icons and file type into the desktop."),
        "completion": (
            "machine",
            "completion",
            "Print what completes commands, settings and measures in a shell.",
        ),
    },
}
PLACES = {name: place for section in SECTIONS.values() for name, place in section.items()}


class LazyGroup(click.Group):
    """Knows its commands by name and line, and imports a module when one of its commands is used:
    listing them all takes no longer than starting Python does."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(PLACES)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        place = PLACES.get(cmd_name)
        if place is None:
            return None

        module, name, _ = place
        found = getattr(importlib.import_module(f"{__name__}.{module}"), name)
        assert isinstance(found, click.Command)

        return found

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        for title, section in SECTIONS.items():
            with formatter.section(title):
                formatter.write_dl([(name, words) for name, (_, _, words) in section.items()])
