"""What travelled to a machine, kept by content: a file comes once, whatever it is called and
however many studies need it."""

import errno
import hashlib
import os
import re
import shutil
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

from swift_sample.core.errors import WorkerError
from swift_sample.core.files import has_room, written_whole
from swift_sample.core.kernels.cache import cache_root

MOST_BYTES = 64 << 30
"""What was used longest ago goes where more is kept."""
LOOKS = 64
"""How often it is looked whether there is too much, while so much is added."""
_DIGEST = re.compile(r"\d{1,15}-[0-9a-f]{64}")


def digest_of(path: Path) -> str:
    """Length and SHA-256 of a file, as "LENGTH-DIGITS". Raises OSError."""
    with open(path, "rb") as file:
        return (
            f"{os.fstat(file.fileno()).st_size}-{hashlib.file_digest(file, 'sha256').hexdigest()}"
        )


class Content:
    """Files by their digests, and trees of them by name, for one process; several may share a
    folder."""

    def __init__(self, folder: Path | None = None, most_bytes: int = MOST_BYTES) -> None:
        self.most_bytes = most_bytes
        self._added = 0
        self.folder = folder or Path(
            os.environ.get("SWIFT_SAMPLE_CONTENT") or cache_root() / "machines"
        )
        (self.folder / "content").mkdir(parents=True, exist_ok=True)
        (self.folder / "trees").mkdir(exist_ok=True)

    def path(self, digest: str) -> Path:
        """Where a file of this content stands, or would. Raises WorkerError for what is no
        digest."""
        if _DIGEST.fullmatch(digest) is None:
            raise WorkerError(f"{digest[:80]!r} is no digest")
        return self.folder / "content" / digest

    def has(self, digest: str) -> bool:
        """Whether a file of this content is there, as long as it should be."""
        path = self.path(digest)
        try:
            if path.stat().st_size != int(digest.partition("-")[0]):
                return False
            os.utime(path)
            return True
        except OSError:
            return False

    def add_piece(self, digest: str, sender: str, offset: int, data: bytes) -> bool:
        """Keep a piece of a file; the last one makes it whole. Returns whether it is. Raises
        OSError where there is no room, WorkerError where what arrived is something else."""
        path = self.path(digest)
        size = int(digest.partition("-")[0])
        if self.has(digest):
            return True

        part = self.folder / f"{sender}-{digest[:40]}.part"
        if offset == 0:
            self.make_room(size)

        with open(part, "ab" if offset else "wb") as file:
            if file.tell() != offset:
                raise WorkerError("a piece of a file is missing")
            file.write(data)

        if offset + len(data) < size:
            return False

        try:
            if digest_of(part) != digest:
                raise WorkerError("a file arrived damaged")
            os.replace(part, path)
        finally:
            part.unlink(missing_ok=True)

        return True

    def add(self, digest: str, file: Path) -> None:
        """Keep what was made here: another name of the same file, or a copy."""
        path = self.path(digest)
        size = int(digest.partition("-")[0])

        with suppress(OSError):  # it is only spared a journey
            if not self.has(digest):
                self._added += size
                if self._added > self.most_bytes // LOOKS:
                    self.make_room(size)
                    self._added = size

                with written_whole(path) as temporary:
                    shutil.copyfile(file, temporary)

    def read_piece(self, digest: str, offset: int, most: int) -> bytes:
        """A piece of a file that is there. Raises OSError."""
        with open(self.path(digest), "rb") as file:
            file.seek(offset)
            return file.read(most)

    def tree(self, name: str, files: Iterable[tuple[str, str]]) -> Path:
        """A folder with these files, as (name in it, digest), which refer to one another by those
        names. Raises WorkerError for names that lead out of it, OSError."""
        if re.fullmatch(r"[0-9a-f]{16}", name) is None:
            raise WorkerError(f"{name[:80]!r} names no tree")

        folder = self.folder / "trees" / name
        for inside, digest in files:
            path = folder / inside
            if not path.resolve().is_relative_to(folder.resolve()):
                raise WorkerError(f"{inside[:80]!r} leads out of its folder")
            if not path.is_file():
                path.parent.mkdir(parents=True, exist_ok=True)
                with suppress(FileExistsError):
                    os.link(self.path(digest), path)

        return folder

    def make_room(self, wanted: int) -> None:
        """Let go of what was used longest ago, and of the trees that it is in. Raises OSError where
        the disk is too full even so."""
        kept = sorted((self.folder / "content").iterdir(), key=lambda path: path.stat().st_atime)
        total = sum(path.stat().st_size for path in kept)

        while kept and (total + wanted > self.most_bytes or not has_room(self.folder, wanted)):
            oldest = kept.pop(0)
            told = oldest.stat()
            total -= told.st_size

            for tree in (self.folder / "trees").iterdir() if told.st_nlink > 1 else ():
                if any(
                    file.stat().st_ino == told.st_ino for file in tree.rglob("*") if file.is_file()
                ):
                    shutil.rmtree(
                        tree, ignore_errors=True
                    )  # another name of the same file would keep its room

            oldest.unlink(missing_ok=True)

        if not has_room(self.folder, wanted):
            raise OSError(errno.ENOSPC, f"the disk of {self.folder} is full")
