"""The command line: everything the window does, without a display. Results go to standard output,
words to standard error. Exit status: 0 done, 1 the work failed, 2 the command was wrong, 3 no
acceptable configuration was found."""

# ruff: noqa: E402
import signal

signal.signal(signal.SIGINT, signal.SIG_DFL)  # until there is somebody to say that it was stopped

import io
import os
import sys
from contextlib import suppress

import click

from swift_sample import __version__
from swift_sample.commands import LazyGroup
from swift_sample.commands.terminal import say
from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.log import catch_all, log_file, report_error, start_log


def main() -> None:
    """Run the command line and end the process with the right exit status."""
    signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        _speak_utf8()
        _keep_output_ours()
        start_log()
        catch_all()
        status = run(sys.argv[1:])
    except KeyboardInterrupt:
        status = 1

    sys.exit(_flushed(status))


def _flushed(status: int) -> int:
    """The status, once all results are written; whoever reads them may have had enough."""
    try:
        sys.stdout.flush()
    except BrokenPipeError:
        with suppress(OSError):
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())

    return status


def _speak_utf8() -> None:
    """Names and words are UTF-8, whatever the surroundings say: where Python took them for
    something else it begins anew."""
    if sys.getfilesystemencoding() != "utf-8" and os.environ.get("PYTHONUTF8") != "1":
        os.environ["PYTHONUTF8"] = "1"
        os.execv(sys.executable, [sys.executable, *sys.orig_argv[1:]])


def _keep_output_ours() -> None:
    """What libraries print by themselves goes to standard error: standard output is for results,
    which programs read."""
    try:
        ours = os.dup(1)
        os.dup2(2, 1)
    except OSError:
        return  # one of them is closed

    if isinstance(sys.stdout, io.TextIOWrapper):
        was = sys.stdout
        errors = (
            "replace" if was.errors == "strict" else was.errors
        )  # a sign that cannot be written costs no result
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
        say(
            f"swift-sample: {one_line(Exception(error.format_message()))} (--help lists what "
            "is allowed)"
        )
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
        say(
            f"swift-sample: something went wrong ({type(error).__name__}: {one_line(error)}); "
            f"saved in {log_file()}"
        )
        return 1


@click.group(
    cls=LazyGroup,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"]},
)
@click.version_option(__version__, message="Swift Sample %(version)s")
@click.pass_context
def commands(context: click.Context) -> int:
    """Finds the fastest render settings you would still deliver. Without a command, the window
    opens."""
    if context.invoked_subcommand is None:
        from swift_sample.commands.window import open_window

        return open_window(None)

    return 0


if __name__ == "__main__":
    main()
