"""What a renderer can do and tell besides pictures and times. Whatever is not named here is absent,
not zero."""

from dataclasses import dataclass

WHAT = {
    "stages": "takes light and camera from its scene",
    "starts": "cannot be started: what was rendered is measured",
    "seeds": (
        "takes no seed, so that repeats show the same grain; grain is an estimate from one picture"
    ),
    "halves": "does not keep two halves of the samples",
    "extends_reference": "cannot make a reference cleaner than one render does",
    "bounces": "does not tell time and light by bounce",
    "materials": "does not tell time by material and object",
    "samples": "does not tell how samples were spent",
    "memory": "does not tell what holds its memory",
    "keeps_scene": "reads and builds the scene for every render",
    "stops": "cannot be stopped within a render",
    "phases": "does not tell how long its phases take",
    "first_picture": "does not tell when a picture was first to be seen",
    "progress": "does not tell how far it is",
    "guides": "does not give surface colour and direction",
    "denoises_stored": "cannot denoise a picture that is there already",
    "records": "keeps no recordings: every picture is rendered",
}
"""By name, what to say of a renderer that lacks it."""


@dataclass(frozen=True, kw_only=True)
class Capabilities:
    """Each is True where the renderer has it; see WHAT for what it means."""

    starts: bool = True
    stages: bool = False
    seeds: bool = False
    halves: bool = False
    extends_reference: bool = False
    bounces: bool = False
    materials: bool = False
    samples: bool = False
    memory: bool = False
    keeps_scene: bool = False
    stops: bool = False
    phases: bool = False
    first_picture: bool = False
    progress: bool = False
    guides: bool = False
    denoises_stored: bool = False
    records: bool = False

    def why_not(self, name: str) -> str:
        """What to say where something is absent: "this renderer does not tell ..."; "" where it is
        there."""
        return "" if getattr(self, name) else f"this renderer {WHAT[name]}"


ALL = Capabilities(**dict.fromkeys(WHAT, True))
