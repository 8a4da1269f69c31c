"""Puts the desktop's files in place, and takes them away again."""

import os
import shutil
import subprocess
from pathlib import Path

from swift_sample.core.errors import UsageError, one_line
from swift_sample.core.files import written_whole

HERE = Path(__file__).parent
ICON_SIZES = (16, 32, 48, 64, 128, 256)
NAME = "swift-sample"


def data_home() -> Path:
    """Where the user's own desktop files stand."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def files(root: Path) -> dict[Path, Path]:
    """What is put where under a data folder: target and source."""
    placed = {
        root / "applications" / f"{NAME}.desktop": HERE / f"{NAME}.desktop",
        root / "metainfo" / f"{NAME}.metainfo.xml": HERE / f"{NAME}.metainfo.xml",
        root / "mime" / "packages" / f"{NAME}.xml": HERE / f"{NAME}-mime.xml",
        root / "icons" / "hicolor" / "scalable" / "apps" / f"{NAME}.svg": HERE / f"{NAME}.svg",
    }
    for size in ICON_SIZES:
        folder = root / "icons" / "hicolor" / f"{size}x{size}" / "apps"
        placed[folder / f"{NAME}.png"] = HERE / "icons" / f"{size}.png"

    return placed


def install(root: Path, program: str) -> list[Path]:
    """Put everything in place; `program` is the command that starts the application. Raises
    UsageError."""
    placed = []
    for target, source in files(root).items():
        data = source.read_bytes()
        if target.suffix == ".desktop":
            started = {
                f"Exec={NAME}": f"Exec={_quoted(program)}",
                f"TryExec={NAME}": f"TryExec={program}",
            }
            lines = data.decode().splitlines()
            for old, new in started.items():
                lines = [
                    new + line.removeprefix(old) if line.startswith(old) else line for line in lines
                ]

            data = "\n".join([*lines, ""]).encode()

        try:
            target.parent.mkdir(parents=True, exist_ok=True)
            with written_whole(target) as temporary:
                temporary.write_bytes(data)
        except OSError as error:
            raise UsageError(f"{target}: cannot be written ({one_line(error)})") from error

        placed.append(target)

    refresh(root)
    return placed


def remove(root: Path) -> list[Path]:
    """Take everything away again; folders that others use stay."""
    gone = [target for target in files(root) if target.exists()]
    for target in gone:
        target.unlink()

    refresh(root)
    return gone


def refresh(root: Path) -> None:
    """Have the desktop read its lists anew, where it has the programs for that."""
    for command in (
        ["update-desktop-database", "-q", str(root / "applications")],
        ["update-mime-database", str(root / "mime")],
        ["gtk-update-icon-cache", "-q", "-t", str(root / "icons" / "hicolor")],
    ):
        if shutil.which(command[0]) is not None and Path(command[-1]).is_dir():
            subprocess.run(
                command,
                check=False,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                timeout=60,
            )


def _quoted(program: str) -> str:
    """A program's path in an Exec line, as the Desktop Entry Specification quotes it."""
    if not any(letter in program for letter in " \t\"'\\><~|&;$*?#()`"):
        return program
    return (
        '"' + "".join(f"\\{c}" if c in '"`$\\' else c for c in program).replace("\\", "\\\\") + '"'
    )
