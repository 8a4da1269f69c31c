"""Settings: what can be changed about a render. A renderer declares its own in a catalogue."""

from swift_sample.core.settings.capabilities import Capabilities
from swift_sample.core.settings.catalogue import Catalogue
from swift_sample.core.settings.configuration import Configuration
from swift_sample.core.settings.setting import (
    Derivation,
    Opening,
    ScenePart,
    Setting,
    Value,
    format_value,
)

__all__ = [
    "Capabilities",
    "Catalogue",
    "Configuration",
    "Derivation",
    "Opening",
    "ScenePart",
    "Setting",
    "Value",
    "format_value",
]
