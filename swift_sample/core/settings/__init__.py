"""Settings: what can be changed about a render, each declared once."""

from swift_sample.core.settings.catalogue import CATALOGUE, GROUPS, UNLIMITED_BOUNCES, Setting, Value, format_value, setting
from swift_sample.core.settings.configuration import Configuration

__all__ = ["CATALOGUE", "GROUPS", "UNLIMITED_BOUNCES", "Configuration", "Setting", "Value", "format_value", "setting"]
