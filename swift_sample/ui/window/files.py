"""Files and folders that are dropped on the window, or chosen: what becomes of them."""

from collections.abc import Sequence
from pathlib import Path
from typing import Protocol

from PyQt6.QtWidgets import QFileDialog, QWidget

from swift_sample.app.foreign import SUFFIXES
from swift_sample.app.session import Session
from swift_sample.core.errors import SwiftSampleError, one_line
from swift_sample.core.renderers.finished.rows import Row
from swift_sample.core.renderers.finished.table import SUFFIXES as PICTURES
from swift_sample.core.renderers.finished.table import pictures_in, read_table
from swift_sample.core.study.log.store import is_study
from swift_sample.ui.begin import BeginPage
from swift_sample.ui.dialogs.finished import FinishedRenders, rows_of_pictures
from swift_sample.ui.dialogs.other_renderer import OtherRenderer
from swift_sample.ui.pages import LookPage
from swift_sample.ui.window.entrance import Entrance


class Host(Protocol):
    """What files need of the window that they are dropped on."""

    session: Session | None
    begin_page: BeginPage
    entrance: Entrance

    def tell(self, text: str) -> None: ...

    def show_page(self, name: str) -> None: ...

    def page(self, kind: type[LookPage]) -> LookPage: ...


class Files:
    """Of one window."""

    def __init__(self, window: Host, parent: QWidget) -> None:
        self._window = window
        self._parent = parent

    def close(self) -> None:
        """End what dialogs have begun."""
        for dialog in self._parent.findChildren(OtherRenderer):
            dialog.reject()

    def use_other_renderer(self, file: str = "", scene: str = "") -> OtherRenderer:
        """Ask for a renderer file and a scene, and begin with them."""
        dialog = OtherRenderer(self._parent)
        dialog.file.setText(file)
        dialog.scene.setText(scene)
        dialog.refresh()
        dialog.chosen.connect(lambda chosen, of: self._window.entrance.begin(of, Path(chosen)))
        dialog.open()

        return dialog

    def take_finished(self, rows: Sequence[Row], source: Path) -> FinishedRenders:
        """Have renders that are finished completed, and measure them."""
        dialog = FinishedRenders(rows, source, self._parent)
        dialog.chosen.connect(self._window.entrance.measure_finished)
        dialog.open()

        return dialog

    def take(self, paths: list[Path]) -> None:
        """What was dropped: a study or a scene; while a study is begun also its light and its
        settings."""
        pictures = [path for path in paths if path.suffix.lower() in PICTURES and path.is_file()]
        if len(paths) > 1 and len(pictures) == len(paths):
            self.take_finished(*rows_of_pictures(pictures))
            return

        if len(paths) != 1:
            self._window.tell(
                f"{len(paths)} files were dropped; drop one scene or one study at a time, or "
                "finished pictures"
            )
            return

        (path,) = paths
        if is_study(path):
            self._window.entrance.open_study(path)
        elif path.suffix.lower() in (".gltf", ".glb"):
            self._window.entrance.begin(str(path))
        elif self._window.entrance.beginning is not None and path.suffix.lower() in (
            ".exr",
            ".hdr",
            ".toml",
        ):
            self._window.begin_page.take_file(path)
        elif (
            self._window.session is not None and path.suffix.lower() in SUFFIXES and path.is_file()
        ):
            self._window.show_page(LookPage.name)
            self._window.page(LookPage).add_picture(path)
        elif path.suffix.lower() == ".csv":
            self._take_table(path)
        elif path.suffix.lower() == ".toml":
            self.use_other_renderer(str(path))
        elif path.is_dir() and (found := self._pictures_in(path)):
            self.take_finished(*rows_of_pictures(found))
        elif path.is_dir():
            self._window.tell(
                f"{path.name}: is a folder, but no study; drop a scene, a folder that ends in "
                ".study, or one of renders"
            )
        else:
            self._window.tell(
                f"{path.name}: neither a scene nor a study; drop a .gltf or .glb file, or a study"
            )

    @staticmethod
    def _pictures_in(folder: Path) -> list[Path]:
        """No pictures where it holds so much that it is no folder of renders."""
        try:
            return pictures_in(folder)
        except SwiftSampleError:
            return []

    def _take_table(self, path: Path) -> None:
        try:
            rows = read_table(path)
        except SwiftSampleError as error:
            self._window.tell(one_line(error))
            return

        self.take_finished(rows, path)

    def choose_finished(self) -> None:
        kinds = f"Finished renders (*.csv {' '.join('*' + suffix for suffix in PICTURES)})"
        paths, _ = QFileDialog.getOpenFileNames(
            self._parent, "Finished renders, or a table of them", "", kinds
        )

        if paths:
            chosen = [Path(path) for path in paths]
            if len(chosen) == 1 and chosen[0].suffix.lower() == ".csv":
                self._take_table(chosen[0])
            else:
                self.take_finished(
                    *rows_of_pictures([path for path in chosen if path.suffix.lower() in PICTURES])
                )

    def choose_study(self) -> None:
        name = QFileDialog.getExistingDirectory(self._parent, "Open a study", str(Path.home()))
        if name:
            self._window.entrance.open_study(Path(name))

    def choose_scene(self) -> None:
        name, _ = QFileDialog.getOpenFileName(
            self._parent, "Begin with a scene", str(Path.home()), "Scenes (*.gltf *.glb)"
        )
        if name:
            self._window.entrance.begin(name)
