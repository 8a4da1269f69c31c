"""Starts the worker: `python -m swift_sample.core.worker RENDERER PARENT`, where PARENT is the
process that starts it."""

import signal
import sys

from swift_sample.core.processes import end_with_parent

if __name__ == "__main__":
    end_with_parent(int(sys.argv[2]))  # before all that takes a while, in which the parent may end
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # its driver decides what an interruption means
    from swift_sample.core.worker.process import main

    main()
