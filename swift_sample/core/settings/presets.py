"""Presets: a configuration as a small TOML file that carries over to other studies and machines."""

from pathlib import Path

import tomlkit

from swift_sample.core.errors import SettingError, StudyError, one_line
from swift_sample.core.files import read_toml
from swift_sample.core.settings.catalogue import Catalogue
from swift_sample.core.settings.configuration import Configuration


def preset_text(configuration: Configuration) -> str:
    """Every setting that differs from the default, as TOML."""
    document = tomlkit.document()
    document.add("settings", tomlkit.item(configuration.without_defaults()))
    return tomlkit.dumps(document)


def write_preset(path: Path, configuration: Configuration) -> None:
    """Write a preset. Raises StudyError where the file cannot be written."""
    try:
        path.write_text(preset_text(configuration), encoding="utf-8")
    except OSError as error:
        raise StudyError(f"{path}: the preset cannot be written ({one_line(error)})") from error


def read_preset(path: Path, catalogue: Catalogue) -> Configuration:
    """Read a preset. Raises StudyError naming the file, or SettingError naming the key."""
    try:
        return Configuration(catalogue, read_toml(path)["settings"])
    except SettingError as error:
        raise SettingError(f"{path}: {error}") from error
    except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise StudyError(f"{path}: not a readable preset ({one_line(error)})") from error
