"""Where the parts of a study stand on disk.

- study.toml: the plan, written whole and renamed into place
- results.db: SQLite, everything that happened, and the records behind all names
- pictures/: one EXR a picture, named after its identity
- reference/: one EXR a reference, with its halves
- recordings/: chunks of the reference that hold pictures of other settings; a cache
- passes/: the light passes of pictures for which they were asked, under the pictures' names
- blends/: pictures blended from raw to denoised
- worker.log: what the renderer printed
- scene/, light/, renderer/: of a study that was packed, what is rendered, and what says how a
  program does it
- .lock: held while the study is open for measuring or editing
"""

from dataclasses import dataclass
from pathlib import Path

from swift_sample.core.renderers.registry import DESCRIPTION

PLAN = "study.toml"
RESULTS = "results.db"
PICTURES = "pictures"
REFERENCE = "reference"
LOG = "worker.log"
LOCK = ".lock"
SCENE = "scene"
LIGHT = "light"
RENDERER = "renderer"
"""Folders of a study that was packed, which hold its scene, the picture of its light from
everywhere, and what says how a program from outside is started. That is not the program, and
nothing is started by it before a person confirms it again."""
PASSES = "passes"
RECORDINGS = "recordings"
BLENDS = "blends"
FOLDERS = frozenset({PICTURES, REFERENCE, RECORDINGS, PASSES, BLENDS, RENDERER})
FILES = frozenset(
    {
        PLAN,
        LOG,
        LOCK,
        DESCRIPTION,
        *(RESULTS + ending for ending in ("", "-wal", "-shm", "-journal")),
    }
)
"""Every name in a study's folder that this program reads or writes."""


@dataclass(frozen=True)
class Folder:
    """Paths of a study; nothing is opened here."""

    path: Path

    @property
    def plan(self) -> Path:
        return self.path / PLAN

    @property
    def database(self) -> Path:
        return self.path / RESULTS

    @property
    def pictures(self) -> Path:
        return self.path / PICTURES

    @property
    def references(self) -> Path:
        return self.path / REFERENCE

    @property
    def log(self) -> Path:
        return self.path / LOG

    @property
    def passes(self) -> Path:
        return self.path / PASSES

    def picture(self, name: str) -> Path:
        return self.pictures / name

    def reference(self, name: str) -> Path:
        return self.references / f"{name}.exr"

    def recording(self, reference: str, chunk: int) -> Path:
        """What a chunk of a reference holds of other settings."""
        return self.path / RECORDINGS / f"{reference}-{chunk}.zip"

    def chunk(self, reference: str, number: int) -> Path:
        """Samples of a reference that were rendered by themselves."""
        return self.references / f"{reference}-chunk-{number}.exr"


def study_folder(path: Path) -> Path:
    """The folder of a study that may be given as its study.toml."""
    return path.parent if path.name == PLAN and path.is_file() else path
