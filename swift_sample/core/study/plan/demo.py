"""The demo study, which stands in demo.toml."""

from dataclasses import replace
from pathlib import Path

import platformdirs

from swift_sample.core.study.plan.file import plan_from_toml
from swift_sample.core.study.plan.model import Study

DEMO = Path(__file__).with_name("demo.toml")


def demo_study(scene: str | None = None, size: tuple[int, int] | None = None) -> Study:
    """One setting at a time, and a small grid of those that work together; of another scene or size
    where that is wanted."""
    plan = plan_from_toml(DEMO.read_text(encoding="utf-8"), DEMO)
    return replace(plan, scene=scene or plan.scene, size=size or plan.size)


def demo_path() -> Path:
    """Where the demo study is kept unless told otherwise, so that opening it again finds what was
    measured."""
    return Path(platformdirs.user_data_dir("swift-sample")) / "honey-stall.study"
