"""What the study's side and a machine tell each other, as JSON; pictures and files go beside it as
they are."""

from typing import Any, Literal

from swift_sample.core.renderers.records import Message
from swift_sample.core.scene.staging import Staging


class Card(Message):
    """What a machine says of itself."""

    name: str
    hardware: dict[str, Any]
    """what makes its kind (`Machine.hardware`)"""
    software: str
    renderer: str
    """the version of the renderer that was asked for; "" where that can be told only once its file
    is there"""
    problem: str = ""
    """why it cannot render with that; "" where it can"""
    at: float
    """seconds since 1970 by its clock"""
    computer: str
    """which computer it is, or is a part of"""
    processors: list[int] = []
    """that it uses; two machines that share one are not timed at once"""


class Sent(Message):
    """A file that travels: where it stands at the study's side, its content, and its name beside
    the others of its tree, "" where it stands alone."""

    path: str
    digest: str
    name: str = ""
    tree: str = ""


class Order(Message):
    """One job, with all that it needs."""

    session: str
    number: int
    study: str
    """its name, for people"""
    renderer: str
    """`Renderer.worker`"""
    words: str = ""
    """what is done, for people"""
    job: str
    """a request to the worker, as JSON"""
    inputs: list[Sent] = []
    outputs: list[str] = []
    content_of: tuple[str, Staging] | None = None
    """a scene whose content shall be told as it arrived"""


class Answer(Message):
    """What came of an order. `kind` "lacks" where files have to travel first, "held" where another
    study is timed there."""

    kind: Literal["done", "lacks", "held"]
    outcome: str = ""
    """the worker's reply, as JSON"""
    lacks: list[str] = []
    words: str = ""
    content: dict[str, str] | None = None
    """of the scene as it arrived (`SceneContent`)"""
    version: str = ""
    """of the renderer, told with it"""
