"""Which renderer files a person has seen and confirmed. They name programs to start, so none is
believed before; a file that changes, or stands in another folder, is asked about again."""

import hashlib
import json
from dataclasses import dataclass
from pathlib import Path

import platformdirs

from swift_sample.core.errors import RendererError, one_line
from swift_sample.core.files import read_bytes, written_whole


@dataclass(frozen=True)
class SeenFile:
    """A renderer file as it was read: what a person is shown, confirms, and has started is this and
    nothing else.

    `path` is where the file itself stands, with every link followed, so that the programs beside it
    are those that were beside it when it was confirmed.
    """

    path: Path
    content: bytes

    @property
    def digest(self) -> str:
        """SHA-256 of the content and the folder, in hexadecimal digits."""
        folder = str(self.path.parent).encode("utf-8", "surrogateescape")
        return hashlib.sha256(self.content + b"\0" + folder).hexdigest()


def seen_file(path: Path) -> SeenFile:
    """A renderer file, read once. Raises RendererError where it cannot be read, or is larger than
    any is."""
    try:
        real = path.resolve()
        return SeenFile(real, read_bytes(real))
    except (OSError, ValueError) as error:
        words = getattr(error, "strerror", None) or one_line(error)
        raise RendererError(f"{path}: the renderer file cannot be read ({words})") from error


def is_confirmed(seen: SeenFile) -> bool:
    """Whether a person has said that this file may start what it names."""
    return seen.digest in _confirmed()


def confirm(seen: SeenFile) -> None:
    """Believe a file as it was seen, whatever stands there by now."""
    known = {**_confirmed(), seen.digest: str(seen.path)}
    place = _list()
    place.parent.mkdir(parents=True, exist_ok=True)
    with written_whole(place) as temporary:
        temporary.write_text(json.dumps(known, indent=1), "utf-8")


def _list() -> Path:
    return Path(platformdirs.user_data_dir("swift-sample")) / "confirmed-renderers.json"


def _confirmed() -> dict[str, str]:
    try:
        known = json.loads(_list().read_text("utf-8"))
    except (OSError, ValueError):
        return {}

    return known if isinstance(known, dict) else {}
