"""One window for each person: a second start hands what it was asked for to the window that is
open, and ends."""

import json
import os
import tempfile
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QObject
from PyQt6.QtNetwork import QLocalServer, QLocalSocket

WAIT_MILLISECONDS = 500
MOST_BYTES = 1 << 16


def address() -> str:
    """Where the open window listens: a socket that nobody else can write to."""
    folder = os.environ.get("XDG_RUNTIME_DIR") or tempfile.gettempdir()
    return str(Path(folder) / f"swift-sample-{os.getuid()}.socket")


def _is_own(path: Path) -> bool:
    """Whether it stands there and is this person's: in a folder for everybody somebody else could
    listen under the name."""
    try:
        return path.lstat().st_uid == os.getuid()
    except OSError:
        return False


def hand_over(path: Path | None, measure: bool) -> bool:
    """Ask an open window to come to the front, and to open a study; False where there is none."""
    if not _is_own(Path(address())):
        return False

    socket = QLocalSocket()
    socket.connectToServer(address())
    if not socket.waitForConnected(WAIT_MILLISECONDS):
        return False

    wanted = {"study": str(path.absolute()) if path is not None else "", "measure": measure}
    socket.write(json.dumps(wanted).encode())
    while socket.bytesToWrite() and socket.waitForBytesWritten(WAIT_MILLISECONDS):
        pass

    done = socket.bytesToWrite() == 0
    socket.disconnectFromServer()
    return done


class Doorbell(QObject):
    """Listens for later starts; `rung` hears the study that was asked for, None for none, and
    whether to measure it."""

    def __init__(
        self, rung: Callable[[Path | None, bool], None], parent: QObject | None = None
    ) -> None:
        super().__init__(parent)
        self._rung = rung
        self._server = QLocalServer(self)
        self._server.setSocketOptions(QLocalServer.SocketOption.UserAccessOption)
        self._server.newConnection.connect(self._answer)
        QLocalServer.removeServer(address())  # left by one that was killed: nobody answered there
        self._server.listen(address())

    def close(self) -> None:
        self._server.close()

    def _answer(self) -> None:
        socket = self._server.nextPendingConnection()
        if socket is None:
            return

        socket.waitForReadyRead(WAIT_MILLISECONDS)
        data = bytes(socket.read(MOST_BYTES))
        socket.disconnectFromServer()
        socket.deleteLater()

        try:
            wanted = json.loads(data)
            study = str(wanted["study"])
            measure = bool(wanted["measure"])
        except (ValueError, KeyError, TypeError):
            return

        self._rung(Path(study) if study else None, measure)
