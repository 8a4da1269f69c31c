"""Settings: what can be changed about a render, each declared once."""

from swift_sample.core.settings.catalogue import CATALOGUE, GROUPS, Setting, Value, format_value, setting
from swift_sample.core.settings.configuration import Configuration

__all__ = ["CATALOGUE", "GROUPS", "Configuration", "Setting", "Value", "format_value", "setting"]
