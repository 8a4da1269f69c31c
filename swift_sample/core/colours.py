"""The colours of window and report: the only place where they stand. Chrome is strictly neutral so
that it never tints pictures."""

from dataclasses import dataclass


@dataclass(frozen=True, kw_only=True)
class Colours:
    """One set of colours by role, as #RRGGBB."""

    name: str
    page: str
    panel: str
    line: str
    text: str
    quiet: str
    surround: str
    ink: str
    acceptable: str
    over: str
    pick: str
    field: str
    button: str
    button_text: str
    prepare: str
    build: str
    sample: str
    denoise: str
    write: str


DAY = Colours(
    name="day",
    page="#F5F5F5",
    panel="#EBEBEB",
    line="#CFCFCF",
    text="#1C1C1C",
    quiet="#5C5C5C",
    surround="#767676",
    ink="#26418F",
    acceptable="#00796B",
    over="#A3246B",
    pick="#A86500",
    field="#FFFFFF",
    button="#1C1C1C",
    button_text="#FFFFFF",
    prepare="#8D8D8D",
    build="#B08D57",
    sample="#4F7CAC",
    denoise="#7E6BA8",
    write="#6B9080",
)
DUSK = Colours(
    name="dusk",
    page="#1F1F1F",
    panel="#292929",
    line="#3D3D3D",
    text="#ECECEC",
    quiet="#A6A6A6",
    surround="#4A4A4A",
    ink="#9DB2F2",
    acceptable="#4DB6A4",
    over="#E48ABB",
    pick="#F0B44C",
    field="#333333",
    button="#ECECEC",
    button_text="#1C1C1C",
    prepare="#A8A8A8",
    build="#CDAE7C",
    sample="#7FA6D1",
    denoise="#A594CC",
    write="#8FB3A4",
)

PHASE_ROLES = (
    ("prepare", ("load", "textures")),
    ("build", ("build",)),
    ("sample", ("sampling",)),
    ("denoise", ("denoise",)),
    ("write", ("write",)),
)
"""Colour role, and the phases of a run that it stands for."""
