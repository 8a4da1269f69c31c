"""The command line: everything the window does, without a display. Results go to standard output, words to standard
error. Exit status: 0 done, 1 the work failed, 2 the command was wrong, 3 no acceptable configuration was found."""

import io
import os
import sys

import click

from swift_sample import __version__
from swift_sample.commands import looking, machine, machines, materials, measuring, picture, planning, renderers, study
from swift_sample.commands.terminal import say
from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.log import catch_all, log_file, report_error, start_log


def main() -> None:
    """Run the command line and end the process with the right exit status."""
    _speak_utf8()
    _keep_output_ours()
    start_log()
    catch_all()
    sys.exit(run(sys.argv[1:]))


def _speak_utf8() -> None:
    """Names and words are UTF-8, whatever the surroundings say: where Python took them for something else it begins anew."""
    if sys.getfilesystemencoding() != "utf-8" and os.environ.get("PYTHONUTF8") != "1":
        os.environ["PYTHONUTF8"] = "1"
        os.execv(sys.executable, [sys.executable, *sys.orig_argv[1:]])


def _keep_output_ours() -> None:
    """What libraries print by themselves goes to standard error: standard output is for results, which programs read."""
    try:
        ours = os.dup(1)
        os.dup2(2, 1)
    except OSError:
        return  # one of them is closed
    if isinstance(sys.stdout, io.TextIOWrapper):
        was = sys.stdout
        errors = "replace" if was.errors == "strict" else was.errors  # a sign that cannot be written costs no result
        sys.stdout = open(ours, "w", encoding=was.encoding, errors=errors)  # noqa: SIM115
        sys.stdout.reconfigure(line_buffering=was.line_buffering)


def run(arguments: list[str]) -> int:
    """Run one command; returns the exit status. Every problem is one line on standard error."""
    try:
        status = commands.main(args=arguments, prog_name="swift-sample", standalone_mode=False)
        return status if isinstance(status, int) else 0
    except SwiftSampleError as error:
        say(f"swift-sample: {one_line(error)}")
        return error.exit_status
    except click.exceptions.NoArgsIsHelpError as error:
        click.echo(error.format_message(), err=True)
        return 2
    except click.ClickException as error:
        say(f"swift-sample: {one_line(Exception(error.format_message()))} (--help lists what is allowed)")
        return 2
    except (click.Abort, KeyboardInterrupt):
        say("swift-sample: stopped")
        return 1
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 1
    except (OSError, MemoryError) as error:
        say(f"swift-sample: {one_line(error)}")
        return 1
    except Exception as error:
        report_error("the command line", error)
        say(f"swift-sample: something went wrong ({type(error).__name__}: {one_line(error)}); saved in {log_file()}")
        return 1


@click.group(invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, message="Swift Sample %(version)s")
@click.pass_context
def commands(context: click.Context) -> int:
    """Finds the fastest render settings you would still deliver. Without a command, the window opens."""
    if context.invoked_subcommand is None:
        return study.open_window(None)
    return 0


for command in (
    measuring.demo,
    study.open_,
    planning.begin,
    study.new,
    planning.set_,
    planning.try_,
    planning.sweep,
    planning.limit,
    planning.area,
    planning.view,
    planning.goal,
    planning.forbid,
    planning.base,
    planning.preset,
    measuring.run_,
    measuring.search,
    looking.pick,
    measuring.frames,
    materials.features,
    measuring.holds,
    looking.report,
    looking.export,
    looking.cost,
    looking.log,
    looking.versions,
    study.pack,
    study.unpack,
    study.merge,
    picture.render,
    picture.compare,
    picture.denoise,
    picture.blend,
    picture.caching,
    renderers.renderer_,
    renderers.finished,
    machines.machines,
    machine.settings,
    machine.check,
    machine.desktop,
):
    commands.add_command(command)


if __name__ == "__main__":
    main()
