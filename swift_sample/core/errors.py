"""The exception tree. Every message is one sentence that names what failed and what to do.

SwiftSampleError            anything a user can be told in one line; the command line exits with 1
├── UsageError              the command or a value in it is wrong; the command line exits with 2
│   ├── SettingError        an unknown setting, or a value that it does not allow
│   └── CatalogueError      a renderer declares its settings wrongly
├── SceneError              a scene that cannot be read or rendered
├── PictureError            a picture that cannot be read, written or compared
│   ├── UnfitPictureError   a stored picture is not the one that was written
│   └── FullDiskError       there was no room to write it
├── StudyError              a study that cannot be opened, read or written
│   ├── ReportStoppedError  a report was stopped on request
│   ├── StudyBusyError      the study is open in another process
│   └── StudyBlockedError   it cannot be read or written just now; later it may
├── RendererError           a renderer that is not there, or cannot render
│   └── RenderStoppedError  the render was stopped on request
└── WorkerError             the rendering process failed, hung or vanished
"""

from pathlib import Path


class SwiftSampleError(Exception):
    """Base of all errors that are shown to the user as one sentence."""

    exit_status = 1


class UsageError(SwiftSampleError):
    exit_status = 2


class SettingError(UsageError):
    pass


class CatalogueError(UsageError):
    pass


class RendererError(SwiftSampleError):
    pass


class UnrecordedError(RendererError):
    """A recording does not fit: what is wanted has to be rendered."""


class RenderStoppedError(RendererError):
    pass


class SceneError(SwiftSampleError):
    pass


class PictureError(SwiftSampleError):
    pass


class UnfitPictureError(PictureError):
    """`fault` says what is wrong with the picture at `path`: "is missing"."""

    def __init__(self, path: Path, fault: str) -> None:
        super().__init__(f"{path}: the picture {fault}; `swift-sample run` renders it again")
        self.path = path
        self.fault = fault


class FullDiskError(PictureError):
    pass


class StudyError(SwiftSampleError):
    pass


class ReportStoppedError(StudyError):
    pass


class StudyBusyError(StudyError):
    pass


class StudyBlockedError(StudyError):
    """`held` where another program holds the study's files; else there is no room on the disk."""

    def __init__(self, message: str, held: bool) -> None:
        super().__init__(message)
        self.held = held


class WorkerError(SwiftSampleError):
    pass


MOST_CHARACTERS = 300
"""Of a message that is shown."""


def plain(text: str, most: int = MOST_CHARACTERS) -> str:
    """A text of unknown origin on one line: control characters made visible, the middle of a long
    one left out."""
    text = " ".join(text.split())
    text = "".join(c if c.isprintable() else c.encode("unicode_escape").decode() for c in text)
    if len(text) <= most:
        return text

    end = most // 3
    return f"{text[: most - end - 3]} … {text[-end:]}"


def one_line(error: BaseException) -> str:
    """The message of any exception on one line, for a log, a record or a terminal."""
    return plain(str(error)) or type(error).__name__
