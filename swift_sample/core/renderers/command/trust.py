"""Which renderer files a person has seen and confirmed. They name programs to start, so none is believed before; a file that
changes, or stands in another folder, is asked about again."""

import hashlib
import json
from pathlib import Path

import platformdirs

from swift_sample.core.errors import RendererError
from swift_sample.core.files import written_whole


def _list() -> Path:
    return Path(platformdirs.user_data_dir("swift-sample")) / "confirmed-renderers.json"


def digest_of(path: Path) -> str:
    """Of a renderer file's content and place. Raises RendererError where it cannot be read."""
    try:
        return hashlib.sha256(
            path.read_bytes() + b"\0" + str(path.resolve().parent).encode("utf-8", "surrogateescape")
        ).hexdigest()
    except OSError as error:
        raise RendererError(f"{path}: the renderer file cannot be read ({error.strerror})") from error


def is_confirmed(path: Path) -> bool:
    return digest_of(path) in _confirmed()


def confirm(path: Path) -> None:
    """Believe this file as it is now."""
    known = {**_confirmed(), digest_of(path): str(path)}
    _list().parent.mkdir(parents=True, exist_ok=True)
    with written_whole(_list()) as temporary:
        temporary.write_text(json.dumps(known, indent=1), "utf-8")


def _confirmed() -> dict[str, str]:
    try:
        known = json.loads(_list().read_text("utf-8"))
    except (OSError, ValueError):
        return {}
    return known if isinstance(known, dict) else {}
