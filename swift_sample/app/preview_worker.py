"""The worker that previews: a process with a folder for its pictures. It can be started before
there is a scene, so that the first picture of one does not wait for it."""

import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path
from threading import Lock

from swift_sample.core.renderers.port import Renderer
from swift_sample.core.worker.link import WorkerLink
from swift_sample.core.worker.messages import Progress, Reply, Request, WarmUpJob

Listener = Callable[[Reply | None], None]


class PreviewWorker:
    """Warms up at once. Replies go to whoever listens, from a thread of the link's; until then they
    are kept."""

    def __init__(self, renderer: Renderer) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="swift-sample-preview-"))
        self._lock = Lock()
        self._kept = list[Reply | None]()
        self._listener: Listener | None = None
        self._link = WorkerLink(
            renderer.worker, self.folder / "worker.log", lambda link, reply: self._on_reply(reply)
        )
        self._link.send(WarmUpJob())

    def listen(self, listener: Listener) -> None:
        """Hand replies on, those that came before first."""
        with self._lock:
            kept = self._kept
            self._kept = []
            self._listener = listener
            for reply in kept:
                listener(reply)

    def _on_reply(self, reply: Reply | None) -> None:
        with self._lock:
            if self._listener is not None:
                self._listener(reply)
            elif not isinstance(reply, Progress):
                self._kept.append(reply)

    def send(self, job: Request) -> None:
        """Raises WorkerError where the worker is gone."""
        self._link.send(job)

    def stop_job(self) -> None:
        self._link.stop_job()

    def exit_words(self) -> str:
        return self._link.exit_words()

    def close(self) -> None:
        """End the process at once, and take its pictures away."""
        self._link.kill()
        self._link.close()
        shutil.rmtree(self.folder, ignore_errors=True)
