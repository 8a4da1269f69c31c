"""The command line: everything the window does, without a display. Results go to standard output, words to standard
error. Exit status: 0 done, 1 the work failed, 2 the command was wrong, 3 no acceptable configuration was found."""

import os
import sys

import click

from swift_sample import __version__
from swift_sample.commands import machine, picture, study
from swift_sample.commands.terminal import say
from swift_sample.core.errors import SwiftSampleError, one_line


def main() -> None:
    """Run the command line and end the process with the right exit status."""
    sys.exit(run(sys.argv[1:]))


def run(arguments: list[str]) -> int:
    """Run one command; returns the exit status. Every problem is one line on standard error."""
    try:
        status = commands.main(args=arguments, prog_name="swift-sample", standalone_mode=False)
        return status if isinstance(status, int) else 0
    except SwiftSampleError as error:
        say(f"swift-sample: {one_line(error)}")
        return error.exit_status
    except click.exceptions.NoArgsIsHelpError as error:
        say(error.format_message())
        return 2
    except click.ClickException as error:
        say(f"swift-sample: {one_line(Exception(error.format_message()))} (--help lists what is allowed)")
        return 2
    except (click.Abort, KeyboardInterrupt):
        say("swift-sample: stopped")
        return 1
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        return 1
    except (OSError, MemoryError) as error:
        say(f"swift-sample: {one_line(error)}")
        return 1


@click.group(invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, message="Swift Sample %(version)s")
@click.pass_context
def commands(context: click.Context) -> int:
    """Finds the fastest render settings you would still deliver. Without a command, the window opens."""
    if context.invoked_subcommand is None:
        return study.open_window(None)
    return 0


for command in (study.demo, study.open_, study.new, study.run_, study.search, study.pick, study.frames, study.report,
                study.export, study.cost, study.log, picture.render, picture.compare, picture.steady, picture.caching,
                machine.settings, machine.check):
    commands.add_command(command)


if __name__ == "__main__":
    main()
